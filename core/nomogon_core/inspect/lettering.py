"""Letters and marks against the machine that makes them: narrowest stroke and gap of their areas, and their depth."""

from __future__ import annotations

from typing import TYPE_CHECKING

import attrs
import numpy as np
import shapely

from nomogon_core.geometry.curves import outline_points, sample
from nomogon_core.inspect.telling import Finding
from nomogon_core.solid import kernel
from nomogon_core.solid.asking import DrawnSketch
from nomogon_core.solid.operations.relief import MORE
from nomogon_core.solid.sheet import OperationStep, SketchStep
from nomogon_core.solid.thickening import necks_of, thickened

if TYPE_CHECKING:
    from nomogon_core.geometry.necks import Neck
    from nomogon_core.inspect.making import Making
    from nomogon_core.solid.bodies import Body
    from nomogon_core.solid.graph import Built
    from nomogon_core.solid.sheet import BuildSheet

MARK_MM, LAYERS, SLACK, SEEN, ON_RIM_MM, RIM_CHORD_MM = 3.0, 2, 1e-3, 1.5, 1e-3, 1e-3
DEPTHS = {"extrude": "length", "inlay": "depth", "wrap": "depth"}
SUNK, RAISED = ("cut", "sunk", "empty"), ("add", "raised")


@attrs.frozen
class Limits:
    """The narrowest stroke and gap that a way of making takes, millimetres, and why."""

    stroke: float
    gap: float
    why: str


def limits_of(making: Making, result: str) -> Limits | None:
    """What a way of making takes of marks: raised ones, sunk ones, or sunk and filled ones; None where nothing is known
    of that (common practice)."""
    numbers = making.numbers
    if making.way == "printing":
        line = numbers["nozzle"]
        why = f"A line of the nozzle is {line:.2f} mm wide, and a wall is two (common practice)."
        # What is sunk and filled is a wall on both sides.
        return Limits(line if result in SUNK else 2 * line, line if result in RAISED else 2 * line, why)
    if making.way == "milling":
        cutter, wall = numbers["cutter"], numbers["wall"]
        why = f"The cutter is {cutter:.2f} mm wide, and walls under {wall:.2f} mm chatter (common practice)."
        return Limits(wall, cutter, why) if result in RAISED else Limits(cutter, wall, why)
    return None


def of_marks(sheet: BuildSheet, built: Built, making: Making) -> list[Finding]:
    """What is found on the areas that operations raise, sink or lay around a face."""
    problems = {step.name for step in built.steps if step.problem}
    drawn, found = {}, []
    for step in sheet.steps:
        if isinstance(step, SketchStep) and step.name in built.frames:
            sketch = built.sketches.get(step.name, step.sketch)
            drawn[step.name] = DrawnSketch(step.name, step.title, sketch, built.frames[step.name])
        elif isinstance(step, OperationStep) and step.name not in problems and not step.suppressed:
            found += _of_step(step, drawn, built, making) if step.kind != "relief" else _of_relief(step, drawn, built)
    return found


def _of_relief(step, drawn, built):
    """That no area of a relief stands above its rim, the areas that it ends in."""
    body, areas = built.bodies.get(step.blanks.get("body")), []
    for word in ("", *(f"_{more}" for more in MORE)):
        picked, height = step.blanks.get(f"regions{word}"), step.blanks.get(f"height{word}")
        if picked and height:
            sketch = drawn[picked["sketch"]]
            loops = (sketch.region(name) for name in picked["names"])
            areas += [(shapely.Polygon(*_rings(one)), height["value"]) for one in loops]
    if body is None or not areas:
        return []
    around = shapely.union_all([area.buffer(ON_RIM_MM) for area, _ in areas]).buffer(-2 * ON_RIM_MM)
    rim = [height for area, height in areas if not around.covers(shapely.set_precision(area, ON_RIM_MM))]
    highest, (area, height) = min(rim, default=0.0), max(areas, key=lambda one: one[1])
    if height <= highest + ON_RIM_MM:
        return [Finding(f"rim {step.name}", body.name, "well", "Nothing stands above the rim", f"{highest:.2f} mm")]
    place = area.representative_point()
    why = (
        f"It wears first, and the part does not lie on its face (common practice): an area of {{0}} is {height:.2f} mm "
        f"high, its rim {highest:.2f} mm."
    )
    return [
        Finding(
            f"rim {step.name}",
            body.name,
            "know",
            "Relief above its rim",
            f"{height - highest:.2f} mm",
            why,
            (step.name,),
            sketch.frame.in_space((place.x, place.y), height),
        )
    ]


