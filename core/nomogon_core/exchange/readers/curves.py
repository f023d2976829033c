"""Vector drawings as exact curves: SVG and DXF, in millimetres, y up, by group."""

from __future__ import annotations

import io
import math
from collections import Counter
from typing import Any
from xml.etree import ElementTree

import attrs
import ezdxf
import numpy as np
import svgelements
from ezdxf import path as dxf_path
from ezdxf import recover
from ezdxf.disassemble import recursive_decompose

from nomogon_core.errors import PictureError
from nomogon_core.exchange.readers.vector import CSS_DPI, LARGEST_DRAWING, check_dxf, check_svg
from nomogon_core.geometry.curves import Arc, Circle, Ellipse, EllipticArc, Line, Spline, bounds, moved
from nomogon_core.quantity.units import MM_PER_INCH

MOST_CURVES = 5000
MEETING_MM, ROUND_SHARE, LEAST_MM, ROUNDED = 1e-6, 1e-7, 1e-7, 1e-5
TURN = 2 * math.pi
WORDS = {"TEXT": "text", "MTEXT": "text", "ATTRIB": "text", "ATTDEF": "text", "IMAGE": "picture", "HATCH": "hatching"}
PASSED_OVER = ("POINT", "DIMENSION", "LEADER", "VIEWPORT", "WIPEOUT")


@attrs.frozen
class Outlines:
    """A drawing as curves.

    Attributes:
        groups: {name: [curves that follow one another]} by layer or colour, millimetres, y up, the drawing's lower left
            corner at the origin.
        left_out: in words, what is no curve and was passed over.
        size: (width, height) in millimetres.
    """

    groups: dict = attrs.field(repr=False)
    left_out: tuple = ()
    size: tuple = (0.0, 0.0)

    @property
    def count(self) -> int:
        return sum(len(run) for runs in self.groups.values() for run in runs)


def read_outlines(data: bytes, name: str) -> Outlines:
    """The curves of a drawing.

    Args:
        data: the file's bytes; name: of the file; its ending says whether it is SVG or DXF.

    Raises:
        PictureError: it is neither, is damaged, fetches other files, holds no curve, or more than 5,000.
    """
    kind = next((one for one in (".svg", ".dxf") if name.lower().endswith(one)), None)
    if kind is None:
        raise PictureError(f"{name} is no drawing of curves; SVG or DXF was expected.")
    if len(data) > LARGEST_DRAWING:
        raise PictureError(f"{name} has {len(data) / 1e6:.0f} MB; at most {LARGEST_DRAWING / 1e6:.0f} MB are taken.")
    groups, left_out = (_svg if kind == ".svg" else _dxf)(data, name)
    groups = {group: runs for group, runs in groups.items() if runs}
    curves = [curve for runs in groups.values() for run in runs for curve in run]
    words = tuple(f"{count} {word}{'s' if count > 1 else ''}" for word, count in sorted(left_out.items()) if count)
    if not curves:
        told = f": {', '.join(words)} {'was' if sum(left_out.values()) == 1 else 'were'} passed over" if words else ""
        raise PictureError(f"{name} holds no curves{told}. Convert what should come in to paths and save it anew.")
    if len(curves) > MOST_CURVES:
        raise PictureError(f"{name} holds {len(curves):,} curves; a sketch holds {MOST_CURVES:,}. Save a part of it.")
    (left, low), (right, high) = bounds(curves, 1e-3)

    def place(point):
        return point[0] - left, point[1] - low

    shifted = {group: [[moved(curve, place) for curve in run] for run in runs] for group, runs in groups.items()}
    return Outlines(shifted, words, (right - left, high - low))


# --- SVG


def _svg(data, name):
    said = check_svg(data, name)
    left_out: Counter = Counter()
    root = ElementTree.fromstring(data)
    _lay_aside(root, left_out)
    try:
        drawing = svgelements.SVG.parse(io.BytesIO(ElementTree.tostring(root)), ppi=CSS_DPI, reify=False)
    except (ValueError, TypeError, KeyError, AttributeError, IndexError, ArithmeticError) as problem:
        raise PictureError(f"{name} cannot be read as SVG: {str(problem)[:120]}. Save it anew.") from None
    # The library rounds the inch to 25.39998 mm; where the drawing says its size, that is put right.
    wide = float(drawing.width or 0.0) if said else 0.0
    right = said[0] / wide if said and wide and abs(said[0] / wide - 1) < ROUNDED else 1.0
    groups: dict[str, list] = {}
    for element in drawing.elements():
        if element.values.get("display") == "none" or element.values.get("visibility") in ("hidden", "collapse"):
            continue
        if isinstance(element, svgelements.Text):
            left_out["text"] += 1
        elif isinstance(element, svgelements.Image):
            left_out["picture"] += 1
        elif isinstance(element, svgelements.Shape) and not _is_unseen(element):
            left_out["clipping"] += any(element.values.get(name, "none") != "none" for name in ("clip-path", "mask"))
            path = svgelements.Path(element)
            runs = _runs_of_path(path, _Placing(path.transform, right))
            groups.setdefault(_colour(element), []).extend(runs)
    return groups, left_out


