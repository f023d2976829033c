"""A camera of flesh and glass fitted to what is known of one plane: focal length, principal point, lens bending and
pose, each with what is usual.

A pixel q (centred on the picture, in half diagonals, y up) is (q − c)/f; the lens bent it from u to u (1 + k1 r² + k2
r⁴) (Brown 1971);
its ray meets the plane z = 0 of the world. What a card's four edges do not tell, the priors do: they carry the ±.

Edges of a rectangle are straight in reality. Each place seen on one is as far off as the rectangle's line is from it,
across the edge, in
pixels (Sampson 1982); each edge may be off as a whole by a hundredth of a pixel, since light and sharpening shift it.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

import attrs
import cv2
import numpy as np
from scipy.optimize import least_squares

from nomogon_core.errors import CalibrationError
from nomogon_core.reference.calibration import (
    CAMERA,
    COVERAGE_FACTOR,
    Calibration,
    Doubt,
    camera_plane,
    residual_of,
    unbent,
    widening,
)

if TYPE_CHECKING:
    from nomogon_core.reference.calibration import KnownLength
    from nomogon_core.reference.models import Rectangle

LENS = 5
POSE = 6
USUAL_FOCAL = 1.2
EDGE_OFFSET_PX = 0.012
BESIDE_PX = 0.5
MOST_EVALUATIONS, STILL, SETTLED = 150, 1e-6, 1e-7
FISH_EYE_K1, FISH_EYE_K2, LEAST_GAIN = 0.2, 0.1, 2.0
RECTANGLE_PLACE = 3
STRAIGHT_SIGMA_PX = 0.06
DOUBT_FACTOR = 1.5


@attrs.frozen
class Usual:
    """What cameras usually are: standard deviations before anything is measured.

    Attributes:
        focal: of the focal length, as a share, where nothing is noted; noted_focal where the file notes it.
        principal: of the principal point along each axis, in half diagonals.
        k1, k2: of the lens bending, in powers of the focal length.
        known_k1: (k1, its standard deviation) of the same camera from another picture, or None.
    """

    focal: float = 0.25
    noted_focal: float = 0.02
    principal: float = 0.01
    k1: float = 0.05
    k2: float = 0.01
    known_k1: tuple | None = None


class _Problem:
    """Unknowns: log f, cx, cy, k1, k2, turn (3), shift (3); then of each rectangle its width, height, edge offsets (4)
    and, but for the first, its
    place and turn."""

    def __init__(
        self,
        size: tuple[int, int],
        rectangles: tuple[Rectangle, ...],
        lengths: tuple[KnownLength, ...],
        straights: tuple,
        focal: Any,
        usual: Usual,
    ) -> None:
        self.center, self.unit = np.array([(size[0] - 1) / 2, (size[1] - 1) / 2]), math.hypot(*size) / 2
        self.rectangles, self.lengths, self.straights, self.usual = rectangles, lengths, straights, usual
        self.focal, self.focal_sigma = (focal, usual.noted_focal) if focal else (USUAL_FOCAL, usual.focal)
        self.k1, self.k1_sigma = usual.known_k1 or (0.0, usual.k1)
        self.scale = rectangles[0].width_mm
        places, self.spans, count = [], [], 0
        for rectangle in rectangles:
            for edge in rectangle.edges:
                points, normals = np.array(edge.places, float), np.array(edge.normals, float)
                places += [points, points + BESIDE_PX * normals, points - BESIDE_PX * normals]
                self.spans.append((count, len(points)))
                count += 3 * len(points)
        self.places = self.units(np.vstack(places))

    def units(self, points: Sequence[Sequence[float]] | np.ndarray) -> np.ndarray:
        return (np.atleast_2d(np.asarray(points, float)) - self.center) / self.unit * [1.0, -1.0]

    def own(self, x: np.ndarray, index: int) -> tuple[float, float, np.ndarray, np.ndarray]:
        """(width, height, offsets, place and turn) of a rectangle."""
        at = LENS + POSE + 6 * index + RECTANGLE_PLACE * max(0, index - 1)
        pose = x[at + 6 : at + 9] if index else np.zeros(3)
        return x[at], x[at + 1], x[at + 2 : at + 6], pose

    def plane(self, x: np.ndarray, q: np.ndarray) -> np.ndarray:
        return camera_plane(self.physical(x), q)

    def physical(self, x: np.ndarray) -> np.ndarray:
        """The parameters that a calibration keeps: the shift in millimetres."""
        return np.concatenate([x[: LENS + 3], x[LENS + 3 : LENS + POSE] * self.scale])

    def residuals(self, x: np.ndarray) -> np.ndarray:
        rows, plane, span = [], self.plane(x, self.places), 0
        for index, rectangle in enumerate(self.rectangles):
            width, height, offsets, (left, top, turn) = self.own(x, index)
            cos, sin = math.cos(turn), math.sin(turn)
            for side, edge in enumerate(rectangle.edges):
                at, count = self.spans[span]
                span += 1
                seen = (plane[at : at + 3 * count] - (left, top)) @ np.array([[cos, -sin], [sin, cos]])
                level = (0.0, width, -height, 0.0)[side]
                across = seen[:, 1 if side % 2 == 0 else 0] - level
                steep = np.maximum(np.abs(across[count : 2 * count] - across[2 * count :]) / (2 * BESIDE_PX), 1e-9)
                rows.append((across[:count] / steep - offsets[side]) / edge.sigma_px)
            rows.append(offsets / EDGE_OFFSET_PX)
            rows.append(
                np.array([width - rectangle.width_mm, height - rectangle.height_mm])
                * COVERAGE_FACTOR
                / rectangle.u95_mm
            )
        if self.lengths:
            ends = self.plane(
                x, self.units([place for known in self.lengths for place in (known.start, known.end)])
            ).reshape(-1, 2, 2)
            scale = self.scale_at_middle(x)
            for known, (a, b) in zip(self.lengths, ends):
                sigma = math.hypot(known.gauge_u95_mm / COVERAGE_FACTOR, math.sqrt(2) * scale * known.sigma_px)
                rows.append([(math.dist(a, b) - known.length_mm) / sigma])
        for line in self.straights:
            rows.append(self._straight(line, x))
        usual = self.usual
        rows.append(
            [
                (x[0] - math.log(self.focal)) / self.focal_sigma,
                x[1] / usual.principal,
                x[2] / usual.principal,
                (x[3] - self.k1) / self.k1_sigma,
                x[4] / usual.k2,
            ]
        )
        return np.concatenate([np.ravel(row) for row in rows])

    def scale_at_middle(self, x: np.ndarray) -> float:
        corner = self.plane(x, np.array([(0, 0), (1 / self.unit, 0), (0, 1 / self.unit)]))
        (ax, ay), (bx, by) = corner[1] - corner[0], corner[2] - corner[0]
        return math.sqrt(abs(ax * by - ay * bx))

    def _straight(self, line, x):
        """How far places of an edge are from a line once the bending is out, in pixels over their noise."""
        focal = math.exp(x[0])
        u = unbent((self.units(line) - x[1:3]) / focal, x[3], x[4])
        centered = (u - u.mean(axis=0)) * focal * self.unit
        return centered @ np.linalg.svd(centered, full_matrices=False)[2][1] / STRAIGHT_SIGMA_PX

    def observed(self) -> tuple[int, int]:
        """How many residuals are observations, and how many unknowns those alone have to tell."""
        rows = sum(count for _, count in self.spans) + len(self.lengths) + sum(len(line) - 2 for line in self.straights)
        return rows, 8 * len(self.rectangles)

    def starts(self) -> Iterator[np.ndarray]:
        """Poses that put the first rectangle's corners where they are seen."""
        first = self.rectangles[0]
        width, height = first.width_mm, first.height_mm
        world = np.array([(0, 0), (width, 0), (width, -height), (0, -height)])
        seen = (self.units(first.corners)) / self.focal
        homography = cv2.getPerspectiveTransform(world.astype(np.float32), seen.astype(np.float32)).astype(float)
        # Rays are (x, y, -1), so that the third row changes its sign.
        columns = homography * np.array([[1.0], [1.0], [-1.0]])
        columns = columns / math.sqrt(np.linalg.norm(columns[:, 0]) * np.linalg.norm(columns[:, 1]))
        columns = columns if columns[2, 2] < 0 else -columns
        turn = np.column_stack([columns[:, 0], columns[:, 1], np.cross(columns[:, 0], columns[:, 1])])
        u, _, v = np.linalg.svd(turn)
        turn = u @ np.diag([1, 1, np.linalg.det(u @ v)]) @ v
        for first_turn in (turn, _mirrored_lean(turn, columns[:, 2])):
            rest = []
            for index, rectangle in enumerate(self.rectangles):
                pose = []
                if index:
                    base = np.array(
                        [math.log(self.focal), 0, 0, self.k1, 0, *cv2.Rodrigues(first_turn)[0].ravel(), *columns[:, 2]]
                    )
                    corners = camera_plane(base, self.units(rectangle.corners))
                    way = corners[1] - corners[0]
                    pose = [*corners[0], math.atan2(way[1], way[0])]
                rest += [rectangle.width_mm, rectangle.height_mm, 0.0, 0.0, 0.0, 0.0, *pose]
            yield np.array(
                [
                    math.log(self.focal),
                    0.0,
                    0.0,
                    self.k1,
                    0.0,
                    *cv2.Rodrigues(first_turn)[0].ravel(),
                    *(columns[:, 2] / self.scale),
                    *rest,
                ]
            )


