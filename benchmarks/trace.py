"""Tracing beside two general-purpose libraries, in one run and on the same pictures.

Made-up parts are rendered with exact truth, so deviations are from the truth; pictures shipped inside scikit-image
(public domain, or with no known restrictions) have none, so there deviations are from the boundary of the mask that all
are given.
"""

import io
import math
import re
import subprocess
import sys
import time

import attrs
import cv2
import numpy as np
import potrace
import shapely
import vtracer
from PIL import Image
from skimage import data, filters, measure, morphology

from benchmarks.previews import calibrated_job, p95_ms, picture_12mp
from benchmarks.specimens import FREE, LINES_AND_ARCS
from examples.render import Camera, photograph
from examples.tilted import scale_from
from launch.places import ROOT
from nomogon_core.devices.compiled_coverage import coverage
from nomogon_core.geometry.curves import (
    CLOSED,
    Arc,
    Circle,
    Ellipse,
    Line,
    Spline,
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
from nomogon_core.trace.outlines import TraceSettings, outlines_of, trace

SCALE, LARGE_SCALE = 9.0, 36.0
LONG_PX = 25.0
SAME_PX = 0.6
TURN, MARGIN_MM = 0.037, 6.0
OUR_TOLERANCE_PX = 0.25
COVERED = 0.85
KINKS_DEGREES = (0.2, 15.0)
TRUTH_CHORD_PX = 0.002
STENCIL_LEAST_PX = 2.0
STEP_PX = 0.25
TOLERANCES_PX = (0.3, 0.5, 0.8, 0.9, 1.0, 1.1, 1.2, 1.8, 2.8, 4.5, 7.0, 11.0, 18.0, 30.0)
NATURAL = {
    "horse": (lambda: data.horse(), 40),
    "coins": (lambda: data.coins(), 150),
    "clock": (lambda: data.clock(), 400),
}
COLD_TRACE = """
import sys, time
from examples.tilted import scale_from
from nomogon_core.reference.calibration import KnownLength
from nomogon_core.picture.decode import decode
from nomogon_core.trace.outlines import TraceSettings, trace
data = sys.stdin.buffer.read()
fit = scale_from([KnownLength("given", (0, 0), (4200, 0), 100.0)])
times = []
for _ in range(4):
    begin = time.perf_counter()
    trace(decode(data), fit, TraceSettings(tolerance_mm=0.1))
    times.append(time.perf_counter() - begin)
peak = next(line for line in open("/proc/self/status") if line.startswith("VmHWM"))
print(sorted(times[1:])[1], int(peak.split()[1]) / 1024)
"""


@attrs.frozen
class Picture:
    """A picture to trace: its bytes, how a calibration lays it, and its true outlines in pixels, if known; a picture of
    two tones is its own mask."""

    name: str
    png: bytes = attrs.field(repr=False)
    scale: float
    truth: tuple = ()
    free: bool = False
    least_px: float = 60.0
    stencil: np.ndarray | None = attrs.field(default=None, eq=False, repr=False)

    def calibration(self):
        """One known length, placed so that millimetres times the scale are pixels, y up."""
        return scale_from([KnownLength("given", (0, 0), (100 * self.scale, 0), 100.0, sigma_px=0.01)])


def _nested(outlines):
    """Outlines as polygons, outer ones and holes running opposite ways, so that their coverage adds up."""
    rings = [shapely.Polygon(outline_points(curves, 0.01)) for curves in outlines]
    depth = [
        sum(other.contains(ring.representative_point()) and other.area > ring.area for other in rings) for ring in rings
    ]
    return [1 if level % 2 == 0 else -1 for level in depth]


def _in_pixels(outlines, camera):
    """True outlines under a straight camera, as curves in pixels with y down."""

    def place(point):
        return tuple(camera.to_px([point])[0])

    return tuple(
        tuple(moved(curve, place, scale=camera.scale, turn=-camera.angle, sense=-1) for curve in curves)
        for curves in outlines
    )


def made_up(name, outlines, scale, *, free, **light):
    """A photo-like picture of a part, compressed as a camera would."""
    seen = Camera(scale, (0.0, 0.0), TURN).to_px(np.vstack([outline_points(curves, 0.05) for curves in outlines]))
    width, height = np.ceil(np.ptp(seen, axis=0) + 2 * MARGIN_MM * scale).astype(int).tolist()
    camera = Camera(scale, tuple(MARGIN_MM * scale - seen.min(axis=0) + (0.31, 0.17)), TURN)
    truth = _in_pixels(outlines, camera)
    polygons = []
    for curves, sense in zip(truth, _nested(outlines)):
        points = outline_points(curves, TRUTH_CHORD_PX)
        polygons.append(points if (closed_area(curves) > 0) == (sense > 0) else points[::-1])
    picture = photograph(coverage(polygons, width, height), **light)
    jpeg = cv2.imencode(".jpg", picture, [cv2.IMWRITE_JPEG_QUALITY, 92])[1].tobytes()
    return Picture(name, jpeg, scale, truth, free)


def pictures():
    """All pictures of the benchmark."""
    for kind, free in ((LINES_AND_ARCS, False), (FREE, True)):
        for name, part in kind.items():
            yield made_up(f"{name}, drawn", part(), SCALE, free=free, noise=0.002, blur_px=0.5, light=0.0, seed=5)
            yield made_up(f"{name}, photo", part(), SCALE, free=free, noise=0.01, blur_px=1.0, seed=6)
    for name in ("bracket", "gear"):
        yield made_up(
            f"{name}, photo 12 MP",
            LINES_AND_ARCS[name](),
            LARGE_SCALE,
            free=False,
            noise=0.012,
            blur_px=1.2,
            grain=0.03,
            seed=7,
        )
    yield made_up(
        "cam, photo 12 MP", FREE["cam"](), LARGE_SCALE, free=True, noise=0.012, blur_px=1.2, grain=0.03, seed=8
    )
    for name, (load, least) in NATURAL.items():
        part = _stencil(np.asarray(load()), least)
        yield Picture(
            name,
            cv2.imencode(".png", np.where(part, 0, 255).astype(np.uint8))[1].tobytes(),
            1.0,
            (),
            True,
            STENCIL_LEAST_PX,
            part,
        )


def _stencil(values, least):
    """A sample as a picture of two tones, True where the part is, without specks and holes up to some pixels: split as
    Otsu (1979) does, all by scikit-image."""
    bright = values if values.dtype == bool else values > filters.threshold_otsu(values)
    border = np.concatenate([bright[0], bright[-1], bright[:, 0], bright[:, -1]])
    part = ~bright if border.mean() > 0.5 else bright
    return morphology.remove_small_holes(morphology.remove_small_objects(part, max_size=least), max_size=least)


class Edges:
    """Polylines as a tree of segments, for exact distances."""

    def __init__(self, polylines):
        runs = [np.stack([line[:-1], line[1:]], axis=1) for line in polylines]
        self.tree = shapely.STRtree(shapely.linestrings(np.concatenate(runs)))

    def distances(self, points):
        _, away = self.tree.query_nearest(shapely.points(points), return_distance=True, all_matches=False)
        return away


def polyline(curves, chord=0.01):
    points = outline_points(curves, chord)
    return np.vstack([points, points[:1]])


def even(line, step=STEP_PX):
    """A polyline at even steps."""
    along = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(line, axis=0).T))])
    places = np.arange(0, along[-1], step)
    return np.column_stack([np.interp(places, along, line[:, 0]), np.interp(places, along, line[:, 1])])


