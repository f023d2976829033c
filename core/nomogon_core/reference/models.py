"""Calibration models beyond one scale: x and y scales, affine, perspective, each with lens bending if wanted.

A pixel becomes q, centred on the picture, divided by half its diagonal, y up. Lens bending takes q to
q (1 + k r²) (radial division-free model after Brown, 1971). Then the plane:

* similarity: s q; x and y scale: (sx qx, sy qy); affine: A q with symmetric A, since a turn changes no length
* perspective: A q / (1 + v · q): five numbers, the homography without its place and turn

Known lengths, rectangles of known size and edges that are straight are fitted together by weighted least
squares; the covariance of the parameters is (J'WJ)⁻¹, widened by a reduced chi-square over 1 (Birge, 1932).
"""

import math

import attrs
import numpy as np
from scipy.optimize import least_squares
from scipy.stats import chi2

from nomogon_core.errors import CalibrationError
from nomogon_core.reference.calibration import COVERAGE_FACTOR, LEAST_BASE_PX, Residual

MODELS = {"similarity": 1, "x and y scale": 2, "affine": 3, "perspective": 5}
LEAST_PROBABILITY = 0.01
STRAIGHT_SIGMA_PX = 0.15
RECTANGLE_UNKNOWNS = 5


@attrs.frozen
class Rectangle:
    """A flat thing of known size: its four corners in order around it, the first side being the width.

    Attributes:
        corners: (4, 2) pixels.
        width_mm, height_mm: its size.
        sigma_px: standard deviation of each corner along each axis.
        u95_mm: 95 % uncertainty of width and height.
    """

    name: str
    corners: tuple
    width_mm: float
    height_mm: float
    sigma_px: float = 0.1
    u95_mm: float = 0.05


@attrs.frozen
class PlaneCalibration:
    """A map from pixels to millimetres on one plane, with the covariance of its parameters.

    Attributes:
        model: a key of MODELS.
        parameters: of the plane, then k if the lens bends.
        covariance: of the parameters, (n, n).
        center_px, unit_px: what pixels are centred on and divided by.
        origin_px: the pixel that becomes (0, 0); angle: direction in the plane that becomes the x axis.
        why: why this model, in a sentence.
        raised: factor for an edge above the plane: 1 - height / camera distance (pinhole model).
        residuals: of each known length; reduced_chi2: of all observations; spare: how many more there were than unknowns.
    """

    model: str
    parameters: tuple
    covariance: np.ndarray = attrs.field(eq=False)
    center_px: tuple
    unit_px: float
    origin_px: tuple = (0.0, 0.0)
    angle: float = 0.0
    why: str = ""
    residuals: tuple = ()
    reduced_chi2: float = 1.0
    spare: int = 0
    pick_sigma_px: float = 0.1
    raised: float = 1.0

    @property
    def bends(self):
        return len(self.parameters) > MODELS[self.model]

    def to_mm(self, points_px):
        """Millimetres (n, 2), y up, of pixels (n, 2)."""
        return self._placed(np.array(self.parameters), np.atleast_2d(np.asarray(points_px, float)))

    def _placed(self, parameters, points):
        plane = _plane(self.model, parameters, self._units(points)) - _plane(self.model, parameters, self._units(np.array([self.origin_px], float)))
        cos, sin = math.cos(self.angle), math.sin(self.angle)
        return self.raised * plane @ np.array([[cos, -sin], [sin, cos]])

    def _units(self, points):
        return (points - self.center_px) / self.unit_px * [1.0, -1.0]

    @property
    def mm_per_px(self):
        """Scale at the centre of the picture: the root of the area of a pixel."""
        return float(self._scale(np.array(self.parameters)))

    def _scale(self, parameters):
        center = np.array(self.center_px)
        corners = self._placed(parameters, np.array([center, center + [1, 0], center + [0, 1]]))
        (ax, ay), (bx, by) = corners[1] - corners[0], corners[2] - corners[0]
        return math.sqrt(abs(ax * by - ay * bx))

    @property
    def u_mm_per_px(self):
        return math.sqrt(self._variance(self._scale))

    def _variance(self, function):
        """Variance of a function of the parameters, by its derivatives."""
        base = np.array(self.parameters)
        steps = 1e-6 * np.maximum(np.abs(base), 1e-3)
        slopes = np.array([(function(base + step) - function(base - step)) / (2 * step.max()) for step in np.diag(steps)])
        return max(float(slopes @ self.covariance @ slopes), 0.0)

    def distance(self, first_px, second_px, sigma_px=None):
        """Distance in millimetres between two picks, and its 95 % uncertainty."""
        picks = np.array([first_px, second_px], float)

        def length(parameters, places=picks):
            return float(np.hypot(*np.diff(self._placed(parameters, places), axis=0)[0]))
        sigma = self.pick_sigma_px if sigma_px is None else sigma_px
        own = np.array(self.parameters)
        slopes = [(length(own, picks + move) - length(own, picks - move)) / 0.02 for move in 0.01 * np.eye(4).reshape(4, 2, 2)]
        variance = self._variance(length) + sigma**2 * float(np.sum(np.square(slopes)))
        return length(own), COVERAGE_FACTOR * math.sqrt(variance)


