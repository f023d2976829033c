"""From picture to plate: rebuild over raw kernel calls, drags, tracing, edits, pages, start."""

import json
import math
import os
import statistics
import sys
import time

import cv2
import django
import numpy as np

from benchmarks.client import Application, Client
from core.tests.specimens import job_of, operation
from examples import parts
from examples.render import Camera, part_coverage, photograph, rounded_polygon
from examples.tilted import scale_from
from launch.postgres import Cluster
from nomogon_core.job.document import build_of
from nomogon_core.picture.decode import decode
from nomogon_core.reference.calibration import KnownLength
from nomogon_core.sketch import edit, model
from nomogon_core.sketch.regions import find_regions, loop_curves
from nomogon_core.solid import graph, kernel
from nomogon_core.trace.outlines import TraceSettings, trace

REPEATS = 15
SETTLE_S = 8.0


def _median_seconds(function, repeats=REPEATS):
    function()
    times = []
    for _ in range(repeats):
        begin = time.perf_counter()
        function()
        times.append(time.perf_counter() - begin)
    return statistics.median(times)


def plate():
    """The demo plate's sketch and operations, without the picture."""
    sketch = model.Sketch()
    for outline in parts.latch_plate():
        sketch, _, _ = edit.add_outline(sketch, outline, [0.05] * len(outline), origin="drawn")
    circles = [name for name, curve in sketch.curves.items() if curve.kind == "circle"]
    return (
        sketch,
        circles,
        [
            operation("op1", "extrude", mode="new", regions=[find_regions(sketch)[0].name], length=6.0),
            operation("op2", "hole", centers=circles, diameter=8.0, depth=1.5),
            operation("op3", "fillet", edges={"at": "top"}, radius=0.8),
        ],
    )


def rebuild_over_kernel():
    """Whole rebuild, regions and names included, over the bare kernel calls for the same shape and the same checks."""
    sketch, circles, operations = plate()
    region = find_regions(sketch)[0]
    loops = [[(name, curve) for (name, _), curve in zip(loop, loop_curves(sketch, loop))] for loop in region.loops()]
    centers = [sketch.points[sketch.curves[name].points[0]] for name in circles]

    def raw():
        face, _ = kernel.face_of(loops, 0.0)
        shape = kernel.prism(face, 6.0).Shape()
        kernel.facts_of(shape)
        cut = kernel.boolean("cut", shape, [kernel.cylinder(x, y, 4.5, 2.5, 4.0).Shape() for x, y in centers]).Shape()
        kernel.facts_of(cut)
        edges = [
            edge
            for edge, _ in kernel.edges_with_faces(cut)
            if abs(kernel.edge_points(edge, 1.0)[:, 2] - 6).max() < 1e-6
        ]
        kernel.facts_of(kernel.fillet(cut, edges, 0.8).Shape())

    sheet, ratios = build_of(job_of(sketch, operations)), []
    for _ in range(3):
        ratios.append(_median_seconds(lambda: graph.run(sheet)) / _median_seconds(raw))
    return statistics.median(ratios)


def trace_12mp_s():
    """Decode to fitted curves, 4000 × 3000 pixels, on the demo plate under a fresh camera."""
    camera = Camera(42.0, (240.0, 2480.0))
    picture = photograph(part_coverage(parts.latch_plate(), camera, 4000, 3000), noise=0.01, grain=0.03, seed=3)
    data = cv2.imencode(".jpg", picture, [cv2.IMWRITE_JPEG_QUALITY, 92])[1].tobytes()
    fit = scale_from([KnownLength("a", (0, 0), (4200, 0), 100.0)], origin_px=camera.center)
    return _median_seconds(lambda: trace(decode(data), fit, TraceSettings(tolerance_mm=0.1)), 3)


def forty_entities():
    """A closed outline of 20 lines and 20 tangent arcs."""
    corners = [
        ((50 + 12 * (k % 2)) * math.cos(math.pi * k / 10), (50 + 12 * (k % 2)) * math.sin(math.pi * k / 10))
        for k in range(20)
    ]
    outline = rounded_polygon(corners, [2.0] * 20)
    sketch, _, joints = edit.add_outline(model.Sketch(), outline, [0.05] * len(outline), origin="drawn")
    for constraint in edit.smooth_joints(sketch, joints):
        sketch, _ = edit.add_constraint(sketch, constraint)
    return sketch


