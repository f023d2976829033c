"""The Build sheet: rebuilding against the kernel's own time, patterns, drafts and reliefs of unseen outlines."""

import math
import resource
import secrets
import time
from functools import wraps

import attrs
import numpy as np
import shapely
from scipy.integrate import simpson
from scipy.spatial import Voronoi

from benchmarks.random_parts import random_part
from core.tests.specimens import drawn, number, sheet_of
from examples.parts import rounded_polygon
from examples.render import hole
from nomogon_core.geometry.curves import Spline, outline_points
from nomogon_core.sketch import edit, model
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import display, graph, kernel
from nomogon_core.solid.sheet import OperationStep

DRAFTS, RELIEFS, AREAS, REBUILDS, STEPS = 50, 20, 12, 200, 30
SAME_DRAFT, SAME_RELIEF, SAME_PICTURE = 2e-3, 1e-6, 5e-3
MAKERS = (
    "face_of", "prism", "cylinder", "cone", "boolean", "fillet", "chamfer", "revolution", "hollowed", "transformed",
)  # fmt: skip


def step(name, kind, **blanks):
    told = {key: number(value) if isinstance(value, (int, float)) else value for key, value in blanks.items()}
    return OperationStep(name, kind, told)


def regions_of(sketch, names=None):
    return {"sketch": "s1", "names": names or [region.name for region in find_regions(sketch)]}


