"""Sketches, pictures and parts that many tests use."""

import io

import attrs
import ezdxf
import numpy as np

from examples.render import Camera, part_coverage, photograph
from nomogon_core.job.document import keep_sketch, new_document
from nomogon_core.picture.decode import srgb_to_linear
from nomogon_core.sketch import edit
from nomogon_core.sketch.constrain import constrain
from nomogon_core.sketch.model import Constraint, Sketch
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph
from nomogon_core.solid.sheet import BuildSheet, OperationStep, SketchStep


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


def number(value):
    return {"typed": "", "value": float(value)}


def operation(name, kind, *, body="Plate", mode="add", regions=(), centers=(), edges=(), suppressed=False, **numbers):
    """A step that extrudes, makes holes or rounds edges; without a length or depth it goes through everything.

    ``edges`` are names, or a rule such as ``{"at": "top"}``.
    """
    told = {blank: number(value) for blank, value in numbers.items()}
    if kind == "fillet":
        picked = {"rule": edges} if isinstance(edges, dict) else {"names": list(edges)}
        blanks = {"edges": {"body": body} | picked}
    else:
        what, names = ("regions", regions) if kind == "extrude" else ("centres", centers)
        blanks = {what: {"sketch": "s1", "names": list(names)}, "body": body}
        blanks |= {"extent": "by" if {"length", "depth"} & numbers.keys() else "through"}
        blanks |= {"result": mode, "way": "up"} if kind == "extrude" else {}
    return OperationStep(name, kind, blanks | told, suppressed=suppressed)


def with_number(step, blank, value):
    """A step with another number in one of its blanks."""
    return attrs.evolve(step, blanks=step.blanks | {blank: number(value)})


def sheet_of(sketch, operations, *more):
    """A Build sheet: a sketch on Plan, then other sketches and planes, then operations."""
    names = {step.blanks["body"] for step in operations if "body" in step.blanks} | {"Plate"}
    bodies = {name: {"name": name, "colour": "#9fb0a6", "material": "aluminium"} for name in sorted(names)}
    return BuildSheet([SketchStep("s1", "Outline", "plan", sketch), *more, *operations], bodies)


def job_of(sketch, operations=(), **parts):
    """A document with a sketch on Plan and operations on it."""
    document = new_document() | parts
    keep_sketch(document, "s1", sketch)
    for step in operations:
        document["operations"][step.name] = {"kind": step.kind, "title": "", "suppressed": False, "blanks": step.blanks}
        document["steps"].append(step.name)
        body = step.blanks.get("body", "Plate")
        document["bodies"][body] = {"name": body, "colour": "#9fb0a6", "material": "PLA"}
    document["next_number"] = 999
    return document


def run(sketch, operations, cache=None):
    """(bodies by id, what came of each operation)."""
    built = graph.run(sheet_of(sketch, operations), cache)
    return built.bodies, list(built.steps[1:])


def plate_operations(sketch, thickness=6.0, fillet=0.0):
    """The largest region extruded, with its top edges rounded if wanted."""
    operations = [operation("op1", "extrude", mode="new", regions=[find_regions(sketch)[0].name], length=thickness)]
    if fillet:
        operations.append(operation("op2", "fillet", edges={"at": "top"}, radius=fillet))
    return operations


def fixed(*names):
    return Constraint("fixed", names)


SVG_DISC = (
    b'<svg xmlns="http://www.w3.org/2000/svg" width="50mm" height="30mm" viewBox="0 0 50 30">'
    b'<circle cx="20" cy="15" r="10"/></svg>'
)


def dxf_bytes(document):
    stream = io.StringIO()
    document.write(stream)
    return stream.getvalue().encode()


def dxf_rectangle(across=2, down=1):
    """A filled rectangle, in inches."""
    document = ezdxf.new(units=ezdxf.units.IN)
    hatch = document.modelspace().add_hatch()
    hatch.paths.add_polyline_path([(0, 0), (across, 0), (across, down), (0, down)], is_closed=True)
    return dxf_bytes(document)


def pdf_rectangle():
    """A page with a filled rectangle of 1 inch by half an inch."""
    stream = b"0 0 0 rg 10 10 72 36 re f"
    return (
        b"%%PDF-1.4\n1 0 obj<</Type/Catalog/Pages 2 0 R>>endobj\n2 0 obj<</Type/Pages/Kids[3 0 R]/Count 1>>endobj\n"
        b"3 0 obj<</Type/Page/Parent 2 0 R/MediaBox[0 0 144 72]/Contents 4 0 R>>endobj\n"
        b"4 0 obj<</Length %d>>stream\n%s\nendstream endobj\n"
        b"trailer<</Root 1 0 R>>\n%%%%EOF"
    ) % (len(stream), stream)
