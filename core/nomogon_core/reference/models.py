"""Fitting calibration models: similarity, x and y scale, affine, perspective, each with lens bending if wanted.

Known lengths, rectangles of known size and edges that are straight are fitted together by weighted least
squares; the covariance of the parameters is (J'WJ)⁻¹, widened by the reduced chi-square (Birge, 1932) where
that is larger than noise makes it in nineteen of twenty cases.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import attrs
import cv2
import numpy as np
from scipy.optimize import least_squares
from scipy.special import chdtrc

from nomogon_core.errors import CalibrationError
from nomogon_core.quantity.units import MM_PER_INCH
from nomogon_core.reference.calibration import (
    CAMERA,
    COVERAGE_FACTOR,
    MODELS,
    Calibration,
    Doubt,
    KnownLength,
    check_length,
    plane_of,
    residual_of,
    widening,
)
from nomogon_core.reference.camera import Usual, fit_camera

LEAST_PROBABILITY = 0.01
GUESSED_DPI = (72.0, 96.0)
RESOLUTION_SHARE = 0.005
RESOLUTION_BASE_PX = 2000.0
PRIOR_STRAIN = 0.004
PRIOR_TILT = 0.01
WORTH_MEASURING = 0.9
DOUBT_FACTOR = 1.5
STRAIGHT_SIGMA_PX = 0.06
RECTANGLE_UNKNOWNS = 5
BORDER_SIGMA_PX = 0.3


@attrs.frozen
class Edge:
    """Places along an edge that is straight in reality.

    Attributes:
        places: (n, 2) pixels; normals: (n, 2) unit directions across it.
        sigma_px: standard deviation of each place across the edge.
    """

    places: tuple = attrs.field(repr=False)
    normals: tuple = attrs.field(repr=False)
    sigma_px: float


@attrs.frozen
class Rectangle:
    """A flat thing of known size: its four corners in order around it, the first side being the width.

    Attributes:
        corners: (4, 2) pixels.
        width_mm, height_mm: its size.
        sigma_px: standard deviation of each corner along each axis.
        u95_mm: 95 % uncertainty of width and height.
        edges: an :class:`Edge` a side, beginning with the one from the first corner to the second; none where only
            corners are known.
        key: what stands for it in the job, "" outside one.
    """

    name: str
    corners: tuple
    width_mm: float
    height_mm: float
    sigma_px: float = 0.1
    u95_mm: float = 0.05
    key: str = ""
    edges: tuple = ()

    def sides(self) -> list[KnownLength]:
        """Its width and height as known lengths, for showing what the calibrated picture reads."""
        (a, b, c, _), sigma = self.corners, self.sigma_px
        return [
            KnownLength(f"{self.name}, {word}", tuple(first), tuple(second), size, sigma, self.u95_mm, self.key)
            for word, first, second, size in (("width", a, b, self.width_mm), ("height", b, c, self.height_mm))
        ]


@attrs.frozen
class _Problem:
    """Observations in the units of the fit."""

    model: str
    bend: bool
    center: np.ndarray
    unit: float
    lengths: tuple
    rectangles: tuple
    straights: tuple

    def units(self, points: Sequence[Sequence[float] | np.ndarray] | np.ndarray) -> np.ndarray:
        return (np.asarray(points, float) - self.center) / self.unit * [1.0, -1.0]

    @property
    def count(self) -> int:
        return MODELS[self.model] + int(self.bend)

    def residuals(self, x: np.ndarray) -> np.ndarray:
        """Weighted residuals of all observations."""
        shape = x[: self.count]
        scale = abs(shape[0]) / self.unit
        rows = []
        for known in self.lengths:
            a, b = plane_of(self.model, shape, self.units([known.start, known.end]))
            sigma = math.hypot(known.gauge_u95_mm / COVERAGE_FACTOR, math.sqrt(2) * scale * known.sigma_px)
            rows.append([(math.hypot(*(b - a)) - known.length_mm) / sigma])
        for index, rectangle in enumerate(self.rectangles):
            own = x[self.count + index * RECTANGLE_UNKNOWNS :][:RECTANGLE_UNKNOWNS]
            rows.append(self._rectangle(rectangle, shape, own, scale))
        for line in self.straights:
            rows.append(self._straight(line, shape))
        return np.concatenate(rows)

    def _rectangle(self, rectangle, shape, own, scale):
        x, y, turn, width, height = own
        plane = plane_of(self.model, shape, self.units(rectangle.corners))
        cos, sin = math.cos(turn), math.sin(turn)
        true = np.array([(0, 0), (width, 0), (width, -height), (0, -height)]) @ np.array([[cos, sin], [-sin, cos]]) + (
            x,
            y,
        )
        size = np.array([width - rectangle.width_mm, height - rectangle.height_mm]) * COVERAGE_FACTOR / rectangle.u95_mm
        return np.concatenate([((plane - true) / (scale * rectangle.sigma_px)).ravel(), size])

    def _straight(self, line, shape):
        q = self.units(line)
        if self.bend:
            q = q * (1 + shape[-1] * (q**2).sum(axis=1, keepdims=True))
        centered = (q - q.mean(axis=0)) * self.unit
        normal = np.linalg.svd(centered, full_matrices=False)[2][1]
        return centered @ normal / STRAIGHT_SIGMA_PX

    def start(self) -> np.ndarray:
        scale = self._first_scale()
        shape = {
            "similarity": [scale],
            "x and y scale": [scale, scale],
            "affine": [scale, 0, scale],
            "perspective": [scale, 0, scale, 0, 0],
        }[self.model]
        x = [*shape, *([0.0] if self.bend else [])]
        for rectangle in self.rectangles:
            corners = self.units(rectangle.corners) * scale
            way = corners[1] - corners[0]
            x += [*corners[0], math.atan2(way[1], way[0]), rectangle.width_mm, rectangle.height_mm]
        return np.array(x)

    def _first_scale(self):
        ratios = [known.length_mm / max(known.base_px, 1e-9) for known in self.lengths]
        for rectangle in self.rectangles:
            sides = np.hypot(*np.diff(np.vstack([rectangle.corners, rectangle.corners[:1]]), axis=0).T)
            ratios.append(2 * (rectangle.width_mm + rectangle.height_mm) / sides.sum())
        return float(np.median(ratios)) * self.unit


def fit_plane(
    model: str,
    size: tuple[int, int],
    *,
    lengths: Sequence[KnownLength] = (),
    rectangles: Sequence[Rectangle] = (),
    straights: Sequence[list[tuple] | np.ndarray] = (),
    bend: bool | None = None,
    origin_px: tuple[float, float] = (0.0, 0.0),
    angle: float = 0.0,
) -> Calibration:
    """One model from all that is known.

    Args:
        model: a key of MODELS.
        size: (width, height) of the picture in pixels.
        straights: point lists (n, 2) in pixels along edges that are straight in reality.
        bend: fit lens bending; None does so when there are straight edges.

    Returns:
        :class:`nomogon_core.reference.calibration.Calibration`.

    Raises:
        CalibrationError: too little is known for this model, or the observations do not fit together at all.
    """
    lengths, rectangles = tuple(lengths), tuple(rectangles)
    straights = tuple(np.asarray(line, float) for line in straights)
    _check(lengths, rectangles, straights)
    problem = _Problem(
        model,
        bool(straights) if bend is None else bend,
        np.array([(size[0] - 1) / 2, (size[1] - 1) / 2]),
        math.hypot(*size) / 2,
        lengths,
        rectangles,
        straights,
    )
    start = problem.start()
    rows = len(problem.residuals(start))
    spare = rows - len(start) - 2 * len(straights)
    known = len(lengths) + 5 * len(rectangles)
    if known < MODELS[model]:
        raise CalibrationError(
            f"The {model} model needs {MODELS[model]} known lengths, or a rectangle of known size; there are {known}. "
            "Add one, or use a simpler model."
        )
    found = least_squares(problem.residuals, start, x_scale="jac", method="trf", max_nfev=300)
    if not np.isfinite(found.x).all():
        raise CalibrationError("The known lengths do not fit together in one picture; look for a wrong one.")
    reduced = 2 * found.cost / spare if spare > 0 else 1.0
    covariance = np.linalg.pinv(found.jac.T @ found.jac) * widening(reduced, spare)
    told = (*lengths, *(side for rectangle in rectangles for side in rectangle.sides()))
    farthest = max(told, key=lambda item: item.base_px)
    fit = Calibration(
        model,
        tuple(found.x[: problem.count].tolist()),
        covariance[: problem.count, : problem.count],
        tuple(problem.center.tolist()),
        problem.unit,
        tuple(map(float, origin_px)),
        angle,
        reduced_chi2=reduced,
        spare=spare,
        pick_sigma_px=_pick_sigma(lengths, rectangles),
        reach_px=(farthest.start, farthest.end),
    )
    return attrs.evolve(fit, residuals=tuple(residual_of(fit, item) for item in told))


def _pick_sigma(lengths, rectangles):
    return (
        float(np.sqrt(np.mean([item.sigma_px**2 for item in (*lengths, *rectangles)])))
        if lengths or rectangles
        else 0.1
    )


def _check(lengths, rectangles, straights):
    if not lengths and not rectangles:
        raise CalibrationError("A picture without a known length has no scale; give a known length, a card or a sheet.")
    for known in lengths:
        check_length(known)
    for rectangle in rectangles:
        corners = np.array(rectangle.corners, float)
        ways = np.roll(corners, -1, axis=0) - corners
        turns = ways[:, 0] * np.roll(ways[:, 1], -1) - ways[:, 1] * np.roll(ways[:, 0], -1)
        if not (np.all(turns > 1) or np.all(turns < -1)):
            raise CalibrationError(
                f"The corners of {rectangle.name} do not go around a rectangle; give them in order around it."
            )
        if turns[0] < 0:
            raise CalibrationError(
                f"The corners of {rectangle.name} run counter-clockwise as seen; give them clockwise, the width first."
            )
        if min(rectangle.width_mm, rectangle.height_mm) <= 0:
            raise CalibrationError(f"The size of {rectangle.name} must be more than zero.")
    for line in straights:
        if line.ndim != 2 or len(line) < 3:
            raise CalibrationError("A straight edge needs at least three places along it.")


def choose_model(
    size: tuple[int, int],
    *,
    lengths: Sequence[KnownLength] = (),
    rectangles: Sequence[Rectangle] = (),
    straights: Sequence = (),
    focal: int | None = None,
    usual: Usual = Usual(),
    **placing: Any,
) -> Calibration:
    """A camera where the edges of a rectangle are known; else the smallest model whose residuals are within noise
    (chi-square test at 1 %), and why.

    Where one known length alone stands against a smaller model that two more than it needs agree on, that length
    is doubted and the smaller model kept, unless a model with just one number more fits all.

    Args and errors as :func:`fit_plane`; focal and usual as :func:`camera.fit_camera`.
    """
    lengths, rectangles = tuple(lengths), tuple(rectangles)
    if any(rectangle.edges for rectangle in rectangles):
        return fit_camera(
            size, rectangles=rectangles, lengths=lengths, straights=straights, focal=focal, usual=usual, **placing
        )
    known = len(lengths) + 5 * len(rectangles)
    last: Any = None
    tried, doubted = [], None
    for model, count in MODELS.items():
        if last is not None and known < count:
            break
        trial = fit_plane(model, size, lengths=lengths, rectangles=rectangles, straights=straights, **placing)
        if last is not None and not _determined(trial):
            continue
        last = trial
        if _within_noise(last):
            return attrs.evolve(last, why=_why(last, tried))
        if doubted is not None:
            return doubted
        doubt = find_doubt(model, size, lengths=lengths, rectangles=rectangles, straights=straights)
        if doubt is not None:
            doubted = attrs.evolve(
                last,
                doubt=doubt,
                why=(
                    f"The {model} model fits all known sizes within their noise but {doubt.name}, which disagrees by "
                    f"{doubt.off_mm:+.2f} mm."
                ),
            )
        if doubted is not None and model == "affine":
            return doubted
        tried.append(model)
    if doubted is not None:
        return doubted
    why = (
        f"Even the {last.model} model leaves residuals {math.sqrt(last.reduced_chi2):.1f} times their noise: tilt, "
        "lens bending or a wrong known length is "
        "not accounted for. The uncertainties were widened accordingly."
    )
    return attrs.evolve(last, why=why)


def _within_noise(fit):
    return fit.spare <= 0 or chdtrc(fit.spare, fit.reduced_chi2 * fit.spare) > LEAST_PROBABILITY


def find_doubt(
    model: str,
    size: tuple[int, int],
    *,
    lengths: Sequence[KnownLength] = (),
    rectangles: Sequence[Rectangle] = (),
    straights: Sequence = (),
) -> Doubt | None:
    """The one known length that the others contradict, or None; found by leaving each out in turn.

    The others must agree within their noise, be at least two more than the model needs, and contradict the
    length by more than three times the uncertainty of the difference.

    Returns:
        :class:`nomogon_core.reference.calibration.Doubt` or None.
    """
    worst = None
    for index, left_out in enumerate(lengths):
        others = (*lengths[:index], *lengths[index + 1 :])
        gauged = sum(1 for item in others if item.gauge_u95_mm < RESOLUTION_SHARE * item.length_mm / 2)
        if gauged + 5 * len(rectangles) < MODELS[model] + 2:
            continue
        fit = fit_plane(model, size, lengths=others, rectangles=rectangles, straights=straights)
        if fit.spare <= 0 or not _within_noise(fit):
            continue
        read, u95 = fit.distance(left_out.start, left_out.end, left_out.sigma_px)
        u95 = math.hypot(u95, left_out.gauge_u95_mm)
        off = left_out.length_mm - read
        if abs(off) > DOUBT_FACTOR * u95 and (worst is None or abs(off) / u95 > abs(worst.off_mm) / worst.u95_mm):
            worst = Doubt(left_out.name, left_out.key, off, u95)
    return worst


def _determined(fit):
    """Whether what is known fixes every parameter of the plane to some percents of the scale."""
    count = MODELS[fit.model]
    spread = np.sqrt(np.diag(fit.covariance)[:count]) / math.sqrt(widening(fit.reduced_chi2, fit.spare))
    lost = np.abs(np.linalg.eigvalsh(fit.covariance[:count, :count])).min() <= 0
    return not lost and bool(np.all(spread[:3] < 0.02 * abs(fit.parameters[0]))) and bool(np.all(spread[3:] < 0.05))


def _why(fit, tried):
    if fit.spare <= 0 and fit.model == "similarity":
        return "One known length determines one scale; nothing is left over to test it."
    if fit.spare <= 0:
        return (
            f"The {fit.model} model is the largest that so few known sizes determine; nothing is left over to test it."
        )
    before = f"; {' and '.join(tried)} {'does' if len(tried) == 1 else 'do'} not" if tried else ""
    return f"The {fit.model} model fits all known sizes within their noise{before}."


def resolution_lengths(dpi: Sequence[float], key: str = "") -> list[KnownLength]:
    """Known lengths across and down that say what a scan's resolution says.

    Args:
        dpi: (across, down) dots per inch.

    Raises:
        CalibrationError: out of range.
    """
    if not all(10 <= value <= 20000 for value in dpi):
        raise CalibrationError(
            f"A resolution between 10 and 20000 dots per inch was expected; {dpi[0]:g} × {dpi[1]:g} came."
        )
    base = RESOLUTION_BASE_PX
    return [
        KnownLength(
            f"Resolution {way}",
            (0.0, 0.0),
            (base * x, base * y),
            base * MM_PER_INCH / value,
            0.01,
            RESOLUTION_SHARE * base * MM_PER_INCH / value,
            key,
        )
        for way, value, x, y in (("across", dpi[0], 1, 0), ("down", dpi[1], 0, 1))
    ]


def across_picture(width: int, height: int) -> tuple[tuple[float, float], tuple[float, float], float]:
    """(start, end, standard deviation) of the whole width of a picture in pixels: its border lies half a pixel beyond
    its outermost pixels."""
    return (-0.5, height / 2), (width - 0.5, height / 2), BORDER_SIGMA_PX


def is_guessed(dpi: list[float]) -> bool:
    """Whether a resolution is what programs write when they do not know it."""
    return all(any(abs(value - guess) < 0.5 for guess in GUESSED_DPI) for value in dpi)


@attrs.frozen
class Suggestion:
    """The measurement that would improve a calibration most.

    Attributes:
        start_px, end_px: between which places.
        about_mm: what it reads now.
        before_u95_mm, after_u95_mm: uncertainty of the sizes it is for, root mean square, now and then.
    """

    start_px: tuple
    end_px: tuple
    about_mm: float
    before_u95_mm: float
    after_u95_mm: float


def _slopes(function, x):
    """Derivatives (rows, len(x)) by central differences."""
    steps = 1e-6 * np.maximum(np.abs(x), 1e-3)
    return np.array(
        [
            (np.atleast_1d(function(x + step)) - np.atleast_1d(function(x - step))) / (2 * step.max())
            for step in np.diag(steps)
        ]
    ).T


def measure_next(
    fit: Calibration,
    size: tuple[int, int],
    candidates: list[tuple[tuple, tuple]],
    targets: list[tuple[tuple, tuple]],
    *,
    lengths: Sequence[KnownLength] = (),
    rectangles: tuple[Rectangle, ...] = (),
    gauge_u95_mm: float = 0.02,
) -> Suggestion | None:
    """The candidate length whose measurement lowers the total variance of the targets most.

    All five numbers of a tilted view count, those that nothing has told about by what is usual: scales that
    differ by 0.4 % and a tilt that changes the scale by 1 % (standard deviations). So a first length asks
    for a second one across it.

    Args:
        fit: present calibration.
        size: (width, height) of the picture in pixels.
        candidates, targets: pairs of places in pixels.
        lengths, rectangles: what is known.

    Returns:
        :class:`Suggestion`, or None where nothing lowers the uncertainty by a tenth.
    """
    problem = _Problem(
        "perspective",
        False,
        np.array([(size[0] - 1) / 2, (size[1] - 1) / 2]),
        math.hypot(*size) / 2,
        tuple(lengths),
        tuple(rectangles),
        (),
    )
    x = problem.start()
    x[:5] = _as_perspective(fit, problem)
    rows = _slopes(problem.residuals, x)
    prior = np.zeros((4, len(x)))
    prior[0, [0, 2]] = np.array([1, -1]) / (x[0] * PRIOR_STRAIN)
    prior[1, 1] = 2 / (x[0] * PRIOR_STRAIN)
    prior[2, 3] = prior[3, 4] = 1 / PRIOR_TILT
    covariance = np.linalg.pinv(rows.T @ rows + prior.T @ prior)[:5, :5]

    def size_of(pair):
        ends = problem.units(pair)
        return lambda shape: math.hypot(*np.diff(plane_of("perspective", shape, ends), axis=0)[0])

    slopes = np.array([_slopes(size_of(pair), x[:5])[0] for pair in targets])
    total = float(np.einsum("ij,jk,ik->", slopes, covariance, slopes))
    best = None
    for pair in candidates:
        own = _slopes(size_of(pair), x[:5])[0]
        noise = (gauge_u95_mm / COVERAGE_FACTOR) ** 2 + 2 * (fit.mm_per_px * fit.pick_sigma_px) ** 2
        gain = float(np.sum((slopes @ covariance @ own) ** 2) / (noise + own @ covariance @ own))
        if best is None or gain > best[0]:
            best = (gain, pair)
    if best is None or total - best[0] > WORTH_MEASURING**2 * total:
        return None
    before, after = (COVERAGE_FACTOR * math.sqrt(max(value, 0.0) / len(slopes)) for value in (total, total - best[0]))
    return Suggestion(tuple(best[1][0]), tuple(best[1][1]), fit.distance(*best[1])[0], before, after)


def _as_perspective(fit, problem):
    """The five numbers of a perspective, in a problem's units, of a fit of any model without its bending."""
    if fit.model == CAMERA:
        corners = np.array([(-0.5, -0.5), (0.5, -0.5), (0.5, 0.5), (-0.5, 0.5)])
        plane = plane_of(CAMERA, np.array(fit.parameters), corners) - plane_of(
            CAMERA, np.array(fit.parameters), np.zeros((1, 2))
        )
        homography = cv2.getPerspectiveTransform(corners.astype(np.float32), plane.astype(np.float32))
        scales, tilt = homography[:2, :2] - np.outer(homography[:2, 2], homography[2, :2]), homography[2, :2]
        _, stretch, ways = np.linalg.svd(scales)
        symmetric = ways.T @ np.diag(stretch) @ ways
        return np.array([symmetric[0, 0], symmetric[0, 1], symmetric[1, 1], *tilt])
    parameters = np.array(fit.parameters[: MODELS[fit.model]]) * (
        1.0 if fit.model == "perspective" else problem.unit / fit.unit_px
    )
    if fit.model == "perspective":
        return parameters
    a, b, c = {"similarity": lambda s: (s, 0, s), "x and y scale": lambda sx, sy: (sx, 0, sy), "affine": lambda *p: p}[
        fit.model
    ](*parameters)
    return np.array([a, b, c, 0, 0])
