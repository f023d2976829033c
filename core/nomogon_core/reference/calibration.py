"""From known lengths to a calibration: a map from pixels to millimetres that knows how good it is.

A calibration is fitted from observations and carries the covariance of its parameters, so that every
measurement made with it has a standard uncertainty (JCGM 100:2008). The first model is the similarity: one
scale for both axes. D = s·ℓ with u² = 2 s²σ² + D²·u_s²/s².
"""

import math

import attrs
import numpy as np

from nomogon_core.errors import CalibrationError

GAUGE_U95_MM = 0.02
COVERAGE_FACTOR = 2.0
LEAST_BASE_PX = 5.0


@attrs.frozen
class KnownLength:
    """A gauged length between two picked places.

    Attributes:
        name: what it is called in the Ledger.
        start, end: places in pixels.
        length_mm: the gauged length.
        sigma_px: standard deviation of each place along the length.
        gauge_u95_mm: 95 % uncertainty of the gauge reading.
    """

    name: str
    start: tuple
    end: tuple
    length_mm: float
    sigma_px: float = 0.1
    gauge_u95_mm: float = GAUGE_U95_MM

    @property
    def base_px(self):
        return math.dist(self.start, self.end)


@attrs.frozen
class Residual:
    """What the calibrated picture reads for a known length, and how far that is off."""

    name: str
    read_mm: float
    off_mm: float
    u95_mm: float


@attrs.frozen
class Calibration:
    """Similarity from pixels (y down) to millimetres (y up).

    Attributes:
        model: name of the model.
        mm_per_px: scale.
        u_mm_per_px: its standard uncertainty.
        origin_px: the pixel that becomes (0, 0).
        angle: direction in the picture, counter-clockwise as seen, that becomes the x axis.
        residuals: one a known length.
        reduced_chi2: weighted residual sum per degree of freedom; 1 when there is none to spare.
        pick_sigma_px: typical standard deviation of a pick.
        reach_px: typical base of the known lengths.
    """

    model: str
    mm_per_px: float
    u_mm_per_px: float
    origin_px: tuple
    angle: float = 0.0
    residuals: tuple = ()
    reduced_chi2: float = 1.0
    pick_sigma_px: float = 0.1
    reach_px: float = 0.0

    def to_mm(self, points_px):
        """Millimetres (n, 2), y up, of pixels (n, 2), y down."""
        return (np.asarray(points_px, float) - self.origin_px) @ self._turn()

    def to_px(self, points_mm):
        """The inverse of :meth:`to_mm`."""
        return np.asarray(points_mm, float) @ np.linalg.inv(self._turn()) + self.origin_px

    def _turn(self):
        cos, sin = math.cos(self.angle) * self.mm_per_px, math.sin(self.angle) * self.mm_per_px
        return np.array([[cos, -sin], [-sin, -cos]])

    def px_matrix(self):
        """(a, b, c, d, e, f) that lays the picture, in pixels, onto the plane: x = a·px + c·py + e, y = b·px + d·py + f."""
        turn = self._turn()
        shift = -np.asarray(self.origin_px) @ turn
        return (*turn[0].tolist(), *turn[1].tolist(), *shift.tolist())

    def distance_u95(self, distance_mm, sigma_px=None):
        """95 % uncertainty of a distance measured in the picture between two places."""
        sigma = self.pick_sigma_px if sigma_px is None else sigma_px
        relative = self.u_mm_per_px / self.mm_per_px
        return COVERAGE_FACTOR * math.sqrt(2 * (self.mm_per_px * sigma) ** 2 + (distance_mm * relative) ** 2)

    def u95_at_reach(self):
        """95 % uncertainty of a distance as long as the known ones: the one number for the stage line."""
        return self.distance_u95(self.reach_px * self.mm_per_px)


def fit_similarity(lengths, *, origin_px=(0.0, 0.0), angle=0.0):
    """Scale from one or more known lengths by weighted least squares.

    Each length L with base ℓ observes s = L/ℓ with variance (u_L² + 2 s²σ²)/ℓ²; a reduced chi-square over 1
    widens the result (Birge, 1932).

    Args:
        lengths: the :class:`KnownLength` values.
        origin_px, angle: as in :class:`Calibration`.

    Raises:
        CalibrationError: no length, a length that is not positive, or two picks on the same place.
    """
    lengths = tuple(lengths)
    if not lengths:
        raise CalibrationError("A picture without a known length has no scale; pick two points and type how long that is.")
    for known in lengths:
        _check(known)
    base = np.array([known.base_px for known in lengths])
    target = np.array([known.length_mm for known in lengths])
    sigma = np.array([known.sigma_px for known in lengths])
    gauge = np.array([known.gauge_u95_mm / COVERAGE_FACTOR for known in lengths])
    scale = float(target @ base / (base @ base))
    for _ in range(4):
        weight = 1 / (gauge**2 + 2 * (scale * sigma) ** 2)
        scale = float((weight * base) @ target / ((weight * base) @ base))
    off = scale * base - target
    spare = len(lengths) - 1
    reduced = float(weight @ off**2) / spare if spare else 1.0
    variance = max(1.0, reduced) / float((weight * base) @ base)
    pick_sigma = float(np.sqrt(np.mean(sigma**2)))
    result = Calibration("similarity", scale, math.sqrt(variance), tuple(map(float, origin_px)), float(angle), (), reduced,
                         pick_sigma, float(base.mean()))
    residuals = tuple(Residual(known.name, float(scale * b), float(o), float(result.distance_u95(scale * b, known.sigma_px)))
                      for known, b, o in zip(lengths, base, off))
    return attrs.evolve(result, residuals=residuals)


def _check(known):
    if not (math.isfinite(known.length_mm) and known.length_mm > 0):
        raise CalibrationError(f"{known.name} must be longer than zero; {known.length_mm:g} mm came. Type the length that the gauge shows.")
    if known.base_px < LEAST_BASE_PX:
        raise CalibrationError(f"The two picks of {known.name} are {known.base_px:.1f} px apart, on the same place; "
                               f"pick two places at least {LEAST_BASE_PX:g} px apart, the farther the better.")
