"""A private PostgreSQL cluster on 127.0.0.1 that belongs to this checkout alone."""

import os
import pwd
import secrets
import shutil
import socket
import subprocess
import time
from pathlib import Path

from launch.places import ROOT, STATE, SetupError, run, say

PORT_FILE = STATE / "postgres.port"
PASSWORD_FILE = STATE / "postgres.password"
READY_SECONDS = 40


def tools():
    """Folder of the newest installed server's programs, or None."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"), key=lambda path: int(path.parts[-3]))
    if found:
        return found[-1].parent
    initdb = shutil.which("initdb")
    return Path(initdb).parent if initdb else None


def home():
    """The cluster's folder; outside the checkout when the server's user cannot get there."""
    inside = STATE / "cluster"
    if os.geteuid() != 0:
        return inside
    STATE.mkdir(parents=True, exist_ok=True)
    reachable = subprocess.run([*_as_server_user(), "test", "-x", str(STATE)], capture_output=True).returncode == 0
    return inside if reachable else Path("/var/tmp") / f"nomogon-{abs(hash_of(str(ROOT))):x}"


def hash_of(text):
    return int.from_bytes(text.encode()[-12:], "big")


def _as_server_user():
    """PostgreSQL refuses to run as root, so root steps down to the user ``postgres``."""
    if os.geteuid() != 0:
        return []
    return ["setpriv", "--reuid=postgres", "--regid=postgres", "--init-groups", "--reset-env"]


def _free_port():
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


def _create(folder):
    say("creating the database cluster …")
    password = secrets.token_urlsafe(24)
    folder.mkdir(parents=True, exist_ok=True)
    password_copy = folder / "password"
    password_copy.write_text(password)
    (folder / "socket").mkdir(exist_ok=True)
    if os.geteuid() == 0:
        account = pwd.getpwnam("postgres")
        for path in (folder, folder / "socket", password_copy):
            os.chown(path, account.pw_uid, account.pw_gid)
    for path, mode in ((folder, 0o700), (folder / "socket", 0o700), (password_copy, 0o600)):
        path.chmod(mode)
    run(
        *_as_server_user(),
        tools() / "initdb",
        "-D",
        folder / "data",
        "-U",
        "postgres",
        "-E",
        "UTF8",
        "--locale=C.UTF-8",
        "--auth-local=trust",
        "--auth-host=scram-sha-256",
        f"--pwfile={password_copy}",
        "-N",
        what="creating the database cluster",
    )
    PASSWORD_FILE.write_text(password)
    PASSWORD_FILE.chmod(0o600)


def _answers(port):
    if not port:
        return False
    ready = subprocess.run([str(tools() / "pg_isready"), "-q", "-h", "127.0.0.1", "-p", str(port)])
    return ready.returncode == 0


def _launch(folder):
    port = _free_port()
    socket_folder = folder / "socket"
    if len(str(socket_folder)) > 80:
        socket_folder = Path("/tmp")
    options = (
        f"-c listen_addresses=127.0.0.1 -c port={port} -c unix_socket_directories={socket_folder} "
        "-c synchronous_commit=off -c max_connections=60"
    )
    run(
        *_as_server_user(),
        tools() / "pg_ctl",
        "-D",
        folder / "data",
        "-l",
        folder / "log",
        "-W",
        "-o",
        options,
        "start",
        what="starting the database",
    )
    deadline = time.monotonic() + READY_SECONDS
    while not _answers(port):
        if time.monotonic() > deadline:
            raise SetupError(f"the database did not answer within {READY_SECONDS} s; its log is {folder / 'log'}.")
        time.sleep(0.05)
    PORT_FILE.write_text(str(port))


def start():
    """Make sure that the cluster runs.

    Returns:
        A text that names this cluster, for the stamps of what was written into it, and whether the server was
        started just now.

    Raises:
        SetupError: the server cannot be created or does not answer.
    """
    folder = home()
    if not PASSWORD_FILE.exists() or not (folder / "data" / "PG_VERSION").exists():
        if folder.exists():
            shutil.rmtree(folder)
        _create(folder)
    port = int(PORT_FILE.read_text()) if PORT_FILE.exists() else None
    launched = not _answers(port)
    if launched:
        lock = folder / "data" / "postmaster.pid"
        if lock.exists() and not _alive(lock):
            lock.unlink()
        _launch(folder)
    return PASSWORD_FILE.read_text()[:8], launched


def _alive(lock):
    try:
        os.kill(int(lock.read_text().split()[0]), 0)
    except (ProcessLookupError, ValueError, IndexError):
        return False
    except PermissionError:
        return True
    return True


def stop():
    """Stop the cluster if it runs."""
    folder = home()
    if (folder / "data" / "postmaster.pid").exists():
        subprocess.run(
            [*_as_server_user(), str(tools() / "pg_ctl"), "-D", str(folder / "data"), "-m", "fast", "-w", "stop"],
            capture_output=True,
        )
