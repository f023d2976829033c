"""Lay areas around a face that is not flat, to a constant depth: raised, sunk, or let in as a body of its own."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import cubics_of
from nomogon_core.sentence import Angle, Choice, Clause, Declaration, Length, When
from nomogon_core.solid.areas import together
from nomogon_core.solid.phrases import filling_of
from nomogon_core.solid.sentence import Faces, Regions
from nomogon_core.solid.thickening import STROKES, narrowed, thickened

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 5.5
SUNK_FROM_MM = 0.5
MOST_STRETCH = 0.5


def build(ask: Ask) -> dict[str, Body]:
    frame, regions = ask.regions("regions")
    regions = thickened(regions, ask.number("strokes"))
    body, faces = ask.faces("face")
    if len(faces) > 1:
        raise OperationError("Areas are laid around one face; choose one.")
    depth, result = ask.number("depth"), ask.choice("result")
    spots, turn, along = _spots(regions), ask.number("turn"), ask.number("along")
    shape, names, face = body.shape, body.names, faces[0]
    development = ask.developing.development_of(face, frame, spots, turn, along)
    areas, stretch = ask.grafting.laid(together(regions), development), development.stretch(spots)
    if stretch > MOST_STRETCH:
        raise OperationError(
            f"Laid on that face these areas would be stretched by up to {100 * stretch:.0f} %; lay smaller ones there, "
            "or choose another place."
        )
    rise = depth if result == "raised" else -depth
    within = ask.grafting.lies_within(face, areas)
    turned = None if within else ask.grafting.with_seam_away(shape, face, areas)
    if turned is not None:
        place = next(index for index, one in enumerate(ask.kernel.faces_of(shape)) if one.IsSame(face))
        shape, names, face = turned, ask.named_alike(body, turned), ask.kernel.faces_of(turned)[place]
        development = ask.developing.development_of(face, frame, spots, turn, along)
        areas = ask.grafting.laid(together(regions), development)
        within = ask.grafting.lies_within(face, areas)
    if within:
        grown = ask.grafting.grafted(shape, face, development, areas, rise)
        changed = ask.replaced(body, grown.solid, _named(ask, grown, names), grows=rise > 0)
    else:
        changed = _by_solids(ask, body, development, areas, rise)
    if result != "filled":
        return changed
    filling = regions
    if ask.number("clearance"):
        filling = [narrowed(area, ask.number("clearance")) for area in together(regions)]
    tools, names = [], ask.no_names()
    for area in ask.grafting.laid(together(filling), development):
        tools.append(_solid(ask, development, area, -depth, ask.number("rise"), names))
    return changed | ask.after(changed).put("new", "body", tools, names)


def _spots(areas):
    """Places (n, 2) all along the outlines of areas."""
    curves = [curve for area in areas for loop in area for _, curve in loop]
    return np.vstack([control[::3] for curve in curves for control in cubics_of(curve)])


def _called(ask, role, of):
    return ask.called(f"{role}({of})")


def _named(ask, grown, before):
    names = ask.no_names()
    for face, role, of in grown.named:
        name = before.get(of) if role == "kept" else _called(ask, role, of)
        if name is not None:
            names.put(face, name)
    return names


def _solid(ask, development, area, low, high, names):
    """The solid over an area between two depths; its faces are named in ``names``."""
    grown = ask.grafting.between(development, area, low, high)
    for face, role, of in grown.named:
        names.put(face, _called(ask, role, of))
    return grown.solid


def _by_solids(ask, body, development, areas, rise):
    """The body with solids added or cut, where areas run over the seam or the border of their face."""
    low, high = (-SUNK_FROM_MM, rise) if rise > 0 else (rise, SUNK_FROM_MM)
    tools, names = [], ask.no_names()
    for area in areas:
        tools.append(_solid(ask, development, area, low, high, names))
    return ask.put_into(body.name, "add" if rise > 0 else "cut", tools, names)


DECLARATION = Declaration(
    kind="wrap",
    title="Wrap",
    shelf="Marks",
    told="Click the areas that are laid around a face.",
    sentence=(
        "Wrap",
        Regions("regions", asks="Click areas of a sketch that lies in front of the face.", empty="areas"),
        "around",
        Faces("face", asks="Click a face that is not flat.", empty="a face"),
        ",",
        Choice(
            "result",
            asks="What they become there.",
            options={"raised": "raised", "sunk": "sunk", "filled": "sunk and filled with new body"},
        ),
        When("result", ("filled",), filling_of("filled")),
        "by",
        Length("depth", asks="Type how high or deep.", empty="a depth", usual="0.8 mm", usual_in="1/32 in"),
        STROKES,
        Clause(
            offer="turned",
            parts=(
                ", turned around it by",
                Angle("turn", asks="Type how far around its axis.", empty="an angle", usual="90°"),
            ),
        ),
        Clause(
            offer="moved along",
            parts=(
                ", moved along it by",
                Length("along", asks="Type how far along its axis.", empty="a length", usual="5 mm", usual_in="1/4 in"),
            ),
        ),
        ".",
    ),
    build=build,
    example={
        "regions": {"sketch": "s2", "names": ["region c4"]},
        "face": {"body": "b1", "names": ["op1.side(c1)"]},
        "result": "raised",
        "depth": "0.8 mm",
    },
)
