"""The checks of a part: made-up plates whose thin places are known, and how long it all takes."""

import math
import secrets
import time

import numpy as np
from shapely import Point, box

from benchmarks.solid import regions_of, step
from core.tests.specimens import drawn, sheet_of
from examples.parts import rounded_polygon
from nomogon_core.devices.printer import Settings, printed
from nomogon_core.exchange import release
from nomogon_core.exchange.flat import flat_outlines
from nomogon_core.geometry.curves import Circle, outline_points
from nomogon_core.inspect.against import against, seen
from nomogon_core.inspect.findings import inspected
from nomogon_core.inspect.making import making_of
from nomogon_core.inspect.meshed import Meshed
from nomogon_core.inspect.thin import thin_places
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph, kernel, planes

PLACES, LAYERS = 5000, 300
PARTS, LEAST, SAME_MM, CLEAR = 50, 0.8, 0.02, 1.3
SIZE = (90.0, 60.0)


def _thin_or_not(random):
    """A size under the limit three times out of four, else clearly over it."""
    return float(random.uniform(0.15, 0.76) if random.random() < 0.75 else random.uniform(CLEAR * LEAST, 3.0))


def plate(random):
    """(outlines, [(size, place) of each wall under the limit], [the same of gaps]) of a plate with pairs of holes,
    holes beside the edge, slots beside each other, and narrow slots."""
    width, height = SIZE
    corners = [(0.0, 0.0), (width, 0.0), (width, height), (0.0, height)]
    outlines, walls, gaps, taken = [], [], [], []

    def free(shape):
        return all(shape.distance(other) > 3.0 for other in taken)

    for _ in range(int(random.integers(3, 8))):
        kind, (x, y) = random.integers(4), random.uniform((10, 10), (width - 10, height - 10))
        size = _thin_or_not(random)
        if kind == 0:  # two holes
            radii, turn = random.uniform(1.5, 4.0, 2), random.uniform(0, math.pi)
            away = (radii.sum() + size) * np.array([math.cos(turn), math.sin(turn)])
            places = [(x, y), (x + away[0], y + away[1])]
            shape = Point(places[0]).buffer(radii[0]).union(Point(places[1]).buffer(radii[1]))
            made = [[Circle(place, radius)] for place, radius in zip(places, radii)]
            unit = away / np.hypot(*away)
            middle = np.array(places[0]) + (radii[0] + size / 2) * unit
        elif kind == 1:  # a hole beside the lower edge
            radius = float(random.uniform(1.5, 4.0))
            shape, made = Point(x, size + radius).buffer(radius), [[Circle((x, size + radius), radius)]]
            middle = np.array([x, size / 2])
        elif kind == 2:  # two slots beside each other
            long, wide = float(random.uniform(5, 10)), float(random.uniform(2, 3))
            first, second = box(x, y, x + wide, y + long), box(x + wide + size, y, x + 2 * wide + size, y + long)
            shape = first.union(second)
            made = [rounded_polygon(list(one.exterior.coords)[:4], [0.0] * 4) for one in (first, second)]
            middle = np.array([x + wide + size / 2, y + long / 2])
        else:  # a narrow slot, which is a gap
            long = float(random.uniform(5, 10))
            shape = box(x, y, x + size, y + long)
            made, middle = [rounded_polygon(list(shape.exterior.coords)[:4], [0.0] * 4)], np.array([x + size / 2, y])
        inner = box(0, 0, width, height) if kind == 1 else box(3, 3, width - 3, height - 3)
        if not inner.contains(shape) or not free(shape):
            continue
        taken.append(shape)
        outlines += made
        if size < LEAST:
            (gaps if kind == 3 else walls).append((size, middle))
    return [rounded_polygon(corners, [0.0] * 4), *outlines], walls, gaps


def _body(outlines):
    sketch = drawn(*outlines)
    largest = find_regions(sketch)[0].name
    made = step(
        "op1",
        "extrude",
        regions=regions_of(sketch, [largest]),
        extent="by",
        length=6.0,
        way="up",
        result="new",
        body="Plate",
    )
    sheet = sheet_of(sketch, [made])
    return sheet, graph.run(sheet).bodies["Plate"]


