"""From known lengths to a calibration: a map from pixels to millimetres that knows how good it is.

A calibration is fitted from observations and carries the covariance of its parameters, so that every
measurement made with it has a standard uncertainty (JCGM 100:2008).

A pixel becomes q, centred on the picture, divided by its half diagonal, y up. Lens bending takes q to
q (1 + k r²) (after Brown, 1971). Then the plane:

* similarity: s q; x and y scale: (sx qx, sy qy); affine: A q with symmetric A, since a turn changes no length
* perspective: A q / (1 + v · q): five numbers, the homography without its place and turn
* camera: log f, principal point, k1, k2, turn (a rotation vector) and shift of the plane before the camera, all in half
diagonals but the
  shift; here the lens bends the other way round, from the straight to the bent place (:mod:`camera`)
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

import attrs
import numpy as np
from scipy.special import chdtrc

from nomogon_core.errors import CalibrationError

GAUGE_U95_MM = 0.02
COVERAGE_FACTOR = 2.0
MODELS = {"similarity": 1, "x and y scale": 2, "affine": 3, "perspective": 5}
CAMERA = "camera"
SURPRISING = 0.05
UNBEND_ROUNDS = 12
LENS_ROUNDS = 7
LEAST_BASE_PX, LEAST_SIZING = 5.0, 0.01


@attrs.frozen
class KnownLength:
    """A gauged length between two picked places.

    Attributes:
        name: what it is called in the Ledger.
        start, end: places in pixels.
        length_mm: the gauged length.
        sigma_px: standard deviation of each place along the length.
        gauge_u95_mm: 95 % uncertainty of the gauge reading.
        key: what stands for it in the job, "" outside one.
    """

    name: str
    start: tuple
    end: tuple
    length_mm: float
    sigma_px: float = 0.1
    gauge_u95_mm: float = GAUGE_U95_MM
    key: str = ""

    @property
    def base_px(self) -> float:
        return math.dist(self.start, self.end)


@attrs.frozen
class Residual:
    """What the calibrated picture reads for a known length, and how far that is off."""

    name: str
    read_mm: float
    off_mm: float
    u95_mm: float
    key: str = ""


@attrs.frozen
class Doubt:
    """A known length that the others contradict.

    Attributes:
        name, key: of the length.
        off_mm: the gauge's reading less what the others say.
        u95_mm: 95 % uncertainty of that difference.
    """

    name: str
    key: str
    off_mm: float
    u95_mm: float


def unbent(u: np.ndarray, k1: float, k2: float) -> np.ndarray:
    """Where places u (n, 2) in focal lengths would be without the lens bending, by Newton steps on the radius."""
    far = np.hypot(u[:, 0], u[:, 1])
    r = far.copy()
    for _ in range(LENS_ROUNDS):
        r2 = r * r
        # A bending that folds the picture has no inverse far out; such trial values are kept finite.
        r = np.clip(
            r - (r * (1 + r2 * (k1 + k2 * r2)) - far) / np.maximum(1 + r2 * (3 * k1 + 5 * k2 * r2), 0.1), 0.0, 2 * far
        )
    return u * np.divide(r, far, out=np.ones_like(far), where=far > 0)[:, None]


def _rotation(vector):
    """The rotation (3, 3) about a vector by its length in radians (Rodrigues 1840)."""
    angle = math.sqrt(float(vector @ vector))
    x, y, z = vector / angle if angle > 1e-12 else (0.0, 0.0, 0.0)
    cross = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return np.eye(3) + math.sin(angle) * cross + (1 - math.cos(angle)) * cross @ cross


def camera_plane(parameters: np.ndarray, q: np.ndarray, height: float = 0.0) -> np.ndarray:
    """Places (n, 2) where the rays of centred pixels q (n, 2) meet the plane at a height above the world's own, in
    millimetres."""
    u = unbent((q - parameters[1:3]) / math.exp(parameters[0]), parameters[3], parameters[4])
    turn = _rotation(np.asarray(parameters[5:8], float))
    shift = np.asarray(parameters[8:11], float) + height * turn[:, 2]
    met = np.column_stack([u, -np.ones(len(u))]) @ np.linalg.inv(np.column_stack([turn[:, 0], turn[:, 1], shift])).T
    return met[:, :2] / met[:, 2:]


def camera_pixels(parameters: np.ndarray, plane: np.ndarray, height: float = 0.0) -> np.ndarray:
    """The inverse of :func:`camera_plane`."""
    turn = _rotation(np.asarray(parameters[5:8], float))
    seen = np.column_stack([plane, np.full(len(plane), height)]) @ turn.T + parameters[8:11]
    u = seen[:, :2] / -seen[:, 2:]
    r2 = (u**2).sum(axis=1, keepdims=True)
    return u * (1 + r2 * (parameters[3] + parameters[4] * r2)) * math.exp(parameters[0]) + parameters[1:3]


def widening(reduced: float, spare: int) -> float:
    """Factor on a covariance for residuals that are larger than their noise (Birge, 1932); 1 where noise explains
    them."""
    return max(1.0, reduced) if spare > 0 and chdtrc(spare, reduced * spare) < SURPRISING else 1.0


def plane_of(model: str, parameters: np.ndarray, q: np.ndarray) -> np.ndarray:
    """Places (n, 2) in the plane, in millimetres, of centred pixels q (n, 2)."""
    if model == CAMERA:
        return camera_plane(parameters, q)
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


def _unbent(q, k):
    """The inverse of q (1 + k r²), by Newton steps on the radius."""
    far = np.hypot(q[:, 0], q[:, 1])
    r = far.copy()
    for _ in range(UNBEND_ROUNDS):
        r = r - (r + k * r**3 - far) / np.maximum(1 + 3 * k * r**2, 0.1)
    return q * np.divide(r, far, out=np.ones_like(far), where=far > 0)[:, None]


@attrs.frozen
class Calibration:
    """A map from pixels (y down) to millimetres (y up) on one plane, with the covariance of its parameters.

    Attributes:
        model: a key of MODELS.
        parameters: of the plane, then k if the lens bends.
        covariance: of the parameters, (n, n).
        center_px, unit_px: what pixels are centred on and divided by.
        origin_px: the pixel that becomes ``at_mm``; angle: direction in the plane that becomes the x axis;
            flipped: whether the picture shows the part from behind, so that x runs the other way.
        why: why this model, in a sentence.
        raised: factor for an edge above the plane: 1 - height / camera distance (pinhole model).
        height_mm: of that edge, for a camera, which knows its own distance; facing: direction in the fitted plane of
            the picture's own right.
        residuals: of each known length; reduced_chi2: of all observations; spare: how many more there were than
            unknowns.
        pick_sigma_px: typical standard deviation of a pick.
        reach_px: the two places farthest apart of what is known, for :meth:`u95_at_reach`.
        doubt: the known length that disagrees with the others, or None.
        is_set: nothing is known; somebody has set the scale, and it has no uncertainty that could be stated.
    """

    model: str
    parameters: tuple
    covariance: np.ndarray = attrs.field(eq=False, repr=False)
    center_px: tuple = (0.0, 0.0)
    unit_px: float = 1.0
    origin_px: tuple = (0.0, 0.0)
    angle: float = 0.0
    why: str = ""
    residuals: tuple = ()
    reduced_chi2: float = 1.0
    spare: int = 0
    pick_sigma_px: float = 0.1
    raised: float = 1.0
    reach_px: tuple = ((0.0, 0.0), (1.0, 0.0))
    doubt: Doubt | None = None
    at_mm: tuple = (0.0, 0.0)
    flipped: bool = False
    height_mm: float = 0.0
    facing: float = 0.0
    is_set: bool = False

    @property
    def bends(self) -> bool:
        """Whether lens bending is taken out."""
        return self.model == CAMERA or len(self.parameters) > MODELS[self.model]

    @property
    def is_linear(self) -> bool:
        """Whether the map is affine, so that the picture itself can be laid onto the plane."""
        return not self.bends and self.model != "perspective"

    def to_mm(self, points_px: list[tuple[float, float]] | np.ndarray) -> np.ndarray:
        """Millimetres (n, 2), y up, of pixels (n, 2)."""
        return self._placed(np.array(self.parameters), np.atleast_2d(np.asarray(points_px, float)))

    def _turn(self):
        cos, sin = math.cos(self.angle + self.facing), math.sin(self.angle + self.facing)
        turn = self.raised * np.array([[cos, -sin], [sin, cos]])
        return turn * (-1.0, 1.0) if self.flipped else turn

    def _placed(self, parameters, points):
        plane = self._plane(parameters, points) - self._plane(parameters, np.array([self.origin_px], float))
        return plane @ self._turn() + self.at_mm

    def _plane(self, parameters, points):
        q = self._units(points)
        return (
            camera_plane(parameters, q, self.height_mm) if self.model == CAMERA else plane_of(self.model, parameters, q)
        )

    def _units(self, points):
        return (points - self.center_px) / self.unit_px * [1.0, -1.0]

    def to_px(self, points_mm: Sequence[tuple[float, float]] | np.ndarray) -> np.ndarray:
        """The inverse of :meth:`to_mm`."""
        parameters = np.array(self.parameters)
        shift = self._plane(parameters, np.array([self.origin_px], float))
        plane = (np.atleast_2d(np.asarray(points_mm, float)) - self.at_mm) @ np.linalg.inv(self._turn()) + shift
        if self.model == CAMERA:
            return camera_pixels(parameters, plane, self.height_mm) * self.unit_px * [1.0, -1.0] + self.center_px
        if self.model == "similarity":
            q = plane / parameters[0]
        elif self.model == "x and y scale":
            q = plane / parameters[:2]
        else:
            a, b, c = parameters[:3]
            tilt = parameters[3:5] if self.model == "perspective" else np.zeros(2)
            q = np.linalg.solve(np.array([[a, b], [b, c]]) - plane[:, :, None] * tilt, plane[:, :, None])[:, :, 0]
        if self.bends:
            q = _unbent(q, parameters[-1])
        return q * self.unit_px * [1.0, -1.0] + self.center_px

    def px_matrix(self) -> tuple[float, ...]:
        """(a, b, c, d, e, f) that lays the picture, in pixels, onto the plane: x = a·px + c·py + e, y = b·px + d·py +
        f.

        Exact where :attr:`is_linear`; otherwise the rectified picture is laid there instead.
        """
        origin, right, down = self.to_mm([(0, 0), (1, 0), (0, 1)])
        return (*(right - origin).tolist(), *(down - origin).tolist(), *origin.tolist())

    @property
    def mm_per_px(self) -> float:
        """Scale at the centre of the picture: the root of the area of a pixel."""
        return float(self._scale(np.array(self.parameters)))

    def _scale(self, parameters):
        center = np.array(self.center_px)
        corners = self._placed(parameters, np.array([center, center + [1, 0], center + [0, 1]]))
        (ax, ay), (bx, by) = corners[1] - corners[0], corners[2] - corners[0]
        return math.sqrt(abs(ax * by - ay * bx))

    def mm_per_px_at(self, place: np.ndarray) -> float:
        """Scale around a place in pixels: the root of the area of a pixel there."""
        origin, right, down = self.to_mm(np.asarray(place, float) + [(0, 0), (1, 0), (0, 1)])
        (ax, ay), (bx, by) = right - origin, down - origin
        return math.sqrt(abs(ax * by - ay * bx))

    @property
    def u_mm_per_px(self) -> float:
        return math.sqrt(self.variance_of(self._scale))

    def variance_of(self, function: Callable) -> float:
        """Variance of a function of the parameters, by its derivatives."""
        base = np.array(self.parameters)
        steps = 1e-6 * np.maximum(np.abs(base), 1e-3)
        slopes = np.array(
            [(function(base + step) - function(base - step)) / (2 * step.max()) for step in np.diag(steps)]
        )
        return max(float(slopes @ self.covariance @ slopes), 0.0)

    def distance(
        self,
        first_px: Sequence[float] | np.ndarray,
        second_px: Sequence[float] | np.ndarray,
        sigma_px: float | None = None,
    ) -> tuple[float, float]:
        """Distance in millimetres between two picks, and its 95 % uncertainty."""
        picks = np.array([first_px, second_px], float)

        def length(parameters, places=picks):
            return float(np.hypot(*np.diff(self._placed(parameters, places), axis=0)[0]))

        sigma = self.pick_sigma_px if sigma_px is None else sigma_px
        own = np.array(self.parameters)
        slopes = [
            (length(own, picks + move) - length(own, picks - move)) / 0.02 for move in 0.01 * np.eye(4).reshape(4, 2, 2)
        ]
        variance = self.variance_of(length) + sigma**2 * float(np.sum(np.square(slopes)))
        return length(own), COVERAGE_FACTOR * math.sqrt(variance)

    def angle_between(
        self, corner_px: tuple[int, int], first_px: tuple[int, int], second_px: tuple[int, int], sigma_px: Any = None
    ) -> tuple[float, float]:
        """Angle at a corner in radians, and its 95 % uncertainty."""
        picks = np.array([corner_px, first_px, second_px], float)

        def opening(parameters, places=picks):
            corner, first, second = self._placed(parameters, places)
            a, b = first - corner, second - corner
            return abs(math.atan2(a[0] * b[1] - a[1] * b[0], float(a @ b)))

        sigma = self.pick_sigma_px if sigma_px is None else sigma_px
        own = np.array(self.parameters)
        slopes = [
            (opening(own, picks + move) - opening(own, picks - move)) / 0.02
            for move in 0.01 * np.eye(6).reshape(6, 3, 2)
        ]
        return opening(own), COVERAGE_FACTOR * math.sqrt(
            self.variance_of(opening) + sigma**2 * float(np.sum(np.square(slopes)))
        )

    def u95_at_reach(self) -> float:
        """95 % uncertainty of a distance as long as the known ones: the one number for the stage line."""
        return self.distance(*self.reach_px)[1]

    def scale_change(self, size: Any) -> Any:
        """How much the scale differs over a picture of (width, height) pixels: largest over smallest, less 1."""
        width, height = size
        corners = np.array([(0, 0), (width - 1, 0), (width - 1, height - 1), (0, height - 1)], float)
        scales = []
        for corner in corners:
            around = self.to_mm(np.array([corner, corner + (1, 0), corner + (0, 1)]))
            a, b = around[1] - around[0], around[2] - around[0]
            scales.append(math.sqrt(abs(a[0] * b[1] - a[1] * b[0])))
        return max(scales) / max(min(scales), 1e-12) - 1


def level_angle(fit: Calibration, start_px: tuple[int, int], end_px: tuple[int, int]) -> float:
    """The angle of a calibration that makes the way between two picks level or upright, whichever is nearer."""
    a, b = attrs.evolve(fit, angle=0.0, flipped=False).to_mm([start_px, end_px])
    return math.remainder(math.atan2(*(b - a)[::-1]), math.pi / 2)


def check_length(known: KnownLength) -> None:
    """Refuse a known length that can give no scale.

    Raises:
        CalibrationError: not positive, or two picks on the same place.
    """
    if not (math.isfinite(known.length_mm) and known.length_mm > 0):
        raise CalibrationError(
            f"{known.name} must be longer than zero; {known.length_mm:g} mm came. Type the length that the gauge shows."
        )
    if known.base_px < LEAST_BASE_PX:
        raise CalibrationError(
            f"The two picks of {known.name} are {known.base_px:.1f} px apart, on the same place; "
            f"pick two places at least {LEAST_BASE_PX:g} px apart, the farther the better."
        )


def set_scale(mm_per_px: float, *, origin_px: tuple[float, float] = (0.0, 0.0), angle: float = 0.0) -> Calibration:
    """A scale that somebody has set, with nothing known of the picture.

    Raises:
        CalibrationError: it is not positive.
    """
    if not (math.isfinite(mm_per_px) and mm_per_px > 0):
        raise CalibrationError("A picture is wider than zero; type how wide it shall be, for example 120 mm.")
    return Calibration(
        "similarity",
        (mm_per_px,),
        np.zeros((1, 1)),
        origin_px=tuple(map(float, origin_px)),
        angle=float(angle),
        is_set=True,
        why="The size was set by hand and nothing is measured, so sizes from this picture have no ±.",
    )


def sized_by(origin: list[float], corner: list[int], place: list[int]) -> float:
    """How many times as large a picture becomes about its origin when a corner of it is dragged to a place; all in its
    pixels as it is."""
    reach, dragged = np.subtract(corner, origin), np.subtract(place, origin)
    return max(LEAST_SIZING, float(reach @ dragged) / max(float(reach @ reach), 1e-9))


def residual_of(fit: Calibration, known: KnownLength) -> Residual:
    """What the picture reads for a known length."""
    read, u95 = fit.distance(known.start, known.end, known.sigma_px)
    return Residual(known.name, read, read - known.length_mm, u95, known.key)
