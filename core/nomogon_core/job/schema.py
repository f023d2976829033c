"""What the documents of a job look like, held against whatever comes from a file before anything is worked out from
it."""

from nomogon_core.arguments import (
    ID,
    IDS,
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

MAYBE, SIZE, COUNT = Either((NOTHING, NUMBER)), Number(0), Whole(0, 1 << 40)
MANY, MOST_PLACES = 100_000, 2_000_000
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
        "face": Record({"body": TEXT, "name": ID}, required=("body", "name")),
        "steps": Rows(STEP, most=100),
        "stand_in": PLAIN,
    },
    required=("name", "digest", "media_type", "width", "height", "origin_px", "angle"),
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
        "edge": PLACES,
    },
    required=("picture", "settings", "max_dev_mm", "rms_dev_mm"),
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
        "source": TEXT,
        "typed": Text(1000),
    },
    required=("kind", "of"),
    rest=PLAIN,
)
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
            "pictures": Record(rest=PICTURE),
            "active": TEXT,
            "known": Record(rest=KNOWN),
            "traces": Record(rest=TRACE),
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


def check_documents(documents, name="The file"):
    """Refuse documents that are none of a job.

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
    for key, item in reference["known"].items():
        missing = [field for field in NEEDED[item.get("kind", "length")] if field not in item]
        if missing:
            raise ArchiveError(f"{name} is damaged: the known length {key} has no {missing[0]}.")
    for key, item in (*reference["known"].items(), *reference["traces"].items()):
        if item["picture"] not in reference["pictures"] and key in reference["known"]:
            raise ArchiveError(f"{name} is damaged: {key} belongs to a picture that is not there.")
    for key, item in documents["build"]["operations"].items():
        if item["name"] != key:
            raise ArchiveError(f"{name} is damaged: the operation {key} calls itself {item['name']}.")