def _mirrored_lean(turn, shift):
    """The other pose that a small flat thing seen from afar could have (Schweighofer and Pinz 2006): its normal
    mirrored in the line of sight."""
    sight = shift / np.linalg.norm(shift)
    normal = turn[:, 2]
    across = np.cross(normal, -sight)
    angle = 2 * math.atan2(np.linalg.norm(across), float(normal @ -sight))
    if np.linalg.norm(across) < 1e-9:
        return turn
    return cv2.Rodrigues(across / np.linalg.norm(across) * angle)[0] @ turn


def fit_camera(
    size: tuple[int, int],
    *,
    rectangles: Sequence[Rectangle],
    lengths: Sequence[KnownLength] = (),
    straights: Sequence = (),
    focal: Any = None,
    usual: Usual = Usual(),
    origin_px: tuple[float, float] = (0.0, 0.0),
    angle: float = 0.0,
) -> Calibration:
    """A calibration by a camera, from the edges of rectangles of known size and whatever else is known.

    Args:
        size: (width, height) of the picture in pixels.
        rectangles: with their edges; lengths, straights: as for :func:`models.fit_plane`.
        focal: focal length in half diagonals of the picture as the file notes it, or None.
        usual: the priors.

    Raises:
        CalibrationError: the edges do not go together in one picture.
    """
    rectangles = tuple(rectangle for rectangle in rectangles if rectangle.edges)
    if not rectangles:
        raise CalibrationError(
            "The camera model needs the edges of a card, a sheet or a rectangle of known size; find one in the picture."
        )
    lengths, straights = tuple(lengths), tuple(np.asarray(line, float) for line in straights)
    problem = _Problem(size, rectangles, (), straights, focal, usual)
    best, doubt = _best(problem, problem.starts()), None
    told = lengths
    if lengths:
        alone = _calibration(problem, best, rectangles, (), origin_px, angle)
        offs = [(known, *_off(alone, known)) for known in lengths]
        doubted = max(
            (item for item in offs if abs(item[1]) > DOUBT_FACTOR * item[2]),
            key=lambda item: abs(item[1]) / item[2],
            default=None,
        )
        # A length that the card contradicts does not count: it would pull the camera out of shape.
        told = tuple(known for known, off, u95 in offs if abs(off) <= DOUBT_FACTOR * u95)
        doubt = doubted and Doubt(doubted[0].name, doubted[0].key, doubted[1], doubted[2])
        problem = _Problem(size, rectangles, told, straights, focal, usual)
        best = _best(problem, [best.x])
    if abs(best.x[3]) > 2 * usual.k1 or abs(best.x[4]) > 2 * usual.k2:
        # A lens as bent as this is none of the usual ones, so what is usual tells nothing of how it bends further out.
        wide = _Problem(
            size, rectangles, told, straights, focal, attrs.evolve(usual, k1=FISH_EYE_K1, k2=FISH_EYE_K2, known_k1=None)
        )
        loose = _best(wide, [best.x])
        if loose.cost < best.cost - LEAST_GAIN:
            problem, best = wide, loose
    if not np.isfinite(best.x).all():
        raise CalibrationError("The edges found do not belong to one rectangle in one picture; look for a wrong one.")
    fit = _calibration(problem, best, rectangles, lengths, origin_px, angle)
    sides = tuple(side for rectangle in rectangles for side in rectangle.sides())
    return attrs.evolve(
        fit,
        why=_why(fit, problem.usual, focal, doubt),
        doubt=doubt,
        residuals=tuple(residual_of(fit, item) for item in (*lengths, *sides)),
    )