def deviation(found, truth_lines):
    """(largest, mean) distance between found outlines and the true lines, both ways, in pixels."""
    found_lines = [polyline(curves) for curves in found]
    ours = Edges(truth_lines).distances(np.vstack([even(line) for line in found_lines]))
    theirs = Edges(found_lines).distances(np.vstack([even(line) for line in truth_lines]))
    return float(max(ours.max(), theirs.max())), float((ours.mean() + theirs.mean()) / 2)


def our_trace(picture, tolerance_px):
    """Our outlines in pixels, y down."""
    fit = picture.calibration()
    light = decode(picture.png, drawn=not picture.truth)
    settings = TraceSettings(
        tolerance_mm=tolerance_px / picture.scale,
        speck_mm2=picture.least_px / picture.scale**2,
        border=not picture.truth,
    )
    return [_to_px(outline.curves, fit, picture.scale) for outline in trace(light, fit, settings)]


def _to_px(curves, fit, scale):
    def place(point):
        return tuple(fit.to_px([point])[0])

    return tuple(moved(curve, place, scale=scale, sense=-1) for curve in curves)


def _turns_left(points):
    (x, y), (after_x, after_y) = points.T, np.roll(points, -1, axis=0).T
    return float(np.sum(x * after_y - after_x * y)) > 0


