"""How the application runs: answers under load, large sketches, work taken up again, parts killed, hostile files."""

import json
import math
import os
import secrets
import signal
import subprocess
import sys
import tempfile
import threading
import time
import uuid
from pathlib import Path

import django
import numpy as np

from benchmarks.client import Application, Client
from benchmarks.hostile import hostile_files
from benchmarks.slice import forty_entities, plate
from core.tests.specimens import job_of
from launch.places import CLUSTER, ROOT, environment
from launch.postgres import Cluster
from launch.serve import work_command
from nomogon_core.geometry.curves import moved
from nomogon_core.sketch import edit, model
from nomogon_core.sketch.model import Constraint
from nomogon_core.sketch.regions import find_regions
from nomogon_core.sketch.solve import freedom

PEOPLE, DRAGGING, LOAD_S = 50, 5, 60.0
PAGE_EVERY_S, EDIT_EVERY_S, DRAG_EVERY_S = 6.0, 20.0, 0.1
EDITS, KILLS, KILL_EVERY_S, REGISTERED, HOSTILE = 400, 50, 4.0, 1000, 500
STAGES = ("reference", "sketch", "solid", "inspect", "release", "sketch/board", "panel/sketch", "history")
REPEATS = 25
SETTLE_S = 8.0  # in which the processes of the application load their libraries behind it, as after any start


def p95(times):
    return float(np.percentile(times, 95)) if len(times) else math.nan


def timed(function, *arguments, **named):
    """(milliseconds, result) of a call."""
    begin = time.perf_counter()
    result = function(*arguments, **named)
    return (time.perf_counter() - begin) * 1000, result


