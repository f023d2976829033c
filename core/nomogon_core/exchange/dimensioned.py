"""A drawing sheet: views at a scale of ISO 5455, the dimensions of their sketches and holes outside of them (ISO
129-1), laid out so that none lies on another; all places in millimetres on the paper, y up."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
import shapely

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import sample
from nomogon_core.quantity.units import format_length
from nomogon_core.sketch.drawing import anchor
from nomogon_core.solid import kernel
from nomogon_core.solid.bores import bores_of
from nomogon_core.solid.sheet import SketchStep

if TYPE_CHECKING:
    from nomogon_core.exchange.writers.drawing import View
    from nomogon_core.solid.graph import Built
    from nomogon_core.solid.planes import Frame
    from nomogon_core.solid.sheet import BuildSheet

# ISO 5455, and the trimmed sizes A4 and A3 of ISO 216, lying; the frame of ISO 5457.
SCALES = (50.0, 20.0, 10.0, 5.0, 2.0, 1.0, 1 / 2, 1 / 5, 1 / 10, 1 / 20, 1 / 50, 1 / 100)
SHEETS = {"A4": (297.0, 210.0), "A3": (420.0, 297.0)}
BINDING, EDGE, BLOCK = 20.0, 10.0, 34.0
ROOM, LEADER, FIRST_ROW, ROW, NAME_ROOM = 8.0, 8.0, 9.0, 7.0, 5.0
LETTER, LETTER_WIDE = 3.5, 0.62
GAP, BEYOND, ARROW = 1.0, 1.5, 2.6
MOST_IN_A_VIEW, MOST_PLACED, SAME_MM, STRAIGHT, LEAST_SHOWN = 120, 6, 5e-3, 1e-6, 5e-3
DIRECTIONS, REACHES = 16, (7.0, 11.0, 16.0, 22.0, 30.0, 40.0)
EDGE_ROLES, MOST_NOTES = {"fillet": "round", "chamfer": "bevel"}, 6
DIMENSIONED = ("distance", "across", "up", "radius", "diameter")


@attrs.frozen
class Straight:
    """A dimension between two places of a view along a way (unit vector), as it is drawn."""

    first: tuple[float, float]
    second: tuple[float, float]
    way: tuple[float, float]
    text: str

    @property
    def length(self) -> float:
        return abs(float(np.dot(np.subtract(self.second, self.first), self.way)))


@attrs.frozen
class Round:
    """A dimension of a round curve of a view; of holes with the centres of all that are alike."""

    center: tuple[float, float]
    radius: float
    text: str
    alike: tuple = ()


@attrs.frozen
class Drawn:
    """A dimension on the paper: thin lines (n, 2, 2), arrow heads as (tip, unit vector that it points along), and its
    text with the middle of its foot and its turn in radians."""

    lines: tuple
    arrows: tuple
    text: str
    place: tuple[float, float]
    turn: float = 0.0

    @property
    def box(self) -> shapely.Geometry:
        """What the text covers."""
        wide, high = text_width(self.text), LETTER
        corners = np.array([(-wide / 2, -0.4), (wide / 2, -0.4), (wide / 2, high + 0.2), (-wide / 2, high + 0.2)])
        cos, sin = math.cos(self.turn), math.sin(self.turn)
        return shapely.Polygon(corners @ np.array([[cos, sin], [-sin, cos]]) + self.place)


@attrs.frozen
class Placed:
    """A view on the paper: its origin there, its dimensions, and centre lines as pairs of places."""

    view: View
    origin: tuple[float, float]
    dimensions: tuple[Drawn, ...]
    axes: tuple = ()


@attrs.frozen
class Layout:
    """A sheet: its name, its size, the scale, the views, and what is written beside the title block."""

    sheet: str
    size: tuple[float, float]
    scale: float
    views: tuple[Placed, ...]
    notes: tuple[str, ...] = ()

    @property
    def scale_words(self) -> str:
        return f"{self.scale:g}:1" if self.scale >= 1 else f"1:{1 / self.scale:g}"


def text_width(text: str) -> float:
    """About how wide a text of :data:`LETTER` is."""
    return LETTER * LETTER_WIDE * len(text)


def wanted(sheet: BuildSheet, built: Built, frames: dict[str, Frame]) -> dict[str, list[Any]]:
    """Dimensions for each view by its name: those of the sketches that lie square to it, and its round holes."""
    found: dict[str, list[Any]] = {name: [] for name in frames}
    for step in sheet.steps:
        own = built.frames.get(step.name) if isinstance(step, SketchStep) else None
        if own is None:
            continue
        for name, frame in frames.items():
            if np.allclose(own.across, frame.across) and np.allclose(own.up, frame.up):
                found[name] += _of_sketch(built.sketches.get(step.name, step.sketch), frame.of_space(own.origin)[:2])
    for name, frame in frames.items():
        found[name] += _of_holes(built, frame, found[name])
    return found


def notes_of(sheet: BuildSheet, built: Built) -> tuple[str, ...]:
    """Rounded and cut edges in words, as no sketch has a dimension of them: how large, and how many of which body."""
    told = []
    for step in sheet.operations:
        role = EDGE_ROLES.get(step.kind)
        if role is None or step.suppressed:
            continue
        blanks = {
            name: value["value"] if isinstance(value, dict) else value
            for name, value in step.blanks.items()
            if name != "edges"
        }
        for body in built.bodies.values():
            faces = () if body.mesh is not None else kernel.faces_of(body.shape)
            made = {name for name in map(body.names.get, faces) if name and name.startswith(f"{step.name}.{role}(")}
            if made:
                of = f" of {body.title}" if len(built.bodies) > 1 else ""
                edges = f"{len(made)} edge{'s' if len(made) > 1 else ''}{of}"
                told.append(f"{_edge_size(step.kind, blanks)}: {edges}")
    return (
        tuple(told) if len(told) <= MOST_NOTES else (*told[: MOST_NOTES - 1], f"and {len(told) - MOST_NOTES + 1} more")
    )


def _edge_size(kind, blanks):
    if kind == "fillet":
        return f"R{format_length(blanks['radius'])}"
    first = format_length(blanks["distance"])
    if blanks["how"] == "two":
        return f"{first} × {format_length(blanks['other'])}"
    return f"{first} × {math.degrees(blanks['angle']) if blanks['how'] == 'angle' else 45:.4g}°"


def _of_sketch(sketch, shift):
    told = []
    for item in sketch.constraints.values():
        if item.kind not in DIMENSIONED or item.against:
            continue
        where, value = anchor(sketch, item), format_length(item.value)
        digits = 2 if (item.u95 or 0.0) >= LEAST_SHOWN else 3  # never ±0.00
        error = f" ±{format_length(item.u95, digits=digits)}" if item.u95 else ""
        if where["shape"] == "round":
            sign = "R" if item.kind == "radius" else "Ø"
            text = f"{sign}{value}{error}" if item.driving else f"({sign}{value})"
            told.append(Round(tuple(np.add(where["center"], shift)), where["radius"], text))
        elif where["shape"] == "straight":
            sign = "Ø" if item.kind == "diameter" else ""
            text = f"{sign}{value}{error}" if item.driving else f"({sign}{value})"
            ends = (tuple(np.add(where[end], shift)) for end in ("first", "second"))
            told.append(Straight(*ends, tuple(where["way"]), text))
    return told


def _of_holes(built, frame, there):
    """Round holes along the view, those of one size as one, without a text where a dimension says their size; and where
    they are, if they are few."""
    groups: dict[float, set] = {}
    for body in built.bodies.values():
        for bore in bores_of(body.shape) if body.mesh is None else ():
            if abs(abs(np.dot(bore.way, frame.normal)) - 1) < STRAIGHT:
                x, y, _ = frame.of_space(bore.start)
                groups.setdefault(round(bore.radius, 3), set()).add((round(x, 3), round(y, 3)))
    told: list[Any] = []
    for radius, spots in sorted(groups.items()):
        same = [one for one in there if isinstance(one, Round) and abs(one.radius - radius) < SAME_MM]
        known = any(math.dist(one.center, spot) < SAME_MM for one in same for spot in spots)
        count = f"{len(spots)}× " if len(spots) > 1 else ""
        text = "" if known else f"{count}Ø{format_length(2 * radius)}"
        told.append(Round(max(spots), radius, text, tuple(sorted(spots))))
    return told


def _overall(view, name, there):
    """Width and height of the first view, depth of the one from above, unless a dimension says it."""
    (left, low), (right, high) = _bounds(view)
    told = []
    if name == "Front":
        told = [Straight((left, low), (right, low), (1.0, 0.0), format_length(right - left))]
    if name in ("Front", "Plan"):
        told.append(Straight((left, low), (left, high), (0.0, 1.0), format_length(high - low)))
    return [one for one in told if not any(_says(other, one) for other in there)]


def _says(other, one):
    """Whether a dimension is of the same stretch as another: as long, and from the same place on along it."""
    if not isinstance(other, Straight) or abs(abs(np.dot(other.way, one.way)) - 1) > STRAIGHT:
        return False
    stretches = [sorted(float(np.dot(end, one.way)) for end in (told.first, told.second)) for told in (other, one)]
    return bool(np.abs(np.subtract(*stretches)).max() < SAME_MM)


def _bounds(view):
    return attrs.evolve(view, shift=(0.0, 0.0)).bounds()


def laid_out(views: list[View], dimensions: dict[str, list[Any]], notes: tuple[str, ...] = ()) -> Layout:
    """Views of :data:`release.SHEET` by the first-angle method (ISO 5456-2) on the smallest sheet on which they are at
    least as large as they are, at the largest scale that fits.

    Args:
        dimensions: of each view by its name, see :func:`wanted`; those over all, and where few holes are, are added.
        notes: what is written beside the title block, see :func:`notes_of`.

    Raises:
        OperationError: the part is too large for the largest sheet.
    """
    told = {}
    for view in views:
        own = [*dimensions.get(view.name, [])]
        own += _overall(view, view.name, own)
        told[view.name] = (own + _where(view, own))[:MOST_IN_A_VIEW]
    fits = {sheet: next((s for s in SCALES if _fits(views, told, s, size)), None) for sheet, size in SHEETS.items()}
    small, large = fits["A4"], fits["A3"]
    if large is None:
        raise OperationError("The part is too large for a drawing on A3 at 1:100.")
    sheet, scale = ("A4", small) if small is not None and (small >= 1 or small == large) else ("A3", large)
    places, _ = _places(views, told, scale, SHEETS[sheet])
    placed = []
    for view, place in zip(views, places):
        own = told[view.name]
        paper = shapely.box(BINDING, EDGE + BLOCK, SHEETS[sheet][0] - EDGE, SHEETS[sheet][1] - EDGE).buffer(-1)
        drawn = tuple(_dimensions(view, own, scale, place, paper))
        placed.append(Placed(view, place, drawn, _axes(own, scale, place)))
    return Layout(sheet, SHEETS[sheet], scale, tuple(placed), notes)


def _axes(dimensions, scale, origin):
    """Centre lines across holes."""
    radii: dict[tuple, float] = {}
    for one in dimensions:
        for spot in one.alike if isinstance(one, Round) else ():
            radii[spot] = max(radii.get(spot, 0.0), one.radius)
    lines = []
    for spot, radius in radii.items():
        middle, reach = np.multiply(scale, spot) + origin, scale * radius + 2.0
        lines += [(tuple(middle - way), tuple(middle + way)) for way in (np.array((reach, 0)), np.array((0, reach)))]
    return tuple(lines)


def _where(view, dimensions):
    """How far holes are from the left and the lower edge of a view, each distance once; none where they are many."""
    spots = sorted({spot for one in dimensions if isinstance(one, Round) for spot in one.alike})
    (left, low), _ = _bounds(view)
    told: list[Straight] = []
    if len(spots) > MOST_PLACED:
        return told
    for axis, edge in ((0, left), (1, low)):
        for at, spot in {round(spot[axis], 2): spot for spot in reversed(spots)}.items():
            way = (1.0, 0.0) if axis == 0 else (0.0, 1.0)
            one = Straight((left, low), spot, way, format_length(at - edge))
            if one.length > SAME_MM and not any(_says(other, one) for other in (*dimensions, *told)):
                told.append(one)
    return told


def _room(view, dimensions, scale):
    """(left, low, right, high) millimetres on the paper that the dimensions of a view need around it."""
    rows, box = _rows(view, dimensions, scale), scale * np.array(_bounds(view))
    room = [ROOM + (LEADER if any(isinstance(one, Round) for one in dimensions) else 0.0)] * 4
    for index, (side, row) in rows.items():
        room[side] = max(room[side], FIRST_ROW + ROW * row + LETTER + 2)
        begin, end = _span(dimensions[index], scale)
        axis = _axis(dimensions[index])
        room[axis] = max(room[axis], box[0][axis] - begin + 2)
        room[axis + 2] = max(room[axis + 2], end - box[1][axis] + 2)
    return tuple(map(float, room))


def _span(one, scale):
    """From where to where a level or upright dimension reaches on the paper, with a text that stands beyond its end."""
    begin, end = sorted(scale * place[_axis(one)] for place in (one.first, one.second))
    return (begin, end) if _holds_text(one, scale) else (begin - 2 * ARROW, end + 3 * ARROW + text_width(one.text))


def _places(views, told, scale, size):
    """Origin of each view on the paper, and whether all of it fits."""
    boxes = [scale * np.array(_bounds(view)) for view in views]
    rooms = [_room(view, told[view.name], scale) for view in views]
    front, plan, side = 0, 1, 2
    width = [rooms[i][0] + float(np.ptp(boxes[i][:, 0])) + rooms[i][2] for i in range(len(views))]
    height = [rooms[i][1] + float(np.ptp(boxes[i][:, 1])) + rooms[i][3] + NAME_ROOM for i in range(len(views))]
    first = max(width[side], width[3] if len(views) > 3 else 0.0)
    second = max(rooms[front][0], rooms[plan][0])
    second_wide = second + max(np.ptp(boxes[i][:, 0]) + rooms[i][2] for i in (front, plan))
    upper = max(height[front], height[side])
    lower = max(height[plan], height[3] if len(views) > 3 else 0.0)
    room_wide, room_high = size[0] - BINDING - EDGE, size[1] - 2 * EDGE - BLOCK
    fits = first + second_wide <= room_wide and upper + lower <= room_high
    left = BINDING + (room_wide - first - second_wide) / 2
    top = size[1] - EDGE - (room_high - upper - lower) / 2
    base = top - max(rooms[i][3] + float(np.ptp(boxes[i][:, 1])) for i in (front, side))
    places = {
        front: (left + first + second - boxes[front][0][0], base - boxes[front][0][1]),
        plan: (left + first + second - boxes[plan][0][0], top - upper - rooms[plan][3] - boxes[plan][1][1]),
        side: (left + rooms[side][0] - boxes[side][0][0], base - boxes[side][0][1]),
    }
    if len(views) > 3:
        places[3] = (left + rooms[3][0] - boxes[3][0][0], top - upper - rooms[3][3] - boxes[3][1][1])
    return [tuple(map(float, places[index])) for index in range(len(views))], fits


def _fits(views, told, scale, size):
    return _places(views, told, scale, size)[1]


LEFT, LOW, RIGHT, HIGH = range(4)


def _rows(view, dimensions, scale):
    """{index of a straight dimension: (side, row)}: the shortest nearest to the view, on the side that it is nearer
    to."""
    (left, low), (right, high) = _bounds(view)
    taken: dict[tuple[int, int], list[tuple[float, float]]] = {}
    found = {}
    order = [index for index, one in enumerate(dimensions) if isinstance(one, Straight) and _axis(one) is not None]
    for index in sorted(order, key=lambda at: dimensions[at].length):
        one, axis = dimensions[index], _axis(dimensions[index])
        middle = (one.first[1 - axis] + one.second[1 - axis]) / 2
        span = _span(one, scale)
        near, far = (low, high) if axis == 0 else (left, right)
        sides = (LOW, HIGH) if axis == 0 else (LEFT, RIGHT)
        side = sides[0] if middle - near <= far - middle else sides[1]
        row = 0
        while any(span[0] < end + 2 and begin - 2 < span[1] for begin, end in taken.get((side, row), ())):
            row += 1
        taken.setdefault((side, row), []).append(span)
        found[index] = (side, row)
    return found


def _holds_text(one, scale):
    """Whether the arrows and the text of a straight dimension have room between its ends."""
    return scale * one.length > text_width(one.text) + 2.2 * ARROW


def _axis(one):
    """0 for a level dimension, 1 for an upright one, None for any other."""
    if abs(one.way[1]) < STRAIGHT:
        return 0
    return 1 if abs(one.way[0]) < STRAIGHT else None


def _dimensions(view, dimensions, scale, origin, paper):
    def to_paper(place):
        return np.multiply(scale, place) + origin

    (left, low), (right, high) = (to_paper(corner) for corner in _bounds(view))
    rows, told = _rows(view, dimensions, scale), []
    for index, (side, row) in rows.items():
        one, axis = dimensions[index], _axis(dimensions[index])
        away = FIRST_ROW + ROW * row
        level = {LEFT: left - away, RIGHT: right + away, LOW: low - away, HIGH: high + away}[side]
        told.append(_straight(one, to_paper, axis, level))
    for one in dimensions:
        if isinstance(one, Straight) and _axis(one) is None:
            told.append(_aslant(one, to_paper, (np.array((left, low)) + (right, high)) / 2))
    shown = (sample(curve, 0.2 / scale) for curve in (*view.visible, *view.smooth))
    ink = [shapely.LineString(to_paper(places)) for places in shown]
    ink += [shapely.LineString(line) for one in told for line in one.lines]
    within = shapely.box(left, low, right, high)
    for one in dimensions:
        if isinstance(one, Round) and one.text:
            placed = _leader(one, to_paper, scale, shapely.union_all(ink), [other.box for other in told], within, paper)
            told.append(placed)
            ink += [shapely.LineString(line) for line in placed.lines]
    return told


def _straight(one, to_paper, axis, level):
    """A level or upright dimension with its line at a height on the paper."""
    feet, tips = [to_paper(end) for end in (one.first, one.second)], []
    lines = []
    for foot in feet:
        tip = np.array(foot)
        tip[1 - axis] = level
        sense = math.copysign(1.0, level - foot[1 - axis])
        begin, end = np.array(foot), tip.copy()
        begin[1 - axis] += sense * GAP
        end[1 - axis] += sense * BEYOND
        lines.append((tuple(begin), tuple(end)))
        tips.append(tip)
    lines.append((tuple(tips[0]), tuple(tips[1])))
    return _with_arrows(lines, tips, one.text, (tips[0] + tips[1]) / 2, math.pi / 2 if axis else 0.0)


def _aslant(one, to_paper, middle):
    feet = [np.array(to_paper(end)) for end in (one.first, one.second)]
    way = (feet[1] - feet[0]) / max(float(np.linalg.norm(feet[1] - feet[0])), 1e-9)
    off = np.array([-way[1], way[0]])
    off = off if off @ ((feet[0] + feet[1]) / 2 - middle) >= 0 else -off
    tips = [foot + FIRST_ROW * off for foot in feet]
    lines = [(tuple(foot + GAP * off), tuple(tip + BEYOND * off)) for foot, tip in zip(feet, tips)]
    lines.append((tuple(tips[0]), tuple(tips[1])))
    turn = math.atan2(way[1], way[0])
    turn = turn - math.pi if turn > math.pi / 2 else turn + math.pi if turn <= -math.pi / 2 else turn
    return _with_arrows(lines, tips, one.text, (tips[0] + tips[1]) / 2, turn)


def _with_arrows(lines, tips, text, middle, turn):
    """Arrows and text within the dimension line; from without, and beyond its end, where it is too short for them."""
    if float((tips[1] - tips[0]) @ (math.cos(turn), math.sin(turn))) < 0:
        tips = tips[::-1]
    long, wide = float(np.linalg.norm(tips[1] - tips[0])), text_width(text)
    way = (tips[1] - tips[0]) / max(long, 1e-9)
    inside = long > wide + 2.2 * ARROW
    arrows = [(tuple(tips[0]), tuple(-way if inside else way)), (tuple(tips[1]), tuple(way if inside else -way))]
    if not inside:
        lines = [*lines, (tuple(tips[0] - 2 * ARROW * way), tuple(tips[0]))]
        lines.append((tuple(tips[1]), tuple(tips[1] + (2 * ARROW + wide) * way)))
        middle = tips[1] + (1.8 * ARROW + wide / 2) * way
    off = np.array([-math.sin(turn), math.cos(turn)])
    return Drawn(tuple(lines), tuple(arrows), text, tuple(middle + 0.8 * off), turn)


def _leader(one, to_paper, scale, ink, boxes, within, paper):
    """A line from the rim outward to a text, in the direction in which it crosses and covers least."""
    center, radius = np.array(to_paper(one.center)), scale * one.radius
    wide, best = text_width(one.text), None
    for reach in REACHES:
        for number in range(DIRECTIONS):
            angle = 2 * math.pi * (number + 0.5) / DIRECTIONS
            way = np.array([math.cos(angle), math.sin(angle)])
            rim, knee = center + radius * way, center + (radius + reach) * way
            side = math.copysign(1.0, way[0])
            shelf = knee + (side * (wide + 1.0), 0.0)
            lines = ((tuple(rim), tuple(knee)), (tuple(knee), tuple(shelf)))
            place = (float(knee[0] + side * (wide / 2 + 0.5)), float(knee[1] + 0.8))
            drawn = Drawn(lines, ((tuple(rim), tuple(-way)),), one.text, place)
            line = shapely.LineString([rim + 0.2 * way, knee, shelf])
            crossed = shapely.get_num_geometries(line.intersection(ink)) if line.intersects(ink) else 0
            covers = sum(drawn.box.intersects(box) or line.intersects(box) for box in boxes)
            inside = drawn.box.intersects(within) + 10 * (not paper.contains(drawn.box))
            cost = 20 * covers + 6 * drawn.box.intersects(ink) + 2 * crossed + 3 * inside + 0.12 * reach
            if best is None or cost < best[0]:
                best = cost, drawn
    return best[1]