def mask_of(picture):
    """The same picture as the binary mask that the other libraries take: the stencil itself, or split at the middle
    between part and ground with the same specks left out."""
    if picture.stencil is not None:
        return picture.stencil
    light = decode(picture.png, drawn=not picture.truth)
    settings = TraceSettings(speck_mm2=picture.least_px / picture.scale**2, border=not picture.truth)
    contours = outlines_of(light, settings, 1 / picture.scale)
    rings = [
        contour.points if (_turns_left(contour.points)) != contour.hole else contour.points[::-1]
        for contour in contours
    ]
    return coverage(rings, light.shape[1], light.shape[0]) > 0.5


def with_potracer(mask):
    """Outlines of potracer, its defaults."""
    outlines = []
    for found in potrace.Bitmap(~mask).trace(turdsize=2):
        curves, here = [], (found.start_point.x - 0.5, found.start_point.y - 0.5)
        for piece in found.segments:
            end = (piece.end_point.x - 0.5, piece.end_point.y - 0.5)
            if piece.is_corner:
                corner = (piece.c.x - 0.5, piece.c.y - 0.5)
                curves += [Line(here, corner), Line(corner, end)]
            else:
                curves.append(
                    Spline([here, (piece.c1.x - 0.5, piece.c1.y - 0.5), (piece.c2.x - 0.5, piece.c2.y - 0.5), end])
                )
            here = end
        outlines.append(tuple(curves))
    return outlines


def with_vtracer(mask):
    """Outlines of vtracer in its spline mode."""
    stream = io.BytesIO()
    Image.fromarray(np.where(mask, 0, 255).astype(np.uint8)).convert("RGBA").save(stream, "PNG")
    svg = vtracer.convert_raw_image_to_svg(
        stream.getvalue(), img_format="png", colormode="binary", mode="spline", filter_speckle=2, path_precision=6
    )
    outlines = []
    for path, shift in re.findall(r'<path d="([^"]+)"[^>]*?transform="translate\(([^)]+)\)"', svg):
        off = np.array([float(value) for value in shift.split(",")]) - 0.5
        for part in re.findall(r"M[^M]+", path):
            outlines.append(_svg_curves(part, off))
    return [curves for curves in outlines if curves]


def _svg_curves(part, off):
    curves, here, start = [], None, None
    for letter, numbers in re.findall(r"([MLC])([^MLCZ]*)", part):
        places = np.array([float(value) for value in re.findall(r"-?[\d.]+(?:e-?\d+)?", numbers)]).reshape(-1, 2) + off
        if letter == "M":
            here = start = places[0]
        elif letter == "L":
            for place in places:
                curves.append(Line(here, place))
                here = place
        else:
            for index in range(0, len(places), 3):
                curves.append(Spline([here, *places[index : index + 3]]))
                here = places[index + 2]
    if start is not None and math.dist(here, start) > 1e-6:
        curves.append(Line(here, start))
    return tuple(curves)


def segments(outlines):
    return sum(len(curves) for curves in outlines)


