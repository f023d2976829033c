"""What a job is: stored changes, names, references, what an edit makes anew, first view, and a list of commands played.

Parts and edits come from a fresh seed at every run (:mod:`benchmarks.random_jobs`), which is printed.
"""

import json
import math
import os
import secrets
import statistics
import subprocess
import sys
import tempfile
import time
from contextlib import suppress
from pathlib import Path

import django
import numpy as np
from playwright.sync_api import sync_playwright

from benchmarks.client import Application
from benchmarks.random_jobs import RandomPart
from launch.chromium import ARGUMENTS, CHROMIUM, SIZE
from launch.places import ROOT
from nomogon_core.errors import CoreError
from nomogon_core.geometry.curves import Spline
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import build_of, keep_sketch, new_document, sketch_of
from nomogon_core.job.library import Library
from nomogon_core.sketch import edit, model
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph

NAME_EDITS, REFERENCE_EDITS, VIEWS = 50, 200, 7
BODIES = 10
SPLINES = 110
EXAMPLE = ROOT / "examples" / "play" / "latch-plate.json"


def stored_bytes_an_edit():
    """Bytes that the history keeps of one dimension changed in a sketch of 300 points in 75 rectangles."""
    sys.path.insert(0, str(ROOT / "web"))
    from nomogon_core.job.history import difference

    document, library = new_document(), Library()
    for row in range(75):
        x, y = 20.0 * (row % 10), 20.0 * (row // 10)
        document = carry_out(
            document, "sketch.rectangle", {"first": [x, y], "second": [x + 12, y + 9]}, library
        ).document
    lines = [name for name, curve in sketch_of(document).curves.items() if curve.kind == "line"]
    document = carry_out(document, "sketch.dimension", {"kind": "distance", "of": lines[:1]}, library).document
    (name,) = (name for name, item in sketch_of(document).constraints.items() if item.is_dimension)
    arguments = {"name": name, "text": "13.37 mm"}
    after = carry_out(document, "sketch.set_value", arguments, library).document
    changes = {part: difference(document[part], after[part]) for part in after if document[part] != after[part]}
    return len(json.dumps(changes)) + len(json.dumps(arguments))


def _edited(seed, index):
    """A random part after one to three edits, or None where its own drawing was refused."""
    random = np.random.default_rng([seed, index])
    try:
        part = RandomPart(random)
    except CoreError:
        return None
    for _ in range(int(random.integers(1, 4))):
        try:
            part.edit()
        except CoreError:
            continue
    return part


def names_same_percent(seed):
    """Share of edits after which a warm cache and a cold one give the same names."""
    cache, same, index = graph.Cache(), 0, 0
    part, done = None, 0
    while done < NAME_EDITS:
        if part is None or done % 5 == 0:
            part, index = _edited(seed + 1, index), index + 1
            if part is None:
                continue
            part.names(cache)
        with suppress(CoreError):
            part.edit()
        same += part.names(cache) == part.names(graph.Cache())
        done += 1
    return 100 * same / NAME_EDITS


def references_right_percent(seed):
    """Share of edits upstream after which each reference lies on what was meant, or is reported lost; and how many
    were found."""
    right = found = done = index = 0
    while done < REFERENCE_EDITS:
        part, index = _edited(seed, index), index + 1
        if part is None:
            continue
        done += 1
        wrong = part.wrong_references()
        if wrong:
            print(f"reference of part {index - 1}: {wrong}")
        right += not wrong
        found += not wrong and not any(step.problem for step in part.built().steps)
    return 100 * right / REFERENCE_EDITS, 100 * found / REFERENCE_EDITS


def ten_bodies():
    """A document of ten bodies, each extruded from an outline of its own and rounded."""
    document, library = new_document(), Library()
    for number in range(BODIES):
        x = 60.0 * number
        document = carry_out(document, "sketch.new", {"title": f"Body {number}"}, library).document
        sketch = document["steps"][-1]
        for name, arguments in (
            ("sketch.rectangle", {"first": [x, 0], "second": [x + 40, 30], "sketch": sketch}),
            ("sketch.circle", {"center": [x + 20, 15], "rim": [x + 26, 15], "sketch": sketch}),
        ):
            document = carry_out(document, name, arguments, library).document
        region = find_regions(sketch_of(document, sketch))[0].name
        blanks = {"regions": {"sketch": sketch, "names": [region]}, "extent": "by", "length": "6 mm", "way": "up"}
        add = {"kind": "extrude", "blanks": blanks | {"result": "new", "body": f"Body {number}"}}
        document = carry_out(document, "solid.add", add, library).document
        body = max(document["bodies"], key=lambda name: int(name[1:]))
        rounded = {"edges": {"body": body, "rule": {"at": "top"}}, "radius": "1 mm"}
        document = carry_out(document, "solid.add", {"kind": "fillet", "blanks": rounded}, library).document
    return document, library


def independent_edit_ratio():
    """Seconds to build one of ten unrelated bodies anew over those of building all."""
    document, library = ten_bodies()
    first = next(iter(document["operations"]))
    cache, whole, edited = graph.Cache(), [], []
    graph.run(build_of(document), cache)
    for index in range(VIEWS):
        begin = time.perf_counter()
        graph.run(build_of(document), graph.Cache())
        whole.append(time.perf_counter() - begin)
        text = {"name": first, "blanks": {"length": f"{7 + index / 10:.1f} mm"}}
        document = carry_out(document, "solid.set", text, library).document
        begin = time.perf_counter()
        graph.run(build_of(document), cache)
        edited.append(time.perf_counter() - begin)
    return statistics.median(edited) / statistics.median(whole)


def wavy_outline(random):
    """A closed outline of 110 cubics as a trace leaves one, joined smoothly."""
    angles = np.linspace(0, 2 * math.pi, SPLINES, endpoint=False)
    radius = 45 + 6 * np.sin(5 * angles) + 2.5 * np.sin(17 * angles + 1) + random.normal(0, 0.25, SPLINES)
    places = np.column_stack([radius * np.cos(angles), radius * np.sin(angles)])
    ways = (np.roll(places, -1, 0) - np.roll(places, 1, 0)) / 6
    after = np.roll(places, -1, 0), np.roll(ways, -1, 0)
    return [Spline([place, place + way, end - last, end]) for place, way, end, last in zip(places, ways, *after)]


def views_s(seed):
    """Seconds from taking the tool Extrude to the picture of a traced outline of 110 splines, in the browser, which is
    built ahead on a page that has been open for a moment; and from another length typed to its picture."""
    application = Application()
    sys.path.insert(0, str(ROOT / "web"))
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "nomogon_web.settings")
    django.setup()
    from django.contrib.auth import get_user_model

    from store.documents import document_of, keep_document
    from store.making import new_job
    from store.models import Job

    user, jobs = get_user_model().objects.get(username="ro"), []
    for index in range(VIEWS):
        curves = wavy_outline(np.random.default_rng([seed, index]))
        sketch, _, _ = edit.add_outline(model.Sketch(), curves, [0.02] * SPLINES, origin="drawn")
        job = new_job(user, f"Benchmark {index}")
        document = document_of(job)
        keep_sketch(document, "s1", sketch)
        keep_document(job, None, document)
        jobs.append(job)
    try:
        return _seen(application.port, [str(job.pk) for job in jobs])
    finally:
        Job.objects.filter(pk__in=[job.pk for job in jobs]).delete()
        application.stop()