def _rings(loops):
    outer, *holes = (outline_points([curve for _, curve in loop], RIM_CHORD_MM) for loop in loops)
    return outer, holes


def _of_step(step, drawn, built, making):
    blanks = step.blanks
    name = blanks.get("of") or (blanks.get("face") or {}).get("body") or blanks.get("body")
    body, limits = built.bodies.get(name), limits_of(making, blanks.get("result"))
    depth = (blanks.get(DEPTHS.get(step.kind)) or {}).get("value")
    if body is None or depth is None or limits is None:
        return []
    if step.kind == "extrude" and (depth > MARK_MM or blanks["result"] not in ("add", "cut")):
        return []
    # What was built found its areas, and could thicken them.
    sketch = drawn[blanks["regions"]["sketch"]]
    areas = [sketch.region(one) for one in blanks["regions"]["names"]]
    areas = thickened(areas, (blanks.get("strokes") or {}).get("value", 0.0))
    stroke, gap = necks_of(areas, min(limits.stroke, limits.gap), SEEN * max(limits.stroke, limits.gap))
    told = []
    for neck, least, word in ((stroke, limits.stroke, "stroke"), (gap, limits.gap, "gap")):
        if neck is not None and neck.width < least * (1 - SLACK):
            told.append(_narrow(step, body, sketch, areas, neck, least, word, limits.why))
    if making.way == "printing" and depth < LAYERS * making.numbers["layer"] * (1 - SLACK):
        told.append(_shallow(step, body, depth, LAYERS * making.numbers["layer"]))
    if not told and (stroke or gap):
        sizes = ", ".join(f"{word} {one.width:.2f} mm" for one, word in ((stroke, "stroke"), (gap, "gap")) if one)
        words = "Strokes and gaps of its marks are wide enough"
        told.append(Finding(f"marks {step.name}", body.name, "well", words, sizes))
    return told


def _narrow(step, body, sketch, areas, neck: Neck, least, word, why):
    remedy = None
    if word == "stroke":
        text = f"{least:g} mm"
        remedy = {
            "words": f"Thicken to {least:.2f} mm",
            "command": "solid.set",
            "arguments": {"name": step.name, "blanks": {"strokes": text}},
        }
    place, faces = _on_part(step, body, sketch, areas, neck)
    at = "({:.1f}, {:.1f})".format(*(round(value, 1) + 0.0 for value in neck.place))
    closes = "is lost or breaks" if word == "stroke" else "closes up, or is not cut"
    return Finding(
        f"{word} {step.name}",
        body.name,
        "mend",
        f"Narrow {word} in a mark",
        f"{neck.width:.2f} mm",
        f"{why} A narrower {word} {closes}: the one of {{0}} at {at} of its sketch.",
        (step.name,),
        place,
        faces,
        remedy,
    )


def _shallow(step, body, depth, least):
    return Finding(
        f"depth {step.name}",
        body.name,
        "mend",
        "Shallow mark",
        f"{depth:.2f} mm",
        f"Less than {LAYERS} layers, {least:.2f} mm, hardly shows (common practice): {{0}}.",
        (step.name,),
        None,
        tuple(sorted({called for called in body.names.values.values() if called.startswith(f"{step.name}.")})),
        {
            "words": f"Make it {least:.2f} mm",
            "command": "solid.set",
            "arguments": {"name": step.name, "blanks": {DEPTHS[step.kind]: f"{least:g} mm"}},
        },
    )


def _on_part(step, body: Body, sketch, areas, neck):
    """Where a narrow place lies on the part, and the names of the faces beside it."""
    curves = [pair for loops in areas for loop in loops for pair in loop]
    lines = shapely.linestrings
    called = {
        min(curves, key=lambda pair: shapely.distance(lines(sample(pair[1], 0.01)), shapely.Point(end)))[0]
        for end in neck.ends
    }
    if body.mesh is not None:
        return sketch.frame.in_space(neck.place), ()
    there = {}
    for face in kernel.faces_of(body.shape):
        name = body.names.get(face) or ""
        if name.startswith(f"{step.name}.") and any(f"({one})" in name for one in called):
            there[name] = face
    if step.kind != "wrap" or not there:
        return sketch.frame.in_space(neck.place), tuple(there)
    middles = [kernel.middle_of(face) for face in there.values()]
    return tuple(np.mean(middles, axis=0).tolist()), tuple(there)