def _lay_aside(root, left_out):
    """Take out of a drawing what is only drawn through something else, since the library draws it by itself too:
    masks and markers go, symbols become definitions (SVG 2, 5.5); one with a view of its own is left out."""
    for parent in list(root.iter()):
        for child in list(parent):
            tag = str(child.tag).rpartition("}")[2]
            if tag in ("mask", "marker"):
                parent.remove(child)
            elif tag == "symbol":
                where = list(parent).index(child)
                parent.remove(child)
                if child.get("viewBox"):
                    left_out["symbol with a view of its own"] += 1
                    continue
                space = str(child.tag).removesuffix("symbol")
                kept = ElementTree.Element(f"{space}defs")
                child.tag = f"{space}g"
                kept.append(child)
                parent.insert(where, kept)


def _is_unseen(element):
    """Whether a shape is neither filled nor drawn; one that says nothing is filled black (SVG 2, 13.3)."""
    unfilled = element.fill is not None and element.fill.value is None
    return unfilled and (element.stroke is None or element.stroke.value is None)


def _colour(element):
    """A shape's group: the colour that it is filled with, or else drawn with."""
    for paint in (element.fill, element.stroke):
        if paint is not None and paint.value is not None:
            return paint.hex
    return "black"


class _Placing:
    """Where a drawing's own coordinates lie in millimetres with y up; the library's own way turns leaning ellipses
    wrongly."""

    def __init__(self, matrix, right):
        unit = right * MM_PER_INCH / CSS_DPI
        self.matrix = np.array([[unit * matrix.a, unit * matrix.c], [-unit * matrix.b, -unit * matrix.d]], float)
        self.offset = np.array([unit * matrix.e, -unit * matrix.f], float)

    def of(self, point: Any) -> tuple[float, float]:
        x, y = self.matrix @ (float(point.x), float(point.y)) + self.offset
        return float(x), float(y)

    def arc(self, segment: Any) -> tuple[Ellipse, float, float]:
        """(the ellipse that an arc lies on, eccentric angles of its start and of its sweep)."""
        turn = float(segment.get_rotation().as_radians)
        cos, sin = math.cos(turn), math.sin(turn)
        axes = self.matrix @ [[cos, -sin], [sin, cos]] @ np.diag([float(segment.rx), float(segment.ry)])
        ways, sizes, back = np.linalg.svd(axes)
        if np.linalg.det(ways) < 0:
            ways[:, 1], back[1] = -ways[:, 1], -back[1]
        start = float(segment.get_start_t())
        x, y = back @ (math.cos(start), math.sin(start))
        whole = Ellipse(self.of(segment.center), tuple(sizes.tolist()), math.atan2(ways[1, 0], ways[0, 0]))
        return whole, math.atan2(y, x), float(segment.sweep) * math.copysign(1.0, float(np.linalg.det(back)))


def _runs_of_path(path, placing):
    """Runs of curves of an SVG path, one for each of its subpaths."""
    runs, run = [], []
    for segment in path.segments(transformed=False):
        if isinstance(segment, svgelements.Move):
            runs.append(run)
            run = []
        elif segment.start is not None and segment.end is not None:
            run += _segment(segment, placing)
    return [_as_whole(one) for one in (*runs, run) if one]


def _segment(segment, placing):
    start, end = placing.of(segment.start), placing.of(segment.end)
    if not all(map(math.isfinite, (*start, *end))):
        return []
    if isinstance(segment, svgelements.CubicBezier):
        return [Spline([start, placing.of(segment.control1), placing.of(segment.control2), end])]
    if isinstance(segment, svgelements.QuadraticBezier):
        middle = np.array(placing.of(segment.control))
        arms = (np.array(start) + 2 * middle) / 3, (np.array(end) + 2 * middle) / 3
        return [Spline([start, *(tuple(arm.tolist()) for arm in arms), end])]
    if isinstance(segment, svgelements.Arc):
        whole, first, sweep = placing.arc(segment)
        if min(whole.semi_axes) > LEAST_MM:
            return [_Turned(whole, first, sweep)]
    return [Line(start, end)] if math.dist(start, end) > LEAST_MM else []


@attrs.frozen
class _Turned:
    """An arc of an ellipse before it is known whether it is one of several that close it."""

    whole: Ellipse
    first: float
    sweep: float

    @property
    def is_round(self) -> bool:
        """Whether it lies on a circle."""
        longer, shorter = self.whole.semi_axes
        return longer - shorter <= ROUND_SHARE * longer

    def curves(self) -> list[Any]:
        """As an arc of a circle or of an ellipse."""
        if self.is_round:
            return [Arc(self.whole.center, self.whole.semi_axes[0], self.whole.angle + self.first, self.sweep)]
        return [EllipticArc(self.whole, self.first, self.sweep)]

    def goes_on(self, other: _Turned) -> bool:
        """Whether another lies on the same ellipse."""
        near = np.abs(np.subtract(self.whole.semi_axes, other.whole.semi_axes)).max()
        return math.dist(self.whole.center, other.whole.center) < MEETING_MM and near < MEETING_MM