def _plane(model, parameters, q):
    count = MODELS[model]
    if len(parameters) > count:
        q = q * (1 + parameters[count] * (q**2).sum(axis=1, keepdims=True))
    if model == "similarity":
        return parameters[0] * q
    if model == "x and y scale":
        return q * parameters[:2]
    a, b, c = parameters[:3]
    plane = q @ np.array([[a, b], [b, c]])
    return plane / (1 + q @ parameters[3:5])[:, None] if model == "perspective" else plane


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

    def units(self, points):
        return (np.asarray(points, float) - self.center) / self.unit * [1.0, -1.0]

    @property
    def count(self):
        return MODELS[self.model] + int(self.bend)

    def residuals(self, x):
        """Weighted residuals of all observations."""
        shape = x[:self.count]
        scale = abs(shape[0]) / self.unit
        rows = []
        for known in self.lengths:
            a, b = _plane(self.model, shape, self.units([known.start, known.end]))
            sigma = math.hypot(known.gauge_u95_mm / COVERAGE_FACTOR, math.sqrt(2) * scale * known.sigma_px)
            rows.append([(math.hypot(*(b - a)) - known.length_mm) / sigma])
        for index, rectangle in enumerate(self.rectangles):
            own = x[self.count + index * RECTANGLE_UNKNOWNS:][:RECTANGLE_UNKNOWNS]
            rows.append(self._rectangle(rectangle, shape, own, scale))
        for line in self.straights:
            rows.append(self._straight(line, shape))
        return np.concatenate(rows)

    def _rectangle(self, rectangle, shape, own, scale):
        x, y, turn, width, height = own
        plane = _plane(self.model, shape, self.units(rectangle.corners))
        cos, sin = math.cos(turn), math.sin(turn)
        true = np.array([(0, 0), (width, 0), (width, -height), (0, -height)]) @ np.array([[cos, sin], [-sin, cos]]) + (x, y)
        size = np.array([width - rectangle.width_mm, height - rectangle.height_mm]) * COVERAGE_FACTOR / rectangle.u95_mm
        return np.concatenate([((plane - true) / (scale * rectangle.sigma_px)).ravel(), size])

    def _straight(self, line, shape):
        q = self.units(line)
        if self.bend:
            q = q * (1 + shape[-1] * (q**2).sum(axis=1, keepdims=True))
        centered = (q - q.mean(axis=0)) * self.unit
        normal = np.linalg.svd(centered, full_matrices=False)[2][1]
        return centered @ normal / STRAIGHT_SIGMA_PX

    def start(self):
        scale = self._first_scale()
        shape = {"similarity": [scale], "x and y scale": [scale, scale], "affine": [scale, 0, scale], "perspective": [scale, 0, scale, 0, 0]}[self.model]
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


def fit_plane(model, size, *, lengths=(), rectangles=(), straights=(), bend=None, origin_px=(0.0, 0.0), angle=0.0):
    """One model from all that is known.

    Args:
        model: a key of MODELS.
        size: (width, height) of the picture in pixels.
        straights: point lists (n, 2) in pixels along edges that are straight in reality.
        bend: fit lens bending; None does so when there are straight edges.

    Returns:
        :class:`PlaneCalibration`.

    Raises:
        CalibrationError: too little is known for this model, or the observations do not fit together at all.
    """
    lengths, rectangles = tuple(lengths), tuple(rectangles)
    straights = tuple(np.asarray(line, float) for line in straights)
    _check(lengths, rectangles, straights)
    problem = _Problem(model, bool(straights) if bend is None else bend, np.array([(size[0] - 1) / 2, (size[1] - 1) / 2]),
                       math.hypot(*size) / 2, lengths, rectangles, straights)
    start = problem.start()
    rows = len(problem.residuals(start))
    spare = rows - len(start) - 2 * len(straights)
    known = len(lengths) + 5 * len(rectangles)
    if known < MODELS[model]:
        raise CalibrationError(f"The {model} model needs {MODELS[model]} known lengths, or a rectangle of known size; there are {known}. Add one, or use a simpler model.")
    found = least_squares(problem.residuals, start, x_scale="jac", method="trf", max_nfev=300)
    if not np.isfinite(found.x).all():
        raise CalibrationError("The known lengths do not fit together in one picture; look for a wrong one.")
    reduced = 2 * found.cost / spare if spare > 0 else 1.0
    covariance = np.linalg.pinv(found.jac.T @ found.jac) * max(1.0, reduced)
    fit = PlaneCalibration(model, tuple(found.x[:problem.count].tolist()), covariance[:problem.count, :problem.count], tuple(problem.center.tolist()),
                           problem.unit, tuple(map(float, origin_px)), angle, "", (), reduced, spare, _pick_sigma(lengths, rectangles))
    return attrs.evolve(fit, residuals=tuple(_residual(fit, item) for item in lengths))


