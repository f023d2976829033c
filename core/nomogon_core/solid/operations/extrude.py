"""Extrude regions of a sketch along the normal of its plane."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import attrs
import numpy as np

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import bounds, outline_points
from nomogon_core.sentence import Angle, Choice, Clause, Declaration, Length, When
from nomogon_core.solid.phrases import RESULT
from nomogon_core.solid.sentence import PlaneBlank, Regions
from nomogon_core.solid.thickening import STROKES, moved_out, thickened
from nomogon_core.solid.trying import refuse_draft

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 1
OVERSHOOT_MM, CHORD_MM = 1.0, 0.01
LEVEL_MM, LEAST_LEAN = 1e-7, 1e-6
MOST_DRAFT = math.radians(60)


def build(ask: Ask) -> dict[str, Body]:
    frame, regions = ask.regions("regions")
    regions = thickened([moved_out(loops, ask.number("outward")) for loops in regions], ask.number("strokes"))
    low, height = _span(ask, frame, regions)
    tools, names = [], ask.no_names()
    for loops in regions:
        leans = ask.choice("draft")
        tools.append(_drafted(ask, loops, low, height, names) if leans else ask.prism(loops, low, height, names))
    tools, names = ask.placed(tools, names, frame)
    if ask.choice("extent") == "to":
        tools, names = _ended(ask, tools, names, frame, regions)
    return ask.put(ask.choice("result"), "body", tools, names)


def _span(ask, frame, regions):
    """(low, height) of the prism along the normal of the plane."""
    start = ask.number("start")
    if ask.choice("extent") == "through":
        low, high = ask.heights(ask.body("body"), frame)
        return low - OVERSHOOT_MM, high - low + 2 * OVERSHOOT_MM
    if ask.choice("extent") == "to":
        heights = _heights_of(ask.plane("to"), frame, regions)
        if min(heights) < -LEVEL_MM and max(heights) > LEVEL_MM:
            raise OperationError("The plane that it should go up to cuts through the region; choose another.")
        far = max(heights, key=abs)
        return (0.0, far + OVERSHOOT_MM) if far > 0 else (far - OVERSHOOT_MM, OVERSHOOT_MM - far)
    length, way = ask.number("length"), ask.choice("way")
    if way == "both":
        return start - length / 2, length
    return (start - length, length) if way == "down" else (start, length)


def _heights_of(plane, frame, regions):
    """How far above the sketch the other plane is at places around the regions."""
    lean = float(np.dot(plane.normal, frame.normal))
    if abs(lean) < LEAST_LEAN:
        raise OperationError("The plane that it should go up to stands upright on the sketch; choose another.")
    curves = [curve for loops in regions for _, curve in loops[0]]
    places = np.vstack([outline_points([curve], CHORD_MM) for curve in curves])
    points = np.array([frame.in_space(tuple(place)) for place in places])
    return ((np.array(plane.origin) - points) @ np.array(plane.normal)) / lean


def _ended(ask, tools, names, frame, regions):
    """Prisms cut off at the plane that they go up to."""
    plane = ask.plane("to")
    if np.mean(_heights_of(plane, frame, regions)) * np.dot(plane.normal, frame.normal) > 0:
        plane = plane.turned_over()
    # The block lies on the side of the plane that its normal shows to, which is the sketch's.
    here = attrs.evolve(plane, origin=plane.in_space(plane.of_space(frame.in_space(_middle(regions)))[:2]))
    reach = ask.kernel.reach_of([*tools])
    block = ask.kernel.block(here, reach, reach)
    for face in ask.kernel.faces_of(block):
        _, normal = ask.kernel.plane_of(face)
        if np.dot(normal, here.normal) < -1 + LEVEL_MM:
            names.put(face, ask.called("top"))
    return ask.overlapped(tools, block, names)


def _middle(regions):
    low, high = bounds([curve for loops in regions for _, curve in loops[0]], CHORD_MM)
    return tuple((a + b) / 2 for a, b in zip(low, high))


def _drafted(ask, loops, low, height, names):
    """A solid over a region whose sides lean into the material, away from the end at the sketch's plane."""
    angle = ask.number("draft")
    if not 0 < abs(angle) < MOST_DRAFT:
        raise OperationError("A draft lies between 0 and 60°; negative grows wider.")
    told = ask.leaning_prism(loops, low, height, angle, names, up=ask.choice("way") != "down")
    if told is None:
        refuse_draft(ask, [(loops, height)], angle)
    return told


DECLARATION = Declaration(
    kind="extrude",
    title="Extrude",
    shelf="Shape",
    told="Click the regions to extrude; click again to leave one out.",
    sentence=(
        "Extrude",
        Regions("regions", asks="Click the regions to extrude; click again to leave one out.", empty="the regions"),
        Choice("extent", asks="How far it goes.", options={"by": "by", "through": "through everything", "to": "up to"}),
        When("extent", ("to",), (PlaneBlank("to", asks="Click a flat face, or choose a plane.", empty="a plane"),)),
        When(
            "extent",
            ("by",),
            (
                Length("length", asks="Type how far to extrude.", empty="a length", usual="6 mm", usual_in="1/4 in"),
                Choice(
                    "way",
                    asks="Which way from the sketch's plane.",
                    options={"up": "up", "down": "down", "both": "both ways, half each"},
                ),
                Clause(
                    "starting at",
                    (
                        ", starting",
                        Length(
                            "start",
                            asks="Type how far above the plane it starts; below is negative.",
                            usual="1 mm",
                            positive=False,
                        ),
                        "above the plane",
                    ),
                ),
                Clause(
                    "draft",
                    (
                        ", sides leaning",
                        Angle("draft", asks="Type the draft; negative grows wider.", empty="an angle", usual="2°"),
                    ),
                ),
            ),
        ),
        STROKES,
        Clause(
            "outline moved out",
            (
                ", outlines moved out by",
                Length(
                    "outward",
                    asks="Type how far outlines move out; in is negative. Holes stay.",
                    empty="a length",
                    usual="0.2 mm",
                    usual_in="0.01 in",
                    positive=False,
                ),
            ),
        ),
        *RESULT,
    ),
    build=build,
    example={
        "regions": {"sketch": "s1", "names": ["region c4 c6 c8 c10"]},
        "extent": "by",
        "length": "6 mm",
        "way": "up",
        "result": "new",
        "body": "Plate",
    },
)
