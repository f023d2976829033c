"""Sketches, pictures and parts that many tests use."""

import numpy as np

from examples.render import Camera, part_coverage, photograph
from nomogon_core.picture.decode import srgb_to_linear
from nomogon_core.sketch import edit
from nomogon_core.sketch.constrain import constrain
from nomogon_core.sketch.model import Constraint, Sketch
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid.operations import Operation


def light_of(outlines, width, height, camera, **how):
    """Linear light of a photo-like picture, without compression."""
    return srgb_to_linear(photograph(part_coverage(outlines, camera, width, height), **how) / 255).astype(np.float32)


def camera(scale=10.0, center=(100.3, 500.7), angle=0.0):
    return Camera(scale, center, angle)


def drawn(*outlines):
    """A sketch of closed outlines."""
    sketch = Sketch()
    for outline in outlines:
        sketch, _, _ = edit.add_outline(sketch, outline, [0.05] * len(outline), origin="drawn")
    return sketch


def tied(sketch, *constraints):
    """The sketch with constraints added one after the other, each solved."""
    for constraint in constraints:
        sketch = constrain(sketch, constraint).sketch
    return sketch


def triangle(*places):
    """Three points and three lines between them; returns sketch, point ids, line ids."""
    sketch, points, lines = Sketch(), [], []
    for place in places:
        sketch, name = edit.add_point(sketch, place)
        points.append(name)
    for index in range(3):
        sketch, name = edit.add_line(sketch, points[index], points[(index + 1) % 3])
        lines.append(name)
    return sketch, points, lines


def plate_operations(sketch, thickness=6.0, fillet=0.0):
    """The largest region extruded, with its top edges rounded if wanted."""
    operations = [
        Operation("op1", "extrude", mode="new", body="Plate", regions=[find_regions(sketch)[0].name], length=thickness)
    ]
    if fillet:
        operations.append(Operation("op2", "fillet", body="Plate", edges=["top"], radius=fillet))
    return operations


def fixed(*names):
    return Constraint("fixed", names)