def many_outlines(count=12):
    """A sketch of outlines of forty curves each side by side, and a circle with a diameter."""
    sketch, one = model.Sketch(), forty_entities()
    curves = [one.geometry(name) for name in one.curves]
    for index in range(count):
        off = np.array([160.0 * (index % 4), 160.0 * (index // 4)])
        placed = [moved(curve, lambda place, off=off: tuple(np.add(place, off))) for curve in curves]
        sketch, _, joints = edit.add_outline(sketch, placed, [0.05] * len(placed), origin="drawn")
        for constraint in edit.smooth_joints(sketch, joints):
            sketch, _ = edit.add_constraint(sketch, constraint)
    return _with_rim(sketch)


def circles(count=4990):
    """A plate of many circles."""
    sketch = model.Sketch()
    for index in range(count):
        sketch, _ = edit.add_circle(sketch, (4.0 * (index % 100), 4.0 * (index // 100)), 1.5)
    return _with_rim(sketch)


def _with_rim(sketch):
    sketch, rim = edit.add_circle(sketch, (-200.0, 0.0), 5.0)
    sketch, _ = edit.add_constraint(sketch, Constraint("diameter", (rim,), 10.0, typed="10 mm", name="Rim"))
    return sketch


class Job:
    """A job that a benchmark made, and what a page sends to it."""

    def __init__(self, user, document, title="Benchmark"):
        from store import models
        from store.documents import keep_document

        self.row = models.Job.objects.create(title=title, changed_by=user)
        models.Member.objects.create(job=self.row, user=user, role=models.Member.OWNER)
        keep_document(self.row, None, document)
        self.path = f"/jobs/{self.row.pk}"
        self.version, self.shown = 0, None

    def do(self, client, command, stage="sketch", **arguments):
        body = {"version": self.version, "stage": stage, "arguments": arguments, "shown": self.shown}
        answer = client.post(f"{self.path}/do/{command}", body)
        self.version = self.shown = answer["version"]
        return answer

    def drag(self, client, point, step):
        angle = step / 12
        body = {"held": [point], "dx": 4 * math.cos(angle) - 4, "dy": 4 * math.sin(angle), "x": 0.0, "y": 0.0}
        return client.request("POST", f"{self.path}/sketch/drag", json.dumps(body | {"sequence": step}))


def of_sketches(user, client):
    """Figures of sketches of 500 and of 5,000 curves."""
    sketch = many_outlines()
    free = [timed(freedom, sketch)[0] for _ in range(9)]
    job, rim = Job(user, job_of(sketch)), list(sketch.constraints)[-1]
    edits = []
    for index in range(REPEATS):
        text = f"{10 + index / 10} mm"
        edits.append(timed(job.do, client, "sketch.set_value", name=rim, text=text)[0])
    point = next(iter(sketch.points))
    answers = [job.drag(client, point, step)[1] for step in range(REPEATS)]
    large = circles()
    plate = Job(user, job_of(large))
    client.get(f"{plate.path}/sketch/board")
    drags = [timed(plate.drag, client, next(iter(large.points)), step)[0] for step in range(REPEATS)]
    lines = [
        timed(plate.do, client, "sketch.line", start=[500, 2 * index], end=[510, 2 * index])[0] for index in range(5)
    ]
    return {
        "freedom_ms_500": float(np.median(free)),
        "command_ms_p95_500": p95(edits[2:]),
        "drag_answer_kb_500": max(map(len, answers)) / 1000,
        "drag_5000_ms_p95": p95(drags[3:]),
        "add_line_5000_ms": float(np.median(lines[1:])),
    }


def of_pages(user, client):
    """Figures of pages, and of a register of many jobs."""
    from store import models

    sketch, _, operations = plate()
    job = Job(user, job_of(sketch, operations))
    wait_for_mesh(client, job)
    times = [timed(client.get, f"{job.path}/{stage}")[0] for _ in range(REPEATS) for stage in STAGES]
    summary = models.Job.objects.filter(number="FLA-014").first().summary
    rows = [models.Job(pk=uuid.uuid4(), title=f"Benchmark {index}", summary=summary) for index in range(REGISTERED)]
    models.Job.objects.bulk_create(rows)
    models.Member.objects.bulk_create(models.Member(job=row, user=user, role="owner") for row in rows)
    register = [timed(client.get, "/")[0] for _ in range(REPEATS)]
    models.Job.objects.filter(pk__in=[row.pk for row in rows]).delete()
    return {"page_ms_p95": p95(times[len(STAGES) :]), "register_ms_1000_jobs": float(np.median(register[2:]))}


def wait_for_mesh(client, job, seconds=60):
    """The state of the Build sheet once it is built."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        state = json.loads(client.request("POST", f"{job.path}/solid/build", "{}")[1])
        if state["mesh"]:
            return state
    raise SystemExit("the solid was not built")


def database_bytes():
    from django.db import connection

    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_database_size(current_database())")
        return cursor.fetchone()[0]


def processes(words):
    """(pid, bytes, what is shared counted in proportion) of every process whose command line holds some words."""
    found = []
    for entry in os.listdir("/proc"):
        if not entry.isdecimal():
            continue
        try:
            with open(f"/proc/{entry}/cmdline", "rb") as file:
                line = file.read().replace(b"\0", b" ").decode(errors="replace")
            with open(f"/proc/{entry}/smaps_rollup") as file:
                kilobytes = next((int(row.split()[1]) for row in file if row.startswith("Pss:")), 0)
        except OSError:
            continue
        if words in line and str(os.getpid()) != entry:
            found.append((int(entry), kilobytes * 1024))
    return found


def web_bytes(port):
    return sum(size for _, size in processes(f"127.0.0.1:{port}"))


def of_many_edits(user, client, port):
    """Figures of growth over many edits that rebuild."""
    sketch, _, operations = plate()
    job = Job(user, job_of(sketch, operations))
    wait_for_mesh(client, job)
    for index in range(60):
        _rebuilt(client, job, index)
    memory, stored = web_bytes(port), database_bytes()
    for index in range(EDITS):
        _rebuilt(client, job, 100 + index)
    return {
        "web_memory_growth_percent": 100 * (web_bytes(port) / memory - 1),
        "db_kb_an_edit": (database_bytes() - stored) / EDITS / 1000,
    }


def _rebuilt(client, job, index):
    job.do(client, "solid.set", stage="solid", name="op1", blanks={"length": f"{6 + index / 100:.2f} mm"})
    client.get(f"{job.path}/solid/mesh/{wait_for_mesh(client, job)['mesh']}")


class Person(threading.Thread):
    """Opens pages, edits a number now and then, and drags if wanted, for a while."""

    def __init__(self, port, user, index, until):
        super().__init__(daemon=True)
        sketch, _, operations = plate()
        self.job = Job(user, job_of(sketch, operations), f"Load {index}")
        self.point = next(iter(sketch.points))
        self.client = Client(port, "ro", "hive-latch")
        self.index, self.until = index, until
        self.pages, self.drags, self.rebuilt, self.errors = [], [], [], 0

    def run(self):
        random = np.random.default_rng(self.index)
        due = {"page": time.monotonic() + random.uniform(0, PAGE_EVERY_S)}
        due["edit"] = time.monotonic() + random.uniform(0, EDIT_EVERY_S)
        if self.index < DRAGGING:
            due["drag"] = time.monotonic()
        while (now := time.monotonic()) < self.until:
            what, when = min(due.items(), key=lambda item: item[1])
            if when > now:
                time.sleep(min(when - now, self.until - now))
                continue
            due[what] = now + {"page": PAGE_EVERY_S, "edit": EDIT_EVERY_S, "drag": DRAG_EVERY_S}[what]
            try:
                getattr(self, what)(random)
            except (OSError, SystemExit, ValueError, KeyError):
                self.errors += 1

    def _got(self, address):
        took, (status, data) = timed(self.client.get, address)
        self.errors += status >= 400
        return took, data

    def page(self, random):
        self.pages.append(self._got(f"{self.job.path}/{STAGES[random.integers(len(STAGES))]}")[0])

    def edit(self, random):
        begin = time.perf_counter()
        text = f"{random.uniform(4, 9):.2f} mm"
        self.job.do(self.client, "solid.set", stage="solid", name="op1", blanks={"length": text})
        wait_for_mesh(self.client, self.job)
        self.rebuilt.append(time.perf_counter() - begin)

    def drag(self, random):
        took, (status, _) = timed(self.job.drag, self.client, self.point, len(self.drags))
        self.errors += status >= 400
        self.drags.append(took)


def of_load(user, port):
    """Figures of fifty people at once."""
    people = [Person(port, user, index, 0) for index in range(PEOPLE)]
    until = time.monotonic() + LOAD_S
    for person in people:
        person.until = until
        person.start()
    for person in people:
        person.join(LOAD_S + 90)

    def all_of(name):
        return [value for person in people for value in getattr(person, name)]

    return {
        "load_50_page_ms_p95": p95(all_of("pages")),
        "load_50_drag_ms_p95": p95(all_of("drags")),
        "load_50_rebuilt_s_p95": p95(all_of("rebuilt")),
        "load_50_errors": float(sum(person.errors for person in people)),
    }


def taken_up_again_s(user):
    """Seconds from the death of a worker to the end of what it was doing."""
    from store.documents import document_of
    from work import services
    from work.models import Task

    sketch, _, operations = plate()
    job = Job(user, job_of(sketch, operations))
    task = services.submit(job.row, "rebuild", services.rebuild_arguments(document_of(job.row)))
    while task.status == Task.WAITING:
        task.refresh_from_db(fields=["status"])
    begin, was_running = time.perf_counter(), task.status == Task.RUNNING
    _kill(processes("manage.py work"))
    while task.status in Task.OPEN:
        time.sleep(0.05)
        task.refresh_from_db()
    if not was_running or task.status != Task.DONE or task.attempt < 2:
        raise SystemExit(f"the worker was not killed at work: {task.status}, attempt {task.attempt}")
    return time.perf_counter() - begin


def _kill(found):
    for pid, _ in found[:1]:
        try:
            os.kill(pid, signal.SIGKILL)
        except ProcessLookupError:
            continue


def killed_lost(user, port, random):
    """Acknowledged edits that are not there in the end, and edits half done, over many kills of parts at random."""
    from django.db import OperationalError, connection

    from store.models import Command

    sketch, _, operations = plate()
    job, client = Job(user, job_of(sketch, operations)), Client(port, "ro", "hive-latch")
    stop, acknowledged = threading.Event(), []

    def edits():
        nonlocal client
        number = 0
        while not stop.is_set():
            number += 1
            text = f"{5 + number / 1000:.3f} mm"
            try:
                job.do(client, "solid.set", stage="solid", name="op1", blanks={"length": text})
                acknowledged.append((job.version, text))
                client.request("POST", f"{job.path}/solid/build", "{}")
            except (OSError, SystemExit, ValueError, KeyError, TypeError, AttributeError):
                time.sleep(0.2)
                client = _signed_in(port, client)
                try:
                    job.version = json.loads(client.get(f"{job.path}/sketch/board")[1])["version"]
                except (OSError, ValueError, KeyError):
                    continue

    thread = threading.Thread(target=edits, daemon=True)
    thread.start()
    cluster = Cluster("checks")
    for _ in range(KILLS):
        time.sleep(random.uniform(0.3, 1.0) * KILL_EVERY_S)
        what = random.choice(["web", "worker", "pool", "database"])
        if what == "database":
            lock = cluster.folder() / "data" / "postmaster.pid"
            if lock.exists():
                _kill([(int(lock.read_text().split()[0]), 0)])
        else:
            found = processes(
                {"web": f"127.0.0.1:{port}", "worker": "manage.py work", "pool": "multiprocessing.spawn"}[what]
            )
            _kill([found[random.integers(len(found))]] if found else [])
    time.sleep(10)
    stop.set()
    thread.join(30)
    for _ in range(60):
        try:
            told = list(Command.objects.filter(job=job.row).order_by("version").values_list("version", "arguments"))
            break
        except OperationalError:
            connection.close()  # this process's own, which died with a server
            time.sleep(0.5)
    stored = {version: arguments["blanks"]["length"] for version, arguments in told}
    job.row.refresh_from_db()
    lost = sum(stored.get(version) != text for version, text in acknowledged)
    half = int(job.row.version != len(told)) + int([version for version, _ in told] != list(range(1, len(told) + 1)))
    print(f"   {len(acknowledged)} edits acknowledged, {len(told)} stored, over {KILLS} kills")
    return float(lost + half)


def _signed_in(port, client):
    """A new connection with the old session."""
    try:
        client.connection.close()
        return client
    except OSError:
        return Client(port, "ro", "hive-latch")


def of_hostile(user, port, random):
    """Figures of broken and harmful files."""
    client, worst, longest, peak, stop = Client(port, "ro", "hive-latch"), 0, 0.0, 0, threading.Event()

    def watch():
        nonlocal peak
        while not stop.wait(0.1):
            web = processes(f"127.0.0.1:{port}")
            groups = {os.getpgid(pid) for pid, _ in web if os.path.exists(f"/proc/{pid}")}
            sizes = [
                size
                for pid, size in processes("multiprocessing")
                if os.path.exists(f"/proc/{pid}") and os.getpgid(pid) in groups
            ]
            peak = max(peak, sum(size for _, size in web) + sum(sizes))

    thread = threading.Thread(target=watch, daemon=True)
    thread.start()
    for name, data in hostile_files(random, HOSTILE):
        edge = secrets.token_hex(16)
        head = f'--{edge}\r\nContent-Disposition: form-data; name="picture"; filename="{name}"\r\n\r\n'
        body = head.encode() + data + f"\r\n--{edge}--\r\n".encode()
        took, (status, _) = timed(client.request, "POST", "/new", body, f"multipart/form-data; boundary={edge}")
        worst += status >= 500
        longest = max(longest, took / 1000)
    stop.set()
    thread.join()
    return {"hostile_500s": float(worst), "hostile_longest_s": longest, "hostile_peak_mb": peak / 2**20}


def drilled_plate(count=30, radius=3.0):
    """The document of a job of so many operations, each on the body that the one before it left."""
    from nomogon_core.job.commands import carry_out
    from nomogon_core.job.library import Library

    sketch = many_outlines(1)
    centers = []
    for index in range(count - 1):
        sketch, hole = edit.add_circle(sketch, (200.0 + 12 * (index % 6), 12.0 * (index // 6)), radius)
        centers.append(hole)
    sketch, rim = edit.add_circle(sketch, (230.0, 24.0), 60.0)
    document, library = job_of(sketch), Library()
    region = next(one.name for one in find_regions(sketch) if rim in one.name.split())
    blanks = {"regions": {"sketch": "s1", "names": [region]}, "extent": "by", "length": "8 mm", "way": "up"}
    add = {"kind": "extrude", "blanks": blanks | {"result": "new", "body": "Plate"}}
    document = carry_out(document, "solid.add", add, library).document
    body = next(iter(document["bodies"]))
    for index, center in enumerate(centers):
        picked = {"centres": {"sketch": "s1", "names": [center]}, "body": body}
        size = {"diameter": f"{2 * radius + 0.5 + index / 100:.2f} mm", "extent": "by", "depth": "2 mm"}
        document = carry_out(document, "solid.add", {"kind": "hole", "blanks": picked | size}, library).document
    return document


def second_worker_ratio(user):
    """Seconds that a fresh process takes to build what another one has built over those that the first one took."""
    from nomogon_core.solid import graph
    from work import kernels, services
    from work.shapes import shared_by

    job = Job(user, drilled_plate())
    arguments = services.rebuild_arguments(drilled_plate())["document"]
    kernels.rebuild_job(services.rebuild_arguments(drilled_plate(3, 2.0))["document"])  # what is loaded at first use
    times = []
    for _ in range(2):
        kernels._CACHE = graph.Cache()
        took, (result, _) = timed(kernels.rebuild_job, arguments, shared_by(job.row.pk))
        times.append(took)
        if any(step["problem"] for step in result["steps"]):
            raise SystemExit("a step of the plate fails")
    print(f"   {len(result['steps'])} steps, {times[0]:.0f} ms, then {times[1]:.0f} ms")
    return times[1] / times[0]


def throughput_of(user, workers, tasks=8):
    """Tasks a second of so many workers of one process each."""
    from work import services

    jobs = [Job(user, drilled_plate(30, 2.0 + 0.1 * index + 0.01 * workers)) for index in range(tasks)]
    command = [*work_command(1)]
    running = [subprocess.Popen(command, env=environment(), start_new_session=True) for _ in range(workers)]
    try:
        warm = [Job(user, drilled_plate(4, 1.0 + index)) for index in range(2 * workers)]
        _done([_asked(one, services) for one in warm])
        begin = time.perf_counter()
        _done([_asked(one, services) for one in jobs])
        seconds = time.perf_counter() - begin
    finally:
        for process in running:
            process.terminate()
            process.wait(20)
    print(f"   {workers} worker{'s' * (workers > 1)}: {tasks} tasks in {seconds:.1f} s")
    return tasks / seconds


def _asked(job, services):
    from store.documents import document_of

    return services.submit(job.row, "rebuild", services.rebuild_arguments(document_of(job.row)))


def _done(asked, seconds=120):
    from work.models import Task

    deadline = time.monotonic() + seconds
    while Task.objects.filter(pk__in=[task.pk for task in asked], status__in=Task.OPEN).exists():
        if time.monotonic() > deadline:
            raise SystemExit("the workers did not end")
        time.sleep(0.02)


def of_workers(user):
    """Figures of workers beside each other; no other worker may run."""
    return {
        "second_worker_ratio": second_worker_ratio(user),
        "throughput_2_workers": float(np.median([throughput_of(user, 2) / throughput_of(user, 1) for _ in range(3)])),
    }


def first_start_s():
    """Seconds until a fresh clone of this checkout prints its address, with the packages downloaded before."""
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder) / "clone"
        subprocess.run(["git", "clone", "-q", str(ROOT), str(root)], check=True)
        application = Application(root)
        application.stop()
        return application.seconds


REACH = {
    "freedom_ms_500": (15, "degrees of freedom of 481 curves"),
    "command_ms_p95_500": (60, "a dimension changed over HTTP, 481 curves"),
    "drag_answer_kb_500": (12, "the answer to a drag, 481 curves"),
    "drag_5000_ms_p95": (60, "a circle of 5,000 dragged"),
    "add_line_5000_ms": (400, "a line more beside 5,000 circles"),
    "page_ms_p95": (80, "every page of a built plate"),
    "register_ms_1000_jobs": (150, f"{REGISTERED} jobs"),
    "web_memory_growth_percent": (10, f"over {EDITS} edits that rebuild"),
    "db_kb_an_edit": (4, f"over {EDITS} edits that rebuild, their meshes included"),
    "load_50_page_ms_p95": (300, f"{PEOPLE} people for {LOAD_S:g} s, clients on the same two cores"),
    "load_50_drag_ms_p95": (150, f"{DRAGGING} of them dragging"),
    "load_50_rebuilt_s_p95": (5, "edit to mesh"),
    "load_50_errors": (0, "answers that are refusals or failures"),
    "taken_up_again_s": (15, "a worker killed while it works, to the result"),
    "hostile_500s": (0, f"{HOSTILE} broken files over every format, and seven made to harm"),
    "hostile_longest_s": (15, "the longest of them"),
    "hostile_peak_mb": (1500, "web server and its readers"),
    "second_worker_ratio": (0.35, "30 operations built by a fresh process, shapes shared, over the first"),
    "throughput_2_workers": (1.6, "at least; two workers of one process each over one, median of three"),
    "first_start_s": (80, "a fresh clone to its address, packages downloaded before"),
    "killed_lost": (0, f"acknowledged edits lost or half done over {KILLS} kills of web, worker, pool and database"),
}


def run(seed=None):
    """Rows of figures; ``seed`` of the broken files and the kills, a fresh one by default."""
    seed = seed if seed is not None else secrets.randbelow(2**32)
    print(f"seed {seed}")
    application = Application()
    sys.path.insert(0, str(ROOT / "web"))
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "nomogon_web.settings")
    django.setup()
    from django.contrib.auth import get_user_model
    from django.db import connection

    from store import models

    time.sleep(SETTLE_S)
    user, port, figures = get_user_model().objects.get(username="ro"), application.port, {}
    before = set(models.Job.objects.values_list("pk", flat=True))
    steps = (
        lambda: of_sketches(user, Client(port, "ro", "hive-latch")),
        lambda: of_pages(user, Client(port, "ro", "hive-latch")),
        lambda: of_many_edits(user, Client(port, "ro", "hive-latch"), port),
        lambda: of_load(user, port),
        lambda: {"taken_up_again_s": taken_up_again_s(user)},
        lambda: of_hostile(user, port, np.random.default_rng([seed, 1])),
        lambda: {"killed_lost": killed_lost(user, port, np.random.default_rng([seed, 2]))},
        application.stop,
        # It stopped the database too, where it was the one that started it again after a kill.
        lambda: Cluster(os.environ.get(CLUSTER, "")).start() and {},
        lambda: of_workers(user),
        lambda: {"first_start_s": first_start_s()},
    )
    try:
        for step in steps:
            figures |= step() or {}
            print("   " + ", ".join(f"{name} {value:.3g}" for name, value in list(figures.items())[-5:]), flush=True)
    finally:
        connection.close()  # it may have died with a server
        models.Job.objects.exclude(pk__in=before).delete()
        application.stop()
    return [
        {"name": name, "value": figures[name], "reach": reach, "against": against}
        for name, (reach, against) in REACH.items()
    ]


if __name__ == "__main__":
    sys.exit("run this as ./nomogon bench running")
