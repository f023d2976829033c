"""Outlines that move along their normals: what stands over an outline whose sides lean.

Each piece of the outline moves along its normals, and meets its neighbours where their leaning sides cross (mitred).
A piece that shrinks to nothing on the way ends there in a point, and its neighbours go on together; one that would fold
over gets a corner. So the outline moves like the wavefront of a straight skeleton (Aichholzer, Aurenhammer, Alberts and
Gärtner 1995), here of curves. An outline that would fall into two is refused.
"""

from __future__ import annotations

import math
from typing import Any

import attrs
import numpy as np
import shapely
from scipy.integrate import simpson

from nomogon_core.geometry.curves import bezier, closed_area, cubics_of

PLACES, SLICES, BETWEEN = 17, 9, 5
STEPS, NEWTON, MET_MM, HALVINGS, POINT_MM, LEAST_STAGE_MM = 8, 12, 1e-7, 30, 1e-3, 1e-6
FAR_OFF, STRAIGHT_MM, BISECTIONS, MOST_SPLITS, FINE, INSIDE, GROWS_MM, GAP_MM = 1e5, 1e-7, 9, 24, 129, 0.01, 1e-3, 1e-5
NEARBY = np.concatenate([[0.0], np.geomspace(1e-4, 1, 32)])
Loop = list[tuple[str, Any]]
Row = np.ndarray
Joints = tuple[np.ndarray, np.ndarray]


@attrs.frozen
class Stage:
    """What stands between two heights: from one lean to another, millimetres, each piece by its name, whether it is
    straight, and the places (n, 2) along it at both; where it shrinks to a point, all of the second are one."""

    near: float
    far: float
    sides: list[tuple[str, bool, np.ndarray, np.ndarray]]