def recognised(picture, found):
    """How many true circles, and long true lines and arcs, stand as one curve of their kind: (circles, of, others,
    of)."""
    ours = [curve for curves in found for curve in curves]
    circles = others = all_circles = all_others = 0
    for curve in (curve for curves in picture.truth for curve in curves):
        if isinstance(curve, Circle):
            all_circles += 1
            circles += any(
                isinstance(one, Circle)
                and math.dist(one.center, curve.center) < SAME_PX
                and abs(one.radius - curve.radius) < SAME_PX
                for one in ours
            )
        elif isinstance(curve, (Line, Arc)) and length(curve) > LONG_PX:
            all_others += 1
            points = even(sample(curve, 0.01))
            others += any(type(one) is type(curve) and _covers(one, points) for one in ours)
    return circles, all_circles, others, all_others


def _covers(curve, points):
    line = sample(curve, 0.01)
    return float(np.mean(Edges([line]).distances(points) < SAME_PX)) > COVERED


def corner_error(picture, found):
    """Largest distance in pixels from a true sharp corner to the nearest joint."""
    joints = np.array([ends(curve)[0] for curves in found for curve in curves if not isinstance(curve, CLOSED)])
    worst = 0.0
    for curves in picture.truth:
        for before, after in zip((curves[-1], *curves[:-1]), curves):
            if not isinstance(after, CLOSED) and _kink(before, after) > 30:
                worst = max(worst, float(np.hypot(*(joints - ends(after)[0]).T).min()) if len(joints) else math.inf)
    return worst


def _kink(before, after):
    return math.degrees(math.acos(float(np.clip(end_directions(before)[1] @ end_directions(after)[0], -1, 1))))


def kinks(found):
    """Joints that turn between the two limits: neither smooth nor a corner."""
    low, high = KINKS_DEGREES
    return sum(
        low < _kink(before, after) < high
        for curves in found
        if not isinstance(curves[0], CLOSED)
        for before, after in zip((curves[-1], *curves[:-1]), curves)
    )


def truth_lines(picture, mask):
    """The true outlines as polylines; of a picture without truth the boundary of the mask that all are given (marching
    squares of scikit-image)."""
    return [polyline(curves, TRUTH_CHORD_PX) for curves in picture.truth] or [
        line[:, ::-1] - 1 for line in measure.find_contours(np.pad(mask, 1).astype(float), 0.5)
    ]


def at_most(largest, tries):
    """The fewest segments of our tries whose largest deviation stays within a limit, or None."""
    return min((count for count, off in tries if off <= largest), default=None)


def our_tries(picture, lines, largest):
    """(segments, largest deviation) of our traces at growing tolerances, up to a deviation that is of no use any
    more."""
    tries = []
    for tolerance in TOLERANCES_PX:
        if tolerance > 1.2 * largest:
            break
        found = our_trace(picture, tolerance)
        tries.append((segments(found), deviation(found, lines)[0]))
    return tries


def one_picture(picture):
    """Prints a picture's lines and gives its figures."""
    begin = time.perf_counter()
    found = our_trace(picture, OUR_TOLERANCE_PX)
    seconds = time.perf_counter() - begin
    mask = mask_of(picture)
    lines = truth_lines(picture, mask)
    largest, mean = deviation(found, lines)
    circles, all_circles, long_ones, all_others = recognised(picture, found)
    kinds = " ".join(
        f"{kind.__name__[0]}{sum(isinstance(curve, kind) for curves in found for curve in curves)}"
        for kind in (Line, Arc, Circle, Ellipse, Spline)
    )
    told = (
        f"circles {circles}/{all_circles}, lines and arcs {long_ones}/{all_others}, corner "
        f"{corner_error(picture, found):.2f} px, "
        if picture.truth
        else ""
    )
    print(
        f"{picture.name}\n   ours at {OUR_TOLERANCE_PX} px  {segments(found):4d} segments ({kinds}), max "
        f"{largest:.3f}, mean {mean:.3f} px, {told}kinks {kinks(found)}, {seconds:.2f} s",
        flush=True,
    )
    others, ratios = [], []
    for name, function in (("potracer", with_potracer), ("vtracer", with_vtracer)):
        begin = time.perf_counter()
        other = function(mask)
        other_s = time.perf_counter() - begin
        if other:
            others.append((name, segments(other), *deviation(other, lines), other_s))
    tries = our_tries(picture, lines, max(other[2] for other in others))
    for name, count, other_largest, other_mean, other_s in others:
        best = at_most(other_largest, tries)
        ratios.append(best / count if best else math.inf)
        print(
            f"   {name:<14} {count:5d} segments, max {other_largest:.3f}, mean {other_mean:.3f} px, {other_s:.2f} s; "
            f"ours within that maximum: {best or 'none'}",
            flush=True,
        )
    return {
        "ratio": max(ratios),
        "circles": (circles, all_circles),
        "others": (long_ones, all_others),
        "max": largest,
        "mean": mean,
        "kinks": kinks(found),
    }


