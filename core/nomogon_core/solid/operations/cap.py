"""Close openings of a body flush with the flat faces around them: the end of a tube, the mouth of a hollow part, a hole
that is not wanted."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Choice, Declaration, Length, When
from nomogon_core.solid.sentence import BodyBlank, Edges

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 31.5
MOUTH_SHARE, SPARE_MM, PARALLEL = 0.01, 1e-3, 1 - 1e-9


def build(ask: Ask) -> dict[str, Body]:
    body, edges = ask.edges("edges")
    thickness, rims = ask.number("thickness"), []
    for edge in edges:
        rim = ask.kernel.opening_at(body.shape, edge)
        if rim is None:
            raise OperationError(
                "A chosen edge is not the rim of an opening in a flat face; click the edge in which the opening meets "
                "that face."
            )
        if not any(rim.wire.IsSame(other.wire) for other in rims):
            rims.append(rim)
    if ask.choice("result") == "new":
        return ask.put_into(ask.choice("body"), "new", *_plugs(ask, body, rims, thickness, _filled))
    try:
        capped = ask.put_into(body.name, "add", *_plugs(ask, body, rims, thickness, _plug))
    except OperationError:
        capped = {}
    if capped and capped[body.name].facts.solids <= body.facts.solids:
        return capped
    # An opening that widens inward touches a plug in its rim alone, so that what it encloses is filled.
    return ask.put_into(body.name, "add", *_plugs(ask, body, rims, thickness, _filled))


def _plugs(ask, body, rims, thickness, made):
    tools, names = [], ask.no_names()
    for number, rim in enumerate(rims, 1):
        told = f"({number})" if len(rims) > 1 else ""
        solid = made(ask, body, rim, thickness)
        for face in ask.kernel.faces_of(solid):
            at = _height(ask, face, rim.frame)
            if at is not None and abs(at) < ask.kernel.TOUCHING_MM:
                # It goes on in the face around it, whose name is known to what comes later.
                names.put(face, body.names.get(rim.face) if ask.choice("result") != "new" else ask.called(f"top{told}"))
            elif at is not None and abs(at + thickness) < ask.kernel.TOUCHING_MM:
                names.put(face, ask.called(f"bottom{told}"))
        ask.name_rest(solid, names, f"side{told}")
        tools.append(solid)
    return tools, names


def _height(ask, face, frame):
    """Height of a face over a plane that it is parallel to; None for any other."""
    plane = ask.kernel.plane_of(face)
    if plane is None or abs(sum(a * b for a, b in zip(plane[1], frame.normal))) < PARALLEL:
        return None
    return frame.of_space(plane[0])[2]


def _plug(ask, _body, rim, thickness):
    """The area inside the rim, going into the opening."""
    return ask.kernel.prism_along(rim.inside, tuple(-thickness * value for value in rim.frame.normal))


def _filled(ask, body, rim, thickness):
    """What the opening encloses down to a depth.

    Raises:
        OperationError: it is open to the side within that.
    """
    slab = ask.kernel.block(rim.frame.turned_over(), ask.kernel.reach_of([body.shape]), thickness)
    mouth = _plug(ask, body, rim, thickness * MOUTH_SHARE)
    for piece in ask.kernel.solids_of(ask.kernel.boolean("cut", slab, [body.shape]).Shape()):
        if not ask.kernel.is_empty(ask.kernel.boolean("overlap", piece, [mouth]).Shape()):
            low, high = ask.kernel.tight_box(piece)
            ends = zip(low, high, *body.facts.box)
            if all(least - SPARE_MM < one and other < most + SPARE_MM for one, other, least, most in ends):
                return piece
    raise OperationError("The opening is open to a side within that thickness; type less.")


DECLARATION = Declaration(
    kind="cap",
    title="Cap",
    shelf="Bodies",
    told="Click the rim of an opening in a flat face.",
    sentence=(
        "Cap the openings at",
        Edges("edges", asks="Click the rim of each opening, where it meets a flat face.", empty="their rims"),
        ",",
        Length("thickness", asks="Type how thick.", empty="a thickness", usual="2 mm", usual_in="1/16 in"),
        "thick,",
        Choice("result", asks="What closes them.", options={"add": "as part of the body", "new": "as new body"}),
        When(
            "result",
            ("new",),
            (BodyBlank("body", asks="Type the name of the new body.", empty="a name", when="result", makes="new"),),
        ),
        ".",
    ),
    build=build,
    example={"edges": {"body": "b1", "names": ["op1.side(c5) | op1.top"]}, "thickness": "2 mm", "result": "add"},
)
