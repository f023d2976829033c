"""Marks on bodies: made-up logos of 5 to 60 areas on flat, round and free faces; bars along random paths; drawings."""

import math
import secrets
import time

import numpy as np
import trimesh
from scipy.interpolate import CubicSpline

from benchmarks.solid import regions_of, seconds, step
from core.tests.specimens import drawn
from nomogon_core.exchange.readers.curves import read_outlines
from nomogon_core.exchange.readers.meshes import read_mesh
from nomogon_core.geometry.curves import Arc, Circle, Line, Spline
from nomogon_core.job.library import Library
from nomogon_core.sketch import edit
from nomogon_core.sketch.model import Sketch
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import display, graph, kernel
from nomogon_core.solid.meshes import facts_of, packed
from nomogon_core.solid.sheet import BuildSheet, SketchStep

LOGOS, BARS, CURVES = 30, 60, 5000
DEPTH_MM, WITHIN, PLACES = 0.8, 0.03, 200
KINDS = ("plane", "cylinder", "cone", "revolved")
BODIES = {name: {"name": name, "colour": "#9fb0a6", "material": "PLA"} for name in ("Part", "Bar")}


def _blob(random, x, y, reach):
    """A closed outline about a place: smooth, or with corners and bowed sides."""
    count = int(random.integers(4, 9))
    angles = 2 * math.pi * np.arange(count) / count + random.uniform(0, 1)
    radii = reach * random.uniform(0.7, 1.0, count)
    places = np.column_stack([x + radii * np.cos(angles), y + radii * np.sin(angles)])
    if random.random() < 0.5:
        ways = CubicSpline(np.arange(count + 1), np.vstack([places, places[:1]]), bc_type="periodic")(
            np.arange(count), 1
        )
        control = [tuple(places[0])]
        for index in range(count):
            after = (index + 1) % count
            control += [
                tuple(places[index] + ways[index] / 3),
                tuple(places[after] - ways[after] / 3),
                tuple(places[after]),
            ]
        return [Spline(control)]
    sides = []
    for index in range(count):
        a, b = places[index], places[(index + 1) % count]
        bow = float(random.uniform(-0.1, 0.25))
        aside = bow * np.array([b[1] - a[1], a[0] - b[0]])
        straight = random.random() < 0.3
        middle = [tuple(a + (b - a) / 3 + aside), tuple(a + 2 * (b - a) / 3 + aside)]
        sides.append(Line(a, b) if straight else Spline([tuple(a), *middle, tuple(b)]))
    return sides