def _new_job(user, title, document):
    from store.documents import keep_document
    from store.models import Job, Member

    job = Job.objects.create(title=title)
    Member.objects.create(job=job, user=user, role=Member.OWNER)
    keep_document(job, None, document)
    return job


def drags(client, job, sketch):
    """Milliseconds of 150 drag steps of one corner around a circle."""
    point = next(iter(sketch.points))
    times = []
    for step in range(160):
        angle = step / 12
        body = {
            "held": [point],
            "dx": 4 * math.cos(angle) - 4,
            "dy": 4 * math.sin(angle),
            "x": 0.0,
            "y": 0.0,
            "sequence": step,
        }
        begin = time.perf_counter()
        client.post(f"/jobs/{job.pk}/sketch/drag", body)
        times.append((time.perf_counter() - begin) * 1000)
    return times[10:]


def thickness_edits(client, job):
    """Seconds from a changed thickness to the new mesh received."""

    def built():
        while True:
            state = json.loads(client.request("POST", f"/jobs/{job.pk}/solid/build", "{}")[1])
            if state["mesh"]:
                return state

    version = built()["version"]
    times = []
    for index in range(12):
        begin = time.perf_counter()
        body = {
            "version": version,
            "stage": "solid",
            "arguments": {"name": "op1", "blanks": {"length": f"{6.1 + index / 10:.1f} mm"}},
        }
        version = client.post(f"/jobs/{job.pk}/do/solid.set", body)["version"]
        client.get(f"/jobs/{job.pk}/solid/mesh/{built()['mesh']}")
        times.append(time.perf_counter() - begin)
    return statistics.median(times[2:])


def pages(client, job):
    """Milliseconds of the 95th percentile over the register and all stages of the demo plate."""
    times = []
    for _ in range(20):
        for path in (
            "/",
            *(
                f"/jobs/{job}/{stage}"
                for stage in ("reference", "sketch", "solid", "inspect", "release", "sketch/board")
            ),
        ):
            begin = time.perf_counter()
            status, _ = client.get(path)
            times.append((time.perf_counter() - begin) * 1000)
            if status != 200:
                raise SystemExit(f"{path} answered {status}")
    return float(np.percentile(times, 95))


def over_http():
    """Figures that need the running application; jobs made for it are taken away again."""
    Application().stop()
    Cluster("checks").stop()
    application = Application()
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "nomogon_web.settings")
    django.setup()
    from django.contrib.auth import get_user_model

    from store.models import Job

    user = get_user_model().objects.get(username="ro")
    client = Client(application.port, "ro", "hive-latch")
    time.sleep(SETTLE_S)
    sketch = forty_entities()
    plate_sketch, _, operations = plate()
    made = [
        _new_job(user, "bench drag", job_of(sketch)),
        _new_job(user, "bench plate", job_of(plate_sketch, operations)),
    ]
    try:
        moves = drags(client, made[0], sketch)
        edit_s = thickness_edits(client, made[1])
        demo = Job.objects.get(number="FLA-014", members__user=user)
        page_ms = pages(client, demo.pk)
    finally:
        Job.objects.filter(pk__in=[job.pk for job in made]).delete()
        application.stop()
    return {
        "drag_ms_median": statistics.median(moves),
        "drag_ms_p95": float(np.percentile(moves, 95)),
        "thickness_edit_s": edit_s,
        "page_ms_p95": page_ms,
        "second_start_s": application.seconds,
    }


def run():
    """All figures of the slice, as rows for the table."""
    figures = over_http()
    figures["trace_12mp_s"] = trace_12mp_s()
    figures["rebuild_over_kernel"] = rebuild_over_kernel()
    reach = {
        "rebuild_over_kernel": (1.3, "the same kernel calls bare, in the same process"),
        "drag_ms_median": (20, "40 entities over HTTP, one client"),
        "drag_ms_p95": (35, "the same"),
        "trace_12mp_s": (3, "decode to fitted curves"),
        "thickness_edit_s": (0.5, "value sent to new mesh received"),
        "page_ms_p95": (100, "register and all stages of the demo plate"),
        "second_start_s": (6, "database stopped before, address printed"),
    }
    return [
        {"name": name, "value": figures[name], "reach": reach[name][0], "against": reach[name][1]} for name in reach
    ]


if __name__ == "__main__":
    sys.exit("run this as ./nomogon bench slice")
