"""The lines and arcs that a contour was drawn with: all breaks at once, by what the contour's own noise makes likely.

Every place of the contour is a candidate (in the spirit of Perez and Vidal 1994); a piece costs its squared distances
over twice
the noise's variance, which is taken from the chain's own residuals, and a fixed amount for its unknowns (Schwarz 1978).
The
noise of neighbours is alike, so a point counts for less than one. Points are left out only next to what may be a
corner.
"""

from __future__ import annotations

import math
from typing import Any

import attrs
import numpy as np
from scipy.ndimage import uniform_filter1d

from nomogon_core.picture.blur import tip_recession
from nomogon_core.trace import compiled_pieces
from nomogon_core.trace.compiled_chain import cheapest_lines_and_arcs
from nomogon_core.trace.compiled_pieces import ARC, CUBIC, GAP, LINE
from nomogon_core.trace.described import RECESSION_SLACK
from nomogon_core.trace.distances import distances_to_run
from nomogon_core.trace.pieces import off_primitive, primitive

LINE_COST, ARC_COST, CORNER_COST, WEAK_CORNER_COST = 14.0, 18.0, 4.0, 10.0
CLEAR_TURN = math.radians(35.0)
LEAST_POINTS, LEAST_RADIUS_PX = 4, 3.0
MOST_NODES = 1800
LEAST_NOISE_PX, FIRST_ALIKE = 0.03, 8.0
MOST_ALIKE = 30.0
UNKNOWNS = {LINE: 2, ARC: 3, CUBIC: 6, GAP: 0}
ROUNDS, REFUTATIONS = 3, 3
FINE_REACH = 3
LEAST_TURN, MOST_FILLET_TURN = math.radians(12.0), math.radians(130.0)
BOW_WINDOW_PX, LEAST_BOW_PX, BOW_NOISES = 9, 0.25, 2.5
# Common practice: nobody draws a kink of a sixth of a degree, or an arc that turns and bows hardly more.
WANDERING_PX, MOST_KINK, KINKS_AN_ARC = 0.5, math.radians(0.17), 9
LONGEST_FLAT_PX, MOST_FLAT_TURN = 36, math.radians(16.0)
TIP_REACH, LEAST_STANDING_BACK_PX, MOST_FILLET_SHARE = 14, 0.35, 0.6


@attrs.frozen
class Chain:
    """A contour as lines and arcs.

    Attributes:
        pieces: (kind, first, last, None) in order, as :mod:`pieces` has them.
        corners: places among the breaks where the contour has a corner.
        noise_px: standard deviation of the contour about the pieces; alike: how many neighbouring points say one thing.
    """

    pieces: list
    corners: np.ndarray
    noise_px: float
    alike: float

    @property
    def blended(self) -> float:
        """Share of the joints that are smooth and between two arcs: few where a contour was drawn with lines and arcs,
        most where arcs stand in for
        free curves."""
        corners, pairs = set(self.corners.tolist()), zip([self.pieces[-1], *self.pieces[:-1]], self.pieces)
        return sum(before[0] == after[0] == ARC and after[1] not in corners for before, after in pairs) / len(
            self.pieces
        )

    @property
    def unknowns(self) -> int:
        """How many numbers the pieces have: two a joint, one an arc."""
        return sum(UNKNOWNS[kind] for kind, *_ in self.pieces)


