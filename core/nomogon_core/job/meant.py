"""What a traced sketch was probably meant to be: how it should lie, its mirror axis, constraints and standard sizes."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs

from nomogon_core.job.document import calibration_of, sketch_of
from nomogon_core.sketch.figure import LEAST_ASKEW, Mirrored, askew, mirror_axis
from nomogon_core.sketch.joint import U95
from nomogon_core.sketch.proposals import propose, traced_curves
from nomogon_core.trace.outlines import scale_u95

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Constraint, Sketch

MOST_ASKED = 12


@attrs.frozen
class Suggestion:
    """Something that may be taken: constraints, or a command.

    Attributes:
        words, of: what it says, and the ids of the points and curves that it speaks of.
        sigmas: how far off it is, in standard deviations of the trace; sure: whether it may be taken unseen.
        constraints: what taking it adds; command, arguments: or what is then to be done.
        line: two places between which it is drawn, if it is a line.
    """

    words: str
    of: tuple
    sigmas: float
    sure: bool
    constraints: tuple[Constraint, ...] = ()
    command: str = ""
    arguments: dict = attrs.field(factory=dict)
    line: tuple = ()


def meant_by(document: dict[str, Any], sketch: str = "") -> list[Suggestion]:
    """What a sketch's traces say of what was meant: how it lies first, then its axis, then all else, the surest first.

    Raises:
        SketchError: nothing is in it.
    """
    drawing = sketch_of(document, sketch)
    traced = [name for name in traced_curves(drawing) if drawing.curves[name].origin in document["traces"]]
    mirrored = mirror_axis(drawing, traced)
    found = [one for one in (_level(document, drawing, traced, mirrored), _axis(mirrored, traced)) if one]
    fit = calibration_of(document, document["traces"][drawing.curves[traced[0]].origin]["picture"]) if traced else None
    shapes = [drawing.geometry(name) for name in traced[:MOST_ASKED]]
    scale = max((scale_u95(fit, shape) for shape in shapes), default=0.0) / U95 if fit else 0.0
    return found + [
        Suggestion(one.words, one.of, one.sigmas, one.is_sure, one.constraints) for one in propose(drawing, scale)
    ]


def _level(
    document: dict[str, Any], drawing: Sketch, traced: list[str], mirrored: Mirrored | None
) -> Suggestion | None:
    """That the picture is to be turned, if its main edges, or else its mirror axis, lie askew."""
    pictures = {document["traces"][drawing.curves[name].origin]["picture"] for name in traced}
    picture = pictures.pop() if len(pictures) == 1 else ""
    fit = calibration_of(document, picture) if picture else None
    if fit is None:
        return None
    edges = askew(drawing, traced)
    if edges:
        what, them, run, of = "The main edges lie", "they lie level and upright", edges.run, edges.lines
        angle, sigmas, sure = edges.angle, abs(edges.angle) / edges.sigma, edges.is_sure
    elif mirrored and abs(mirrored.askew) > LEAST_ASKEW:
        what, them, run, of = "The mirror axis lies", "it stands upright or level", mirrored.run, mirrored.of
        angle, sigmas, sure = mirrored.askew, mirrored.sigmas, mirrored.is_sure
    else:
        return None
    start, end = fit.to_px(run).tolist()
    return Suggestion(
        f"{what} {abs(math.degrees(angle)):.2f}° askew; the picture is turned so that {them}",
        of,
        sigmas,
        sure,
        command="reference.level",
        arguments={"picture": picture, "start": start, "end": end},
    )


def _axis(found: Mirrored | None, traced: list[str]) -> Suggestion | None:
    if not found:
        return None
    count = f"All {len(found.of)}" if found.whole else f"{len(found.of)} of {len(traced)}"
    return Suggestion(
        f"{count} curves are mirror images about one line; it is drawn, and their ends are tied about it",
        found.of,
        found.sigmas,
        found.is_sure,
        command="sketch.mirror_axis",
        line=found.run,
    )
