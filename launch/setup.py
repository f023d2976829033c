"""The set-up steps; each is idempotent and cheap when there is nothing to do."""

import fcntl
import hashlib
import os
import shutil
import sys
from contextlib import contextmanager
from pathlib import Path

from launch import postgres
from launch.places import (
    CLUSTER,
    DATABASE_URL,
    INSTALLER,
    REQUIREMENTS,
    ROOT,
    STATE,
    VENV,
    VENV_PYTHON,
    SetupError,
    digest,
    environment,
    once,
    run,
    say,
)

PACKAGES = "installing the Python packages"


@contextmanager
def only_one():
    """Hold the set-up lock, so that two commands started together do not trip over each other."""
    STATE.mkdir(parents=True, exist_ok=True)
    with open(STATE / "setup.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def debian_packages(wanted):
    """Install Debian packages whose program is missing.

    Args:
        wanted: mapping of package name to a function that tells whether it is there.

    Raises:
        SetupError: packages are missing and cannot be installed by this user.
    """
    missing = [package for package, present in wanted.items() if not present()]
    if not missing:
        return
    apt = shutil.which("apt-get")
    sudo = [] if os.geteuid() == 0 else ([shutil.which("sudo")] if shutil.which("sudo") else None)
    if apt is None or sudo is None:
        raise SetupError(
            f"{', '.join(missing)} must be installed first (as root: apt-get install {' '.join(missing)})."
        )
    say(f"installing {', '.join(missing)} from Debian's packages …")
    quiet = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
    run(*sudo, apt, "update", "-qq", what="apt-get update", env=quiet)
    run(*sudo, apt, "install", "-y", "-qq", "--no-install-recommends", *missing, what="apt-get install", env=quiet)


def program(*names):
    return lambda: any(shutil.which(name) for name in names)


def python_environment():
    """The virtual environment, with every package checked against its recorded hash."""

    def build():
        say("installing the Python packages …")
        if not VENV_PYTHON.exists():
            run(sys.executable, "-m", "venv", VENV, what="the virtual environment")
        quiet = ["install", "-q", "--require-hashes", "-r"]
        pip = [VENV_PYTHON, "-m", "pip", "--disable-pip-version-check", *quiet]
        try:  # uv takes a tenth of the time that pip takes
            run(*pip, INSTALLER, what="installing the installer")
            run(VENV / "bin" / "uv", "pip", *quiet, REQUIREMENTS, "--python", VENV_PYTHON, what=PACKAGES)
        except SetupError as problem:
            say(f"{problem}\ntrying it with pip …")
            run(*pip, REQUIREMENTS, what=PACKAGES)

    key = digest(REQUIREMENTS) if VENV_PYTHON.exists() else "new"
    once("python", key, build)
    if key == "new":
        (STATE / "stamps" / "python").write_text(digest(REQUIREMENTS))


def front_end():
    """Style sheet, scripts and fonts, built from the locked npm packages."""
    npm = shutil.which("npm")
    lock = ROOT / "package-lock.json"
    if once(
        "npm",
        digest(lock) + str((ROOT / "node_modules").exists()),
        lambda: run(npm, "ci", "--no-audit", "--no-fund", "--silent", what="installing the front-end packages"),
    ):
        (STATE / "stamps" / "npm").write_text(digest(lock) + "True")
    templates = sorted((ROOT / "web").glob("s*/**/*.html"))
    sources = [lock, ROOT / "package.json", ROOT / "web" / "frontend", *templates]

    def build():
        say("building the pages …")
        run(npm, "run", "--silent", "build", what="building the pages")

    once("pages", digest(*sources), build)
    once(
        "static",
        digest(*sources),
        lambda: manage("collectstatic", "--noinput", "--clear", what="collecting the pages' files"),
    )


def compiled_loops():
    """Compile the numeric inner loops once, so that no user waits for it."""
    core = ROOT / "core" / "nomogon_core"

    def compile():
        say("compiling the numeric loops (most of a minute, once) …")
        shutil.rmtree(STATE / "numba", ignore_errors=True)  # a loop does not notice that one that it calls has changed
        run(VENV_PYTHON, "-m", "nomogon_core.sketch.warm", what="compiling the numeric loops", env=environment())

    sources = [*core.rglob("compiled*.py"), *core.rglob("warm.py"), core / "sketch" / "rows.py"]
    once("compiled", digest(*sorted(sources)), compile)


def manage(*arguments, what):
    return run(VENV_PYTHON, ROOT / "web" / "manage.py", *arguments, what=what, env=environment())


def database():
    """A private PostgreSQL cluster or the database of a given URL, and its tables; whether the server was started just
    now."""
    name, url, launched = os.environ.get(CLUSTER, ""), os.environ.get(DATABASE_URL), False
    if url:
        name, cluster = "-by-url", hashlib.sha256(url.encode()).hexdigest()[:12]
    else:
        cluster, launched = postgres.Cluster(name).start()
    migrations = sorted(path for path in (ROOT / "web").glob("*/migrations") if path.is_dir())

    def migrate():
        say("preparing the database …")
        manage("migrate", "--noinput", what="preparing the database")

    once(f"migrated{name}", cluster + digest(*migrations), migrate)
    return launched


def demo_jobs(*what):
    """The made-up jobs, or of these only what is named, in a database that belongs to this checkout."""
    if os.environ.get(DATABASE_URL):
        return
    name = os.environ.get(CLUSTER, "")
    sample = digest(ROOT / "examples", Path(ROOT / "web" / "shell" / "demo.py"))

    def write():
        say(f"writing the demo {'people' if what else 'jobs'} …")
        manage("demo", *what, what="writing the demo jobs")

    once("demo" + "".join(what) + name, postgres.Cluster(name).start()[0] + sample, write)


def finish(demo):
    """What an application that is up already does not wait for.

    Args:
        demo: the demo jobs are wanted in the database.

    Raises:
        SetupError: it could not be done.
    """
    with only_one():
        compiled_loops()
        if demo:
            demo_jobs()


def prepare(*, web=False, browser=False, demo=False, later=False):
    """Bring this checkout to where a command can run.

    Args:
        web: database and pages are needed.
        browser: headless Chromium is needed.
        demo: the demo jobs are wanted in the database.
        later: what takes long is left to :func:`finish`.

    Returns:
        whether the database server was started just now.

    Raises:
        SetupError: something is missing that cannot be installed from here.
    """
    with only_one():
        wanted = {}
        if web and not os.environ.get(DATABASE_URL):
            wanted["postgresql"] = lambda: postgres.tools() is not None
        if web:
            wanted["npm"] = program("npm")
        if browser:
            wanted["chromium"] = program("chromium")
        debian_packages(wanted)
        python_environment()
        if not later:
            compiled_loops()
        launched = False
        if web:
            front_end()
            launched = database()
        if demo:
            demo_jobs(*(["--people"] if later else []))
        return launched
