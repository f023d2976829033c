"""What the three documents of version 1 looked like; archives of that version are held against it before they are made
into one of today's."""

from __future__ import annotations

from typing import Any

from nomogon_core.arguments import ID, IDS, NUMBER, PLAIN, SWITCH, TEXT, Record, Rows, Text, Wrong
from nomogon_core.errors import ArchiveError
from nomogon_core.job.schema import CONSTRAINT, COUNT, CURVE, KNOWN, MANY, PICTURE, PLACE, PLACES, TRACE, check_known

EMPTY = {
    "reference": {"pictures": {}, "active": "", "known": {}, "traces": {}, "next_number": 1},
    "sketch": {"points": {}, "curves": {}, "constraints": {}, "next_number": 1},
    "build": {"operations": {}, "order": [], "material": "PLA", "next_number": 1},
}
OLD_PICTURE = Record(
    PICTURE.fields | {"face": Record({"body": TEXT, "name": ID}, required=("body", "name"))},
    tuple(name for name in PICTURE.required if name != "plane"),
    PLAIN,
)
OLD_TRACE = Record(TRACE.fields | {"edge": PLACES}, ("picture", "settings", "max_dev_mm", "rms_dev_mm"), PLAIN)
OPERATION = Record(
    {
        "name": ID,
        "kind": TEXT,
        "mode": TEXT,
        "body": TEXT,
        "regions": Rows(Text(MANY), most=MANY),
        "centers": IDS,
        "edges": Rows(Text(MANY), most=MANY),
        "length": NUMBER,
        "start": NUMBER,
        "through": SWITCH,
        "diameter": NUMBER,
        "depth": NUMBER,
        "radius": NUMBER,
        "suppressed": SWITCH,
        "title": TEXT,
    },
    required=("name", "kind"),
)
DOCUMENTS = {
    "reference": Record(
        {
            "pictures": Record(rest=OLD_PICTURE),
            "active": TEXT,
            "known": Record(rest=KNOWN),
            "traces": Record(rest=OLD_TRACE),
            "next_number": COUNT,
        },
        rest=PLAIN,
    ),
    "sketch": Record(
        {
            "points": Record(rest=PLACE),
            "curves": Record(rest=CURVE),
            "constraints": Record(rest=CONSTRAINT),
            "next_number": COUNT,
        },
        rest=PLAIN,
    ),
    "build": Record(
        {"operations": Record(rest=OPERATION), "order": IDS, "material": TEXT, "next_number": COUNT}, rest=PLAIN
    ),
}


def check_version_1(documents: dict[str, dict[str, Any]], name: str = "The file") -> None:
    """Refuse documents that are none of a job of version 1.

    Args:
        documents: plain data by name, whole.

    Raises:
        ArchiveError: a value is missing or of the wrong kind, or a known length or trace belongs to no picture.
    """
    for part, kind in DOCUMENTS.items():
        try:
            kind.check(documents[part])
        except Wrong as problem:
            raise ArchiveError(
                f"{name} is damaged: its {part} holds something else where {problem} was expected."
            ) from None
    reference = documents["reference"]
    check_known(reference["known"], reference["pictures"], name)
    for key, item in documents["build"]["operations"].items():
        if item["name"] != key:
            raise ArchiveError(f"{name} is damaged: the operation {key} calls itself {item['name']}.")
