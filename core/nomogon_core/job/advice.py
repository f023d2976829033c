"""What state a job is in, stage by stage, and the one most useful next action."""

from __future__ import annotations

import json
import math
from typing import TYPE_CHECKING

import attrs

from nomogon_core.job.measuring import suggest
from nomogon_core.quantity.units import format_angle, format_length
from nomogon_core.sketch.figure import main_direction
from nomogon_core.sketch.joint import U95
from nomogon_core.sketch.proposals import traced_curves
from nomogon_core.solid.facts import is_sound
from nomogon_core.solid.operations import typed

if TYPE_CHECKING:
    from nomogon_core.job.overview import Overview

LEAST_LEVEL_U95, LEAST_LEVEL, MOST_LEVEL = math.radians(0.005), math.radians(0.03), math.radians(30.0)
STAGES = ("reference", "sketch", "solid", "inspect", "release")


@attrs.frozen
class Status:
    """A few characters under a stage; tone is "", "gauge" or "bad"."""

    text: str
    tone: str = ""


@attrs.frozen
class Action:
    """A button of Next: go to a stage, take up a tool, or carry out a command.

    Exactly one of ``stage`` (with an optional ``tool``) and ``command`` is set.
    """

    label: str
    stage: str = ""
    tool: str = ""
    command: str = ""
    arguments: dict = attrs.field(factory=dict)

    @property
    def arguments_json(self) -> str:
        return json.dumps(self.arguments)


@attrs.frozen
class Advice:
    sentence: str
    actions: tuple


def statuses(view: Overview, unit: str = "mm") -> dict[str, Status]:
    """Status of each stage by name."""
    return {
        "reference": _reference_status(view, unit),
        "sketch": _sketch_status(view),
        "solid": _solid_status(view),
        "inspect": _inspect_status(view),
        "release": _release_status(view),
    }


def _reference_status(view, unit):
    if view.picture is None:
        return Status("no picture")
    if view.calibration is None:
        return Status("no known length", "bad")
    if view.calibration.is_set:
        return Status("size set by hand")
    return Status(f"±{format_length(view.calibration.u95_at_reach(), unit=unit)} {unit}", "gauge")


def _sketch_status(view):
    if not view.drawn:
        return Status("not begun")
    findings = [finding for one in view.sketches.values() for finding in one.findings]
    if findings:
        count = len(findings)
        return Status(
            f"{view.degrees} free, {count} gap" if count == 1 and findings[0].code == "gap" else f"{count} to mend",
            "bad",
        )
    return Status(f"{view.degrees} free" if view.degrees else "fully located")


def _solid_status(view):
    count = len(view.build.operations)
    if not count:
        return Status("no body yet")
    if view.problems:
        return Status(f"{len(view.problems)} of {count} fail{'s' if len(view.problems) == 1 else ''}", "bad")
    return Status(f"{count} operation{'' if count == 1 else 's'}")


def _sound(view):
    bodies = (view.result or {}).get("bodies", {})
    return (
        bool(bodies)
        and not view.problems
        and all(is_sound(facts, apart=name in view.build.apart) for name, facts in bodies.items())
    )


def _inspect_status(view):
    if not (view.result or {}).get("bodies"):
        return Status("nothing to check")
    return Status("closed, valid") if _sound(view) else Status("to fix", "bad")


def _release_status(view):
    return Status("ready") if _sound(view) else Status("not ready")


def state_words(view: Overview, unit: str = "mm") -> tuple[str, str, str]:
    """(furthest stage, short state, tone) for the register."""
    begun = view.drawn or view.build.operations  # what is built without any sketch, such as a helix, needs none
    if view.picture is None and not begun:
        return "reference", "no picture", ""
    if view.calibration is None and not begun:
        return "reference", "no known length", "bad"
    if not begun:
        return "reference", _reference_status(view, unit).text, ""
    if not view.build.operations:
        status = _sketch_status(view)
        return "sketch", status.text, status.tone
    if view.problems:
        status = _solid_status(view)
        return "solid", status.text, status.tone
    return ("release", "ready", "") if _sound(view) else ("solid", _solid_status(view).text, "")


