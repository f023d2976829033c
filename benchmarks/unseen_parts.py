"""Random parts of lines and arcs in random light: which curves come out as what they are, how smooth, how true."""

import math

import attrs
import cv2
import numpy as np

from benchmarks.random_parts import random_part
from benchmarks.trace import TRUTH_CHORD_PX, Edges, deviation, even, polyline, segments
from examples.render import Camera, photograph
from examples.tilted import scale_from
from nomogon_core.devices.compiled_coverage import coverage
from nomogon_core.geometry.curves import (
    CLOSED,
    Arc,
    Circle,
    Line,
    closed_area,
    end_directions,
    ends,
    length,
    moved,
    outline_points,
    sample,
)
from nomogon_core.picture.decode import decode
from nomogon_core.reference.calibration import KnownLength
from nomogon_core.trace.outlines import TraceSettings, trace

PARTS = 40
LONG_PX = 25.0
SAME_PX = 0.6
COVERED = 0.85
SMOOTH_DEGREES, KINK_DEGREES = 0.01, 3.0
JOINT_NEAR_PX = 8.0
MARGIN_MM = 6.0
TOLERANCE_PX = 0.9


@attrs.frozen
class Shot:
    """A picture of a random part: its bytes, its true outlines in pixels (y down), and pixels a millimetre."""

    jpeg: bytes = attrs.field(repr=False)
    truth: tuple = attrs.field(repr=False)
    scale: float


def shoot(random):
    """One random part in random light, as a camera straight above stores it."""
    outlines, scale, turn = random_part(random), random.uniform(6.0, 12.0), random.uniform(-math.pi, math.pi)
    seen = Camera(scale, (0.0, 0.0), turn).to_px(np.vstack([outline_points(curves, 0.05) for curves in outlines]))
    width, height = np.ceil(np.ptp(seen, axis=0) + 2 * MARGIN_MM * scale).astype(int).tolist()
    camera = Camera(scale, tuple(MARGIN_MM * scale - seen.min(axis=0) + random.uniform(0, 1, 2)), turn)

    def place(point):
        return tuple(camera.to_px([point])[0])

    truth = tuple(
        tuple(moved(curve, place, scale=scale, turn=-turn, sense=-1) for curve in curves) for curves in outlines
    )
    polygons = []
    for index, curves in enumerate(truth):
        points = outline_points(curves, TRUTH_CHORD_PX)
        polygons.append(points if (closed_area(curves) > 0) == (index == 0) else points[::-1])
    ground, part = random.uniform(0.35, 0.8), random.uniform(0.03, 0.12)
    if random.random() < 0.3:
        ground, part = part, ground
    picture = photograph(
        coverage(polygons, width, height),
        ground=ground,
        part=part,
        light=random.uniform(0, 0.3),
        blur_px=random.uniform(0.5, 1.5),
        noise=random.uniform(0.002, 0.015),
        grain=random.choice([0.0, 0.02]),
        mottle=random.uniform(0, 0.12),
        seed=int(random.integers(1 << 30)),
    )
    jpeg = cv2.imencode(".jpg", picture, [cv2.IMWRITE_JPEG_QUALITY, int(random.integers(82, 97))])[1].tobytes()
    return Shot(jpeg, truth, scale)


def traced(shot, tolerance_px=TOLERANCE_PX):
    """Our outlines of a shot in pixels, y down, and in millimetres as they came."""
    fit = scale_from([KnownLength("given", (0, 0), (100 * shot.scale, 0), 100.0, sigma_px=0.001, gauge_u95_mm=1e-6)])
    outlines = trace(
        decode(shot.jpeg), fit, TraceSettings(tolerance_mm=tolerance_px / shot.scale, speck_mm2=30.0 / shot.scale**2)
    )

    def place(point):
        return tuple(fit.to_px([point])[0])

    return [
        tuple(moved(curve, place, scale=shot.scale, sense=-1) for curve in outline.curves) for outline in outlines
    ], outlines


@attrs.frozen
class Told:
    """What came out of one shot: pairs (found, of) and worst figures."""

    arcs: tuple
    lines: tuple
    exact: bool
    kinks: int
    curves: tuple
    largest_px: float
    sizes: tuple


