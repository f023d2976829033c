"""``./nomogon start``: web server and worker, started together and stopped together."""

import argparse
import signal
import socket
import subprocess
import time
import urllib.request

from launch import postgres
from launch.places import ROOT, VENV, VENV_PYTHON, environment, say
from launch.setup import prepare

FIRST_PORT = 8000
WEB_THREADS = 8


def free_port(wanted):
    """``wanted`` if it is free, else the next free one above it."""
    for port in range(wanted, wanted + 50):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            if probe.connect_ex(("127.0.0.1", port)):
                return port
    return wanted


def web_server(port):
    return subprocess.Popen(
        [
            str(VENV / "bin" / "gunicorn"),
            "nomogon_web.wsgi:application",
            "--bind",
            f"127.0.0.1:{port}",
            "--worker-class",
            "gthread",
            "--workers",
            "1",
            "--threads",
            str(WEB_THREADS),
            "--keep-alive",
            "30",
            "--timeout",
            "120",
            "--graceful-timeout",
            "3",
            "--log-level",
            "warning",
            "--chdir",
            str(ROOT / "web"),
        ],
        env=environment(),
        start_new_session=True,
    )


def worker():
    return subprocess.Popen(
        [str(VENV_PYTHON), str(ROOT / "web" / "manage.py"), "work"], env=environment(), start_new_session=True
    )


def wait_until_up(address, server, seconds=40):
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline and server.poll() is None:
        try:
            with urllib.request.urlopen(address + "/alive", timeout=2):
                return True
        except OSError:
            time.sleep(0.05)
    return False


def stop_all(processes):
    for process in processes:
        if process.poll() is None:
            process.send_signal(signal.SIGTERM)
    for process in processes:
        try:
            process.wait(8)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()


def start(arguments):
    parser = argparse.ArgumentParser(prog="./nomogon start")
    parser.add_argument("--port", type=int, default=FIRST_PORT)
    options = parser.parse_args(arguments)
    launched = prepare(web=True, demo=True)
    port = free_port(options.port)
    address = f"http://127.0.0.1:{port}"
    processes = [web_server(port), worker()]

    def leave(*_):
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, leave)
    try:
        if not wait_until_up(address, processes[0]):
            say("the web server did not come up; what it said is above.")
            return 1
        print(
            f"\n  Nomogon is at {address}\n  Demo sign-in: name ro, password hive-latch\n  Ctrl-C stops it.\n",
            flush=True,
        )
        while all(process.poll() is None for process in processes):
            time.sleep(0.5)
        say("a part of the application ended by itself; stopping the rest.")
        return 1
    except KeyboardInterrupt:
        return 0
    finally:
        stop_all(processes)
        if launched:
            postgres.stop()