def _calibration(problem, best, rectangles, lengths, origin_px, angle):
    """The calibration of a fit."""
    rows, unknowns = problem.observed()
    spare = rows - unknowns
    reduced = 2 * best.cost / max(spare, 1)
    scale = np.ones(LENS + POSE)
    scale[LENS + 3 :] = problem.scale
    covariance = (
        np.linalg.pinv(best.jac.T @ best.jac)[: len(scale), : len(scale)]
        * np.outer(scale, scale)
        * widening(reduced, spare)
    )
    parameters = problem.physical(best.x)
    farthest = max(
        (*lengths, *(side for rectangle in rectangles for side in rectangle.sides())), key=lambda item: item.base_px
    )
    right = camera_plane(parameters, np.array([(0.0, 0.0), (1e-3, 0.0)]))
    way = right[1] - right[0]
    return Calibration(
        CAMERA,
        tuple(parameters.tolist()),
        covariance,
        tuple(problem.center.tolist()),
        problem.unit,
        tuple(map(float, origin_px)),
        angle,
        reduced_chi2=reduced,
        spare=spare,
        pick_sigma_px=0.1,
        reach_px=(farthest.start, farthest.end),
        facing=math.atan2(way[1], way[0]),
    )


def _off(fit, known):
    """(gauge's reading less what a calibration says, 95 % uncertainty of that difference) of a known length."""
    read, u95 = fit.distance(known.start, known.end, known.sigma_px)
    return known.length_mm - read, math.hypot(u95, known.gauge_u95_mm)


