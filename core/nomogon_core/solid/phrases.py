"""Parts that the sentences of several operations share, and a rule for edges in words."""

from __future__ import annotations

from typing import Any

from nomogon_core.sentence import Choice, Clause, Length
from nomogon_core.solid.sentence import BodyBlank, Run

AT_WORDS = {"top": "top", "bottom": "bottom", "upright": "upright", "round": "round", "all": ""}
RESULT = (
    ",",
    Choice(
        "result",
        asks="What becomes of it.",
        options={
            "new": "as new body",
            "add": "added to",
            "cut": "cut out of",
            "overlap": "kept where it overlaps",
        },
    ),
    BodyBlank(
        "body", asks="Click the body, or type the name of the new one.", empty="a body", when="result", makes="new"
    ),
    ".",
)
JOB_AXES = {"z": "the upright axis", "x": "the x axis", "y": "the y axis"}


def off_plane(prefix: str, rail: str) -> tuple[Clause, Clause]:
    """What is said of a run of curves that leaves its plane: by heights, or as a second view shows it.

    Args:
        prefix: of the names of the blanks; rail: what it is called.
    """

    def height(name, where):
        asks = f"Type how far above its plane {where} of {rail} lies; below is negative."
        return Length(f"{prefix}_{name}", asks=asks, empty="a height", usual="0 mm", usual_in="0 in", positive=False)

    asks = f"Click {rail} as it is seen in a sketch upright on the first: how high it lies along the way."
    return (
        Clause(
            offer=f"{rail} lifted",
            parts=(
                f", {rail} lifted by",
                height("begin", "the beginning"),
                "at its beginning,",
                height("middle", "the middle"),
                "in its middle and",
                height("end", "the end"),
                "at its end",
            ),
        ),
        Clause(
            offer=f"second view of {rail}",
            parts=(f", {rail} seen from the side as", Run(f"{prefix}_view", asks=asks, empty="a second view")),
        ),
    )


def filling_of(value: str) -> tuple[Any, ...]:
    """What is said of the body that fills sunk areas, where the choice ``result`` has a value."""
    return (
        BodyBlank("body", asks="Type the name of the new body.", empty="a name", when="result", makes=value),
        Clause(
            offer="clearance",
            parts=(
                ", with a clearance of",
                Length(
                    "clearance",
                    asks="Type how far the filling stays from the walls.",
                    empty="a clearance",
                    usual="0.1 mm",
                    usual_in="1/256 in",
                ),
            ),
        ),
        Clause(
            offer="standing out",
            parts=(
                ", standing out by",
                Length(
                    "rise",
                    asks="Type how far the filling stands out of the face.",
                    empty="a height",
                    usual="0.4 mm",
                    usual_in="1/64 in",
                ),
            ),
        ),
    )


def words_of_rule(rule: dict[str, Any], body: str, numbers: dict[str, int], things: str = "edges") -> str:
    """A rule in words: ``all top edges of Plate but those of 2``.

    Args:
        body: title of the body; numbers: number of each operation in the Build sheet.
    """
    parts = ["all", AT_WORDS[rule["at"]], things]
    if rule.get("between"):
        parts.append(f"between {' and '.join(rule['between'])} faces")
    parts.append(f"of {numbers.get(rule['operation'], '?')}" if rule.get("operation") else f"of {body}")
    if rule.get("chain"):
        parts.append("that run on from a chosen one")
    if rule.get("but"):
        parts.append("but those of " + " and ".join(str(numbers.get(one, "?")) for one in rule["but"]))
    return " ".join(part for part in parts if part)
