"""How a traced figure lies as a whole: whether it stands askew, and about which line it is its own mirror image."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import attrs
import numpy as np
from scipy.spatial import cKDTree

from nomogon_core.geometry.crossings import at, span
from nomogon_core.geometry.curves import length
from nomogon_core.sketch.joint import U95
from nomogon_core.sketch.model import CLOSED, Sketch

if TYPE_CHECKING:
    from typing import Any

LEAST_ASKEW, TOGETHER, TELLING = math.radians(0.02), math.radians(0.3), 4.0
LEAST_SHARE, SURE_LINES, SURE_ANGLE = 0.5, 3, math.radians(20)
MATCHED_SHARE, GATE, SURE_SIGMAS = 0.75, 2.5, 1.6
LEAST_CURVES, TRIED, MOST_CELLS = 3, 24, 4000
VOTE, VOTE_SHARE = math.radians(1.0), 0.02
# Smooth joints are less sure along the edge than across it, and the middles of curves with them.
ALONG, ROUGH_SHARES = 2.0, (0.03, 0.01, 0.003)
MATCH_SIGMAS, BEYOND, SAME_AXIS = 6.0, 0.08, math.radians(1)


@attrs.frozen
class Direction:
    """How the main edges of a figure run.

    Attributes:
        angle: radians that they run past level or upright, whichever is nearer; sigma of it.
        lines: ids of these edges; share: of the length of all lines.
        run: two places in millimetres, far apart, along the way that should be level or upright.
    """

    angle: float
    sigma: float
    lines: tuple
    share: float
    run: tuple

    @property
    def is_sure(self) -> bool:
        """Whether the figure may be turned level without being looked at."""
        return len(self.lines) >= SURE_LINES and abs(self.angle) < SURE_ANGLE


@attrs.frozen
class Mirrored:
    """A line about which a figure is its own mirror image.

    Attributes:
        run: its ends in millimetres, a little beyond the figure.
        of: ids of the curves that have an image; whole: whether all have.
        sigmas: rms distance of images from what they should be, in standard deviations of the trace.
        within: millimetres within which ends are taken as images of each other.
    """

    run: tuple
    of: tuple
    whole: bool
    sigmas: float
    within: float

    @property
    def askew(self) -> float:
        """Radians that it runs past level or upright, whichever is nearer."""
        (x, y), (u, v) = self.run
        return float(_rest(math.atan2(v - y, u - x)))

    @property
    def is_sure(self) -> bool:
        """Whether it may be taken without being looked at."""
        return self.whole and self.sigmas < SURE_SIGMAS and len(self.of) > LEAST_CURVES


def _sigma(sketch, name):
    """Standard uncertainty of a traced curve's places in millimetres."""
    return max((sketch.curves[name].u95 or 0.0) / U95, 1e-6 * sketch.size())


def main_direction(sketch: Sketch, names: list[str]) -> Direction | None:
    """How the edges among some traced curves run that are most of their length, square ones taken together; None
    without any straight one. They are weighed by what their own uncertainty says of their directions."""
    lines = [name for name in names if sketch.curves[name].kind == "line"]
    if not lines:
        return None
    ends = np.array([[sketch.points[point] for point in sketch.curves[name].points] for name in lines])
    runs = ends[:, 1] - ends[:, 0]
    size, angle = np.hypot(*runs.T), np.arctan2(runs[:, 1], runs[:, 0])
    sigma = math.sqrt(2) * np.array([_sigma(sketch, name) for name in lines]) / np.maximum(size, 1e-9)
    off = _rest(angle[:, None] - angle[None, :])
    alike = np.abs(off) < np.maximum(3 * np.hypot(sigma[:, None], sigma[None, :]), TOGETHER)
    best = int((alike * size).sum(axis=1).argmax())
    chosen = alike[best]
    weights = chosen / sigma**2
    turned = float(_rest(angle[best] + (weights * off[:, best]).sum() / weights.sum()))
    middle, reach = ends.mean(axis=(0, 1)), sketch.size() / 2 * np.array([math.cos(turned), math.sin(turned)])
    run = tuple(tuple(place.tolist()) for place in (middle - reach, middle + reach))
    share = float(size[chosen].sum() / size.sum())
    mine = tuple(name for name, own in zip(lines, chosen) if own)
    return Direction(turned, float(weights.sum() ** -0.5), mine, share, run)


def askew(sketch: Sketch, names: list[str]) -> Direction | None:
    """The main direction of some traced curves where it is clear, and clearly neither level nor upright; else None."""
    found = main_direction(sketch, names)
    if found is None or found.share < LEAST_SHARE or len(found.lines) < 2:
        return None
    return found if abs(found.angle) > max(LEAST_ASKEW, TELLING * found.sigma) else None


def _rest(angles: Any) -> Any:
    """What is left of angles past the nearest quarter turn."""
    return angles - math.pi / 2 * np.round(angles / (math.pi / 2))