def next_step(view: Overview, stage: str) -> Advice:
    """The most useful next action, from what is missing or wrong first."""
    # What is built without any region, such as a bar, needs none.
    built = view.build.operations and not any(one.regions for one in view.sketches.values())
    for look in (_next_solid,) if built else (_next_picture, _next_sketch, _next_solid):
        advice = look(view, stage)
        if advice:
            return advice
    bodies = (view.result or {}).get("bodies", {})
    sound = "The part is" if len(bodies) < 2 else f"Each of the {len(bodies)} bodies is"
    whole = "one closed, valid solid" if all(one["solids"] == 1 for one in bodies.values()) else "closed and valid"
    there = () if stage == "release" else (Action("Open Release", stage="release"),)
    return Advice(f"{sound} {whole}. Take the files for making it.", there)


def level_turn(view: Overview) -> tuple[float, float] | None:
    """(radians, their 95 % uncertainty) by which the main edges traced in the picture worked on are out of level or
    upright, or None without any; whichever is nearer counts."""
    traces = {name for name, item in view.document["traces"].items() if item["picture"] == view.picture_id}
    traced = [name for name in traced_curves(view.sketch) if view.sketch.curves[name].origin in traces]
    found = main_direction(view.sketch, traced)
    return (found.angle, max(U95 * found.sigma, LEAST_LEVEL_U95)) if found else None


def _next_level(view):
    """The turn that lays the longest edges level and upright, until something in the sketch is tied to a direction."""
    if view.picture.get("locked") or any(
        item.kind in ("horizontal", "vertical", "across", "up") for item in view.sketch.constraints.values()
    ):
        return None
    turn = level_turn(view)
    if turn is None or not max(turn[1], LEAST_LEVEL) < abs(turn[0]) < MOST_LEVEL:
        return None
    angle = view.picture["angle"] + (-turn[0] if view.picture.get("flipped") else turn[0])
    level = {"picture": view.picture_id, "field": "angle", "text": f"{math.degrees(angle):.6f}°"}
    return Advice(
        f"The longest edges are {format_angle(abs(turn[0]), 2)} ± {format_angle(turn[1], 2)} out of level. "
        "Lay them level and upright, and sizes across and up are true.",
        (Action("Level", command="reference.place_picture", arguments=level), Action("Open Sketch", stage="sketch")),
    )


def _next_picture(view, stage):
    if view.calibration is not None and stage == "reference":
        advice = _next_calibration(view) or _next_level(view)
        if advice:
            return advice
    if view.drawn:
        return None
    if view.picture is None:
        return Advice(
            "Drop a picture of the part on the Board, or draw the part by hand in Sketch.",
            (Action("Open Sketch", stage="sketch"),),
        )
    if view.calibration is None:
        return Advice(
            "Say how large the picture is: click two edges that you have measured, then type how long that is.",
            (
                Action("Pick a known length", stage="reference", tool="known"),
                Action("Find a bank card", stage="reference", tool="card"),
            ),
        )
    if view.calibration.is_set:
        return _next_calibration(view)
    return Advice(
        f"The scale is good to ±{view.calibration.u95_at_reach():.2f} mm over the known length. Find the outlines of "
        "the part.",
        (Action("Find outlines", stage="reference", tool="outlines"), Action("Draw by hand", stage="sketch")),
    )


