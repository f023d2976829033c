"""Random photos of random parts, nothing given but the card or the sheet: found, calibrated, traced, and every size held against the truth."""

import math

import attrs
import numpy as np

from benchmarks.random_photos import HALF_DIAGONAL, SHEET_SIGMA_MM, SIZE, shoot
from benchmarks.unseen_parts import COVERED, SAME_PX
from benchmarks.trace import Edges, even
from nomogon_core.errors import CoreError
from nomogon_core.geometry import Arc, Circle, Line, length, outline_points, sample
from nomogon_core.reference.decode import decode
from nomogon_core.reference.models import choose_model
from nomogon_core.reference.sheets import find_rectangle
from nomogon_core.sketch.dimensions import angle_u95
from nomogon_core.trace.outlines import TraceSettings, trace
from nomogon_core.trace.things import thing_of

PHOTOS = 24
PAIRS = 40
FOUND_PX = 40.0
LEAST_SIZE_MM = 8.0
TOLERANCE_MM = 0.1
HOLE_WORD = "holes"


@attrs.frozen
class Told:
    """What one photo showed.

    Attributes:
        found: whether card or sheet was found by itself.
        worst: largest error of a dimension between true places of the part, in percent of its size.
        sizes: rows (kind, error, stated 95 %) of diameters, radii, distances and angles of traced curves, and of those dimensions.
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
        rectangle = attrs.evolve(rectangle, width_mm=photo.size_mm[0], height_mm=photo.size_mm[1], u95_mm=2 * SHEET_SIGMA_MM)
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
    """Sizes of traced curves against the true ones they lie along."""
    ours = [(curve, u95) for outline in outlines for curve, u95 in zip(outline.curves, outline.u95_mm)]
    matched = []
    for true in (curve for outline in photo.outlines for curve in outline):
        points = fit.to_mm(photo.lens.to_px(even(sample(true, 0.01), 0.1)))
        for curve, u95 in ours:
            if _lies_along(true, curve, points, fit.mm_per_px):
                matched.append((true, curve, u95))
                break
    rows = [(HOLE_WORD, 2 * (curve.radius - true.radius), 2 * u95) for true, curve, u95 in matched if isinstance(true, Circle)]
    rows += [("radii", curve.radius - true.radius, u95) for true, curve, u95 in matched if isinstance(true, Arc)]
    circles = [item for item in matched if isinstance(item[0], Circle)]
    for index, (true, curve, _) in enumerate(circles):
        for other_true, other, _ in circles[index + 1:]:
            read, u95 = fit.distance(*fit.to_px([curve.center, other.center]), CENTER_SIGMA_PX)
            rows.append(("distances", read - math.dist(true.center, other_true.center), u95))
    lines = [item for item in matched if isinstance(item[0], Line) and length(item[0]) > LEAST_SIZE_MM]
    for index, (true, curve, u95) in enumerate(lines):
        for other_true, other, other_u95 in lines[index + 1:]:
            error = math.remainder(_between(curve, other) - _between(true, other_true), math.pi)
            rows.append(("angles", error, angle_u95(length(curve), u95, length(other), other_u95, fit.angle_between(*_elbow(curve, other, fit), 0.0)[1])))
    return rows


CENTER_SIGMA_PX = 0.02


def _elbow(first, second, fit):
    """Pixels of a corner and two arms that turn as two lines do."""
    way, other = (np.subtract(line.end, line.start) for line in (first, second))
    corner = np.array(first.start)
    return fit.to_px([corner, corner + way, corner + other])


def _between(first, second):
    a, b = (np.subtract(line.end, line.start) for line in (first, second))
    return math.atan2(a[0] * b[1] - a[1] * b[0], float(a @ b))


def _lies_along(true, curve, points, mm_per_px):
    if type(curve) is not type(true):
        return False
    if isinstance(true, Circle):
        return math.dist(points.mean(axis=0), curve.center) < 3 * mm_per_px and abs(curve.radius - true.radius) < 0.03 * true.radius + 3 * mm_per_px
    near = Edges([sample(curve, 0.01)]).distances(points) < 2 * SAME_PX * mm_per_px
    return float(near.mean()) > COVERED and abs(length(curve) - length(true)) < 0.2 * length(true) + 4 * mm_per_px


def run(random):
    """Figures of all photos: name -> value; also prints a line for each."""
    told = []
    for seed in random.integers(1 << 40, size=PHOTOS):
        own = np.random.default_rng(seed)
        photo = shoot(own)
        told.append(judge(photo, own))
        one = told[-1]
        inside = {kind: [abs(error) <= u95 for name, error, u95 in one.sizes if name == kind] for kind in sorted({name for name, _, _ in one.sizes})}
        holes = max((1000 * abs(error) for name, error, _ in one.sizes if name == HOLE_WORD), default=0.0)
        print(f"   photo {seed}: {photo.thing}, k1 {photo.bend:+.3f}, focal {photo.lens.matrix[0, 0] / HALF_DIAGONAL:.2f}{' noted' if photo.focal else ''}: "
              f"{'found' if one.found else 'NOT FOUND'}, worst {one.worst:.3f} %, holes {holes:.0f} µm, inside "
              + ", ".join(f"{kind} {sum(values)}/{len(values)}" for kind, values in inside.items()), flush=True)
    found = [one for one in told if one.found]
    rows = [row for one in found for row in one.sizes]
    figures = {"sheets_found_percent": 100 * len(found) / len(told), "photo_worst_percent": max(one.worst for one in told), "photo_median_percent": float(np.median([one.worst for one in told])),
               "holes_worst_um": max((1000 * abs(error) for name, error, _ in rows if name == HOLE_WORD), default=0.0)}
    for kind in sorted({name for name, _, _ in rows}):
        figures[f"coverage_{kind}_percent"] = 100 * float(np.mean([abs(error) <= u95 for name, error, u95 in rows if name == kind]))
    return figures
