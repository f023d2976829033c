"""Random photos of random parts, nothing given but the card or the sheet: found, calibrated, traced, and every size
held against the truth."""

import itertools
import math

import attrs
import numpy as np

from benchmarks.random_photos import HALF_DIAGONAL, SHEET_SIGMA_MM, SIZE, shoot
from benchmarks.trace import Edges, even
from benchmarks.unseen_parts import COVERED, SAME_PX
from nomogon_core.errors import CoreError
from nomogon_core.geometry.curves import Arc, Circle, Line, length, outline_points, sample
from nomogon_core.job.follow import dimension_u95
from nomogon_core.picture.decode import decode
from nomogon_core.reference.models import choose_model
from nomogon_core.reference.sheets import find_rectangle
from nomogon_core.sketch import edit
from nomogon_core.sketch.dimensions import new_dimension
from nomogon_core.sketch.model import Sketch
from nomogon_core.trace.outlines import TraceSettings, trace
from nomogon_core.trace.things import thing_of

PHOTOS = 24
PAIRS = 40
FOUND_PX = 40.0
LEAST_SIZE_MM = 8.0
TOLERANCE_MM = 0.1
HOLE_WORD = "holes"
PARALLEL = 1e-6


@attrs.frozen
class Told:
    """What one photo showed.

    Attributes:
        found: whether card or sheet was found by itself.
        worst: largest error of a dimension between true places of the part, in percent of its size.
        sizes: rows (kind, error, stated 95 %) of diameters, radii, distances and angles of traced curves, and of those
            dimensions.
    """

    found: bool
    worst: float
    sizes: tuple


def judge(photo, random):
    """:class:`Told` of a photo."""
    light = decode(photo.jpeg)
    try:
        rectangle = find_rectangle(light, "card" if photo.thing == "card" else "A4")
    except CoreError as problem:
        print(f"      not found: {problem}")
        return Told(False, math.inf, ())
    off = max(float(np.hypot(*(photo.corners_px - corner).T).min()) for corner in rectangle.corners)
    if off > FOUND_PX:
        return Told(False, math.inf, ())
    if photo.thing == "sheet":
        rectangle = attrs.evolve(
            rectangle, width_mm=photo.size_mm[0], height_mm=photo.size_mm[1], u95_mm=2 * SHEET_SIGMA_MM
        )
    fit = choose_model(SIZE, rectangles=[rectangle], focal=photo.focal, origin_px=(0.0, SIZE[1] - 1.0))
    places = np.vstack([outline_points(outline, 0.05) for outline in photo.outlines])
    seen, size = photo.lens.to_px(places), float(np.hypot(*np.ptp(places, axis=0)))
    sizes, worst = [], 0.0
    for i, j in random.integers(len(places), size=(PAIRS, 2)):
        true = math.dist(places[i], places[j])
        if true > LEAST_SIZE_MM:
            read, u95 = fit.distance(seen[i], seen[j], 0.0)
            worst = max(worst, 100 * abs(read - true) / size)
            sizes.append(("dimensions", read - true, u95))
    try:
        outlines = trace(light, fit, TraceSettings(tolerance_mm=TOLERANCE_MM), things=[thing_of(rectangle)])
    except CoreError as problem:
        print(f"      not traced: {problem}")
        outlines = ()
    return Told(True, worst, tuple(sizes + _sizes(photo, fit, outlines)))


