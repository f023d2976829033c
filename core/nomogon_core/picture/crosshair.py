"""Cross-hairs drawn in a picture: where two thin lines cross near a place."""

from __future__ import annotations

import math

import attrs
import numpy as np
from scipy.ndimage import gaussian_filter, map_coordinates

ANGLES = np.radians(np.arange(0.0, 180.0, 2.0))
APART = math.radians(50.0)  # the least angle between the two lines
ARM_PX, LEAST_ARM_PX, MIDDLE_PX = (
    14.0,
    5.0,
    2.5,
)  # of an arm: how much is looked at, how much there must be, and left out
ACROSS_PX, BESIDE_PX, STEP_PX, PULL_PX = 4.0, 5.0, 0.5, 1.5
DRAWN_SHARE, SEEN_SHARE, NOISES = 0.3, 0.75, 4.0
ROUNDS = 3


@attrs.frozen
class CrossHair:
    """Where two lines cross.

    Attributes:
        place: (x, y) in pixels; sigma_px: standard deviation of it, from how well the lines fit.
        angles: of the two lines in the picture, radians.
    """

    place: tuple[float, float]
    sigma_px: float
    angles: tuple[float, float]


def find_crosshair(light: np.ndarray, x: float, y: float, reach_px: float) -> CrossHair | None:
    """The cross-hair nearest to a place, or None where none crosses within reach.

    Each line is found by how dark it lies on its run (Hough 1962) and then fitted to the middles of its profiles by
    least squares; all four arms have to be there, so that a corner or a line that ends on another is none.

    Args:
        light: (h, w) linear light; lines may be darker or lighter than the ground.
        x, y: pixels; reach_px: how far from there it may cross.
    """
    height, width = light.shape
    half = int(math.ceil(reach_px + ARM_PX + ACROSS_PX + 2))
    left, top = max(round(x) - half, 0), max(round(y) - half, 0)
    patch = np.asarray(light[top : round(y) + half + 1, left : round(x) + half + 1], float)
    if min(patch.shape) < 4 * LEAST_ARM_PX:
        return None
    ground = float(np.median(patch))
    noise = 1.4826 * float(np.median(np.abs(patch - ground)))
    best = None
    for ink in (ground - patch, patch - ground):
        ink = np.clip(ink - NOISES * noise, 0.0, None)
        found = _crossing(ink, np.array([x - left, y - top]), reach_px)
        if found and (best is None or found[0] > best[0]):
            best = found
    if best is None:
        return None
    _, place, sigma, angles = best
    return CrossHair((float(place[0] + left), float(place[1] + top)), sigma, angles)


def _crossing(ink, click, reach):
    """(how much of its arms is drawn, place, sigma, angles) of the best crossing in an image of ink."""
    if ink.max() <= 0:
        return None
    smooth = gaussian_filter(ink, 0.7)
    level = DRAWN_SHARE * float(np.percentile(smooth[smooth > 0], 95)) if (smooth > 0).any() else 0.0
    best = None
    for start in _starts(smooth, level, click, reach):
        found = _fitted(ink, smooth, level, start)
        if found is None or math.dist(found[1], click) > reach:
            continue
        value = found[0] - 0.2 * math.dist(found[1], click) / reach
        if best is None or value > best[0]:
            best = (value, *found[1:])
    return best


