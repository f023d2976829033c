"""Where things lie, and the small helpers that every set-up step shares."""

import hashlib
import os
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
STATE = ROOT / ".nomogon"
VENV = ROOT / ".venv"
VENV_PYTHON = VENV / "bin" / "python"
REQUIREMENTS, INSTALLER = ROOT / "requirements.txt", ROOT / "launch" / "installer.txt"
CLUSTER, DATABASE_URL = "NOMOGON_CLUSTER", "NOMOGON_DATABASE_URL"


class SetupError(Exception):
    """Set-up cannot go on; the message says what is missing and what to do."""


def say(text):
    print(f"nomogon: {text}", file=sys.stderr, flush=True)


def digest(*paths):
    """SHA-256 over names and contents of files; folders are walked in name order."""
    total = hashlib.sha256()
    for path in paths:
        files = sorted(p for p in path.rglob("*") if p.is_file()) if path.is_dir() else [path]
        for file in files:
            if "__pycache__" in file.parts:
                continue
            total.update(str(file.relative_to(ROOT)).encode())
            total.update(file.read_bytes())
    return total.hexdigest()


def once(name, key, action):
    """Run ``action`` unless it was already run for the same ``key`` in this checkout."""
    stamp = STATE / "stamps" / name
    if stamp.exists() and stamp.read_text() == key:
        return False
    action()
    stamp.parent.mkdir(parents=True, exist_ok=True)
    stamp.write_text(key)
    return True


def run(*command, what, env=None, cwd=ROOT, said="", **options):
    """Run a command quietly, with a text on its standard input; on failure raise with the last lines that it printed.

    Raises:
        SetupError: the command could not be run or did not end well.
    """
    try:
        done = subprocess.run(
            [str(part) for part in command],
            cwd=cwd,
            env=env,
            text=True,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            input=said,
            **options,
        )
    except FileNotFoundError as missing:
        raise SetupError(f"{what} needs {missing.filename}, which is not installed.") from missing
    if done.returncode:
        tail = "\n".join(done.stdout.strip().splitlines()[-15:])
        raise SetupError(f"{what} failed ({' '.join(map(str, command[:3]))} …):\n{tail}")
    return done.stdout


def environment():
    """The variables that everything started from here sees."""
    variables = dict(os.environ)
    variables["PYTHONPATH"] = os.pathsep.join([str(ROOT), str(ROOT / "core"), str(ROOT / "web")])
    variables.pop("PYTHONDONTWRITEBYTECODE", None)  # processes that are started often would compile all of it each time
    variables["NUMBA_CACHE_DIR"] = str(STATE / "numba")
    variables["NOMOGON_STATE"] = str(STATE)
    variables.setdefault("OMP_NUM_THREADS", "2")
    return variables