class _Front:
    """The pieces of an outline, cubics (n, 4, 2), that move along their normals to the left."""

    def __init__(self, names: list[str], controls: np.ndarray) -> None:
        self.names, self.controls = names, controls
        chord = self.controls[:, 3] - self.controls[:, 0]
        off = chord[:, None, 0] * (self.controls - self.controls[:, :1])[..., 1]
        off -= chord[:, None, 1] * (self.controls - self.controls[:, :1])[..., 0]
        self.straight = np.abs(off).max(axis=1) <= STRAIGHT_MM * np.maximum(np.hypot(*chord.T), STRAIGHT_MM)

    def at(self, piece: np.ndarray, share: np.ndarray, lean: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Places (n, 2) of pieces at shares of them, moved by a lean, and how these run with the share; beyond an end a
        piece runs on straight."""
        inside = np.clip(share, 0.0, 1.0)
        control = self.controls[piece]
        u = (1 - inside)[:, None]
        t = inside[:, None]
        place = (
            u**3 * control[:, 0] + 3 * u * u * t * control[:, 1] + 3 * u * t * t * control[:, 2] + t**3 * control[:, 3]
        )
        hull = np.diff(control, axis=1)
        run = 3 * (u * u * hull[:, 0] + 2 * u * t * hull[:, 1] + t * t * hull[:, 2])
        bend = 6 * (u * (hull[:, 1] - hull[:, 0]) + t * (hull[:, 2] - hull[:, 1]))
        speed = np.maximum(np.hypot(*run.T), 1e-12)
        normal = np.column_stack([-run[:, 1], run[:, 0]]) / speed[:, None]
        turning = (run[:, 0] * bend[:, 1] - run[:, 1] * bend[:, 0]) / speed**3
        shrinks = np.where(inside == share, 1 - lean * turning, 1.0)
        return place + lean * normal + (share - inside)[:, None] * run, run * shrinks[:, None], shrinks

    def joints(
        self, before: np.ndarray, after: np.ndarray, ends: np.ndarray, begins: np.ndarray, lean: float
    ) -> Joints | None:
        """Shares at which pieces meet those after them when moved, sought from where they met before; None where two do
        not meet. Where the moved pieces fold over at a joint, it is where they cross before that."""
        ends, begins, met = self._sought(before, after, ends, begins, lean)
        if not met:
            return None
        bent = [self.at(piece, np.clip(at, 0, 1), lean)[2] <= 0 for piece, at in ((before, ends), (after, begins))]
        folded = bent[0] | bent[1]
        if folded.any():
            ends, begins = ends.copy(), begins.copy()
            for index in np.flatnonzero(folded):
                # Of the run up to the joint and from it on, the places closest to each other that are not folded yet.
                last, first = ends[index], begins[index]
                last, first = min(last, 1.0) if bent[0][index] else last, max(first, 0.0) if bent[1][index] else first
                back = last - (last - max(begins[index - 1], 0.0)) * NEARBY
                ahead = first + (min(ends[(index + 1) % len(ends)], 1.0) - first) * NEARBY
                (one, _, stays), (other, _, runs) = (
                    self.at(np.full(len(shares), piece[index]), shares, lean)
                    for piece, shares in ((before, back), (after, ahead))
                )
                apart = np.linalg.norm(one[:, None] - other[None], axis=2)
                apart[(stays <= 0)[:, None] | (runs <= 0)[None]] = np.inf
                row, column = np.unravel_index(np.argmin(apart), apart.shape)
                if not np.isfinite(apart[row, column]):
                    continue
                pair = before[index : index + 1], after[index : index + 1]
                end, begin, met = self._sought(*pair, back[row : row + 1], ahead[column : column + 1], lean)
                if met:
                    ends[index], begins[index] = end[0], begin[0]
        return ends, begins

    def _sought(self, before, after, ends, begins, lean):
        """Shares by Newton's method, and whether all pieces meet there."""
        for _ in range(NEWTON):
            (one, along, _), (other, across, _) = self.at(before, ends, lean), self.at(after, begins, lean)
            apart = other - one
            open_ = np.hypot(*apart.T) > MET_MM
            if not open_.any():
                return ends, begins, True
            turn = along[:, 0] * across[:, 1] - along[:, 1] * across[:, 0]
            safe = np.where(open_ & (turn != 0), turn, 1.0)
            ends = ends + np.where(open_, (apart[:, 0] * across[:, 1] - apart[:, 1] * across[:, 0]) / safe, 0.0)
            begins = begins + np.where(open_, (apart[:, 0] * along[:, 1] - apart[:, 1] * along[:, 0]) / safe, 0.0)
            if max(np.abs(ends).max(), np.abs(begins).max()) > FAR_OFF:
                break
        return ends, begins, False

    def fold(self, active: np.ndarray, ends: np.ndarray, begins: np.ndarray, lean: float) -> tuple[int, float]:
        """The piece and the share at which the moved pieces come closest to folding over."""
        starts = np.roll(begins, 1)
        shares = np.clip(starts[:, None] + (ends - starts)[:, None] * np.linspace(0, 1, FINE), 0.0, 1.0)
        _, _, shrinks = self.at(np.repeat(active, FINE), shares.ravel(), lean)
        index, place = np.unravel_index(np.argmin(shrinks.reshape(shares.shape)), shares.shape)
        share = float(shares[index, place])
        return int(active[index]), share

    def split(self, piece: int, share: float) -> _Front | None:
        """The same outline with one piece in two (de Casteljau); near an end with a straight piece there, of no length
        until the outline grows around a corner, by which it runs on; None where that is straight already."""
        a, b, c, d = self.controls[piece]
        if share < INSIDE or share > 1 - INSIDE:
            if self.straight[piece]:
                return None
            way = (b - a) / np.hypot(*(b - a)) if share < INSIDE else (d - c) / np.hypot(*(d - c))
            start = a - GROWS_MM * way if share < INSIDE else d
            line = start + GROWS_MM * np.linspace(0, 1, 4)[:, None] * way
            parts = [line, self.controls[piece]] if share < INSIDE else [self.controls[piece], line]
            return self._with(piece, parts)
        ab, bc, cd = (p + share * (q - p) for p, q in ((a, b), (b, c), (c, d)))
        abc, bcd = ab + share * (bc - ab), bc + share * (cd - bc)
        middle = abc + share * (bcd - abc)
        return self._with(piece, [[a, ab, abc, middle], [middle, bcd, cd, d]])

    def _with(self, piece, parts):
        names = [*self.names[: piece + 1], *self.names[piece:]]
        return _Front(names, np.concatenate([self.controls[:piece], np.array(parts), self.controls[piece + 1 :]]))

    def carried(
        self, active: np.ndarray, ends: np.ndarray, begins: np.ndarray, lean: float, to: float
    ) -> Joints | None:
        """The joints of pieces as :meth:`joints`, from one lean to another, in small steps where one does not do."""
        after = np.roll(active, -1)
        for steps in (1, STEPS):
            found: Joints | None = (ends, begins)
            for step in range(1, steps + 1):
                found = self.joints(active, after, *found, lean + (to - lean) * step / steps) if found else None
            if found:
                return found
        return None

    def lines(
        self, active: np.ndarray, ends: np.ndarray, begins: np.ndarray, lean: float
    ) -> tuple[np.ndarray, np.ndarray]:
        """Places (pieces, n, 2) along each piece between its joints, and how far it shrank at each (pieces, n)."""
        starts = np.roll(begins, 1)
        shares = starts[:, None] + (ends - starts)[:, None] * np.linspace(0, 1, PLACES)
        places, _, shrinks = self.at(np.repeat(active, PLACES), shares.ravel(), lean)
        return places.reshape(len(active), PLACES, 2), shrinks.reshape(len(active), PLACES)

    def stage(self, lean: float, to: float, active: np.ndarray, near: np.ndarray, far: np.ndarray) -> Stage:
        """The :class:`Stage` from one lean to another."""
        return Stage(lean, to, [(self.names[i], bool(self.straight[i]), *both) for i, *both in zip(active, near, far)])

    def stays(self, active: Row, ends: Row, begins: Row, lean: float, to: float) -> Joints | None:
        """The joints at another lean if all pieces are still there, and none turns around; else None."""
        found = self.carried(active, ends, begins, lean, to)
        if found is None or (found[0] - np.roll(found[1], 1)).min() <= 0:
            return None
        return found if self.lines(active, *found, to)[1].min() > 0 else None


def stages_of(loop: Loop, inward: float) -> tuple[list[Stage], tuple[float, float] | None]:
    """How the sides over a loop lean inward by ``inward`` millimetres (negative: outward), stage by stage, and the
    place (x, y) where the outline would cross itself or vanish, or None."""
    pieces = [(name, np.asarray(control, float)) for name, curve in loop for control in cubics_of(curve)]
    controls = np.array([control for _, control in pieces])
    gaps = np.roll(controls[:, 0], -1, axis=0) - controls[:, 3]
    if np.hypot(*gaps.T).max() < GAP_MM:
        controls[:, 3] += gaps / 2
        controls[:, 0] = np.roll(controls[:, 3], 1, axis=0)
    front = _Front([name for name, _ in pieces], controls)
    total = inward * (1.0 if closed_area(tuple(curve for _, curve in loop)) > 0 else -1.0)
    for _ in range(MOST_SPLITS):
        stages, lost, fold = _moved(front, total)
        if fold is None:
            break
        finer = front.split(*fold)
        if finer is None:
            break
        front = finer
    return stages, lost


def _moved(front, total):
    """The stages, where the outline is lost, and the piece and the share of it that folds over inside."""
    lean, stages, active = 0.0, [], np.arange(len(front.names))
    met = front.joints(active, np.roll(active, -1), np.ones(len(active)), np.zeros(len(active)), lean)
    if met is None:
        return stages, tuple(front.controls[0, 0].tolist()), None
    ends, begins = met
    near, _ = front.lines(active, ends, begins, lean)
    while True:
        there = front.stays(active, ends, begins, lean, total)
        if there is not None:
            far, _ = front.lines(active, *there, total)
            stages.append(front.stage(lean, total, active, near, far))
            return stages, _crossing(far), None
        low, there = _as_far_as(front, active, ends, begins, lean, total)
        far, shrinks = front.lines(active, *there, low)
        gone = np.linalg.norm(np.diff(far, axis=1), axis=2).sum(axis=1) < POINT_MM
        left = np.flatnonzero(~gone)
        lost = tuple(far[int(np.argmin(shrinks.min(axis=1)))][PLACES // 2].tolist())
        if not gone.any():
            return stages, lost, front.fold(active, *there, low)
        if len(left) < 2 or abs(low - lean) < LEAST_STAGE_MM:
            return stages, lost, None
        met = front.joints(
            active[left], np.roll(active[left], -1), there[0][left], there[1][np.roll(left, -1) - 1], low
        )
        if met is None:
            return stages, lost, None
        kept, _ = front.lines(active[left], *met, low)
        far[left] = kept
        for index in np.flatnonzero(gone):
            far[index] = far[left[np.searchsorted(left, index) % len(left)]][0]
        stages.append(front.stage(lean, low, active, near, far))
        crossing = _crossing(kept)
        if crossing:
            return stages, crossing, None
        active, (ends, begins), near, lean = active[left], met, kept, low


def _as_far_as(front, active, ends, begins, lean, total):
    """The farthest lean to which all pieces stay, and their joints there."""
    low, high, there = lean, total, (ends, begins)
    for _ in range(HALVINGS):
        middle = (low + high) / 2
        found = front.stays(active, ends, begins, lean, middle)
        if found is None:
            high = middle
        else:
            low, there = middle, found
    return low, there


def _crossing(lines):
    """Where an outline of lines (pieces, n, 2) crosses itself, or None."""
    ring = shapely.LinearRing(np.vstack([line[:-1] for line in lines]))
    if ring.is_simple:
        return None
    noded = shapely.node(ring)
    ends = shapely.get_coordinates([part.boundary for part in shapely.get_parts(noded)])
    place = ends[len(ends) // 2] if len(ends) else lines[0][0]
    return float(place[0]), float(place[1])


def leads(loops: list[Loop], inward: float) -> list[list[Stage]] | None:
    """How the sides over an area lean into it by ``inward`` millimetres, stage by stage for each of its loops; None
    where one cannot, or a hole comes to meet another or the outline."""
    told = [stages_of(loop, -inward if index else inward) for index, loop in enumerate(loops)]
    if any(lost is not None for _, lost in told):
        return None
    rings = [np.vstack([row[:-1] for *_, row in stages[-1].sides]) for stages, _ in told]
    holes = [shapely.Polygon(ring) for ring in rings[1:]]
    if holes:
        outer = shapely.Polygon(rings[0])
        if not all(map(outer.contains, holes)) or shapely.union_all(holes).area < sum(h.area for h in holes) - MET_MM:
            return None
    return [stages for stages, _ in told]


def most_inward(loop: Loop, wanted: float) -> tuple[float, tuple[float, float]] | None:
    """How far the sides over a loop can lean inward (negative: outward), at most as far as ``wanted``, before one folds
    over itself or crosses another, and the place (x, y) where; None where all can. Millimetres, by bisection."""
    stages, lost = stages_of(loop, wanted)
    if lost is None:
        return None
    if stages and _crossing(_between(stages[-1], 1.0)):
        # Up to the last stage all goes well, and within it the sides are ruled: where these cross is soon told.
        begin, end, low, high = abs(stages[-1].near), abs(stages[-1].far), 0.0, 1.0
        for _ in range(2 * BISECTIONS):
            middle = (low + high) / 2
            here = _crossing(_between(stages[-1], middle))
            low, high, lost = (low, middle, here) if here else (middle, high, lost)
        return math.copysign(begin + low * (end - begin), wanted), lost
    low, high = math.copysign(abs(stages[-1].far) if stages else 0.0, wanted), wanted
    for _ in range(BISECTIONS):
        middle = (low + high) / 2
        _, here = stages_of(loop, middle)
        if here is None:
            low = middle
        else:
            high, lost = middle, here
    return low, lost


def _between(stage, share):
    """Places along the pieces of a stage at a share of it."""
    return [near + share * (far - near) for *_, near, far in stage.sides]


def most_into(loops: list[Loop], wanted: float) -> tuple[float, tuple[float, float]] | None:
    """How far the sides over an area can lean into it, less than ``wanted``, before one folds over itself or two of its
    loops meet, and the place (x, y) where; None where they can. Millimetres, by bisection."""
    alone = [
        (abs(told[0]), told[1])
        for told in (most_inward(loop, -wanted if index else wanted) for index, loop in enumerate(loops))
        if told is not None
    ]
    low, high, place = 0.0, min(alone)[0] if alone else wanted, min(alone)[1] if alone else None
    stages = leads(loops, high) if alone or leads(loops, wanted) is None else []
    if stages is not None:
        return (high, place) if place is not None else None
    for _ in range(BISECTIONS):
        middle = (low + high) / 2
        found = leads(loops, middle)
        low, high, stages = (middle, high, found) if found is not None else (low, middle, stages)
    rings = [shapely.LinearRing(np.vstack([row[:-1] for *_, row in told[-1].sides])) for told in stages or ()]
    pairs = [(one, other) for index, one in enumerate(rings) for other in rings[:index]]
    if not pairs:
        return None
    nearest = min((shapely.shortest_line(*pair) for pair in pairs), key=lambda line: line.length)
    x, y = np.mean(nearest.coords, axis=0).tolist()
    return low, (x, y)


def volume_inside(loop: Loop, height: float, angle: float) -> float:
    """Cubic millimetres inside a loop whose sides lean inward by an angle, radians, over a height: from polygons moved
    by the mitre at several heights (Simpson 1743)."""
    outline = shapely.Polygon(rings_of([loop])[0])
    depths = np.linspace(0, height, SLICES)
    areas = [_grown(outline, -z * math.tan(angle)).area for z in depths]
    return max(float(simpson(areas, x=depths)), MET_MM)


def volume_of_areas(areas: list[tuple[list[Loop], float]], angle: float) -> float:
    """Cubic millimetres of areas that are raised to their heights, with sides that lean outward going down: from
    polygons moved by the mitre at several heights, to about one in a thousand.

    Args:
        areas: loops of each, the outline first, and its height, millimetres.
    """
    shapes = [(shapely.Polygon(*rings_of(loops)), height) for loops, height in areas]
    levels, whole = sorted({0.0, *(height for _, height in shapes)}), 0.0
    for low, high in zip(levels, levels[1:]):
        heights = np.linspace(low, high, BETWEEN)
        there = [(shape, top) for shape, top in shapes if top >= high]
        sections = [
            shapely.union_all([_grown(shape, (top - height) * math.tan(angle)) for shape, top in there]).area
            for height in heights
        ]
        whole += float(simpson(sections, x=heights))
    return whole


def _grown(shape, by):
    return shape.buffer(by, join_style="mitre", mitre_limit=100)


def rings_of(loops: list[Loop]) -> tuple[np.ndarray, list[np.ndarray]]:
    """Places (n, 2) close to each other along an outline, and those along its holes."""
    shares = np.linspace(0, 1, 2 * PLACES)[:-1]
    outer, *holes = (
        np.vstack([bezier(control, shares) for _, curve in loop for control in cubics_of(curve)]) for loop in loops
    )
    return outer, holes