def logo(random, areas):
    """A sketch of so many areas, some with a hole, within 30 x 26 mm about (0, 30)."""
    across = math.ceil(math.sqrt(areas * 30 / 26))
    cell = 30 / across
    outlines = []
    for index in range(areas):
        x = (index % across - (across - 1) / 2) * cell
        y = 30 + (index // across - (math.ceil(areas / across) - 1) / 2) * cell
        outlines.append(_blob(random, x, y, 0.44 * cell))
        if random.random() < 0.4:
            outlines.append([Circle((x, y), 0.15 * cell)])
    return drawn(*outlines)


def body(random, kind):
    """(steps that make a body, whether the logo lies on its front or around it)."""
    if kind in ("plane", "cylinder"):
        radius = float(random.uniform(18, 40))
        square = [(-radius, -radius), (radius, -radius), (radius, radius), (-radius, radius)]
        sides = [Line(a, b) for a, b in zip(square, square[1:] + square[:1])]
        sketch = drawn(sides if kind == "plane" else [Circle((0, 0), radius)])
        first = step(
            "op1", "extrude", regions=regions_of(sketch), extent="by", length=60.0, way="up", result="new", body="Part"
        )
        return [SketchStep("s1", "Profile", "plan", sketch), first], "front" if kind == "plane" else "round"
    low, high = float(random.uniform(24, 36)), float(random.uniform(18, 30))
    side = (
        Line((low, 0), (high, 60)) if kind == "cone" else Spline([(low, 0), (low + 8, 20), (high - 4, 40), (high, 60)])
    )
    sketch = drawn([side, Line((high, 60), (0, 60)), Line((0, 60), (0, 0)), Line((0, 0), (low, 0))])
    first = step("op1", "revolve", regions=regions_of(sketch), axis="z", extent="full", result="new", body="Part")
    return [SketchStep("s1", "Profile", "front", sketch), first], "round"


def wrapped(random, kind, areas):
    """(whether a logo on a face of a kind is valid with the volume that it must have, seconds, worst depth error)."""
    steps, at = body(random, kind)
    sketch, rise = logo(random, areas), DEPTH_MM if random.random() < 0.5 else -DEPTH_MM
    plain = graph.run(BuildSheet(steps, BODIES)).bodies["Part"]
    regions = find_regions(sketch)
    area = sum(region.area for region in regions)
    picked = {"sketch": "s2", "names": [region.name for region in regions]}
    mark = SketchStep("s2", "Mark", "front", sketch)
    if at == "front":
        mark = SketchStep("s2", "Mark", {"body": "Part", "face": _face(plain, flat=True)}, sketch)
        way = {"result": "add" if rise > 0 else "cut", "way": "up" if rise > 0 else "down"}
        last = step("op9", "extrude", regions=picked, extent="by", length=DEPTH_MM, body="Part", **way)
    else:
        face = {"body": "Part", "names": [_face(plain, flat=False)]}
        last = step("op9", "wrap", regions=picked, face=face, result="raised" if rise > 0 else "sunk", depth=DEPTH_MM)
    cache = graph.Cache()
    graph.run(BuildSheet([*steps, mark], BODIES), cache)
    taken, told = seconds(lambda: graph.run(BuildSheet([*steps, mark, last], BODIES), cache))
    if told.steps[-1].problem:
        print(f"  a logo on a {kind} refused: {told.steps[-1].problem[:90]}")
        return False, taken, 0.0
    made = told.bodies["Part"]
    grown = (made.facts.volume_mm3 - plain.facts.volume_mm3) / (area * rise)
    right = (
        made.facts.valid and made.facts.solids == 1 and abs(grown - 1) < (1e-4 if kind == "plane" else WITHIN + 0.06)
    )
    return bool(right), taken, _depth_error(random, plain, made, abs(rise))


def _face(part, *, flat):
    """The name of the flat face that looks to the front, or of the largest that is not flat."""
    faces = kernel.faces_of(part.shape)
    if flat:
        found = max(faces, key=lambda face: -kernel.plane_of(face)[1][1] if kernel.plane_of(face) else -2)
    else:
        found = max((face for face in faces if not kernel.plane_of(face)), key=kernel.area_of_face)
    return part.names.get(found)


def _depth_error(random, plain, made, depth):
    """Worst error of the distance of 200 places of the new caps from the face that they were laid on."""
    base = kernel.faces_of(plain.shape)
    face = max((one for one in base if not kernel.plane_of(one)), key=kernel.area_of_face, default=None)
    caps = [one for one in kernel.faces_of(made.shape) if made.names.get(one, "").startswith(("op9.top", "op9.floor"))]
    if face is None or not caps or kernel.plane_of(caps[0]):
        return 0.0
    places = np.vstack([kernel.triangulate(cap, 0.01)[0] for cap in caps])
    chosen = places[random.permutation(len(places))[:PLACES]]
    return max(abs(kernel.distance_between(face, tuple(place)) - depth) for place in chosen.tolist())


def bars(random):
    """Percent of random smooth paths, thick within their bends, along which a bar is valid with its volume."""
    good = total = 0
    for index in range(BARS):
        kind = index % 3
        if kind == 0:
            places = np.cumsum(random.uniform(8, 20, 6))[:, None] * [1.0, 0.0] + random.normal(0, 10, (6, 2))
            sketch, _ = edit.add_spline_through(Sketch(), [tuple(place) for place in places.tolist()])
            told = {"path": "curves", "curves": {"sketch": "s1", "names": list(sketch.curves)}}
        elif kind == 1:
            radius, sweep = random.uniform(8, 30, 2), random.uniform(0.5, 2.5, 2)
            first = Arc((0, 0), radius[0], 0.0, sweep[0])
            way = np.array([math.cos(sweep[0]), math.sin(sweep[0])])
            second = Arc(tuple((radius[0] + radius[1]) * way), radius[1], sweep[0] + math.pi, -sweep[1])
            sketch, _, _ = edit.add_outline(Sketch(), [first, second], [None] * 2, origin="drawn", closed=False)
            told = {"path": "curves", "curves": {"sketch": "s1", "names": list(sketch.curves)}}
        else:
            sketch, reach = Sketch(), float(random.uniform(8, 25))
            told = {"path": "helix", "about": "z", "reach": reach, "pitch": float(random.uniform(6, 14))}
            told["turns"] = float(random.uniform(0.5, 5))
        sheet = BuildSheet([SketchStep("s1", "Path", "plan", sketch)], BODIES)
        most = _widest(sheet.steps, told)
        if not most:
            continue  # it crosses itself
        total += 1
        more = {"diameter_second": 0.6 * most, "share_second": 60.0} if index % 2 else {}
        made = graph.run(
            BuildSheet(
                [*sheet.steps, step("op1", "bar", diameter=0.8 * most, result="new", body="Bar", **told, **more)],
                BODIES,
            )
        )
        part = made.bodies.get("Bar")
        good += bool(part and part.facts.valid and part.facts.solids == 1)
        if part is None:
            print("  a bar refused:", made.steps[-1].problem[:100])
    return 100 * good / total


def _widest(steps, told):
    """The widest bar along a path, as the operation itself tells it."""
    most = 500.0
    for _ in range(4):
        last = step("op1", "bar", diameter=most, result="new", body="Bar", **told)
        found = graph.run(BuildSheet([*steps, last], BODIES)).steps[-1]
        if not found.problem:
            return most
        most = (found.suggestion or {}).get("diameter", 0.0)
        if not most:
            return 0.0
    return most


def drawing_seconds(random):
    """Seconds in which a drawing of 5,000 curves becomes curves."""
    parts = []
    for _ in range(CURVES // 5):
        x, y, size = (float(random.uniform(0, 900)) for _ in range(3))
        size = 2 + size / 100
        parts.append(f"M{x:.2f} {y:.2f}h{size:.2f}v{size:.2f}q-3 4 -{size / 2:.2f} 2t-{size / 2:.2f} -2z")
    head = '<svg xmlns="http://www.w3.org/2000/svg" width="900mm" height="900mm" viewBox="0 0 900 900">'
    data = f'{head}<path d="{" ".join(parts)}"/></svg>'
    begin = time.perf_counter()
    read_outlines(data.encode(), "many.svg")
    return time.perf_counter() - begin


def _pot(random):
    """STL bytes of somebody else's pot: 200,000 triangles, bumpy around, flat below and on top."""
    rings, around = 220, 456
    angle, height = 2 * math.pi * np.arange(around) / around, np.linspace(0, 60, rings)
    phase, waves = random.uniform(0, 6, 3), random.integers(3, 12, 3)
    radius = 32 + sum(
        0.4 * np.sin(wave * angle[None] + one + height[:, None] / (4 + index))
        for index, (wave, one) in enumerate(zip(waves, phase))
    )
    side = np.dstack([radius * np.cos(angle), radius * np.sin(angle), np.broadcast_to(height[:, None], radius.shape)])
    places = np.vstack([side.reshape(-1, 3), (0, 0, 0), (0, 0, 60)]) + (0, 30, 0)  # where logos lie
    low = (np.arange(rings - 1)[:, None] * around + np.arange(around)).ravel()
    right = (np.arange(rings - 1)[:, None] * around + (np.arange(around) + 1) % around).ravel()
    rim, after, last = np.arange(around), (np.arange(around) + 1) % around, (rings - 1) * around
    faces = np.vstack(
        [
            np.column_stack([low, right, right + around]),
            np.column_stack([low, right + around, low + around]),
            np.column_stack([after, rim, np.full(around, rings * around)]),
            np.column_stack([last + rim, last + after, np.full(around, rings * around + 1)]),
        ]
    )
    return trimesh.Trimesh(places, faces, process=False).export(file_type="stl")


def mesh_logo_seconds(random):
    """Seconds from the file of somebody else's mesh to the picture of it with a logo of 30 areas raised on it."""
    data, mark, library = _pot(random), logo(random, 30), Library()
    begin = time.perf_counter()
    mesh = read_mesh(data, "pot.stl").mesh
    brought = {"file": library.keep(packed(mesh)), "name": "pot.stl"}
    kept = {"mesh": brought, "unit": "mm", "lying": "lies", "result": "new", "body": "Part"}
    top = max(mesh.flat_faces().items(), key=lambda one: one[1].origin[2])[0]
    steps = [
        step("op1", "bring", **kept),
        SketchStep("s1", "Mark", {"body": "Part", "face": f"op1.{top}"}, mark),
        step(
            "op2",
            "extrude",
            regions=regions_of(mark),
            extent="by",
            length=DEPTH_MM,
            way="up",
            result="add",
            body="Part",
        ),
    ]
    built = graph.run(BuildSheet(steps, BODIES, files=library))
    display.pack(built.bodies)
    told = time.perf_counter() - begin
    raised = sum(region.area for region in find_regions(mark)) * DEPTH_MM
    grown = built.bodies["Part"].facts.volume_mm3 - facts_of(mesh).volume_mm3
    assert abs(grown / raised - 1) < 0.01, (grown, raised, [one.problem for one in built.steps])
    return told


def run(seed=None):
    """Rows of figures; ``seed`` of all that is drawn at random, a fresh one by default."""
    seed = seed if seed is not None else secrets.randbelow(2**32)
    print(f"seed {seed}")
    random = np.random.default_rng(seed)
    told = [
        (KINDS[index % 4], *wrapped(random, KINDS[index % 4], int(random.integers(5, 61)))) for index in range(LOGOS)
    ]
    times = [wrapped(random, kind, 30)[1] for kind in KINDS for _ in range(2)]
    even = max(error for kind, _, _, error in told if kind in ("cylinder", "cone"))
    free = max(error for kind, _, _, error in told if kind == "revolved")

    def row(name, value, reach, against):
        return {"name": name, "value": value, "reach": reach, "against": against}

    return [
        row(
            "wrap_valid_percent", 100 * np.mean([good for _, good, _, _ in told]), 97, "made-up logos of 5 to 60 areas"
        ),
        row("wrap_s_median", float(np.median(times)), 3, "logos of 30 areas"),
        row("depth_error_mm_developable", even, 0.01, "worst of 200 places each, cylinders and cones"),
        row("depth_error_mm_free", free, 0.05, "the same, revolved faces"),
        row("bar_valid_percent", bars(random), 97, "random paths, at 0.8 of the thickest that the operation names"),
        row("mesh_logo_s", mesh_logo_seconds(random), 5, "30 areas raised on somebody else's 200,000 triangles"),
        row("svg_curves_s_5000", drawing_seconds(random), 2, "a drawing of 5,000 curves read"),
    ]