def _starts(smooth, level, click, reach):
    """Drawn pixels in reach from which lines run in four directions: local maxima of the least of their arms."""
    rows, columns = np.nonzero(smooth >= level)
    near = np.hypot(columns - click[0], rows - click[1]) <= reach
    places = np.column_stack([columns[near], rows[near]]).astype(float)
    if not len(places):
        return []
    ways = np.column_stack([np.cos(ANGLES), np.sin(ANGLES)])
    along = np.arange(MIDDLE_PX + 0.5, LEAST_ARM_PX + MIDDLE_PX + 1, 1.0)
    at = places[:, None, None, :] + np.concatenate([along, -along])[None, None, :, None] * ways[None, :, None, :]
    ink = _ink_at(smooth, at)
    # A line is thin: beside it there is less; inside an area there is as much.
    beside = BESIDE_PX * np.column_stack([-ways[:, 1], ways[:, 0]])[None, :, None, :]
    thin = np.maximum(_ink_at(smooth, at + beside), _ink_at(smooth, at - beside)) < 0.5 * ink
    seen = (ink >= level) & thin
    half = len(along)
    whole = np.minimum(seen[..., :half].mean(axis=-1), seen[..., half:].mean(axis=-1))
    one = whole.max(axis=1)
    first = whole.argmax(axis=1)
    away = np.abs((ANGLES[None, :] - ANGLES[first][:, None] + math.pi / 2) % math.pi - math.pi / 2)
    other = np.where(away >= APART, whole, 0.0)
    least = np.minimum(one, other.max(axis=1))
    good = np.flatnonzero(least >= SEEN_SHARE)
    order = good[np.argsort(-least[good], kind="stable")][:12]
    return [(places[index], ANGLES[first[index]], ANGLES[other[index].argmax()]) for index in order]


def _ink_at(image, at):
    """Values of an image at places (…, 2), (x, y); nothing outside it."""
    return map_coordinates(image, [at[..., 1], at[..., 0]], order=1, mode="constant")


def _fitted(ink, smooth, level, start):
    """(how much of its arms is drawn, place, sigma, angles) of the two lines from a start; None where an arm fails."""
    place, *angles = start
    for _ in range(ROUNDS):
        lines = []
        for angle, other in zip(angles, angles[::-1]):
            line = _line(ink, smooth, level, place, angle, other)
            if line is None:
                return None
            lines.append(line)
        place = np.linalg.solve(np.array([line[1] for line in lines]), [line[1] @ line[0] for line in lines])
        angles = [math.atan2(-line[1][0], line[1][1]) % math.pi for line in lines]
    sigma = math.hypot(*(line[2] for line in lines))
    return min(line[3] for line in lines), place, sigma, tuple(angles)


def _line(ink, smooth, level, place, angle, other):
    """(point, normal, sigma, share drawn of the shorter arm) of a line through the middles of its profiles."""
    way = np.array([math.cos(angle), math.sin(angle)])
    normal = np.array([-way[1], way[0]])
    spare = MIDDLE_PX / max(abs(math.sin(angle - other)), 0.5)
    along = np.arange(spare, ARM_PX, STEP_PX)
    across = np.arange(-ACROSS_PX, ACROSS_PX + 0.01, 0.25)
    middles, shares = [], []
    for sense in (1, -1):
        at = place + (sense * along)[:, None, None] * way + across[None, :, None] * normal
        profile, drawn = _ink_at(ink, at), _ink_at(smooth, at)[:, np.abs(across) <= PULL_PX].max(axis=1) >= level
        reach = len(along) if drawn.all() else int(np.argmin(drawn))
        if reach * STEP_PX < LEAST_ARM_PX - 1:
            return None
        profile = profile[:reach] - np.minimum(profile[:reach, :1], profile[:reach, -1:])
        weight = np.clip(profile, 0.0, None)
        total = weight.sum(axis=1)
        kept = total > 0
        off = (weight @ across)[kept] / total[kept]
        middles.append(np.column_stack([sense * along[:reach][kept], off]))
        shares.append(reach / len(along))
    told = np.vstack(middles)
    fit, *_ = np.linalg.lstsq(np.column_stack([np.ones(len(told)), told[:, 0]]), told[:, 1], rcond=None)
    rest = told[:, 1] - fit[0] - fit[1] * told[:, 0]
    turn = math.atan(fit[1])
    way = np.array([math.cos(angle + turn), math.sin(angle + turn)])
    # Middles half a pixel apart share their pixels, so every second one counts.
    sigma = float(np.std(rest)) / math.sqrt(max(len(told) * STEP_PX, 1.0))
    return place + fit[0] * normal, np.array([-way[1], way[0]]), sigma, min(shares)
