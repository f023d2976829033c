"""A round bar along a path: curves of a sketch, flat or laid around a face, a helix, a flat spiral."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import cubics_of
from nomogon_core.sentence import Choice, Clause, Declaration, Factor, Length, When
from nomogon_core.solid import paths
from nomogon_core.solid.operations.surface import off_its_plane
from nomogon_core.solid.phrases import JOB_AXES, RESULT, off_plane
from nomogon_core.solid.sentence import AxisBlank, Faces, Run

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body
    from nomogon_core.solid.paths import Path

ORDER = 5.2
MORE = ("second", "third", "fourth", "fifth", "sixth")
ROUNDED_MM = 0.05
TOUCHES = 0.999


def build(ask: Ask) -> dict[str, Body]:
    diameter, path = ask.number("diameter"), _path(ask)
    radii = [(0.0, diameter / 2)]
    for word in MORE:
        if ask.choice(f"diameter_{word}"):
            share = ask.number(f"share_{word}") / 100
            if not radii[-1][0] < share <= 1:
                raise OperationError(
                    "The diameters along the way stand in order: each at more per cent of it than the one before, and "
                    f"at 100 at most; {100 * share:g} came."
                )
            radii.append((share, ask.number(f"diameter_{word}") / 2))
    _check(ask, path, radii)
    shape, names = ask.sweeping.bar(path, radii), ask.no_names()
    ask.name_rest(shape, names, "side")
    return ask.put(ask.choice("result"), "body", [shape], names)


def _path(ask: Ask) -> Path:
    way = ask.choice("path")
    if way != "curves":
        turns = ask.number("turns")
        paths.least_turns(turns)
        make = paths.helix if way == "helix" else paths.spiral
        return make(*ask.axis("about"), ask.number("reach"), ask.number("pitch"), turns)
    frame, runs = ask.runs("curves")
    if len(runs) != 1:
        raise OperationError("These curves do not hang together, so they are no one path; choose those of one.")
    curves, closed = runs[0]
    if not ask.choice("face"):
        return off_its_plane(ask, paths.along_curves(frame, curves, closed), frame, "path")
    if ask.choice("path_begin") or ask.choice("path_view"):
        raise OperationError("A path that is laid around a face is not lifted off its plane; take one of both away.")
    _, faces = ask.faces("face")
    places = np.vstack([control for curve in curves for control in cubics_of(curve)])
    return paths.around_face(ask.developing.development_of(faces[0], frame, places), curves, closed, ask.number("lift"))


def _check(ask, path, radii):
    """Refuse a bar that is thicker than its path lets it be, with the diameter that works."""
    widest = max(radius for _, radius in radii)
    shares = path.along / path.length
    there = np.interp(shares, *zip(*radii))
    tightest, (x, y, z) = path.tightest()
    if (there * path.bends >= TOUCHES).any():
        most = int(2 * TOUCHES * tightest / ROUNDED_MM) * ROUNDED_MM
        sentence = (
            f"The path bends with a radius of {tightest:.2f} mm at ({x:.1f}, {y:.1f}, {z:.1f}), so a bar of Ø "
            f"{2 * widest:.2f} mm would fold there: at most Ø {most:.2f} mm works."
        )
        _refuse(ask, sentence, most, len(radii) == 1)
    nearest, (x, y, z) = path.nearest_to_itself()
    if nearest < 2 * widest * TOUCHES:
        most = int(nearest / ROUNDED_MM) * ROUNDED_MM
        sentence = (
            f"The path comes within {nearest:.2f} mm of itself at ({x:.1f}, {y:.1f}, {z:.1f}), so the bar would run "
            f"into itself: at most Ø {most:.2f} mm works."
        )
        _refuse(ask, sentence, most, len(radii) == 1)


def _refuse(ask, sentence, most, alone):
    if alone and most > 0:
        ask.suggest(sentence, diameter=most)
    raise OperationError(sentence)


def _further(words):
    """A clause for the next diameter, that holds the one after it."""
    first, *rest = words
    inner = (_further(rest),) if rest else ()
    return Clause(
        offer=f"{first} diameter",
        parts=(
            ", Ø",
            Length(
                f"diameter_{first}", asks="Type the diameter.", empty="a diameter", usual="2 mm", usual_in="3/32 in"
            ),
            "at",
            Factor(f"share_{first}", asks="Type at how many per cent of the way.", empty="a share", usual="50"),
            "%",
            *inner,
        ),
    )


def _turning(rise):
    return (
        AxisBlank("about", asks="Choose the axis, or click an edge or a line.", options=JOB_AXES),
        ", radius",
        Length("reach", asks="Type the radius of the path.", empty="a radius", usual="10 mm", usual_in="3/8 in"),
        f", {rise}",
        Length("pitch", asks="Type by how much each turn.", empty="a pitch", usual="6 mm", usual_in="1/4 in"),
        "a turn,",
        Factor("turns", asks="Type how many turns.", empty="how many", usual="3"),
        "turns",
    )


DECLARATION = Declaration(
    kind="bar",
    title="Bar",
    shelf="Shape",
    told="Click curves of a sketch that the bar follows.",
    sentence=(
        "Round bar",
        Choice(
            "path",
            asks="What it follows.",
            options={"curves": "along", "helix": "as a helix about", "spiral": "as a flat spiral about"},
        ),
        When(
            "path",
            ("curves",),
            (
                Run("curves", asks="Click curves of a sketch that follow one another.", empty="curves"),
                Clause(
                    offer="laid around a face",
                    parts=(
                        ", laid around",
                        Faces("face", asks="Click a face that is not flat.", empty="a face"),
                        Clause(
                            offer="lifted",
                            parts=(
                                ", lifted by",
                                Length(
                                    "lift", asks="Type how far its middle lies above.", empty="a height", usual="1 mm"
                                ),
                            ),
                        ),
                    ),
                ),
                *off_plane("path", "the path"),
            ),
        ),
        When("path", ("helix",), _turning("rising by")),
        When("path", ("spiral",), _turning("out by")),
        ", Ø",
        Length("diameter", asks="Type the diameter.", empty="a diameter", usual="4 mm", usual_in="3/16 in"),
        _further(MORE),
        *RESULT,
    ),
    build=build,
    example={
        "path": "helix",
        "about": "z",
        "reach": "10 mm",
        "pitch": "6 mm",
        "turns": "3",
        "diameter": "4 mm",
        "result": "new",
        "body": "Handle",
    },
)