def plate_with_holes(random, steps):
    """A plate, and so many operations on it: holes, each of its own, then edges rounded."""
    sketch = drawn(rounded_polygon([(0, 0), (120, 0), (120, 80), (0, 80)], [6] * 4))
    centres = []
    for index in range(steps - 2):
        place = (12.0 + 13.5 * (index % 8), 12.0 + 13.5 * (index // 8))
        sketch, name = edit.add_circle(sketch, place, 2.0 + float(random.uniform(0, 1)))
        centres.append(name)
    operations = [
        step(
            "op1", "extrude", regions=regions_of(sketch), extent="by", length=8.0, way="up", result="new", body="Plate"
        )
    ]
    for index, name in enumerate(centres, 2):
        operations.append(
            step(
                f"op{index}",
                "hole",
                centres={"sketch": "s1", "names": [name]},
                diameter=float(random.uniform(3, 6)),
                extent="by",
                depth=4.0,
                body="Plate",
            )
        )
    operations.append(step(f"op{steps}", "fillet", edges={"body": "Plate", "rule": {"at": "bottom"}}, radius=1.0))
    return sheet_of(sketch, operations)


def seconds(call):
    begin = time.perf_counter()
    result = call()
    return time.perf_counter() - begin, result


class KernelTime:
    """How long the kernel's makers take, while this stands."""

    def __enter__(self):
        self.total, self.kept = 0.0, {name: getattr(kernel, name) for name in MAKERS}
        depth = 0

        def timed(function):
            @wraps(function)
            def call(*arguments, **named):
                nonlocal depth
                depth += 1
                begin = time.perf_counter()
                try:
                    return function(*arguments, **named)
                finally:
                    depth -= 1
                    if not depth:
                        self.total += time.perf_counter() - begin

            return call

        for name, function in self.kept.items():
            setattr(kernel, name, timed(function))
        return self

    def __exit__(self, *_):
        for name, function in self.kept.items():
            setattr(kernel, name, function)


def over_kernel(random):
    """Worst ratio of whole rebuilds of five parts over the kernel's makers alone in them."""
    ratios = []
    for steps in (8, 12, 20, 30, 40):
        sheet = plate_with_holes(random, steps)
        graph.run(sheet)
        with KernelTime() as spent:
            whole, _ = seconds(lambda sheet=sheet: graph.run(sheet))
        ratios.append(whole / spent.total)
    return max(ratios)


def last_operation(random):
    """(a change of the last of thirty steps over that operation's makers alone, milliseconds that it and the packing of
    its mesh take beyond 1.3 of these)."""
    sheet, cache = plate_with_holes(random, STEPS), graph.Cache()
    display.pack(graph.run(sheet, cache).bodies)
    ratios, beyond = [], []
    for index in range(9):
        last = sheet.steps[-1]
        changed = attrs.evolve(last, blanks=last.blanks | {"radius": number(0.5 + 0.05 * index)})
        with KernelTime() as spent:
            whole, built = seconds(
                lambda changed=changed: graph.run(attrs.evolve(sheet, steps=(*sheet.steps[:-1], changed)), cache)
            )
        packing, _ = seconds(lambda built=built: display.pack(built.bodies))
        ratios.append(whole / spent.total)
        beyond.append(1000 * (whole + packing - 1.3 * spent.total))
    return float(np.median(ratios)), float(np.median(beyond))


def hundred_holes():
    sketch = drawn(rounded_polygon([(-80, -80), (80, -80), (80, 80), (-80, 80)], [0] * 4))
    sketch, name = edit.add_circle(sketch, (60.0, 0.0), 1.0)
    plate = step(
        "op1", "extrude", regions=regions_of(sketch), extent="by", length=5.0, way="up", result="new", body="P"
    )
    bored = step("op2", "hole", centres={"sketch": "s1", "names": [name]}, diameter=2.0, extent="through", body="P")
    ring = step("op3", "repeat", operations={"operations": ["op2"]}, way="ring", about="z", count=100, spread="full")
    cache = graph.Cache()
    graph.run(sheet_of(sketch, [plate, bored]), cache)
    taken, built = seconds(lambda: graph.run(sheet_of(sketch, [plate, bored, ring]), cache))
    wanted = 160 * 160 * 5 - 100 * math.pi * 5
    assert abs(built.bodies["P"].facts.volume_mm3 / wanted - 1) < 1e-9, "the holes are not there"
    return taken


def drafts(random):
    """Percent of unseen outlines with holes whose draft is valid and of the volume that buffers give."""
    good = total = 0
    while total < DRAFTS:
        outlines = random_part(random)
        outer = shapely.Polygon(outline_points(outlines[0], 1e-3))
        height, angle = float(random.uniform(2, 8)), math.radians(float(random.uniform(1, 4)))
        lean = height * math.tan(angle)
        if outer.buffer(-lean).geom_type != "Polygon" or outer.buffer(-2 * lean).is_empty:
            continue
        total += 1
        sketch = drawn(*outlines)
        region = find_regions(sketch)[0].name
        operation = step(
            "op1",
            "extrude",
            regions=regions_of(sketch, [region]),
            extent="by",
            length=height,
            way="up",
            draft=angle,
            result="new",
            body="P",
        )
        built = graph.run(sheet_of(sketch, [operation]))
        if built.steps[-1].problem:
            print(f"  a draft of {math.degrees(angle):.1f}° refused: {built.steps[-1].problem[:90]}")
            continue
        holes = [
            shapely.Polygon(outline_points(one, 1e-3))
            if len(one) > 1
            else shapely.Point(one[0].center).buffer(one[0].radius, quad_segs=200)
            for one in outlines[1:]
        ]
        depths = np.linspace(0, height, 11)
        areas = [
            outer.buffer(-z * math.tan(angle), join_style="mitre").area
            - sum(one.buffer(z * math.tan(angle), join_style="mitre").area for one in holes)
            for z in depths
        ]
        facts = built.bodies["P"].facts
        good += facts.valid and abs(facts.volume_mm3 / simpson(areas, x=depths) - 1) < SAME_DRAFT
    return 100 * good / total


def cells(random):
    """A disc cut into areas by wavy lines that neighbours share: cells about random places."""
    sketch, places = model.Sketch(), random.uniform(-18, 18, (AREAS * 3, 2))
    diagram = Voronoi(places)
    inside = [
        region
        for region in (diagram.regions[index] for index in diagram.point_region)
        if region and -1 not in region and np.hypot(*diagram.vertices[region].T).max() < 30
    ][:AREAS]
    points, edges = {}, set()
    for region in inside:
        for vertex in region:
            if vertex not in points:
                sketch, points[vertex] = edit.add_point(sketch, diagram.vertices[vertex])
        for first, last in zip(region, [*region[1:], region[0]]):
            pair = (min(first, last), max(first, last))
            if pair in edges:
                continue
            edges.add(pair)
            a, b = (diagram.vertices[one] for one in pair)
            side = np.array([a[1] - b[1], b[0] - a[0]]) * float(random.uniform(-0.06, 0.06))
            middle = [tuple(a + (b - a) / 3 + side), tuple(a + 2 * (b - a) / 3 - side)]
            sketch, _ = edit.add_curve(sketch, "spline", (points[pair[0]], *middle, points[pair[1]]))
    return sketch


def relief_of(sketch, random, draft=None):
    regions = [region.name for region in find_regions(sketch)]
    blanks = {"regions": regions_of(sketch, regions[0::3]), "height": float(random.uniform(1, 3))}
    for word, start in (("second", 1), ("third", 2)):
        blanks |= {
            f"regions_{word}": regions_of(sketch, regions[start::3]),
            f"height_{word}": float(random.uniform(1, 3)),
        }
    blanks |= {"draft": draft} if draft else {}
    return sheet_of(sketch, [step("op1", "relief", result="new", body="Medal", **blanks)]), blanks


def reliefs(random):
    """(percent valid with the volume of their prisms, median seconds) of reliefs of a dozen areas."""
    good, times = 0, []
    for _ in range(RELIEFS):
        sketch = cells(random)
        sheet, blanks = relief_of(sketch, random)
        areas = {region.name: region.area for region in find_regions(sketch)}
        wanted = sum(
            areas[name] * blanks[f"height{word}"]
            for word in ("", "_second", "_third")
            for name in blanks[f"regions{word}"]["names"]
        )
        taken, built = seconds(lambda sheet=sheet: graph.run(sheet))
        times.append(taken)
        body = built.bodies.get("Medal")
        good += bool(body and body.facts.valid and abs(body.facts.volume_mm3 / wanted - 1) < SAME_RELIEF)
        if built.steps[-1].problem:
            print("  a relief refused:", built.steps[-1].problem[:90])
    return 100 * good / RELIEFS, float(np.median(times))


class FirstPicture:
    """When the first picture was there, packed."""

    def __init__(self):
        self.begin, self.taken, self.volume = time.perf_counter(), math.nan, math.nan

    def at(self, share):
        pass

    def seen(self, bodies):
        if math.isnan(self.taken):
            display.pack(bodies, coarse=True)
            self.taken, self.volume = time.perf_counter() - self.begin, bodies["Medal"].facts.volume_mm3


def leaning_relief(random):
    """(seconds to a first picture, seconds) of a drafted relief of a dozen areas; none where it is wrong."""
    sheet, _ = relief_of(cells(random), random, math.radians(3))
    first = FirstPicture()
    taken, built = seconds(lambda: graph.run(sheet, onlooker=first))
    if built.steps[-1].problem:
        print("  a drafted relief refused:", built.steps[-1].problem[:90])
        return math.nan, math.nan
    same = abs(built.bodies["Medal"].facts.volume_mm3 / first.volume - 1) < SAME_PICTURE
    return first.taken if same else math.nan, taken


def memory_growth(random):
    """Percent by which the process grows over many rebuilds, after the first ones."""
    sheet, sizes = plate_with_holes(random, 10), []
    for index in range(REBUILDS + 20):
        first = sheet.steps[1]
        changed = attrs.evolve(first, blanks=first.blanks | {"length": number(5 + 0.01 * index)})
        graph.run(attrs.evolve(sheet, steps=(sheet.steps[0], changed, *sheet.steps[2:])))
        if index in (19, REBUILDS + 19):
            sizes.append(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)
    return 100 * (sizes[1] / sizes[0] - 1)


def first_view():
    """Seconds from an outline of 110 splines to the packed mesh of its prism."""
    angles = 2 * math.pi * np.arange(110) / 110
    radius = 60 + 5 * np.sin(7 * angles)
    places = np.column_stack([radius * np.cos(angles), radius * np.sin(angles)])
    ways = (np.roll(places, -1, axis=0) - np.roll(places, 1, axis=0)) / 6
    outline = [
        Spline([places[k], places[k] + ways[k], places[(k + 1) % 110] - ways[(k + 1) % 110], places[(k + 1) % 110]])
        for k in range(110)
    ]
    sketch = drawn(outline, hole(0, 0, 20))
    sheet = sheet_of(
        sketch,
        [
            step(
                "op1",
                "extrude",
                regions=regions_of(sketch, [find_regions(sketch)[0].name]),
                extent="by",
                length=10.0,
                way="up",
                result="new",
                body="P",
            )
        ],
    )
    return seconds(lambda: display.pack(graph.run(sheet).bodies))[0]


def run(seed=None):
    """Rows of figures; ``seed`` of all that is drawn at random, a fresh one by default."""
    seed = seed if seed is not None else secrets.randbelow(2**32)
    print(f"seed {seed}")
    random = np.random.default_rng(seed)
    graph.run(plate_with_holes(random, 4))
    ratio, beyond_ms = last_operation(random)
    valid, straight = reliefs(random)
    first, drafted = leaning_relief(random)

    def row(name, value, reach, against):
        return {"name": name, "value": value, "reach": reach, "against": against}

    return [
        row(
            "rebuild_over_kernel_worst",
            over_kernel(random),
            1.15,
            "five parts of 8 to 40 steps, over the kernel's makers",
        ),
        row("last_op_ratio", ratio, 1.3, "the last of 30 steps changed, over its own makers"),
        row("last_op_overhead_ms", beyond_ms, 60, "what that takes beyond 1.3 of them, to its packed mesh"),
        row("holes_100_s", hundred_holes(), 0.5, "a ring of 100 holes"),
        row("draft_valid_percent", drafts(random), 98, "unseen outlines with holes, volume by shapely's buffers"),
        row("relief_valid_percent", valid, 95, "reliefs of 12 areas with shared splines, volume of their prisms"),
        row("relief_straight_s", straight, 0.3, "median of these"),
        row("relief_drafted_first_s", first, 1, "until its first picture, of the same volume"),
        row("relief_drafted_s", drafted, 10, "one of 12 areas with sides leaning 3°"),
        row("memory_growth_percent", memory_growth(random), 10, "200 rebuilds in one process"),
        row("first_view_s", first_view(), 0.6, "an extruded outline of 110 splines, to its mesh"),
    ]
