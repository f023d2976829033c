"""A simulated printer, a stand-in for a real one: layers of a part with their walls, skins and infill, and what they
take in time, material and money. It plans areas and lengths; no machine runs from it."""

from __future__ import annotations

import json
import math
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
import shapely

from nomogon_core.devices.motion import seconds_along
from nomogon_core.errors import OperationError
from nomogon_core.solid.bodies import as_mesh
from nomogon_core.solid.meshes import as_manifold

if TYPE_CHECKING:
    from collections.abc import Sequence

    from nomogon_core.solid.bodies import Body

CHORD_MM, MOST_LAYERS, SAME_AREA = 0.02, 3000, 1e-9
LEAST_HANG_MM2, SHOWN_MM, STEEPEST = 0.5, 0.02, 89.0
# Common practice: small machines span 10 mm between two ends without support.
BRIDGE_MM, ACROSS, WAYS = 10.0, 15, 16
# Common practice of small machines: mm/s, mm/s², mm/s at a right corner, seconds a layer.
TRAVEL, ACCELERATION, JERK, LAYER_S = 120.0, 1000.0, 8.0, 0.6
FILAMENT_MM2 = math.pi * (1.75 / 2) ** 2


@attrs.frozen
class Settings:
    """Numbers of the printer: line width (the nozzle) and layer in millimetres, how many walls and how many closed
    layers below and on top, infill in percent, speed in mm/s, price of a kilogram, and the steepest overhang
    in degrees from upright that needs no support."""

    nozzle: float = 0.4
    layer: float = 0.2
    walls: int = 2
    skins: int = 4
    infill: float = 20.0
    speed: float = 50.0
    price: float = 22.0
    hang: float = 45.0


@attrs.frozen
class Layer:
    """One layer.

    Attributes:
        height: of its middle; area: of the part there, mm²; walls, skin, sparse: mm² of each, sparse as if full.
        outlines, hanging, bridges: closed lines (n, 2) around the part, around what lies over nothing, and around what
            does so but is held at both ends.
    """

    height: float
    area: float
    walls: float
    skin: float
    sparse: float
    outlines: tuple = attrs.field(repr=False)
    hanging: tuple = attrs.field(repr=False)
    bridges: tuple = attrs.field(default=(), repr=False)


@attrs.frozen
class Printed:
    """What printing takes: seconds, grams of each body's material, metres of filament 1.75 mm thick, money."""

    layers: tuple = attrs.field(repr=False)
    seconds: float
    grams: float
    metres: float
    cost: float


def printed(bodies: Sequence[Body], settings: Settings, density: float) -> Printed:
    """A part as it would be printed where it lies, its lowest place on the bed.

    Args:
        density: grams a cubic centimetre.

    Raises:
        OperationError: it has more layers than any print.
    """
    # The library takes its time to load, so it is loaded only where something is printed.
    import manifold3d as manifold

    meshes = [body.mesh if body.mesh is not None else as_mesh(body.shape, body.names, CHORD_MM) for body in bodies]
    solid = manifold.Manifold.batch_boolean([as_manifold(mesh) for mesh in meshes], manifold.OpType.Add)
    low, high = solid.bounding_box()[2], solid.bounding_box()[5]
    count = max(1, round((high - low) / settings.layer))
    if count > MOST_LAYERS:
        raise OperationError(f"That would be {count:,} layers; type thicker ones.")
    cuts = _cuts(solid, low + settings.layer * (np.arange(count) + 0.5))
    layers, seconds, filled, drawn = [], 0.0, 0.0, {}
    for index, cut in enumerate(cuts):
        if id(cut) not in drawn:
            drawn[id(cut)] = _shape(cut, settings)
        one, took = _layer(cuts, index, drawn[id(cut)], settings)
        layers.append(one)
        seconds += took
        filled += one.walls + one.skin + one.sparse * settings.infill / 100
    volume = filled * settings.layer
    grams = volume / 1000 * density
    return Printed(tuple(layers), seconds, grams, volume / FILAMENT_MM2 / 1000, grams / 1000 * settings.price)


def _cuts(solid, heights):
    """Cross-sections at heights; one that is as the one before it is the same object."""
    cuts = []
    for height in heights:
        cut = solid.slice(float(height))
        same = cuts and abs(cut.area() - cuts[-1].area()) <= SAME_AREA * max(cut.area(), 1.0)
        cuts.append(cuts[-1] if same and cut.num_vert() == cuts[-1].num_vert() and _alike(cut, cuts[-1]) else cut)
    return cuts


def _alike(first, second):
    return (first ^ second).area() > (1 - SAME_AREA) * first.area() if first.area() else second.area() == 0