def _seen(port, jobs):
    times, changed = [], []
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        page = browser.new_page(viewport=SIZE)
        page.goto(f"http://127.0.0.1:{port}/sign-in")
        page.get_by_label("Name").fill("ro")
        page.get_by_label("Password").fill("hive-latch")
        page.get_by_role("button", name="Sign in").click()
        for job in jobs:
            page.goto(f"http://127.0.0.1:{port}/jobs/{job}/solid")
            page.wait_for_selector("[data-sketch] path", state="attached")
            page.wait_for_timeout(1500)
            begin = time.perf_counter()
            page.keyboard.press("1")
            page.wait_for_selector("#board[data-mesh]", state="attached")
            page.evaluate("() => new Promise((then) => requestAnimationFrame(() => requestAnimationFrame(then)))")
            times.append(time.perf_counter() - begin)
            changed.append(_changed(page))
        browser.close()
    return statistics.median(times[1:]), statistics.median(changed[1:])


def _changed(page):
    """Seconds from another length typed into the sentence to its picture, which nobody could foresee."""
    mesh = page.locator("#board").get_attribute("data-mesh")
    begin = time.perf_counter()
    page.locator(".writing [data-blank=length]").fill("7.3 mm")
    page.wait_for_selector(f"#board:not([data-mesh='{mesh}'])", state="attached")
    return time.perf_counter() - begin


def play_s():
    """Seconds of the worked example from its picture to a STEP file, each command in a fresh process."""
    with tempfile.TemporaryDirectory() as folder:
        job, out = Path(folder) / "job.zip", Path(folder) / "made"
        begin = time.perf_counter()
        for arguments in (
            ("play", str(EXAMPLE), "--out", str(job)),
            ("make", str(job), "--out", str(out), "--files", "step"),
        ):
            subprocess.run([str(ROOT / "nomogon"), *arguments], check=True)
        seconds = time.perf_counter() - begin
        if not list(out.glob("*.step")):
            raise SystemExit("the worked example gave no STEP file")
    return seconds


def run(seed=None):
    """Rows of figures; ``seed`` of the random parts, a fresh one by default."""
    seed = seed if seed is not None else secrets.randbelow(2**32)
    print(f"seed {seed}")
    right, found = references_right_percent(seed)
    first, changed = views_s(seed)

    def row(name, value, reach, against):
        return {"name": name, "value": value, "reach": reach, "against": against}

    return [
        row("stored_bytes_an_edit", stored_bytes_an_edit(), 1500, "a dimension in a sketch of 300 points"),
        row("names_same_percent", names_same_percent(seed), 100, f"cold against warm, {NAME_EDITS} edits"),
        row("references_right_percent", right, 100, f"geometry, {REFERENCE_EDITS} parts edited upstream"),
        row("references_found_percent", found, None, "the others are reported lost"),
        row("independent_edit_ratio", independent_edit_ratio(), 0.2, f"one of {BODIES} bodies over all"),
        row("first_view_s", first, 0.6, "browser, tool to picture, built ahead"),
        row("changed_view_s", changed, None, "browser, another length to its picture"),
        row("play_s", play_s(), 12, "from picture to STEP, cold"),
    ]