def _sizes(photo, fit, outlines):
    """Dimensions of traced curves in a sketch, each with the ± that the program states for it, against the true sizes:
    rows as in :class:`Told`."""
    sketch, ours = Sketch(), []
    for outline in outlines:
        sketch, names, _ = edit.add_outline(sketch, outline.curves, outline.u95_mm, origin="t1", closed=outline.closed)
        ours += zip(outline.curves, names)
    matched = []
    for true in (curve for outline in photo.outlines for curve in outline):
        points = fit.to_mm(photo.lens.to_px(even(sample(true, 0.01), 0.1)))
        name = next((name for curve, name in ours if _lies_along(true, curve, points, fit.mm_per_px)), None)
        if name is not None:
            matched.append((true, name))

    def row(word, kind, of, true_size):
        item = new_dimension(sketch, kind, of)
        return word, item.value - true_size, dimension_u95(sketch, item, fit)

    rows = [row(HOLE_WORD, "diameter", (name,), 2 * true.radius) for true, name in matched if isinstance(true, Circle)]
    rows += [row("radii", "radius", (name,), true.radius) for true, name in matched if isinstance(true, Arc)]
    circles = [item for item in matched if isinstance(item[0], Circle)]
    for (true, name), (other, other_name) in itertools.combinations(circles, 2):
        centers = tuple(sketch.curves[one].points[0] for one in (name, other_name))
        rows.append(row("distances", "distance", centers, math.dist(true.center, other.center)))
    lines = [item for item in matched if isinstance(item[0], Line) and length(item[0]) > LEAST_SIZE_MM]
    for (true, name), (other, other_name) in itertools.combinations(lines, 2):
        angle, apart = _between(true, other)
        rows.append(row("angles", "angle", (name, other_name), angle))
        if angle < PARALLEL:
            rows.append(row("distances", "distance", (name, other_name), apart))
    return rows


def _between(first, second):
    """(angle of at most 90 degrees, distance of the second's start from the first) of two lines."""
    way, other = np.subtract(first.end, first.start), np.subtract(second.end, second.start)
    angle = abs(math.atan2(way[0] * other[1] - way[1] * other[0], float(way @ other)))
    off = np.subtract(second.start, first.start)
    return min(angle, math.pi - angle), abs(way[0] * off[1] - way[1] * off[0]) / math.hypot(*way)


def _lies_along(true, curve, points, mm_per_px):
    if type(curve) is not type(true):
        return False
    if isinstance(true, Circle):
        return (
            math.dist(points.mean(axis=0), curve.center) < 3 * mm_per_px
            and abs(curve.radius - true.radius) < 0.03 * true.radius + 3 * mm_per_px
        )
    near = Edges([sample(curve, 0.01)]).distances(points) < 2 * SAME_PX * mm_per_px
    return float(near.mean()) > COVERED and abs(length(curve) - length(true)) < 0.2 * length(true) + 4 * mm_per_px


def run(random):
    """Figures of all photos: name -> value; also prints a line for each."""
    told = []
    for seed in random.integers(1 << 40, size=PHOTOS):
        own = np.random.default_rng(seed)
        photo = shoot(own, spoiled=(None, "covered", "folded")[int(own.integers(3))])
        told.append(judge(photo, own))
        one = told[-1]
        inside = {
            kind: [abs(error) <= u95 for name, error, u95 in one.sizes if name == kind]
            for kind in sorted({name for name, _, _ in one.sizes})
        }
        holes = max((1000 * abs(error) for name, error, _ in one.sizes if name == HOLE_WORD), default=0.0)
        corner = f" with a {photo.spoiled} corner" if photo.spoiled else ""
        focal = f"{photo.lens.matrix[0, 0] / HALF_DIAGONAL:.2f}{' noted' if photo.focal else ''}"
        print(
            f"   photo {seed}: {photo.thing}{corner}, k1 {photo.bend:+.3f}, focal {focal}: "
            f"{'found' if one.found else 'NOT FOUND'}, worst {one.worst:.3f} %, holes {holes:.0f} µm, inside "
            + ", ".join(f"{kind} {sum(values)}/{len(values)}" for kind, values in inside.items()),
            flush=True,
        )
    found = [one for one in told if one.found]
    rows = [row for one in found for row in one.sizes]
    worst = [one.worst for one in told]
    figures = {
        "sheets_found_percent": 100 * len(found) / len(told),
        "photo_worst_percent": max(worst),
        "photo_median_percent": float(np.median(worst)),
        "holes_worst_um": max((1000 * abs(error) for name, error, _ in rows if name == HOLE_WORD), default=0.0),
    }
    for kind in sorted({name for name, _, _ in rows}):
        figures[f"coverage_{kind}_percent"] = 100 * float(
            np.mean([abs(error) <= u95 for name, error, u95 in rows if name == kind])
        )
    return figures
