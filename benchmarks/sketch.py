"""The sketch: solving, dragging, telling what is free, regions; classical problems; offsets; what was meant."""

import math
import secrets
import time

import numpy as np
import shapely
from scipy.optimize import least_squares

from benchmarks import proposals
from benchmarks.classical import PROBLEMS, starts
from benchmarks.random_parts import random_part
from examples.parts import rounded_polygon
from nomogon_core.geometry.curves import Spline, closed_area, outline_points
from nomogon_core.sketch import edit
from nomogon_core.sketch.dimensions import new_dimension
from nomogon_core.sketch.equations import Equations
from nomogon_core.sketch.model import Sketch
from nomogon_core.sketch.offset import backwards, offset
from nomogon_core.sketch.parts import Part
from nomogon_core.sketch.regions import find_regions
from nomogon_core.sketch.solve import Grab, solve, solved_from
from nomogon_core.sketch.system import System

REPEATS, CHANGE, SMALL_STEP = 15, 1.02, 1e-3
STARTS, NOISE, MET = 200, 0.2, 1e-10
OFFSET_PARTS, OFFSET_SHARES, SAME_AREA = 100, (-0.12, -0.06, -0.02, 0.02, 0.06, 0.12), 3e-4


def median_ms(call, repeats=REPEATS):
    """Median milliseconds of a call with the number of the repeat."""
    told = []
    for repeat in range(repeats):
        begin = time.perf_counter()
        call(repeat)
        told.append((time.perf_counter() - begin) * 1000)
    return float(np.median(told))


def outline(count, random):
    """A closed outline of so many lines and arcs, its joints smooth and the length of every second line given."""
    corners = count // 2
    angles = 2 * math.pi * (np.arange(corners) + random.uniform(-0.15, 0.15, corners)) / corners
    places = [(50 * math.cos(angle), 50 * math.sin(angle)) for angle in angles.tolist()]
    curves = rounded_polygon(places, [14.0] * corners)
    sketch, names, joints = edit.add_outline(Sketch(), curves, [None] * len(curves), origin="drawn")
    for constraint in edit.smooth_joints(sketch, joints):
        sketch, _ = edit.add_constraint(sketch, constraint)
    lines = [name for name in names if sketch.curves[name].kind == "line"]
    for line in lines[::2]:
        sketch, _ = edit.add_constraint(sketch, new_dimension(sketch, "distance", (line,)))
    return solve(sketch).sketch


def whole(sketch):
    """(system, its largest part, where that starts) of a sketch."""
    system = System(Equations(sketch))
    unknowns, rows = max(system.components(), key=lambda one: len(one[1]))
    return system, Part(system, unknowns, rows), system.start()[unknowns]


def _lengths(part):
    """Rows of a part whose first constant but one is a length."""
    return [row for row in range(part.shape[0]) if part.constants[row, 2] > 0]


def speedup(sketch, random):
    """How many times faster than least_squares (dogbox, exact Jacobian) one dimension changed is solved."""
    _, part, x = whole(sketch)
    rows = random.choice(_lengths(part), REPEATS)

    def changed(row, call):
        before = part.constants[row, 2]
        part.constants[row, 2] = before * CHANGE
        try:
            return call()
        finally:
            part.constants[row, 2] = before

    def theirs():
        found = least_squares(
            lambda y: part.linearized(y)[0],
            x,
            jac=lambda y: part.matrix(part.linearized(y)[1]).toarray(),
            method="dogbox",
            xtol=1e-15,
            ftol=1e-15,
            gtol=1e-12,
        )
        assert np.abs(found.fun).max() < 1e-6

    def ours():
        _, worst, _ = part.descend(x)
        assert worst < 1e-9

    ours()
    own = median_ms(lambda repeat: changed(rows[repeat], ours))
    return median_ms(lambda repeat: changed(rows[repeat], theirs), 3) / own, own


def drag_ms(sketch, random):
    """A step of a drag, the sketch as it comes out included."""
    points = random.choice(list(sketch.points), REPEATS)
    grabs = [Grab(sketch, [str(point)]) for point in points]
    for grab in grabs:
        grab.move((1e-4, 0.0), None)
    size = sketch.size()
    steps = random.normal(0, SMALL_STEP * size, (REPEATS, 2))
    return median_ms(lambda repeat: grabs[repeat].move(tuple(steps[repeat]), None))


def diagnosis_ms(sketch):
    _, part, x = whole(sketch)
    part.independence(x).motions()
    return median_ms(lambda _: part.independence(x).motions())