def _residual(fit, known):
    read, u95 = fit.distance(known.start, known.end, known.sigma_px)
    return Residual(known.name, read, read - known.length_mm, u95)


def _pick_sigma(lengths, rectangles):
    return float(np.sqrt(np.mean([item.sigma_px**2 for item in (*lengths, *rectangles)]))) if lengths or rectangles else 0.1


def _check(lengths, rectangles, straights):
    if not lengths and not rectangles:
        raise CalibrationError("A picture without a known length has no scale; give a known length, a card or a sheet.")
    for known in lengths:
        if known.length_mm <= 0:
            raise CalibrationError(f"{known.name} must be longer than zero; {known.length_mm:g} mm came.")
        if known.base_px < LEAST_BASE_PX:
            raise CalibrationError(f"The two picks of {known.name} are on the same place; pick two places at least {LEAST_BASE_PX:g} px apart.")
    for rectangle in rectangles:
        corners = np.array(rectangle.corners, float)
        ways = np.roll(corners, -1, axis=0) - corners
        turns = ways[:, 0] * np.roll(ways[:, 1], -1) - ways[:, 1] * np.roll(ways[:, 0], -1)
        if not (np.all(turns > 1) or np.all(turns < -1)):
            raise CalibrationError(f"The corners of {rectangle.name} do not go around a rectangle; give them in order around it.")
        if turns[0] < 0:
            raise CalibrationError(f"The corners of {rectangle.name} run counter-clockwise as seen; give them clockwise, the width first.")
        if min(rectangle.width_mm, rectangle.height_mm) <= 0:
            raise CalibrationError(f"The size of {rectangle.name} must be more than zero.")
    for line in straights:
        if line.ndim != 2 or len(line) < 3:
            raise CalibrationError("A straight edge needs at least three places along it.")


def choose_model(size, *, lengths=(), rectangles=(), straights=(), **placing):
    """The smallest model whose residuals are within noise (chi-square test at 1 %), and why.

    Args and errors as :func:`fit_plane`.
    """
    known = len(tuple(lengths)) + 5 * len(tuple(rectangles))
    last, tried = None, []
    for model, count in MODELS.items():
        if last is not None and known < count:
            break
        trial = fit_plane(model, size, lengths=lengths, rectangles=rectangles, straights=straights, **placing)
        if last is not None and not _determined(trial):
            continue
        last = trial
        if last.spare <= 0 or chi2.sf(last.reduced_chi2 * last.spare, last.spare) > LEAST_PROBABILITY:
            return attrs.evolve(last, why=_why(last, tried))
        tried.append(model)
    why = (f"Even the {last.model} model leaves residuals {math.sqrt(last.reduced_chi2):.1f} times their noise: tilt, lens bending or a wrong known length is "
           "not accounted for. The uncertainties were widened accordingly.")
    return attrs.evolve(last, why=why)


def _determined(fit):
    """Whether what is known fixes every parameter of the plane to some percents of the scale."""
    count = MODELS[fit.model]
    spread = np.sqrt(np.diag(fit.covariance)[:count]) / math.sqrt(max(1.0, fit.reduced_chi2))
    lost = np.abs(np.linalg.eigvalsh(fit.covariance[:count, :count])).min() <= 0
    return not lost and bool(np.all(spread[:3] < 0.02 * abs(fit.parameters[0]))) and bool(np.all(spread[3:] < 0.05))


def _why(fit, tried):
    if fit.spare <= 0:
        return f"The {fit.model} model is the largest that so few known sizes determine; nothing is left over to test it."
    before = f"; {' and '.join(tried)} {'does' if len(tried) == 1 else 'do'} not" if tried else ""
    return f"The {fit.model} model fits all known sizes within their noise{before}."
