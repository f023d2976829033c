"""Parts that the sentences of several operations share."""

from __future__ import annotations

from nomogon_core.sentence import Choice
from nomogon_core.solid.sentence import BodyBlank

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
