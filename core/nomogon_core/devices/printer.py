"""A simulated printer, a stand-in for a real one: layers of a part with their walls, skins and infill, and what they
take in time, material and money. It plans areas and lengths; no machine runs from it."""

from __future__ import annotations

import json
import math
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.devices.motion import seconds_along
from nomogon_core.errors import OperationError
from nomogon_core.inspect.bridging import BRIDGE_MM, polygon_of, span_of
from nomogon_core.solid.bodies import as_mesh
from nomogon_core.solid.meshes import as_manifold

if TYPE_CHECKING:
    from collections.abc import Sequence

    from nomogon_core.solid.bodies import Body

CHORD_MM, MOST_LAYERS, SAME_AREA = 0.02, 3000, 1e-9
LEAST_HANG_MM2, SHOWN_MM, STEEPEST = 0.5, 0.02, 89.0
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
    layers, seconds, filled, drawn, common = [], 0.0, 0.0, {}, _common(cuts, settings.skins)
    for index, cut in enumerate(cuts):
        if id(cut) not in drawn:
            drawn[id(cut)] = _shape(cut, settings)
        one, took = _layer(cuts, index, drawn[id(cut)], common[index], settings)
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


def _layer(cuts, index, shape, common, settings):
    """A layer, and the seconds that it takes."""
    cut, inner = shape.cut, shape.inner.area()
    sparse = 0.0 if common is None else inner if common is cut else (shape.inner ^ common).area()
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
        low_x, low_y, high_x, high_y = piece.bounds()
        around = type(cut).square((high_x - low_x + 2 * BRIDGE_MM, high_y - low_y + 2 * BRIDGE_MM))
        near = held ^ around.translate((low_x - BRIDGE_MM, low_y - BRIDGE_MM))
        spans = span_of(polygon_of(piece), polygon_of(near)) is not None
        (bridges if spans else hanging).extend(piece.to_polygons())
    return tuple(hanging), tuple(bridges)


def _common(cuts, skins):
    """Of each layer, what it and so many layers below and above have in common, where no skin is needed; None at the
    ends of the part. In blocks as long as the window (van Herk 1992, Gil and Werman 1993): three intersections a layer.
    """
    window = 2 * skins + 1
    before, after = list(cuts), list(cuts)
    for index in range(len(cuts)):
        if index % window:
            before[index] = _both(before[index - 1], cuts[index])
    for index in reversed(range(len(cuts) - 1)):
        if (index + 1) % window:
            after[index] = _both(after[index + 1], cuts[index])
    found = [None] * len(cuts)
    for index in range(skins, len(cuts) - skins):
        found[index] = _both(after[index - skins], before[index + skins])
    return found


def _both(first, second):
    return first if first is second else first ^ second


def preview(told: Printed) -> bytes:
    """JSON of the layers for a page: of each its height, the outlines, what hangs and what bridges a gap as SVG
    paths, y down."""

    def path(lines):
        return "".join("M" + "L".join(f"{x:.2f} {-y:.2f}" for x, y in line) + "Z" for line in lines)

    layers = [[round(one.height, 3), path(one.outlines), path(one.hanging), path(one.bridges)] for one in told.layers]
    return json.dumps(layers, separators=(",", ":")).encode()