def _next_calibration(view):
    """What would make the calibration better, if anything would."""
    fit = view.calibration
    if fit.is_set:
        return Advice(
            "The size of this picture was set by hand, so nothing tells how true it is. One length that you have "
            "measured makes it so.",
            (
                Action("Pick a known length", stage="reference", tool="known"),
                Action("Find outlines", stage="reference", tool="outlines"),
            ),
        )
    if fit.doubt:
        return Advice(
            f"{fit.doubt.name} disagrees with the others by {fit.doubt.off_mm:+.2f} mm. Measure it again and type "
            "over it, or leave it out.",
            (Action("Leave it out", command="reference.use_known", arguments={"name": fit.doubt.key, "used": False}),),
        )
    if all(item.name.startswith("Resolution") for item in fit.residuals):
        return Advice(
            "The scale comes from the scan's resolution alone, and scanners are off by up to half a percent. Confirm "
            "it by one known length.",
            (Action("Pick a known length", stage="reference", tool="known"),),
        )
    found = suggest(view)
    if found is None:
        return None
    return Advice(
        f"Measure this next: the length marked on the Board, about {found.about_mm:.1f} mm. It would bring the sizes "
        "of the sketch from "
        f"±{found.before_u95_mm:.2f} to ±{found.after_u95_mm:.2f} mm, as the scale may differ across and up.",
        (Action("Measure this", stage="reference", tool="next"), Action("Open Sketch", stage="sketch")),
    )


def _next_sketch(view, stage):
    gap = next((finding for finding in view.findings if finding.code == "gap"), None)
    if gap:
        return Advice(
            f"Join the gap of {gap.size:.2f} mm, so that the outline closes.",
            (
                Action("Join ends", command="sketch.join", arguments={"first": gap.of[0], "second": gap.of[1]}),
                Action("Open Sketch", stage="sketch"),
            )
            if stage != "sketch"
            else (Action("Join ends", command="sketch.join", arguments={"first": gap.of[0], "second": gap.of[1]}),),
        )
    if view.findings:
        return Advice(view.findings[0].sentence, () if stage == "sketch" else (Action("Open Sketch", stage="sketch"),))
    if not any(one.regions for one in view.sketches.values()):
        return Advice(
            "No closed region yet. Draw or trace curves that close, and the region can be made solid.",
            () if stage == "sketch" else (Action("Open Sketch", stage="sketch"),),
        )
    return None


def _next_solid(view, stage):
    if not view.build.operations:
        count = sum(len(one.regions) for one in view.sketches.values())
        asked = (Action("What was meant?", stage="sketch", tool="meant"),) if _only_traced(view) else ()
        return Advice(
            f"{count} closed region{'' if count == 1 else 's'}. Extrude the outline to make the part.",
            (Action("Extrude", stage="solid", tool="extrude"), *asked),
        )
    if view.problems:
        name, problem, suggestion = view.problems[0]
        action = Action("Leave it out", command="solid.suppress", arguments={"name": name, "suppressed": True})
        if suggestion:
            kind = view.document["operations"][name]["kind"]
            texts = {blank: typed(kind, blank, value) for blank, value in suggestion.items()}
            fixed = Action(
                f"Set {' and '.join(texts.values())}", command="solid.set", arguments={"name": name, "blanks": texts}
            )
            return Advice(problem, (fixed, action))
        return Advice(problem, (action,))
    if view.result is None and stage != "solid":
        return Advice(
            "The part has changed since it was last built. Build it again in Solid.",
            (Action("Open Solid", stage="solid"),),
        )
    return None if _sound(view) else Advice(_unsound(view), ())


def _only_traced(view):
    """Whether the open sketch is as its trace left it: nobody has said yet what was meant."""
    traced = any(curve.u95 is not None for curve in view.sketch.curves.values())
    return traced and all(item.kind in ("tangent", "symmetric") for item in view.sketch.constraints.values())


def _unsound(view):
    """Why a body of the part is not one closed, valid solid."""
    for name, facts in (view.result or {}).get("bodies", {}).items():
        title = view.document["bodies"].get(name, {}).get("name", name)
        if facts["solids"] != 1 and name not in view.build.apart:
            return f"{title} is {facts['solids']} separate solids. Join them, or make the loose one a body of its own."
        if not facts["valid"]:
            return f"{title} is not closed. Leave its last operation out, or change a number of it a little."
    return "The part is being built."
