"""What the documents of a job look like, held against whatever comes from a file before anything is worked out from
it."""

from __future__ import annotations

import re
from typing import Any

from nomogon_core.arguments import (
    ID,
    IDS,
    LONGEST_NAME,
    NOTHING,
    NUMBER,
    PLACE,
    PLAIN,
    SWITCH,
    TEXT,
    Choice,
    Either,
    Number,
    Record,
    Rows,
    Text,
    Whole,
    Wrong,
)
from nomogon_core.errors import ArchiveError
from nomogon_core.inspect.making import ALLOWANCES, BY_KIND, FLAT_OF
from nomogon_core.solid.measured import WORDS

MAYBE, SIZE, COUNT = Either((NOTHING, NUMBER)), Number(0), Whole(0, 1 << 40)
MANY, MOST_PLACES = 100_000, 2_000_000
STEP_PARTS = ("planes", "sketches", "operations")
PLACES = Rows(PLACE, most=MOST_PLACES)
ALONG = Rows(PLACE, 6, 400)
EDGE = Record({"places": ALONG, "normals": ALONG, "sigma_px": SIZE}, required=("places", "normals", "sigma_px"))
JAWS = Record({"way": Either((ID, NUMBER)), "place": PLACE}, required=("way", "place"))
STEP = Record({"kind": TEXT, "on": SWITCH}, required=("kind",), rest=PLAIN)
PICTURE = Record(
    {
        "name": TEXT,
        "digest": ID,
        "media_type": TEXT,
        "width": Whole(1, 100_000),
        "height": Whole(1, 100_000),
        "dpi": Either((NOTHING, Rows(NUMBER, 2, 2))),
        "drawn": SWITCH,
        "camera": TEXT,
        "focal": MAYBE,
        "taken_from": TEXT,
        "licence": TEXT,
        "origin_px": PLACE,
        "angle": NUMBER,
        "at_mm": PLACE,
        "flipped": SWITCH,
        "visible": SWITCH,
        "locked": SWITCH,
        "opacity": NUMBER,
        "model": TEXT,
        "height_mm": SIZE,
        "camera_mm": SIZE,
        "set_width_mm": Number(1e-6),
        "plane": Either((Text(40), Record({"body": ID, "face": Text(MANY)}, required=("body", "face")))),
        "steps": Rows(STEP, most=100),
        "stand_in": PLAIN,
    },
    required=("name", "digest", "media_type", "width", "height", "origin_px", "angle", "plane"),
    rest=PLAIN,
)
KNOWN = Record(
    {
        "kind": Choice(("length", "diameter", "rectangle", "straight", "resolution", "check")),
        "name": TEXT,
        "picture": ID,
        "used": SWITCH,
        "typed": TEXT,
        "start": PLACE,
        "end": PLACE,
        "length_mm": Number(1e-9),
        "sigma_px": SIZE,
        "gauge_u95_mm": SIZE,
        "center": PLACE,
        "half_axes": PLACE,
        "angle": NUMBER,
        "corners": Rows(PLACE, 4, 4),
        "width_mm": Number(1e-9),
        "height_mm": Number(1e-9),
        "thing": TEXT,
        "edges": Rows(EDGE, 0, 4),
        "places": Rows(PLACE, 2, 4000),
        "what": Choice(("distance", "diameter", "angle")),
        "gauge": MAYBE,
        "dpi": Rows(Number(1e-3), 2, 2),
        "stand_in": SWITCH,
        "jaws": JAWS,
    },
    required=("name", "picture"),
    rest=PLAIN,
)
NEEDED = {
    "length": ("start", "end", "length_mm", "sigma_px", "gauge_u95_mm"),
    "diameter": ("center", "half_axes", "angle", "length_mm", "sigma_px", "gauge_u95_mm"),
    "rectangle": ("corners", "width_mm", "height_mm", "sigma_px", "gauge_u95_mm"),
    "straight": ("places",),
    "resolution": ("dpi",),
    "check": ("what", "places", "sigma_px", "gauge", "gauge_u95_mm"),
}
TRACE = Record(
    {
        "picture": ID,
        "settings": Record(
            {"tolerance_mm": Number(1e-6), "threshold": NUMBER, "speck_mm2": SIZE},
            required=("tolerance_mm", "threshold", "speck_mm2"),
            rest=PLAIN,
        ),
        "max_dev_mm": SIZE,
        "rms_dev_mm": SIZE,
        "sketch": ID,
        "edge": TEXT,
    },
    required=("picture", "sketch", "settings", "max_dev_mm", "rms_dev_mm", "edge"),
    rest=PLAIN,
)
CURVE = Record(
    {"kind": TEXT, "points": IDS, "radius": MAYBE, "construction": SWITCH, "origin": TEXT, "u95": MAYBE},
    required=("kind", "points"),
    rest=PLAIN,
)
CONSTRAINT = Record(
    {
        "kind": TEXT,
        "of": IDS,
        "value": MAYBE,
        "u95": MAYBE,
        "name": TEXT,
        "driving": SWITCH,
        "against": IDS,
        "source": TEXT,
        "typed": Text(1000),
    },
    required=("kind", "of"),
    rest=PLAIN,
)
PLANE = Either((Text(40), Record({"body": ID, "face": Text(MANY)}, required=("body", "face"))))
SKETCH = Record(
    {
        "title": TEXT,
        "plane": PLANE,
        "points": Record(rest=PLACE),
        "curves": Record(rest=CURVE),
        "constraints": Record(rest=CONSTRAINT),
        "brought": Record(rest=Record({"body": ID, "edge": Text(MANY)}, required=("body", "edge"))),
    },
    required=("title", "plane", "points", "curves", "constraints"),
)
ANGLE = Record({"typed": TEXT, "value": NUMBER, "name": TEXT}, required=("value",))
POINT = Rows(NUMBER, 3, 3)
CORNER = Record({"body": ID, "corner": Text(MANY)}, required=("body", "corner"))
PLANE_FIELDS = {
    "offset": Record({"from": PLANE, "distance": ANGLE}, required=("from", "distance")),
    "turned": Record(
        {
            "from": PLANE,
            "axis": Either(
                (Choice(("across", "up")), Record({"body": ID, "edge": Text(MANY)}, required=("body", "edge")))
            ),
            "angle": ANGLE,
        },
        required=("from", "axis", "angle"),
    ),
    "midway": Record({"first": PLANE, "second": PLANE}, required=("first", "second")),
    "points": Record({"points": Rows(Either((POINT, CORNER)), 3, 3)}, required=("points",)),
    "station": Record(
        {"from": PLANE, "at": PLACE, "distance": ANGLE, "angle": ANGLE}, required=("from", "at", "distance", "angle")
    ),
}
MADE_PLANE = Record(
    {"title": TEXT, "kind": Choice(tuple(PLANE_FIELDS)), "fields": PLAIN}, required=("title", "kind", "fields")
)
OPERATION = Record(
    {"kind": TEXT, "title": TEXT, "suppressed": SWITCH, "blanks": Record(rest=PLAIN)}, required=("kind", "blanks")
)
BODY = Record({"name": TEXT, "colour": Text(7), "material": TEXT}, required=("name", "colour", "material"))
PICKS = Rows(
    Record(
        {"body": ID, "kind": Choice(("face", "edge", "corner")), "name": Text(LONGEST_NAME)},
        required=("body", "kind", "name"),
    ),
    1,
    2,
)
QUANTITY = Record(
    {
        "name": TEXT,
        "typed": TEXT,
        "value": NUMBER,
        "dimension": Rows(Whole(-9, 9), 2, 2),
        "measured": Record({"picks": PICKS, "word": Choice(tuple(WORDS))}, required=("picks", "word")),
    },
    required=("name", "typed", "value"),
)
MAKING = Record(
    {
        "way": Choice(tuple(BY_KIND)),
        "numbers": Record(rest=Record(rest=NUMBER)),
        "up": POINT,
        "accepted": Record(rest=Record({"why": TEXT, "number": TEXT}, required=("why", "number"))),
        "allowances": Record({one.name: NUMBER for one in ALLOWANCES}),
        "flat": Record({"of": Choice(tuple(FLAT_OF)), "at": NUMBER}),
    }
)
GROUP = Record({"title": TEXT, "steps": IDS}, required=("title", "steps"))
MAY_BE_MISSING = ("making", "groups")
DOCUMENT: dict[str, Any] = {
    "version": Whole(2, 2),
    "next_number": COUNT,
    "quantities": Record(rest=QUANTITY),
    "references": Record(rest=PICTURE),
    "known": Record(rest=KNOWN),
    "traces": Record(rest=TRACE),
    "planes": Record(rest=MADE_PLANE),
    "sketches": Record(rest=SKETCH),
    "operations": Record(rest=OPERATION),
    "bodies": Record(rest=BODY),
    "making": MAKING,
    "steps": IDS,
    "groups": Record(rest=GROUP),
}