def lines_and_arcs(outline: Any, noise_px: float) -> Chain:
    """The most likely lines and arcs of a described contour: :class:`Chain`.

    Args:
        outline: as :func:`described.describe` gives it.
        noise_px: a first guess of the contour's noise.
    """
    noise, alike, start = max(noise_px, LEAST_NOISE_PX), FIRST_ALIKE, _first_start(outline)
    chain: Any = None
    for _ in range(ROUNDS):
        chain = _chain(outline, _cheapest(outline, _nodes(outline, start), 2 * noise**2 * alike), noise, alike)
        noise, alike = _noise_of(outline, chain.pieces)
        start = _sure_break(outline, chain)
    refuted = np.zeros(len(outline.points), bool)
    for _ in range(REFUTATIONS):
        nodes = _nodes(outline, start, [piece[1] for piece in chain.pieces], refuted)
        chain = _chain(outline, _cheapest(outline, nodes, 2 * noise**2 * alike), noise, alike)
        blunt = _blunt_corners(outline, chain)
        if not blunt:
            break
        for corner in blunt:
            refuted[np.arange(corner - TIP_REACH // 2, corner + TIP_REACH // 2 + 1) % len(refuted)] = True
        start = _sure_break(outline, attrs.evolve(chain, corners=np.setdiff1d(chain.corners, blunt)))
    return chain


def _first_start(outline):
    """(place, margin) where the chain surely has a break: the strongest corner, else anywhere."""
    if outline.is_open:
        return 0, _margin(outline, 0)
    if not len(outline.corners):
        return 0, 0
    place = int(outline.corners[np.argmax(outline.corner_strength[outline.corners])])
    return place, _margin(outline, place)


def _sure_break(outline, chain):
    """A break of a chain that the next one can begin at: a corner, else one between long pieces; never where the chain
    began, since that was not chosen."""
    if outline.is_open:
        return 0, _margin(outline, 0)
    count, begin = len(outline.points), chain.pieces[0][1] % len(outline.points)
    others = [corner for corner in chain.corners if corner != begin]
    if others:
        place = int(max(others, key=lambda corner: outline.corner_strength[corner]))
        return place, _margin(outline, place)
    pairs = list(zip(chain.pieces[:-1], chain.pieces[1:])) or [(chain.pieces[0], chain.pieces[0])]
    best = max(pairs, key=lambda pair: min(pair[0][2] - pair[0][1], pair[1][2] - pair[1][1]))
    return best[1][1] % count, 0


def _margin(outline, place):
    return max(1, math.ceil(outline.skip(place)))


def _nodes(outline, start, breaks=None, refuted=None):
    """(places, margins) of the nodes, the first at ``start`` and the last there again; only near breaks where these are
    given."""
    count, (origin, margin) = len(outline.points), start
    stride = max(1, math.ceil(count / MOST_NODES))
    if breaks is None or stride == 1:
        plain = np.arange(0, count, stride)
    else:
        near = np.arange(-FINE_REACH * stride, FINE_REACH * stride + 1)
        plain = np.unique((np.asarray(breaks)[:, None] - origin + near).ravel() % count)
    may_be = np.union1d(outline.corners, np.nonzero(outline.corner_strength > LEAST_TURN)[0])
    if refuted is not None:
        may_be = may_be[~refuted[may_be]]
    corners = np.unique((may_be - origin) % count)
    places = np.concatenate([plain, corners])
    margins = np.concatenate(
        [np.zeros(len(plain), np.int64), [_margin(outline, place + origin) for place in corners]]
    ).astype(np.int64)
    inner = places > 0
    places, margins = (
        np.concatenate([[0], places[inner], [count - 1 if outline.is_open else count]]),
        np.concatenate([[margin], margins[inner], [margin]]),
    )
    if outline.is_open:
        inner = (places < count - 1) | (np.arange(len(places)) == len(places) - 1)
        places, margins = places[inner], margins[inner]
    order = np.lexsort((margins, places))
    return places[order].astype(np.int64) + origin, margins[order].astype(np.int64)


def _cheapest(outline, nodes, variance):
    """(place, margin, kind of the piece that ends there) of each node along the cheapest chain."""
    places, margins = nodes
    weak = np.clip(1 - outline.corner_strength[places % len(outline.points)] / CLEAR_TURN, 0, 1)
    node_costs = np.where(margins > 0, CORNER_COST + WEAK_CORNER_COST * weak, 0.0)
    back, kinds = cheapest_lines_and_arcs(
        np.ascontiguousarray(outline.points),
        places,
        margins,
        node_costs,
        variance,
        LINE_COST,
        ARC_COST,
        LEAST_POINTS,
        LEAST_RADIUS_PX,
    )
    chosen, at = [], len(places) - 1
    while at >= 0:
        chosen.append((int(places[at]), int(margins[at]), int(kinds[at])))
        at = back[at]
    return chosen[::-1]


def _chain(outline, nodes, noise, alike):
    """The chain through chosen nodes."""
    count = len(outline.points)
    pieces = []
    for (first, _, _), (last, _, kind) in zip(nodes[:-1], nodes[1:]):
        first, last = first % count, first % count + last - first
        pieces.append((ARC if kind else LINE, first, last, None))
    if outline.is_open:
        pieces.append((GAP, count - 1, count, None))
    corners = {place % count for place, margin, _ in nodes[:-1] if margin > 0} | (
        {0, count - 1} if outline.is_open else set()
    )
    corners = np.array(sorted(corners), np.int64)
    return Chain(pieces, corners, noise, alike)


def _noise_of(outline, pieces):
    """(noise, how many neighbours are alike) of the residuals of all pieces, without what lies next to corners
    (Bartlett 1946)."""
    count, squares, products, used = len(outline.points), 0.0, np.zeros(12), 0
    for kind, first, last, _ in pieces:
        if last - first < 16:
            continue
        points = outline.points[np.arange(first + 4, last - 3) % count]
        off = off_primitive(kind, primitive(outline, kind, first, last), points)
        off = off - off.mean()
        off = np.clip(off, *(np.median(off) + np.array([-4, 4]) * max(1.4826 * np.median(np.abs(off)), 1e-3)))
        squares += float(off @ off)
        products += [float(off[:-lag] @ off[lag:]) if len(off) > lag else 0.0 for lag in range(1, 13)]
        used += len(off)
    if used < 30 or squares <= 0:
        return LEAST_NOISE_PX, FIRST_ALIKE
    alike = products / squares
    until = int(np.argmax(alike < 0.05)) if np.any(alike < 0.05) else len(alike)
    return max(math.sqrt(squares / used), LEAST_NOISE_PX), float(np.clip(1 + 2 * alike[:until].sum(), 2.0, MOST_ALIKE))


def curvature_along(outline: Any, chain: Chain) -> np.ndarray:
    """Curvature (n,) at each point of the contour as the pieces have it, in 1/pixels, positive where it turns from x
    toward y; 0 at corners."""
    count = len(outline.points)
    curvature = np.zeros(count)
    for kind, first, last, _ in chain.pieces:
        if kind == ARC:
            places = np.arange(first, last + 1) % count
            x, y, radius = primitive(outline, kind, first, last)
            middle = places[len(places) // 2]
            way, inward = (
                outline.points[(middle + 1) % count] - outline.points[middle - 1],
                np.array([x, y]) - outline.points[middle],
            )
            curvature[places] = math.copysign(1 / max(radius, LEAST_RADIUS_PX), way[0] * inward[1] - way[1] * inward[0])
    return curvature


def with_small_fillets(outline: Any, chain: Chain) -> Chain:
    """The chain with short flat arcs where it has them as a short line between two weak corners, and an arc where a
    corner stands back."""
    straight = _with_lines_joined(outline, _with_hardly_bent_straight(outline, chain))
    return _with_blunt_corners_rounded(outline, _with_flats_bent(outline, straight))


def _with_hardly_bent_straight(outline, chain):
    """The chain with a line for each arc that bends and turns so little that nobody draws it so: texture beside an edge
    makes it wander."""
    pieces = [
        (LINE, first, last, None) if kind == ARC and _hardly_bends(outline, first, last) else (kind, first, last, given)
        for kind, first, last, given in chain.pieces
    ]
    return attrs.evolve(chain, pieces=pieces)


def _hardly_bends(outline, first, last):
    radius = primitive(outline, ARC, first, last)[2]
    size = last - first
    return size < MOST_KINK * radius * KINKS_AN_ARC and size * size / (8 * radius) < WANDERING_PX


def _with_lines_joined(outline, chain):
    """The chain with neighbouring lines as one where one bows less than can be told: texture beside an edge makes it
    wander."""
    count, pieces, corners, index = len(outline.points), list(chain.pieces), set(chain.corners.tolist()), 0
    while index < len(pieces) and len(pieces) > 2:
        before, after = pieces[index - 1], pieces[index]
        if before[0] == after[0] == LINE:
            last = before[2] + after[2] - after[1]
            line = compiled_pieces.line_through(outline.points, before[1], last, 1)
            away = uniform_filter1d(
                off_primitive(LINE, line, outline.points[np.arange(before[1], last + 1) % count]), BOW_WINDOW_PX
            )
            most = max(LEAST_BOW_PX, BOW_NOISES * chain.noise_px)
            if np.abs(away).max() < (max(most, WANDERING_PX) if _kink(outline, before, after) < MOST_KINK else most):
                pieces[index - 1] = (LINE, before[1], last, None)
                corners.discard(after[1] % count)
                del pieces[index]
                continue
        index += 1
    return attrs.evolve(chain, pieces=pieces, corners=np.array(sorted(corners), np.int64))


def _kink(outline, before, after):
    """The angle between two neighbouring lines."""
    (a, b), (c, d) = (primitive(outline, LINE, *piece[1:3])[:2] for piece in (before, after))
    return abs(math.atan(math.tan(math.atan2(a * d - b * c, a * c + b * d))))


def _with_flats_bent(outline, chain):
    """The chain with an arc for each short line that turns the same way a little at both of its ends: smooth is
    likelier there."""
    count, pieces, corners = len(outline.points), list(chain.pieces), set(chain.corners.tolist())
    for index in range(len(pieces)):
        before, here, after = pieces[index - 1], pieces[index], pieces[(index + 1) % len(pieces)]
        if (
            len(pieces) < 4
            or any(kind != LINE for kind, *_ in (before, here, after))
            or here[2] - here[1] > LONGEST_FLAT_PX
        ):
            continue
        ways = [
            outline.points[last % count] - outline.points[first % count] for _, first, last, _ in (before, here, after)
        ]
        turns = [math.atan2(u[0] * v[1] - u[1] * v[0], float(u @ v)) for u, v in zip(ways[:-1], ways[1:])]
        if turns[0] * turns[1] <= 0 or max(map(abs, turns)) > MOST_FLAT_TURN:
            continue
        more = min((here[2] - here[1]) // 2, (before[2] - before[1]) // 4, (after[2] - after[1]) // 4)
        corners -= {here[1] % count, here[2] % count}
        pieces[index - 1] = (LINE, before[1], before[2] - more, None)
        pieces[index] = (ARC, (here[1] - more) % count, (here[1] - more) % count + here[2] - here[1] + 2 * more, None)
        pieces[(index + 1) % len(pieces)] = (
            LINE,
            (after[1] + more) % count,
            (after[1] + more) % count + after[2] - after[1] - more,
            None,
        )
    return attrs.evolve(chain, pieces=pieces, corners=np.array(sorted(corners), np.int64))


def _with_blunt_corners_rounded(outline, chain):
    """The chain with an arc at each corner between two lines that stands back from where these cross by more than the
    blur explains."""
    count, pieces, corners = len(outline.points), list(chain.pieces), set(chain.corners.tolist())
    added = []
    for index, (kind, first, _, _) in enumerate(pieces):
        before = pieces[index - 1]
        if kind != LINE or before[0] != LINE or first % count not in corners:
            continue
        half = _half_fillet(outline, chain, before, pieces[index])
        if half is not None:
            added.append((index, half))
            corners.discard(first % count)
    for index, half in reversed(added):
        (_, begin, end, _), (_, first, last, _) = pieces[index - 1], pieces[index]
        pieces[index] = (LINE, first + half, last, None)
        pieces[index - 1] = (LINE, begin, end - half, None)
        pieces.insert(index, (ARC, first - half, first + half, None))
    pieces = [(kind, first % count, first % count + last - first, None) for kind, first, last, _ in pieces]
    return attrs.evolve(chain, pieces=pieces, corners=np.array(sorted(corners), np.int64))


def _half_fillet(outline, chain, before, after):
    """Half the length in pixels of the fillet between two lines, or None where their corner is as sharp as the blur
    lets it be."""
    back, sharp, turn, unsure = _standing_back(outline, chain, before, after)
    shorter = min(before[2] - before[1], after[2] - after[1])
    if not LEAST_TURN < turn < MOST_FILLET_TURN or back - sharp < max(LEAST_STANDING_BACK_PX, 4 * unsure):
        return None
    radius = math.sqrt(back**2 - sharp**2) / (1 / math.cos(turn / 2) - 1)
    half = round(radius * turn / 2)
    return (
        half
        if 2 <= half <= MOST_FILLET_SHARE * shorter and radius * math.tan(turn / 2) < MOST_FILLET_SHARE * shorter
        else None
    )


def _blunt_corners(outline, chain):
    """Corners next to an arc that stand back from where their pieces cross by more than the blur explains."""
    count, corners, blunt = len(outline.points), set(chain.corners.tolist()), []
    for before, after in zip([chain.pieces[-1], *chain.pieces[:-1]], chain.pieces):
        if after[1] % count in corners and ARC in (before[0], after[0]) and GAP not in (before[0], after[0]):
            back, sharp, turn, unsure = _standing_back(outline, chain, before, after)
            if turn < MOST_FILLET_TURN and back - sharp > max(LEAST_STANDING_BACK_PX, 4 * unsure):
                blunt.append(after[1] % count)
    return blunt


def recessions_of(outline: Any, chain: Chain) -> np.ndarray:
    """How far the blur draws each place of the contour back if a corner of the chain is near it: (n,) pixels."""
    count, recessions = len(outline.points), outline.recessions.copy()
    corners = set(chain.corners.tolist())
    for before, after in zip([chain.pieces[-1], *chain.pieces[:-1]], chain.pieces):
        if after[1] % count in corners and GAP not in (before[0], after[0]):
            _, sharp, _, _ = _standing_back(outline, chain, before, after)
            near = np.arange(after[1] - TIP_REACH // 2, after[1] + TIP_REACH // 2 + 1) % count
            recessions[near] = max(outline.recessions[near].max(), RECESSION_SLACK * sharp)
    return recessions


def _standing_back(outline, chain, before, after):
    """(how far in pixels the contour stands back from the tip that two pieces make, how far the blur draws it back,
    their turn, how unsure that is)."""
    count, place = len(outline.points), after[1]
    sides = [_tangent_at(outline, piece, place, count) for piece in (before, after)]
    (p, u), (q, v) = sides
    turn = abs(math.atan2(u[0] * v[1] - u[1] * v[0], float(u @ v)))
    if turn < LEAST_TURN / 2:
        return 0.0, 0.0, turn, 1.0
    tip = p + np.linalg.solve(np.column_stack([u, -v]), q - p)[0] * u
    near = outline.points[np.arange(place - TIP_REACH, place + TIP_REACH + 1) % count]
    shorter = min(before[2] - before[1], after[2] - after[1])
    back = float(np.min(distances_to_run(np.array([tip]), near)))
    unsure = chain.noise_px * math.sqrt(chain.alike / max(shorter, 1)) / math.sin(turn / 2)
    return back, tip_recession(turn, outline.blur_px), turn, unsure


def _tangent_at(outline, piece, place, count):
    """(foot, direction of travel) of a piece's line or circle at a place of the contour."""
    kind, first, last, _ = piece
    here, found = outline.points[place % count], primitive(outline, kind, first, last)
    run = outline.points[last % count] - outline.points[first % count]
    if kind == LINE:
        normal = np.array(found[:2])
        foot, way = here - (normal @ here + found[2]) * normal, np.array([normal[1], -normal[0]])
        return foot, way * math.copysign(1.0, float(way @ run))
    spoke = (here - found[:2]) / max(math.dist(here, found[:2]), 1e-9)
    low, high = (place, place + 4) if place % count == first % count else (place - 4, place)
    along = outline.points[high % count] - outline.points[low % count]
    way = np.array([-spoke[1], spoke[0]])
    return found[:2] + spoke * found[2], way * math.copysign(1.0, float(way @ along))