def regions_ms(count, random):
    """Regions of as many curves, rectangles and circles in them, that nobody has seen before."""
    sketch, side = Sketch(), math.ceil(math.sqrt(count / 5))
    for index in range(count // 5):
        x, y = 10.0 * (index % side) + random.uniform(0, 1), 10.0 * (index // side) + random.uniform(0, 1)
        curves = rounded_polygon([(x, y), (x + 8, y), (x + 8, y + 8), (x, y + 8)], [0] * 4)
        sketch, _, _ = edit.add_outline(sketch, curves, [None] * 4, origin="drawn")
        sketch, _ = edit.add_circle(sketch, (x + 4, y + 4), random.uniform(1, 3))
    begin = time.perf_counter()
    found = find_regions(sketch)
    told = (time.perf_counter() - begin) * 1000
    assert len(found) == 2 * (count // 5)
    return told


def classical(random):
    """(percent of all starts that meet every row, percent of the worst problem)."""
    rates = []
    for make in PROBLEMS.values():
        system = System(Equations(make()))
        tries = starts(system, NOISE, random)
        rates.append(np.mean([solved_from(system, next(tries))[2] < MET for _ in range(STARTS)]))
    return 100 * float(np.mean(rates)), 100 * float(min(rates))


def _wave(random):
    """A closed spline that does not cross itself."""
    count = int(random.integers(6, 12))
    angles = 2 * math.pi * (np.arange(count) + random.uniform(-0.2, 0.2, count)) / count
    reach = 40 + random.normal(0, 5, count)
    places = np.column_stack([reach * np.cos(angles), reach * np.sin(angles)])
    ways = (np.roll(places, -1, axis=0) - np.roll(places, 1, axis=0)) / 6
    control = [tuple(places[0])]
    for index in range(count):
        after = (index + 1) % count
        control += [tuple(places[index] + ways[index]), tuple(places[after] - ways[after]), tuple(places[after])]
    return [Spline(control)]


def offset_agree_percent(random):
    """Offsets of random outlines, of lines and arcs or of splines, whose area is that of shapely's buffer."""
    same = total = 0
    while total < OFFSET_PARTS * len(OFFSET_SHARES):
        made = list(random_part(random)[0]) if random.random() < 0.7 else _wave(random)
        polygon = shapely.Polygon(outline_points(made, 1e-4))
        if not polygon.is_valid:
            continue
        run = made if closed_area(tuple(made)) > 0 else backwards(made)
        size = float(np.ptp(np.array(polygon.exterior.coords), axis=0).max())
        for share in OFFSET_SHARES:
            told = sum(closed_area(chain.curves) for chain in offset(run, True, share * size))
            wanted = polygon.buffer(share * size, quad_segs=400).area
            same += abs(told - wanted) < SAME_AREA * polygon.area
            total += 1
    return 100 * same / total


def run(seed=None):
    """Rows of figures; ``seed`` of all that is drawn at random, a fresh one by default."""
    seed = seed if seed is not None else secrets.randbelow(2**32)
    print(f"seed {seed}")
    random = np.random.default_rng(seed)
    sketches = {count: outline(count, random) for count in (200, 1000, 5000)}
    faster, own = speedup(sketches[200], random)
    rate, worst = classical(random)
    meant, unmeant = proposals.figures(random), proposals.figures(random, random_part)

    def row(name, value, reach, against):
        return {"name": name, "value": value, "reach": reach, "against": against}

    return [
        row("speedup_200", faster, 500, f"scipy least_squares dogbox over ours ({own:.2f} ms), one dimension changed"),
        row("drag_ms_200", drag_ms(sketches[200], random), 1, "median step of an outline of 200"),
        row("drag_ms_1000", drag_ms(sketches[1000], random), 3, "median step of an outline of 1,000"),
        row("drag_ms_5000", drag_ms(sketches[5000], random), 10, "median step of an outline of 5,000"),
        row("diagnosis_ms_1000", diagnosis_ms(sketches[1000]), 6, "rank and what is free of 1,000"),
        row("regions_ms_5000", regions_ms(5000, random), 120, "regions of 5,000 curves, seen for the first time"),
        row("offset_agree_percent", offset_agree_percent(random), 99, "shapely's buffer, by area"),
        row("classical_rate_percent", rate, 98, f"{len(PROBLEMS)} problems, {STARTS} starts each"),
        row("classical_worst_rate_percent", worst, 90, "the worst of them"),
        row("proposal_precision_percent", meant["precision"], 97, "of made-up noisy traces with known truth"),
        row("proposal_recall_percent", meant["recall"], 92, "by the rank of what is so"),
        row("proposals_s_60", meant["seconds"], 1, "proposals of about 60 curves"),
        row("error_ratio_after", meant["error_ratio"], 0.6, "rms of lengths and radii, after over before"),
        row("sizes_wrong_percent", meant["sizes_wrong"], 1, "standard sizes proposed wrongly"),
        row("unmeant_precision_percent", unmeant["precision"], None, "of parts whose sizes and angles follow no rule"),
        row("unmeant_sizes_wrong_percent", unmeant["sizes_wrong"], None, "the same, of the standard sizes proposed"),
    ]
