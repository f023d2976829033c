"""``./nomogon start``, ``web`` and ``work``: the application's parts, started anew when they die, stopped together."""

import argparse
import contextlib
import os
import signal
import socket
import subprocess
import threading
import time
import urllib.request

from launch.places import CLUSTER, DATABASE_URL, ROOT, VENV, VENV_PYTHON, SetupError, environment, say
from launch.postgres import Cluster
from launch.setup import finish, prepare

FIRST_PORT = 8000
WEB_THREADS = 8
LOOK_EVERY_S, FIRST_PAUSE_S, LONGEST_PAUSE_S, STEADY_S = 0.5, 0.5, 30.0, 60.0
LEAVE_S = 8.0
READY = "All is ready."
PERSON = "Demo sign-in: name ro, password hive-latch\n  "


def free_port(wanted):
    """``wanted`` if it is free, else the next free one above it."""
    for port in range(wanted, wanted + 50):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            if probe.connect_ex(("127.0.0.1", port)):
                return port
    return wanted


def web_command(port, host="127.0.0.1"):
    options = {
        "bind": f"{host}:{port}",
        "worker-class": "gthread",
        "workers": 1,
        "threads": WEB_THREADS,
        "keep-alive": 30,
        "timeout": 120,
        "graceful-timeout": 3,
        "log-level": "warning",
        "chdir": ROOT / "web",
    }
    named = [word for name, value in options.items() for word in (f"--{name}", str(value))]
    return [str(VENV / "bin" / "gunicorn"), "nomogon_web.wsgi:application", *named]


def work_command(processes=None):
    wanted = ["--processes", str(processes)] if processes else []
    return [str(VENV_PYTHON), str(ROOT / "web" / "manage.py"), "work", *wanted]


class Part:
    """A process that is started anew when it dies, after a pause that grows while it keeps dying."""

    def __init__(self, name, command):
        self.name, self.command = name, command
        self.pause, self.due = FIRST_PAUSE_S, None
        self.start()

    def start(self):
        self.process = subprocess.Popen(self.command, env=environment(), start_new_session=True)
        self.began, self.due = time.monotonic(), None

    def look(self):
        """Start it anew if it died and its pause is over."""
        now = time.monotonic()
        if self.process.poll() is None:
            if now - self.began > STEADY_S:
                self.pause = FIRST_PAUSE_S
            return
        if self.due is None:
            self.end(signal.SIGKILL)  # what it started would hold its port
            say(f"the {self.name} ended by itself; it is started again in {self.pause:g} s.")
            self.due, self.pause = now + self.pause, min(2 * self.pause, LONGEST_PAUSE_S)
        elif now >= self.due:
            self.start()

    def end(self, how=signal.SIGTERM):
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self.process.pid, how)

    def stop(self):
        self.end()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.process.wait(LEAVE_S)
        self.end(signal.SIGKILL)
        self.process.wait()


def wait_until_up(address, part, seconds=40, meanwhile=lambda: None):
    """Whether a part answers in time; ``meanwhile`` is called between two looks."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline and part.process.poll() is None:
        try:
            with urllib.request.urlopen(address + "/alive", timeout=2):
                return True
        except OSError:
            meanwhile()
            time.sleep(0.05)
    return False


def _leave(*_):
    raise KeyboardInterrupt


def _watch(parts, cluster):
    """Look after the parts, and the database if it is this checkout's own, until told to leave."""
    while True:
        time.sleep(LOOK_EVERY_S)
        for part in parts:
            part.look()
        revive(cluster, parts)


def revive(cluster, parts):
    """Start the database again if it is this checkout's own and is gone; the parts follow where it moved."""
    if cluster is None or cluster.runs():
        return
    say("the database ended by itself; it is started again.")
    before = cluster.url_file.read_text()
    try:
        cluster.start()
    except SetupError as problem:
        say(str(problem))
        time.sleep(FIRST_PAUSE_S)
        return
    if cluster.url_file.read_text() != before:
        for part in parts:
            part.stop()
            part.start()


def _finish(demo, leaving):
    """What is left of the set-up, while the application runs."""
    try:
        finish(demo)
        print(f"  {READY}\n", flush=True)
    except SetupError as problem:
        if not leaving.is_set():
            say(str(problem))


def _serve(arguments, name, *, web, work):
    parser = argparse.ArgumentParser(prog=f"./nomogon {name}")
    if web:
        parser.add_argument("--port", type=int, default=FIRST_PORT)
        parser.add_argument("--host", default="127.0.0.1", help="address to listen on")
    if work:
        parser.add_argument("--processes", type=int, help="how many things the worker does at a time")
    options = parser.parse_args(arguments)
    launched = prepare(web=True, demo=web and work, later=True)
    cluster = None
    if not os.environ.get(DATABASE_URL):
        cluster = Cluster(os.environ.get(CLUSTER, ""))
        cluster.launched = launched
    signal.signal(signal.SIGTERM, _leave)
    parts, leaving = [], threading.Event()
    try:
        if web:
            port = free_port(options.port)
            address = f"http://{options.host}:{port}"
            parts.append(Part("web server", web_command(port, options.host)))
        if work:
            parts.append(Part("worker", work_command(options.processes)))
        # The database of an application that was just stopped may have answered a last time, and be gone by now.
        if web and not wait_until_up(f"http://127.0.0.1:{port}", parts[0], meanwhile=lambda: revive(cluster, parts)):
            say("the web server did not come up; what it said is above.")
            return 1
        where = f"Nomogon is at {address}" if web else "The worker serves the queue"
        print(f"\n  {where}\n  {PERSON if web and work else ''}Ctrl-C stops it.\n", flush=True)
        threading.Thread(target=_finish, args=(web and work, leaving), daemon=True).start()
        _watch(parts, cluster)
    except KeyboardInterrupt:
        return 0
    finally:
        leaving.set()
        for part in parts:
            part.stop()
        if cluster is not None and cluster.launched:
            cluster.stop()


def start(arguments):
    """Web server, worker and database on this machine, with the demo jobs."""
    return _serve(arguments, "start", web=True, work=True)


def web(arguments):
    """A web server alone."""
    return _serve(arguments, "web", web=True, work=False)


def work(arguments):
    """A worker alone."""
    return _serve(arguments, "work", web=False, work=True)