def thin(random):
    """(percent of the known places found with their sizes, percent of what was found that is one)."""
    right = known = found = 0
    for _ in range(PARTS):
        outlines, walls, gaps = plate(random)
        meshed = Meshed(_body(outlines)[1])
        for truth, told in ((walls, thin_places(meshed, LEAST)), (gaps, thin_places(meshed, LEAST, gaps=True))):
            left = list(told)
            for size, place in truth:
                near = [
                    one
                    for one in left
                    if abs(one.size - size) < SAME_MM and np.hypot(*(np.array(one.place[:2]) - place)) < 12
                ]
                if near:
                    left.remove(near[0])
                    right += 1
                else:
                    print(f"  missed {size:.3f} at {np.round(place, 1)}: {[round(one.size, 3) for one in told]}")
            for one in left:
                print(f"  false {one.size:.3f} at {np.round(one.place, 1)} {one.faces}")
            known, found = known + len(truth), found + len(told)
    return 100 * right / max(known, 1), 100 * right / max(found, 1)


def many_faces(random):
    """A plate of about 400 faces."""
    outlines = [rounded_polygon([(0, 0), (200, 0), (200, 160), (0, 160)], [8.0] * 4)]
    for index in range(95):
        x, y = 12 + 19 * (index % 10), 10 + 15 * (index // 10)
        side = float(random.uniform(3, 6))
        square = [(x, y), (x + side, y), (x + side, y + side), (x, y + side)]
        outlines.append(rounded_polygon(square, [0.0] * 4))
    return _body(outlines)


def compare_seconds(random, part, sheet):
    """Seconds in which a part of 400 faces is held against 5,000 places of an edge, one of which is off."""
    outlines = [loop for area in flat_outlines(sheet) for loop in area]
    places = np.vstack([outline_points(loop, 1e-3) for loop in outlines])
    along = np.vstack([places[:, None] + np.linspace(0, 1, 12)[None, :, None] * _onward(places)[:, None]]).reshape(
        -1, 2
    )
    edge = along[random.integers(0, len(along), PLACES)] + random.normal(0, 0.002, (PLACES, 2))
    edge[0] = (-0.5, 80.0)
    begin = time.perf_counter()
    told = against(seen([part], planes.PLAN), edge)
    seconds = time.perf_counter() - begin
    assert abs(told.worst[0][2] - 0.5) < 0.02 and told.rms < 0.02, told
    return seconds


def _onward(places):
    """From each place to the next where that is near, else none."""
    step = np.roll(places, -1, axis=0) - places
    return np.where(np.hypot(*step.T)[:, None] < 2.0, step, 0.0)


def run(seed=None):
    """Rows of figures; ``seed`` of all that is drawn at random, a fresh one by default."""
    seed = seed if seed is not None else secrets.randbelow(2**32)
    print(f"seed {seed}")
    random = np.random.default_rng(seed)
    sheet, large = many_faces(random)
    begin = time.perf_counter()
    inspected({"Plate": large}, making_of({}))
    seconds = time.perf_counter() - begin
    begin = time.perf_counter()
    release.bundle(sheet, "Plate")
    zipped = time.perf_counter() - begin
    begin = time.perf_counter()
    release.write_file("pdf", sheet, "Plate")
    drawn_in = time.perf_counter() - begin
    # Leaning a little, so that every layer has its own cross-section, most of them with many holes.
    (leaning,) = release.laid({"Plate": large}, (*random.uniform(0.02, 0.05, 2), 1.0)).values()
    tall = float(np.ptp(np.array(kernel.tight_box(leaning.shape))[:, 2]))
    begin = time.perf_counter()
    layers = printed([leaning], Settings(layer=tall / LAYERS), 1.24).layers
    sliced = time.perf_counter() - begin
    recall, precision = thin(random)

    def row(name, value, reach, against):
        return {"name": name, "value": value, "reach": reach, "against": against}

    faces = len(kernel.faces_of(large.shape))
    return [
        row("findings_s_400_faces", seconds, 4, f"all checks for printing of a body of {faces} faces"),
        row("thin_recall_percent", recall, 97, f"{PARTS} made-up plates, found with its size to {SAME_MM} mm"),
        row("thin_precision_percent", precision, 95, "of what was found, what is so"),
        row("compare_s", compare_seconds(random, large, sheet), 1.5, f"held against {PLACES:,} places of an edge"),
        row("slice_s_300_layers", sliced, 4, f"{len(layers)} layers, walls, skins and infill of it, leaning"),
        row("drawing_s", drawn_in, 3, f"a dimensioned drawing of a body of {faces} faces, built anew"),
        row("release_zip_s", zipped, 8, f"all files of a body of {faces} faces, built anew"),
    ]