def _as_whole(run):
    """A run of curves; one of arcs round one centre that close a turn is a circle or an ellipse."""
    arcs = [part for part in run if isinstance(part, _Turned)]
    if arcs and len(arcs) == len(run) and all(arcs[0].goes_on(other) for other in arcs[1:]):
        if abs(abs(sum(arc.sweep for arc in arcs)) - TURN) < MEETING_MM:
            whole = arcs[0].whole
            return [Circle(whole.center, whole.semi_axes[0]) if arcs[0].is_round else whole]
    return [curve for part in run for curve in (part.curves() if isinstance(part, _Turned) else [part])]


def _as_circle(run):
    """A run of arcs round one centre that close a turn is a circle."""
    if len(run) > 1 and all(isinstance(curve, Arc) for curve in run):
        first = run[0]
        same = all(
            math.dist(curve.center, first.center) < MEETING_MM and abs(curve.radius - first.radius) < MEETING_MM
            for curve in run
        )
        if same and abs(abs(sum(curve.sweep for curve in run)) - TURN) < 1e-6:
            return [Circle(first.center, first.radius)]
    return run


# --- DXF


def _dxf(data, name):
    try:
        document, _ = recover.read(io.BytesIO(data))
    except (ezdxf.DXFError, OSError, ValueError) as problem:
        raise PictureError(
            f"{name} cannot be read as DXF: {str(problem)[:120]}. Save it as DXF R2000 or newer."
        ) from None
    check_dxf(document, name)
    unit = ezdxf.units.conversion_factor(document.units or ezdxf.units.MM, ezdxf.units.MM)
    groups: dict[str, list] = {}
    left_out: Counter = Counter()
    for entity in recursive_decompose(document.modelspace()):
        kind = entity.dxftype()
        if kind in WORDS or kind in PASSED_OVER:
            if kind in WORDS:
                left_out[WORDS[kind]] += 1
            continue
        run = _entity(entity, unit)
        if run:
            groups.setdefault(entity.dxf.layer, []).append(run)
        elif run is None:
            left_out[kind.lower()] += 1
    return groups, left_out


def _entity(entity, unit):
    """Curves of an entity; [] where it is too small to be one, None where it is none."""
    kind, upright = entity.dxftype(), tuple(entity.dxf.get("extrusion", (0, 0, 1)))
    level = abs(upright[2] - 1) < 1e-9
    if kind == "LINE":
        start, end = (_flat(place, unit) for place in (entity.dxf.start, entity.dxf.end))
        return [Line(start, end)] if math.dist(start, end) > LEAST_MM else []
    if kind == "CIRCLE" and level:
        return [Circle(_flat(entity.dxf.center, unit), entity.dxf.radius * unit)]
    if kind == "ARC" and level:
        first, last = (math.radians(angle) for angle in (entity.dxf.start_angle, entity.dxf.end_angle))
        return [Arc(_flat(entity.dxf.center, unit), entity.dxf.radius * unit, first, (last - first) % TURN or TURN)]
    if kind == "ELLIPSE" and level:
        return _dxf_ellipse(entity, unit)
    if kind in ("LWPOLYLINE", "POLYLINE") and level and not getattr(entity, "is_poly_face_mesh", False):
        parts = [part for one in entity.virtual_entities() for part in _entity(one, unit) or []]
        return _as_circle(parts)
    try:
        return [piece for part in dxf_path.make_path(entity).sub_paths() for piece in _bezier(part, unit)]
    except (TypeError, ValueError, ezdxf.DXFError):
        return None


def _flat(place, unit):
    return float(place[0]) * unit, float(place[1]) * unit


def _dxf_ellipse(entity, unit):
    center, major = _flat(entity.dxf.center, unit), np.array(_flat(entity.dxf.major_axis, unit))
    axes = float(np.hypot(*major)), float(np.hypot(*major)) * entity.dxf.ratio
    whole = Ellipse(center, axes, math.atan2(major[1], major[0]))
    sweep = (entity.dxf.end_param - entity.dxf.start_param) % TURN or TURN
    if sweep > TURN - 1e-9:
        return [whole]
    return [EllipticArc(whole, entity.dxf.start_param, sweep)]


def _bezier(path, unit):
    """Curves of a path of lines, quadratic and cubic pieces."""
    at, found = path.start, []
    for command in path.commands():
        start, end = (np.array(_flat(place, unit)) for place in (at, command.end))
        if command.type == dxf_path.Command.LINE_TO:
            if math.dist(start, end) > LEAST_MM:
                found.append(Line(tuple(start), tuple(end)))
        elif command.type == dxf_path.Command.CURVE3_TO:
            middle = np.array(_flat(command.ctrl, unit))
            arms = (start + 2 * middle) / 3, (end + 2 * middle) / 3
            found.append(Spline([tuple(start), tuple(arms[0]), tuple(arms[1]), tuple(end)]))
        elif command.type == dxf_path.Command.CURVE4_TO:
            arms = (_flat(place, unit) for place in (command.ctrl1, command.ctrl2))
            found.append(Spline([tuple(start), *arms, tuple(end)]))
        at = command.end
    return found