def _best(problem, starts):
    """The best of the fits from several starts; the second only where the first is poor."""
    best, (rows, _) = None, problem.observed()
    for start in sorted(starts, key=lambda one: float(np.sum(problem.residuals(one) ** 2))):
        found = least_squares(
            problem.residuals, start, x_scale="jac", method="lm", xtol=STILL, ftol=SETTLED, max_nfev=MOST_EVALUATIONS
        )
        if best is None or found.cost < 0.9 * best.cost:
            best = found
        if 2 * best.cost < 3 * rows:
            break
    return best


def _why(fit, usual, focal, doubt):
    bend, sure = fit.parameters[3], math.sqrt(fit.covariance[3, 3])
    told = f"lens bending k1 {bend:+.3f} ± {COVERAGE_FACTOR * sure:.3f}"
    if sure > 0.7 * usual.k1:
        told += ", which the edges do not tell: what is usual for cameras is in the ±"
    off = (
        ""
        if fit.reduced_chi2 < 2
        else f" The edges are {math.sqrt(fit.reduced_chi2):.1f} times as far off as their noise, so the ± was widened."
    )
    off += f" {doubt.name} disagrees by {doubt.off_mm:+.2f} mm and was left out." if doubt else ""
    length = "as the file notes it" if focal else "left open"
    return (
        f"A camera was fitted to the edges, which are straight in reality; {told}; the focal length is {length}.{off}"
    )


def lens_of(fit: Any) -> Any:
    """(k1, its standard deviation) of a camera calibration, for other pictures by the same camera."""
    return fit.parameters[3], math.sqrt(max(float(fit.covariance[3, 3]), 0.0))


def is_straight(fit: Calibration, places: np.ndarray, sigma_px: float) -> tuple[float, float]:
    """Whether places (n, 2) along an edge lie on a line once the bending is out: (bow in pixels, bow over its
    uncertainty).

    The uncertainty is the places' own and the lens's, which has to be told before such an edge may count as evidence.
    """
    q = (np.atleast_2d(np.asarray(places, float)) - fit.center_px) / fit.unit_px * [1.0, -1.0]

    own = np.array(fit.parameters)
    focal = math.exp(own[0])
    u = unbent((q - own[1:3]) / focal, own[3], own[4])
    middle = u - u.mean(axis=0)
    axes = np.linalg.svd(middle, full_matrices=False)[2]
    t = middle @ axes[0]
    t = t / np.abs(t).max()

    def sagitta(parameters):
        size = math.exp(parameters[0])
        v = unbent((q - parameters[1:3]) / size, parameters[3], parameters[4])
        return float(np.polyfit(t, (v - v.mean(axis=0)) @ axes[1] * size * fit.unit_px, 2)[0])

    noise = sigma_px * math.sqrt(float(np.linalg.inv(np.vander(t, 3).T @ np.vander(t, 3))[0, 0]))
    variance = noise**2 + fit.variance_of(sagitta)
    return sagitta(own), sagitta(own) / math.sqrt(variance)
