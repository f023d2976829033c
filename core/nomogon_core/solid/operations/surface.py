"""A shell between two rails: a ribbon, a spout, a guard."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Choice, Clause, Declaration, Length
from nomogon_core.solid import paths
from nomogon_core.solid.phrases import RESULT, off_plane
from nomogon_core.solid.sentence import Run

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body
    from nomogon_core.solid.paths import Path
    from nomogon_core.solid.planes import Frame

ORDER = 5.3


def build(ask: Ask) -> dict[str, Body]:
    ends = None
    if ask.choice("start") and ask.choice("end"):
        ends = _path(ask, "start"), _path(ask, "end")
    surface = ask.ruling.between_rails(_path(ask, "first"), _path(ask, "second"), ends)
    thick = ask.number("thickness")
    low, high = {"one": (0.0, thick), "other": (-thick, 0.0), "both": (-thick / 2, thick / 2)}[ask.choice("side")]
    shape, names = ask.ruling.thickened(surface, low, high), ask.no_names()
    ask.name_rest(shape, names, "side")
    return ask.put(ask.choice("result"), "body", [shape], names)


def _path(ask: Ask, blank: str) -> Path:
    frame, runs = ask.runs(blank)
    if len(runs) != 1:
        raise OperationError("The curves of a rail hang together; choose those of one.")
    return off_its_plane(ask, paths.along_curves(frame, *runs[0]), frame, blank)


def off_its_plane(ask: Ask, path: Path, frame: Frame, prefix: str) -> Path:
    """A path lifted by numbers or by a second view, where a clause says so.

    Raises:
        OperationError: both are said, or one does not go with the path.
    """
    heights = ("begin", "middle", "end")
    by_numbers, view = ask.choice(f"{prefix}_begin"), ask.choice(f"{prefix}_view")
    if by_numbers and view:
        raise OperationError("A path is lifted by numbers or by a second view, not by both; take one of them away.")
    if by_numbers:
        begin, middle, end = (ask.number(f"{prefix}_{name}") for name in heights)
        return paths.lifted(path, frame, (begin, middle, end))
    if not view:
        return path
    other, runs = ask.runs(f"{prefix}_view")
    if len(runs) != 1:
        raise OperationError("The curves of a second view hang together; choose those of one.")
    return paths.seen_as(path, frame, paths.along_curves(other, *runs[0]), other)


DECLARATION = Declaration(
    kind="surface",
    title="Surface",
    shelf="Shape",
    told="Click the curves of the first rail.",
    sentence=(
        "Surface between",
        Run("first", asks="Click curves that follow one another: the first rail.", empty="a rail"),
        "and",
        Run("second", asks="Click the other rail, in the same sketch or another one.", empty="a rail"),
        Clause(
            offer="end lines",
            parts=(
                ", ending in",
                Run("start", asks="Click the line from rail to rail at one end.", empty="a line"),
                "and",
                Run("end", asks="Click the line from rail to rail at the other end.", empty="a line"),
            ),
        ),
        *off_plane("first", "the first rail"),
        *off_plane("second", "the second rail"),
        ",",
        Length("thickness", asks="Type how thick.", empty="a thickness", usual="2 mm", usual_in="1/16 in"),
        "thick to",
        Choice("side", asks="To which side.", options={"one": "one side", "other": "the other", "both": "both sides"}),
        *RESULT,
    ),
    build=build,
    example={
        "first": {"sketch": "s1", "names": ["c4"]},
        "second": {"sketch": "s2", "names": ["c9"]},
        "thickness": "2 mm",
        "side": "one",
        "result": "new",
        "body": "Handle",
    },
)
