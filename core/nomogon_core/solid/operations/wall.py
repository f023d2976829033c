"""A wall along curves of a sketch, with a foot where it is asked for."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import Line, closed_area, ends
from nomogon_core.sentence import Choice, Clause, Declaration, Length
from nomogon_core.sketch.offset import backwards, offset
from nomogon_core.solid.phrases import RESULT
from nomogon_core.solid.sentence import Run

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 4
SIDES = {"middle": (0.5, 0.5), "out": (1.0, 0.0), "in": (0.0, 1.0)}


def build(ask: Ask) -> dict[str, Body]:
    frame, runs = ask.runs("curves")
    thick, height = ask.number("thickness"), ask.number("height")
    right, left = (share * thick for share in SIDES[ask.choice("side")])
    lean = _lean(ask, thick, height) if ask.choice("edge") else 0.0
    upright = height - ask.number("over") if lean else height
    prisms = [("wall", right, left, upright)]
    if ask.choice("foot"):
        foot = ask.number("foot")
        prisms.append(("foot", right + foot, left + foot, ask.number("foot_height")))
    tools, names = [], ask.no_names()
    for number, (curves, closed) in enumerate(runs, 1):
        for part, out, back, high in prisms:
            loops = _closed_wall(curves, out, back) if closed else [_open_wall(curves, out, back)]
            called = [
                [(f"{part}{number}.{side}.{index}", curve) for index, curve in enumerate(loop, 1)]
                for side, loop in enumerate(loops, 1)
            ]
            roles = ("side", f"bottom({part}{number})", f"top({part}{number})")
            tools.append(ask.prism(called, 0.0, high, names, roles))
            if lean and part == "wall":
                tools.append(_sharpened(ask, called, upright, height, lean, names, number))
    tools, names = ask.placed(tools, names, frame)
    return ask.put(ask.choice("result"), "body", tools, names)


def _lean(ask, thick, height):
    """Angle from upright at which both sides of a wall run together toward its edge."""
    over, edge = ask.number("over"), ask.number("edge")
    if over >= height:
        raise OperationError("A wall is sharpened over less than its height; type a smaller length, or a higher wall.")
    if edge >= thick:
        raise OperationError("The edge has to be thinner than the wall; type a smaller width.")
    return math.atan2((thick - edge) / 2, over)


def _sharpened(ask, loops, low, high, lean, names, number):
    """The part of a wall in which its sides run together."""
    roles = ("edge", f"under_edge({number})", f"top(wall{number})")
    told = ask.leaning_prism(loops, low, high - low, lean, names, roles)
    if told is None:
        raise OperationError(
            "The wall cannot be sharpened along all of its curves: at a bend one side would vanish. Sharpen it over "
            "less, or leave a wider edge."
        )
    return told


def _beside(curves, closed, distance):
    """Chains of curves at a distance to the right of a run; the run itself at none."""
    if not distance:
        return [list(curves)]
    return [list(chain.curves) for chain in offset(curves, closed, distance)]


def _closed_wall(curves, right, left):
    """Loops around a wall along a closed run: the outer one, and what it leaves free."""
    outer, inner = _beside(curves, True, right), _beside(curves, True, -left)
    if len(outer) != 1 or not inner:
        raise OperationError(
            "The wall is too thick for its outline: nothing would be left free inside. Make it thinner."
        )
    return [outer[0], *map(backwards, inner)]


def _open_wall(curves, right, left):
    """The loop around a wall along an open run, with flat ends."""
    there, back = _beside(curves, False, right), _beside(curves, False, -left)
    if len(there) != 1 or len(back) != 1:
        raise OperationError("The wall is too thick for a bend of its curves. Make it thinner, or take other curves.")
    back = backwards(back[0])
    loop = [
        *there[0],
        Line(ends(there[0][-1])[1], ends(back[0])[0]),
        *back,
        Line(ends(back[-1])[1], ends(there[0][0])[0]),
    ]
    return loop if closed_area(tuple(loop)) > 0 else backwards(loop)


DECLARATION = Declaration(
    kind="wall",
    title="Wall",
    shelf="Shape",
    told="Click the curves that the wall runs along.",
    sentence=(
        "Wall along",
        Run("curves", asks="Click the curves that it runs along.", empty="curves"),
        ",",
        Length("thickness", asks="Type how thick it is.", empty="a thickness", usual="2 mm", usual_in="1/16 in"),
        "thick",
        Choice(
            "side", asks="On which side of the curves.", options={"middle": "centred", "out": "outside", "in": "inside"}
        ),
        ",",
        Length("height", asks="Type how high it is.", empty="a height", usual="10 mm", usual_in="3/8 in"),
        "high",
        Clause(
            "sharpened",
            (
                ", sharpened to",
                Length("edge", asks="Type how wide the edge is.", empty="a width", usual="0.4 mm"),
                "over the last",
                Length("over", asks="Type how far below the edge it begins.", empty="a length", usual="3 mm"),
            ),
        ),
        Clause(
            "with a foot",
            (
                ", with a foot",
                Length("foot", asks="Type how far the foot reaches beyond the wall.", empty="a width", usual="3 mm"),
                "wider and",
                Length("foot_height", asks="Type how high the foot is.", empty="a height", usual="2 mm"),
                "high",
            ),
        ),
        *RESULT,
    ),
    build=build,
    example={
        "curves": {"sketch": "s1", "names": ["c4", "c6"]},
        "thickness": "2 mm",
        "side": "middle",
        "height": "14 mm",
        "result": "new",
        "body": "Baffle",
    },
)
