"""A started application and a browser-like client for it: kept connection, cookies, CSRF token."""

import http.client
import http.cookies
import json
import os
import re
import signal
import subprocess
import sys
import time
import urllib.parse

from launch.places import ROOT
from launch.serve import READY

MOST_IDLE_S = 20.0
OF_A_CHECKOUT = ("PYTHONPATH", "NOMOGON_STATE", "NUMBA_CACHE_DIR")


class Application:
    """``./nomogon start`` of a checkout in a process of its own, when all is ready; ``seconds`` is how long it took
    until its address was printed."""

    def __init__(self, root=ROOT):
        begin = time.perf_counter()
        # What this process was told of its own checkout is not for that one.
        told = {name: value for name, value in os.environ.items() if name not in OF_A_CHECKOUT}
        self.process = subprocess.Popen(
            [str(root / "nomogon"), "start", "--port", "8700"],
            cwd=root,
            env=told,
            stdout=subprocess.PIPE,
            stderr=sys.stderr,
            text=True,
        )
        self.port = None
        for line in self.process.stdout:
            if found := re.search(r"http://127\.0\.0\.1:(\d+)", line):
                self.port, self.seconds = int(found[1]), time.perf_counter() - begin
            if READY in line:
                break
        if self.port is None:
            raise SystemExit("the application did not start")

    def stop(self):
        self.process.send_signal(signal.SIGTERM)
        self.process.wait(30)


class Client:
    """One signed-in user over one kept connection, which is made anew, as browsers do, where it has been idle for so
    long that the server may have closed it."""

    def __init__(self, port, name, password):
        self.used = time.monotonic()
        self.connection = http.client.HTTPConnection("127.0.0.1", port)
        self.cookies = http.cookies.SimpleCookie()
        page = self.get("/sign-in")[1].decode()
        self.token = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', page)[1]
        body = urllib.parse.urlencode({"username": name, "password": password, "csrfmiddlewaretoken": self.token})
        self.request("POST", "/sign-in", body, "application/x-www-form-urlencoded")
        self.token = self.cookies["csrftoken"].value

    def request(self, method, path, body=None, kind="application/json"):
        headers = {
            "Cookie": "; ".join(f"{key}={value.value}" for key, value in self.cookies.items()),
            "Accept": "application/json",
        }
        if body is not None:
            headers |= {"Content-Type": kind, "X-CSRFToken": getattr(self, "token", "")}
        now = time.monotonic()
        if now - self.used > MOST_IDLE_S:
            self.connection.close()
        self.used = now
        self.connection.request(method, path, body, headers)
        answer = self.connection.getresponse()
        data = answer.read()
        for value in answer.headers.get_all("Set-Cookie") or []:
            self.cookies.load(value)
        return answer.status, data

    def get(self, path):
        return self.request("GET", path)

    def post(self, path, body):
        status, data = self.request("POST", path, json.dumps(body))
        if status != 200:
            raise SystemExit(f"{path} answered {status}: {data[:300]!r}")
        return json.loads(data)