def twelve_megapixels():
    """(seconds, peak MB) of decode to fitted curves, in a process that holds nothing but the core; the median of three.

    The peak is the kernel's high-water mark of that program: the one of getrusage would begin with the parent's.
    """
    done = subprocess.run(
        [sys.executable, "-c", COLD_TRACE], input=picture_12mp(), capture_output=True, check=True, cwd=ROOT
    )
    seconds, peak = done.stdout.split()
    return float(seconds), float(peak)


def preview_ms():
    """Moves of the threshold and of the speck size, by tone, edge, centre line and colour in turn."""
    bodies = [
        {
            "threshold": 0.3 + 0.4 * share,
            "speck": 1 + 5 * share,
            "tolerance": "0.1 mm",
            "mode": mode,
            "picked": [[600, 1800]],
        }
        for mode in ("tone", "edge", "centre", "colour")
        for share in np.linspace(0, 1, 12)
    ]
    with calibrated_job() as (client, job):
        return p95_ms(client, f"/jobs/{job.pk}/reference/outlines", bodies)


def run():
    """All figures of the trace."""
    told = [(picture, one_picture(picture)) for picture in pictures()]
    made = [figures for picture, figures in told if picture.truth]
    straight = [figures for picture, figures in told if picture.truth and not picture.free]
    free = [
        figures
        for picture, figures in told
        if picture.truth and picture.free and not picture.name.startswith("lettering")
    ]
    letters = [figures for picture, figures in told if picture.name.startswith("lettering")]

    def percent(key):
        return 100 * sum(figures[key][0] for figures in made) / sum(figures[key][1] for figures in made)

    seconds, peak = twelve_megapixels()
    rows = [
        (
            "segments_ratio_worst",
            max(figures["ratio"] for _, figures in told),
            0.5,
            "segments over the better of potracer and vtracer, at no larger maximum deviation",
        ),
        ("circles_found_percent", percent("circles"), 100, "true circles recognised as such"),
        ("lines_arcs_found_percent", percent("others"), 95, "true lines and arcs over 25 px recognised as such"),
        ("max_dev_px", max(figures["max"] for figures in straight), 0.2, "from truth, line-and-arc parts"),
        ("mean_dev_px", max(figures["mean"] for figures in straight), 0.05, "the same, the worst picture's mean"),
        ("freeform_max_dev_px", max(figures["max"] for figures in free), 0.4, "from truth, free-form parts"),
        ("freeform_mean_dev_px", max(figures["mean"] for figures in free), 0.06, "the same, the worst picture's mean"),
        (
            "lettering_max_dev_px",
            max(figures["max"] for figures in letters),
            0.4,
            "the same, letters with joins of 145 to 155 degrees that the lens closes",
        ),
        (
            "kinks",
            sum(figures["kinks"] for figures in made),
            0,
            "joints between 0.2 and 15 degrees on the made-up parts",
        ),
        ("seconds_12mp", seconds, 3, "decode to fitted curves, latch plate, 4000 x 3000"),
        ("peak_mb_12mp", peak, 1000, "peak memory of that process"),
        ("preview_ms_p95", preview_ms(), 150, "threshold moved to outlines received, 12 megapixels"),
    ]
    return [
        {"name": name, "value": float(value), "reach": reach, "against": against}
        for name, value, reach, against in rows
    ]