def mirror_axis(sketch: Sketch, names: list[str]) -> Mirrored | None:
    """The line about which traced curves are images of each other, or of themselves; None where there is none, or it is
    in the sketch already.

    Curves are matched by their middles and sizes; a direction is told by each pair that is alike (a vote), and the best
    are refined by least squares, weighted by length.
    """
    if len(names) < LEAST_CURVES:
        return None
    curves = [sketch.geometry(name) for name in names]
    middles = np.array([_middle(curve, sketch.curves[name].kind) for curve, name in zip(curves, names)])
    sizes = np.array([length(curve) for curve in curves])
    kinds = np.unique([sketch.curves[name].kind for name in names], return_inverse=True)[1]
    sigma = ALONG * np.array([_sigma(sketch, name) for name in names])
    found = None
    for angle, near in _voted(middles, sizes, kinds, sigma, sketch.size()):
        told = _matched(middles, sizes, kinds, sigma, angle, near)
        better = told and (found is None or sizes[told[2]].sum() > sizes[found[2]].sum())
        if told and better and not _is_there(sketch, told[1], told[0]):
            found = told
    if found is None:
        return None
    angle, center, mine, far = found
    way = np.array([math.cos(angle), math.sin(angle)])
    along = (np.array(list(sketch.points.values())) - center) @ way
    reach = BEYOND * sketch.size()
    run = tuple(tuple((center + at * way).tolist()) for at in (along.min() - reach, along.max() + reach))
    chosen = tuple(name for name, own in zip(names, mine) if own)
    return Mirrored(run, chosen, bool(mine.all()), far, MATCH_SIGMAS * float(sigma.max()))


def _middle(curve, kind):
    return curve.center if kind in CLOSED else at(curve, span(curve) / 2)[0]


def _alike(sizes, kinds, sigma, one, other):
    return (kinds[one] == kinds[other]) & (
        np.abs(sizes[one] - sizes[other]) < 2 * MATCH_SIGMAS * (sigma[one] + sigma[other]) + 0.02 * sizes[one]
    )


def _voted(places, sizes, kinds, sigma, size):
    """(direction, a place on it) of lines that most of the length speaks for: each pair that is alike votes for the
    line midway between, each curve for the one through it and the middle of all."""
    one, other = np.triu_indices(len(places), 1)
    run = places[other] - places[one]
    fits = _alike(sizes, kinds, sigma, one, other) & (np.hypot(*run.T) > MATCH_SIGMAS * sigma[one])
    middle = (places * sizes[:, None]).sum(axis=0) / sizes.sum()
    spokes = places - middle
    own = np.hypot(*spokes.T) > MATCH_SIGMAS * sigma
    ways = np.vstack([run[fits] @ np.array([[0, 1], [-1, 0]]), spokes[own]])
    through = np.vstack([(places[one] + places[other])[fits] / 2, np.repeat(middle[None], own.sum(), axis=0)])
    weight = np.concatenate([2 * sizes[one[fits]], sizes[own]])
    angle = np.arctan2(ways[:, 1], ways[:, 0]) % math.pi
    off = np.cos(angle) * (through - middle)[:, 1] - np.sin(angle) * (through - middle)[:, 0]
    cells = np.column_stack([np.floor(angle / VOTE), np.floor(off / (size * VOTE_SHARE))]).astype(int)
    cells, votes = np.unique(cells, axis=0, return_inverse=True)
    votes = votes.ravel()
    total = np.bincount(votes, weight)
    # A line near the border of a cell has its votes in the next one too.
    near = np.abs(cells[:, None] - cells[None]).max(axis=2) <= 1 if len(cells) <= MOST_CELLS else np.eye(len(cells))
    best = np.argsort(-(near @ total))[:TRIED]
    return [(float(angle[votes == cell].mean()), through[votes == cell].mean(axis=0)) for cell in best]


def _matched(places, sizes, kinds, sigma, angle, near):
    """(angle, a place on it, which have an image, rms in standard deviations) of a line; None where too little has."""
    tree, everyone = cKDTree(places), np.arange(len(places))
    size = float(np.ptp(places, axis=0).max())
    for rough in (*ROUGH_SHARES, 0.0, 0.0):
        cos, sin = math.cos(2 * angle), math.sin(2 * angle)
        images = near + (places - near) @ np.array([[cos, sin], [sin, -cos]])
        away, partner = tree.query(images)
        reach = np.maximum(MATCH_SIGMAS * (sigma + sigma[partner]), rough * size)
        mine = (away < reach) & _alike(sizes, kinds, sigma, everyone, partner) & (partner[partner] == everyone)
        if sizes[mine].sum() < MATCHED_SHARE * sizes.sum():
            return None
        weight = sizes[mine] / sizes[mine].sum()
        near = weight @ (places[mine] + places[partner[mine]]) / 2
        (x, y), (u, v) = (places[mine] - near).T, (places[partner[mine]] - near).T
        angle = 0.5 * math.atan2(float(weight @ (x * v + y * u)), float(weight @ (x * u - y * v)))
    off = (images - places[partner])[mine]
    far = math.sqrt(float((np.square(off).sum(axis=1) / (2 * (sigma**2 + sigma[partner] ** 2)[mine])).mean()))
    return (angle, near, mine, far) if far < GATE else None


def _is_there(sketch, center, angle):
    """Whether something in the sketch is symmetric already about a line through about here."""
    for item in sketch.constraints.values():
        if item.kind == "symmetric":
            (ax, ay), (bx, by) = (sketch.points[point] for point in sketch.curves[item.of[-1]].points)
            turn = math.atan2(by - ay, bx - ax) - angle
            off = ((bx - ax) * (center[1] - ay) - (by - ay) * (center[0] - ax)) / math.hypot(bx - ax, by - ay)
            if abs(math.remainder(turn, math.pi)) < SAME_AXIS and abs(off) < BEYOND * sketch.size():
                return True
    return False