@attrs.frozen
class _Shape:
    """What layers of one cross-section have in common: it, what is within its walls, its area, the seconds along the
    walls and to them, and its outlines."""

    cut: Any
    inner: Any
    area: float
    seconds: float
    outlines: tuple


def _shape(cut, settings):
    width = settings.nozzle
    inner = cut.offset(-settings.walls * width) if settings.walls else cut
    lines = [line for step in range(settings.walls) for line in cut.offset(-(step + 0.5) * width).to_polygons()]
    area = cut.area()
    seconds = seconds_along(lines, settings.speed, ACCELERATION, JERK)
    seconds += len(lines) * math.sqrt(max(area, 0.0)) / 2 / TRAVEL
    return _Shape(cut, inner, area, seconds, tuple(cut.simplify(SHOWN_MM).to_polygons()))


def _layer(cuts, index, shape, settings):
    """A layer, and the seconds that it takes."""
    cut, covered, inner = shape.cut, shape.inner, shape.inner.area()
    for other in {id(one): one for one in _around(cuts, index, settings.skins) if one is not cut}.values():
        covered = covered ^ other
    sparse = inner if covered is shape.inner else covered.area()
    below = cuts[index - 1] if index else cut
    hanging, bridges = ((), ()) if below is cut else _over_nothing(cut, below, settings)
    skin = inner - sparse
    fill = (skin + sparse * settings.infill / 100) / settings.nozzle
    chord = math.sqrt(inner) if inner > 0 else 1.0
    seconds = shape.seconds + LAYER_S + fill / settings.speed + fill / chord * settings.speed / ACCELERATION
    height = settings.layer * (index + 0.5)
    return Layer(height, shape.area, shape.area - inner, skin, sparse, shape.outlines, hanging, bridges), seconds


def _over_nothing(cut, below, settings):
    """Closed lines around what of a cross-section nothing holds from below, and around what is held at both ends."""
    reach = settings.layer * math.tan(math.radians(min(settings.hang, STEEPEST)))
    held = below.offset(reach)
    hanging, bridges = [], []
    for piece in (cut - held).decompose():
        if piece.area() <= LEAST_HANG_MM2:
            continue
        (bridges if _is_bridge(piece, held) else hanging).extend(piece.to_polygons())
    return tuple(hanging), tuple(bridges)


def _is_bridge(piece, held):
    """Whether a piece is held at both ends, across where it is farthest from what holds it: a machine spans that."""
    low_x, low_y, high_x, high_y = piece.bounds()
    x, y = np.meshgrid(np.linspace(low_x, high_x, ACROSS), np.linspace(low_y, high_y, ACROSS))
    places = shapely.points(x.ravel(), y.ravel())
    area, support = _polygon(piece), _polygon(held)
    places = np.append(places[shapely.contains(area, places)], area.representative_point())
    far = places[int(np.argmax(shapely.distance(places, support)))]
    angles = np.arange(WAYS) * math.pi / WAYS
    for way in np.column_stack([np.cos(angles), np.sin(angles)]) * BRIDGE_MM:
        sides = (
            shapely.LineString([(far.x, far.y), (far.x + sign * way[0], far.y + sign * way[1])]) for sign in (1, -1)
        )
        spans = [far.distance(met) for met in (side.intersection(support) for side in sides) if not met.is_empty]
        if len(spans) == 2 and sum(spans) <= BRIDGE_MM:
            return True
    return False


def _polygon(section):
    """A cross-section as a polygon; its outlines run counter-clockwise, its holes clockwise."""
    rings = [np.asarray(line) for line in section.to_polygons()]
    whole = shapely.union_all([shapely.Polygon(ring) for ring in rings if shapely.LinearRing(ring).is_ccw])
    holes = shapely.union_all([shapely.Polygon(ring) for ring in rings if not shapely.LinearRing(ring).is_ccw])
    return whole.difference(holes)


def _around(cuts, index, skins):
    """Cross-sections of the layers below and above that have to lie there for a place to need no skin; nothing at the
    ends of the part."""
    empty = type(cuts[0])()
    for step in range(1, skins + 1):
        for at in (index - step, index + step):
            yield cuts[at] if 0 <= at < len(cuts) else empty


def preview(told: Printed) -> bytes:
    """JSON of the layers for a page: of each its height, the outlines, what hangs and what bridges a gap as SVG
    paths, y down."""

    def path(lines):
        return "".join("M" + "L".join(f"{x:.2f} {-y:.2f}" for x, y in line) + "Z" for line in lines)

    layers = [[round(one.height, 3), path(one.outlines), path(one.hanging), path(one.bridges)] for one in told.layers]
    return json.dumps(layers, separators=(",", ":")).encode()