def judge(shot):
    """:class:`Told` of a shot."""
    found, stated = traced(shot)
    ours = [curve for curves in found for curve in curves]
    u95 = [value * shot.scale for outline in stated for value in outline.u95_mm]
    arcs, lines, sizes, all_found = [0, 0], [0, 0], [], True
    for curve in (curve for curves in shot.truth for curve in curves):
        match = _match(curve, ours)
        all_found &= match is not None
        if match is not None and isinstance(curve, (Arc, Circle)):
            sizes.append((type(curve).__name__, (ours[match].radius - curve.radius), u95[match], curve.radius))
        if length(curve) > LONG_PX and isinstance(curve, (Arc, Line)):
            tally = arcs if isinstance(curve, Arc) else lines
            tally[0] += match is not None
            tally[1] += 1
    truth_count = segments(shot.truth)
    largest, _ = deviation(found, [polyline(curves, TRUTH_CHORD_PX) for curves in shot.truth])
    return Told(
        tuple(arcs),
        tuple(lines),
        all_found and segments(found) == truth_count,
        _kinks(shot.truth, found),
        (segments(found), truth_count),
        largest,
        tuple(sizes),
    )


def _match(curve, ours):
    """Index of the one curve of the same kind that lies along a true one all the way, or None."""
    points = even(sample(curve, 0.01))
    for index, one in enumerate(ours):
        if type(one) is not type(curve):
            continue
        if isinstance(curve, Circle):
            if math.dist(one.center, curve.center) < SAME_PX and abs(one.radius - curve.radius) < SAME_PX:
                return index
        elif (
            float(np.mean(Edges([sample(one, 0.01)]).distances(points) < SAME_PX)) > COVERED
            and abs(length(one) - length(curve)) < 0.2 * length(curve) + 4
        ):
            return index
    return None


def joints_of(outlines):
    """(place, kink in degrees) of every joint."""
    for curves in outlines:
        if isinstance(curves[0], CLOSED):
            continue
        for before, after in zip((curves[-1], *curves[:-1]), curves):
            yield (
                ends(after)[0],
                math.degrees(math.acos(float(np.clip(end_directions(before)[1] @ end_directions(after)[0], -1, 1)))),
            )


def _kinks(truth, found):
    """Joints with a kink where the truth has none."""
    sharp = np.array([place for place, kink in joints_of(truth) if kink >= SMOOTH_DEGREES]).reshape(-1, 2)
    count = 0
    for place, kink in joints_of(found):
        near_sharp = len(sharp) and np.hypot(*(sharp - place).T).min() < JOINT_NEAR_PX
        count += kink >= KINK_DEGREES and not near_sharp
    return count


def run(random):
    """Figures of all shots: name -> value; also prints a line for each that is not exact."""
    seeds, told = random.integers(1 << 40, size=PARTS), []
    for seed in seeds:
        shot = shoot(np.random.default_rng(seed))
        told.append(judge(shot))
        one = told[-1]
        print(
            f"   part {seed}: arcs {one.arcs[0]}/{one.arcs[1]}, lines {one.lines[0]}/{one.lines[1]}, curves "
            f"{one.curves[0]}/{one.curves[1]}, "
            f"kinks {one.kinks}, max {one.largest_px:.2f} px{'' if one.exact else '   not exact'}",
            flush=True,
        )

    def percent(name):
        return 100 * sum(getattr(one, name)[0] for one in told) / sum(getattr(one, name)[1] for one in told)

    radii = [abs(off) <= u95 for one in told for _, off, u95, _ in one.sizes]
    return {
        "arcs_exact_percent": percent("arcs"),
        "lines_exact_percent": percent("lines"),
        "parts_exact_percent": 100 * float(np.mean([one.exact for one in told])),
        "kinks": float(sum(one.kinks for one in told)),
        "curves_over_truth": percent("curves") / 100,
        "max_dev_px": max(one.largest_px for one in told),
        "radii_covered_percent": 100 * float(np.mean(radii)),
    }