def check_document(document: dict[str, Any], name: str = "The file") -> None:
    """Refuse a document that is none of a job.

    Args:
        document: plain data, whole.

    Raises:
        ArchiveError: a value is missing or of the wrong kind, an id stands twice, or something refers to what is not
            there.
    """
    for part, kind in DOCUMENT.items():
        try:
            kind.check(document.get(part, {}) if part in MAY_BE_MISSING else document[part])
        except Wrong as problem:
            raise ArchiveError(
                f"{name} is damaged: its {part} holds something else where {problem} was expected."
            ) from None
    check_known(document["known"], document["references"], name)
    _check_ids(document, name)
    _check_steps(document, name)
    for key, plane in document["planes"].items():
        try:
            PLANE_FIELDS[plane["kind"]].check(plane["fields"])
        except Wrong as problem:
            raise ArchiveError(f"{name} is damaged: the plane {key} holds something else than {problem}.") from None
    for key, trace in document["traces"].items():
        if trace["sketch"] not in document["sketches"]:
            raise ArchiveError(f"{name} is damaged: the trace {key} belongs to a sketch that is not there.")


def check_known(known: dict[str, dict[str, Any]], pictures: dict[str, dict[str, Any]], name: str) -> None:
    """Refuse known lengths of which something is missing, or that belong to no picture.

    Raises:
        ArchiveError: the first of these.
    """
    for key, item in known.items():
        missing = [field for field in NEEDED[item.get("kind", "length")] if field not in item]
        if missing:
            raise ArchiveError(f"{name} is damaged: the known length {key} has no {missing[0]}.")
        if item["picture"] not in pictures:
            raise ArchiveError(f"{name} is damaged: {key} belongs to a picture that is not there.")


def _check_ids(document, name):
    seen = set()
    parts = [document[part] for part in ("quantities", "references", "known", "traces", *STEP_PARTS, "bodies")]
    parts.append(document.get("groups", {}))
    parts += [sketch[part] for sketch in document["sketches"].values() for part in ("points", "curves", "constraints")]
    for part in parts:
        twice = seen & part.keys()
        if twice:
            raise ArchiveError(f"{name} is damaged: the id {min(twice)} stands for two things.")
        seen |= part.keys()
    high = max((int(digits) for one in seen if (digits := re.sub(r"\D", "", one)[-15:])), default=0)
    if document["next_number"] <= high:
        raise ArchiveError(
            f"{name} is damaged: its next number is {document['next_number']}, and {high} is used already."
        )


def _check_steps(document, name):
    made = [key for part in STEP_PARTS for key in document[part]]
    missing = [key for key in document["steps"] if key not in made] + [
        key for key in made if key not in document["steps"]
    ]
    if missing or len(set(document["steps"])) != len(document["steps"]):
        what = f"{missing[0]} is missing in one of both" if missing else "one of them stands twice"
        raise ArchiveError(f"{name} is damaged: the steps of its Build sheet and what they name do not agree: {what}.")
