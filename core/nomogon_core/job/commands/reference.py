"""Commands of the Reference stage."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import wraps
from typing import Any

import numpy as np

from nomogon_core.arguments import ID, NOTHING, NUMBER, PLACE, PLAIN, SWITCH, TEXT, UNIT, Either, Number, Rows, Whole
from nomogon_core.errors import InputError
from nomogon_core.job.commands.registry import command
from nomogon_core.job.document import (
    calibration_of,
    clean_name,
    keep_sketch,
    known_of,
    next_id,
    picture_of,
    sketch_id,
    sketch_of,
)
from nomogon_core.job.follow import follow_picture
from nomogon_core.job.library import outlines_of
from nomogon_core.job.migration import edge_bytes
from nomogon_core.job.places import check_plane, check_same_plane, plane_words
from nomogon_core.job.quantities import quantities
from nomogon_core.job.quantities import rename as rename_quantity
from nomogon_core.job.schema import EDGE, JAWS, PLANE, STEP
from nomogon_core.job.tracing import from_origin, taken_in, traced_again
from nomogon_core.picture.cleanup import KINDS, SIZED, check_step
from nomogon_core.quantity.units import format_length, parse_angle, parse_length, parse_positive_length
from nomogon_core.reference.calibration import CAMERA, GAUGE_U95_MM, MODELS, level_angle, sized_by
from nomogon_core.reference.camera import STRAIGHT_SIGMA_PX, is_straight
from nomogon_core.reference.models import across_picture, is_guessed, resolution_lengths
from nomogon_core.reference.sheets import SIZE_U95_MM, SIZES_MM
from nomogon_core.trace.jaws import check_way, closed_again

LONGEST_NAME = 80
MOST_PICTURES = 12
MOST_STEPS = 20
MEASURED_U95_MM = 0.05
SAME_CORNERS_PX = 5.0
SHORTEST_FOCAL, LONGEST_FOCAL = 0.2, 20.0
MOST_BOWED = 4.0
SIGMA = Number(0, 1000)
EDGES = Rows(EDGE, most=4)
KINDS_OF_KNOWN = {
    "length": "Known length",
    "diameter": "Known diameter",
    "rectangle": "Rectangle",
    "straight": "Straight edge",
    "resolution": "Resolution",
    "check": "Check",
}


def _picture(document, name="", *, change=True):
    """(id, plain data) of a picture, without an id the last one.

    Raises:
        InputError: there is none, or it is locked and should be changed.
    """
    key, picture = picture_of(document, name)
    if picture is None or (name and key != name):
        raise InputError(
            "There is no picture to measure in; drop one first."
            if not name
            else "That picture is not in the job any more."
        )
    if change and picture.get("locked"):
        raise InputError(f"{picture['name']} is locked, so that no click can move it. Unlock it under Pictures first.")
    return key, picture


def _calibrating(function):
    """A command after which what was traced on the picture follows; the note says what moved."""

    @wraps(function)
    def run(document, **arguments):
        item = document["known"].get(arguments.get("name", ""), {})
        picture = item.get("picture") or arguments.get("picture") or picture_of(document)[0]
        before = calibration_of(document, picture) if picture else None
        told = function(document, **arguments)
        calibration_of(document, picture)
        return told, follow_picture(document, picture, before)

    return run


def _focal(value):
    """A focal length in half diagonals as a file notes it, or None.

    Raises:
        InputError: no number that a lens could have.
    """
    if value is None:
        return None
    if not SHORTEST_FOCAL <= value <= LONGEST_FOCAL:
        raise InputError(
            f"A focal length between {SHORTEST_FOCAL:g} and {LONGEST_FOCAL:g} half diagonals was expected; {value!r} "
            "came."
        )
    return float(value)


@command(
    "reference.add_picture",
    asked_for=False,
    name=TEXT,
    digest=ID,
    media_type=TEXT,
    width=Whole(1, 100_000),
    height=Whole(1, 100_000),
    dpi=Either((NOTHING, Rows(NUMBER, 2, 2))),
    taken_from=TEXT,
    licence=TEXT,
    drawn=SWITCH,
    stand_in=PLAIN,
    camera=TEXT,
    focal=Either((NOTHING, NUMBER)),
)
def add_picture(
    document: dict[str, Any],
    *,
    name: str,
    digest: str,
    media_type: str,
    width: int,
    height: int,
    dpi: list[float] | None,
    taken_from: str = "",
    licence: str = "",
    drawn: bool = False,
    stand_in: dict[str, Any] | None = None,
    camera: str = "",
    focal: Any = None,
) -> str:
    """Put a picture into the job and work on it."""
    pictures = document["references"]
    if len(pictures) >= MOST_PICTURES:
        raise InputError(f"A job takes up to {MOST_PICTURES} pictures; take one away first.")
    key = next_id(document, "r")
    pictures[key] = {
        "name": clean_name(name, "The picture"),
        "digest": digest,
        "media_type": media_type,
        "width": width,
        "height": height,
        "dpi": dpi,
        "taken_from": taken_from,
        "licence": licence,
        "origin_px": [0.0, height - 1.0],
        "angle": 0.0,
        "at_mm": [0.0, 0.0],
        "flipped": False,
        "plane": "plan",
        "drawn": drawn,
        "stand_in": stand_in,
        "camera": " ".join(str(camera).split())[:LONGEST_NAME],
        "focal": _focal(focal),
        "visible": True,
        "locked": False,
        "opacity": 0.55,
        "model": "auto",
        "steps": [],
    }
    return f"Picture {name} added{', taken as drawn by a program' if drawn else ''}"


@command("reference.remove_picture", picture=ID)
def remove_picture(document: dict[str, Any], *, picture: str) -> Any:
    """Take a picture away; what was traced on it stays in the sketch."""
    key, item = _picture(document, picture)
    del document["references"][key]
    document["known"] = {name: known for name, known in document["known"].items() if known["picture"] != key}
    return f"Picture {item['name']} taken away"


@command("reference.lay_on", picture=ID, plane=PLANE)
def lay_on(document: dict[str, Any], *, picture: str, plane: dict[str, str] | str) -> str:
    """Lay a picture on a plane, or on a flat face of the solid."""
    _, item = _picture(document, picture)
    check_plane(document, plane)
    item["plane"] = plane
    return f"{item['name']} laid on {plane_words(document, plane)}"


TEXTS = {"name": "The picture", "taken_from": "", "licence": ""}
SWITCHES = {
    "visible": ("shown", "hidden"),
    "locked": ("locked", "unlocked"),
    "drawn": ("taken as drawn by a program", "taken as seen by a camera or scanner"),
}


@command("reference.set_picture", picture=ID, field=ID, value=Either((TEXT, SWITCH, NUMBER)))
def set_picture(document: dict[str, Any], *, picture: str, field: str, value: Any) -> str:
    """Name, origin, licence, opacity, visibility or lock of a picture."""
    _, item = _picture(document, picture, change=False)
    if field in SWITCHES:
        item[field] = bool(value)
        return f"{item['name']} {SWITCHES[field][0 if value else 1]}"
    if field == "opacity":
        share = float(value) if isinstance(value, (int, float)) else math.nan
        if not 0.05 <= share <= 1:
            raise InputError("The opacity must lie between 5 and 100 %.")
        item["opacity"] = share
        return f"Opacity of {item['name']} set to {share:.0%}"
    if field not in TEXTS:
        raise InputError(f"A picture has no {field}.")
    item[field] = clean_name(value, TEXTS[field]) if TEXTS[field] else " ".join(str(value).split())[:400]
    return f"{item['name']}: {field.replace('_', ' ')} noted"


@command("reference.place_picture", picture=ID, field=ID, text=Either((TEXT, SWITCH)), unit=UNIT)
@_calibrating
def place_picture(document: dict[str, Any], *, picture: str, field: str, text: str, unit: str = "mm") -> str:
    """Turn, shift, flip, model, or the heights of part and camera, as typed."""
    _, item = _picture(document, picture)
    if field == "angle":
        item["angle"] = math.remainder(parse_angle(text), 2 * math.pi)
        return f"{item['name']} turned to {math.degrees(item['angle']):.2f}°"
    if field in ("x", "y"):
        item["at_mm"] = [*item.get("at_mm", [0.0, 0.0])]
        item["at_mm"]["xy".index(field)] = parse_length(text, unit=unit)
        return f"{item['name']} moved"
    if field == "width":
        return _set_width(document, picture, item, parse_positive_length(text, "The picture's width", unit=unit))
    if field == "flipped":
        item["flipped"] = bool(text)
        return f"{item['name']} flipped"
    if field == "model":
        if text not in ("auto", *MODELS):
            raise InputError(
                f"There is no model {text!r}; choose one of {', '.join(MODELS)}, or let the program choose."
            )
        item["model"] = text
        return f"Model of {item['name']}: {text}"
    if field not in ("height_mm", "camera_mm"):
        raise InputError(f"A picture has no {field}.")
    item[field] = parse_length(text, unit=unit) if str(text).strip() else 0.0
    if item[field] < 0:
        raise InputError("Heights above the plane are zero or more.")
    if field == "height_mm" and not item.get("camera_mm") and item[field]:
        item["camera_mm"] = 400.0
    return (
        f"{item['name']}: height of the {'part' if field == 'height_mm' else 'camera'} {format_length(item[field])} mm"
    )


def _set_width(document, name, item, width):
    """Size a picture of which nothing is known.

    Raises:
        InputError: its scale is measured.
    """
    fit = calibration_of(document, name)
    if fit is not None and not fit.is_set:
        raise InputError(
            f"The scale of {item['name']} is measured; change one of its known lengths, or take them away to set its "
            "size by hand."
        )
    item["set_width_mm"] = width
    return f"{item['name']} made {format_length(width)} mm wide, set by hand"


@command("reference.drag_corner", picture=ID, corner=PLACE, place=PLACE)
@_calibrating
def drag_corner(document: dict[str, Any], *, picture: str, corner: list[int], place: list[int]) -> str:
    """Size a picture of which nothing is known by one of its corners, dragged to a place in its pixels as it is."""
    key, item = _picture(document, picture)
    fit = calibration_of(document, key)
    if fit is None:
        raise InputError("Type how wide the picture is first; then its corner can be dragged.")
    return _set_width(document, key, item, fit.mm_per_px * item["width"] * sized_by(item["origin_px"], corner, place))


def _place(value):
    return [float(part) for part in value]


def _sigma(value):
    return min(max(float(value), 0.005), 5.0)


def _new_known(document, picture, kind, name="", **fields):
    """Put something known into the job; (its id, its data)."""
    picture, _ = _picture(document, picture)
    key = next_id(document, "g")
    taken = {item.name for item in quantities(document)} | {item["name"] for item in document["known"].values()}
    number = 1
    while not name or name in taken:
        name = f"{name.rstrip(' 0123456789') or KINDS_OF_KNOWN[kind]} {number}"
        number += 1
    document["known"][key] = {"kind": kind, "name": name, "picture": picture, "used": True, **fields}
    return document["known"][key]


def _jaws(sent):
    """{"jaws": {"way", "place"}} of a length that jaws took, so that they close again on what is traced there; {} of
    any other.

    Raises:
        InputError: no such way or place.
    """
    if sent is None:
        return {}
    way = sent["way"] if isinstance(sent["way"], str) else float(sent["way"])
    check_way(way)
    return {"jaws": {"way": way, "place": _place(sent["place"])}}


@command(
    "reference.add_known",
    picture=ID,
    start=PLACE,
    end=PLACE,
    text=TEXT,
    sigma_px=SIGMA,
    unit=UNIT,
    stand_in=SWITCH,
    jaws=Either((NOTHING, JAWS)),
)
@_calibrating
def add_known(
    document: dict[str, Any],
    *,
    start: list[float],
    end: list[float],
    text: str,
    sigma_px: float,
    unit: str = "mm",
    stand_in: bool = False,
    jaws: dict[str, Any] | None = None,
    picture: str = "",
) -> str:
    """A known length between two picked places, or between jaws that closed on the part in a ``way`` around a
    ``place``."""
    item = _new_known(
        document,
        picture,
        "length",
        start=_place(start),
        end=_place(end),
        length_mm=1.0,
        typed=str(text),
        sigma_px=_sigma(sigma_px),
        gauge_u95_mm=GAUGE_U95_MM,
        stand_in=bool(stand_in),
        **_jaws(jaws),
    )
    item["length_mm"] = parse_positive_length(text, item["name"], unit=unit)
    return f"{item['name']} set to {format_length(item['length_mm'])} mm"


@command("reference.add_width", picture=ID, text=TEXT, unit=UNIT)
@_calibrating
def add_width(document: dict[str, Any], *, text: str, unit: str = "mm", picture: str = "") -> str:
    """How wide the whole picture is in reality: a drawing made to size, a print or a scan."""
    picture, item = _picture(document, picture)
    start, end, sigma = across_picture(item["width"], item["height"])
    new = _new_known(
        document,
        picture,
        "length",
        "Picture width",
        start=list(start),
        end=list(end),
        length_mm=1.0,
        typed=str(text),
        sigma_px=sigma,
        gauge_u95_mm=GAUGE_U95_MM,
    )
    new["length_mm"] = parse_positive_length(text, new["name"], unit=unit)
    return f"{new['name']} set to {format_length(new['length_mm'])} mm"


@command(
    "reference.add_diameter",
    picture=ID,
    center=PLACE,
    half_axes=PLACE,
    angle=NUMBER,
    text=TEXT,
    unit=UNIT,
    stand_in=SWITCH,
)
@_calibrating
def add_diameter(
    document: Any,
    *,
    center: Any,
    half_axes: Any,
    angle: Any,
    text: Any,
    unit: str = "mm",
    stand_in: bool = False,
    picture: str = "",
) -> Any:
    """A known diameter of a round edge, found as an ellipse."""
    item = _new_known(
        document,
        picture,
        "diameter",
        center=_place(center),
        half_axes=_place(half_axes),
        angle=float(angle),
        length_mm=1.0,
        typed=str(text),
        sigma_px=0.1,
        gauge_u95_mm=GAUGE_U95_MM,
        stand_in=bool(stand_in),
    )
    item["length_mm"] = parse_positive_length(text, item["name"], unit=unit)
    return f"{item['name']} set to {format_length(item['length_mm'])} mm"


def _sides(text, what, unit):
    """Width and height as typed: ``120 x 80 mm``.

    Raises:
        InputError: there are not two.
    """
    sides = str(text).lower().replace("×", "x").split("x")
    if len(sides) != 2:
        raise InputError(f"{what} needs two sides, for example 120 x 80 mm; {text!r} came.")
    return [parse_positive_length(side, f"A side of {what}", unit=unit) for side in sides]


@command(
    "reference.add_rectangle",
    picture=ID,
    corners=Rows(PLACE, 4, 4),
    thing=TEXT,
    text=TEXT,
    sigma_px=SIGMA,
    unit=UNIT,
    edges=EDGES,
)
@_calibrating
def add_rectangle(
    document: dict[str, Any],
    *,
    corners: list[list[float]],
    thing: str = "",
    text: str = "",
    sigma_px: float = 0.05,
    unit: str = "mm",
    edges: Sequence[dict[str, Any]] = (),
    picture: str = "",
) -> str:
    """A card, a sheet or another rectangle of known size by its four corners, the width first."""
    places = [_place(value) for value in corners]
    if thing and thing not in SIZES_MM:
        raise InputError(f"There is no {thing} among the sizes; choose one of {', '.join(SIZES_MM)}, or type the size.")
    name = "Bank card" if thing == "card" else thing
    width, height = _sides(text, name or "The rectangle", unit) if str(text).strip() or not thing else SIZES_MM[thing]
    u95 = MEASURED_U95_MM if str(text).strip() or not thing else SIZE_U95_MM[thing]
    picture = _picture(document, picture)[0]
    for other in known_of(document, picture).values():
        if other.get("kind") == "rectangle" and np.abs(np.array(other["corners"]) - places).max() < SAME_CORNERS_PX:
            raise InputError(
                f"{other['name']} is among the known sizes already; type over its size in the Ledger, or take it away "
                "first."
            )
    item = _new_known(
        document,
        picture,
        "rectangle",
        name,
        corners=places,
        width_mm=width,
        height_mm=height,
        sigma_px=_sigma(sigma_px),
        gauge_u95_mm=u95,
        thing=thing,
        **({"edges": _edges(edges)} if edges else {}),
    )
    return f"{item['name']} of {format_length(width)} × {format_length(height)} mm added"


def _edges(sent):
    """The four edges of a rectangle as the page found them.

    Raises:
        InputError: not four edges of places and directions.
    """
    if len(sent) != 4:
        raise InputError("Four edges were expected; find the card or sheet again.")
    told = []
    for edge in sent:
        places, normals = ([_place(value) for value in edge[part]] for part in ("places", "normals"))
        if len(places) != len(normals) or not all(0.9 < math.hypot(*normal) < 1.1 for normal in normals):
            raise InputError("Each place on an edge needs its direction across; find the card or sheet again.")
        told.append({"places": places, "normals": normals, "sigma_px": _sigma(edge["sigma_px"])})
    return told


@command("reference.set_corners", name=ID, corners=Rows(PLACE, 4, 4), edges=EDGES)
@_calibrating
def set_corners(document: Any, *, name: Any, corners: Any, edges: Any) -> Any:
    """Other corners and edges for a rectangle, found anew from corners that were moved."""
    item = _known(document, name)
    if item.get("kind") != "rectangle":
        raise InputError("Only a card, a sheet or a rectangle has four corners.")
    item["corners"], item["edges"] = [_place(value) for value in corners], _edges(edges)
    return f"Corners of {item['name']} moved"


@command("reference.add_straight", picture=ID, places=Rows(PLACE, 5, 400))
@_calibrating
def add_straight(document: Any, *, places: Any, picture: str = "") -> Any:
    """An edge that is straight in reality, by places along it; takes lens bending out."""
    places, fit = [_place(value) for value in places], calibration_of(document, picture)
    if fit is not None and fit.model == CAMERA:
        bow, sure = is_straight(fit, places, STRAIGHT_SIGMA_PX)
        if abs(sure) > MOST_BOWED:
            raise InputError(
                f"That edge is bowed by {abs(bow):.1f} px more than the lens bends by what is known already, so it is "
                "not straight "
                "in reality and was not taken."
            )
    item = _new_known(document, picture, "straight", places=places)
    return f"{item['name']} added"


@command("reference.add_resolution", picture=ID, text=TEXT)
@_calibrating
def add_resolution(document: dict[str, Any], *, text: str = "", picture: str = "") -> str:
    """The scan's resolution, as noted in the file or as typed, in dots per inch."""
    picture, item = _picture(document, picture)
    if str(text).strip():
        try:
            dpi = [float(str(text).lower().replace("dpi", "").replace(",", "."))] * 2
        except ValueError:
            raise InputError(
                f"The resolution {text!r} is no number; type the dots per inch, for example 300."
            ) from None
    elif not item["dpi"]:
        raise InputError("The picture notes no resolution; type the scan's dots per inch, or pick a known length.")
    elif is_guessed(item["dpi"]):
        raise InputError(
            f"The {item['dpi'][0]:g} dpi noted in the picture are what programs write when they do not know; type "
            "the scan's resolution, or pick a known length."
        )
    else:
        dpi = list(item["dpi"])
    resolution_lengths(dpi)
    if any(
        item.get("kind") == "resolution" and item["picture"] == picture_of(document, picture)[0]
        for item in document["known"].values()
    ):
        raise InputError("The resolution is among the known sizes already; type over it in the Ledger.")
    new = _new_known(document, picture, "resolution", dpi=dpi)
    return f"{new['name']} of {dpi[0]:g} dpi taken; one known length will confirm it"


@command(
    "reference.add_check",
    picture=ID,
    places=Rows(PLACE, 2, 4),
    what=ID,
    text=TEXT,
    sigma_px=SIGMA,
    unit=UNIT,
    stand_in=SWITCH,
)
def add_check(
    document: dict[str, Any],
    *,
    places: list[list[float]],
    what: str = "distance",
    text: str = "",
    sigma_px: float = 0.1,
    unit: str = "mm",
    stand_in: bool = False,
    picture: str = "",
) -> str:
    """A distance, diameter or angle to be read in the picture and compared with a gauge."""
    if what not in ("distance", "diameter", "angle"):
        raise InputError(f"A check reads a distance, a diameter or an angle; {what!r} came.")
    item = _new_known(
        document,
        picture,
        "check",
        what=what,
        places=[_place(value) for value in places],
        sigma_px=_sigma(sigma_px),
        gauge_u95_mm=GAUGE_U95_MM,
        gauge=None,
        stand_in=bool(stand_in),
    )
    if str(text).strip():
        item["gauge"] = parse_angle(text) if what == "angle" else parse_positive_length(text, item["name"], unit=unit)
    return f"{item['name']} of {'an' if what == 'angle' else 'a'} {what} added"


@command("reference.check_to_known", name=ID)
@_calibrating
def check_to_known(document: dict[str, Any], *, name: str) -> Any:
    """Use a check's gauge reading for the calibration."""
    item = _known(document, name)
    if item["kind"] != "check" or item["what"] != "distance" or not item["gauge"]:
        raise InputError("Only a checked distance with its gauge reading can become a known length.")
    del document["known"][name]
    new = _new_known(
        document,
        item["picture"],
        "length",
        start=item["places"][0],
        end=item["places"][1],
        length_mm=item["gauge"],
        typed="",
        sigma_px=item["sigma_px"],
        gauge_u95_mm=item["gauge_u95_mm"],
    )
    return f"{item['name']} is {new['name']} now"


def _known(document, name):
    item = document["known"].get(name)
    if item is None:
        raise InputError("That known length is not in the job any more.")
    _picture(document, item["picture"])
    return item


@command("reference.set_known", name=ID, text=TEXT, unit=UNIT, side=TEXT)
@_calibrating
def set_known(document: dict[str, Any], *, name: str, text: str, unit: str = "mm", side: str = "") -> str:
    """Another gauge reading for something known; ``side`` says which one of a rectangle."""
    item = _known(document, name)
    kind = item.get("kind", "length")
    if kind == "resolution":
        value = parse_positive_length(f"{text}".lower().replace("dpi", ""), item["name"], unit="mm")
        item["dpi"] = [value, value]
        resolution_lengths(item["dpi"])
        return f"{item['name']} set to {value:g} dpi"
    if kind == "check":
        item["gauge"] = (
            parse_angle(text) if item["what"] == "angle" else parse_positive_length(text, item["name"], unit=unit)
        )
        return f"Gauge reading of {item['name']} noted"
    length = parse_positive_length(text, item["name"], unit=unit)
    if kind == "rectangle":
        if side not in ("width", "height"):
            raise InputError("A rectangle has a width and a height; type over one of these.")
        item[f"{side}_mm"], item["gauge_u95_mm"] = length, MEASURED_U95_MM
        return f"{side.capitalize()} of {item['name']} set to {format_length(length)} mm"
    item["length_mm"], item["typed"] = length, str(text)
    return f"{item['name']} set to {format_length(length)} mm"


@command("reference.move_known", name=ID, which=TEXT, place=PLACE, sigma_px=SIGMA)
@_calibrating
def move_known(document: Any, *, name: Any, which: Any, place: Any, sigma_px: Any) -> Any:
    """Move one end of a known length, or one corner of a rectangle."""
    item = _known(document, name)
    if item.get("kind", "length") == "rectangle" and str(which) in "0123" and len(str(which)) == 1:
        item["corners"][int(which)] = _place(place)
        item.pop("edges", None)
        return f"Corner of {item['name']} moved"
    if item.get("kind", "length") != "length" or which not in ("start", "end"):
        raise InputError("A known length has a start and an end; move one of these.")
    item[which], item["sigma_px"] = _place(place), _sigma(sigma_px)
    item.pop("jaws", None)
    return f"End of {item['name']} moved"


@command("reference.remove_known", name=ID)
@_calibrating
def remove_known(document: dict[str, Any], *, name: str) -> str:
    """Take away something known."""
    item = _known(document, name)
    del document["known"][name]
    return f"{item['name']} taken away"


@command("reference.use_known", name=ID, used=SWITCH)
@_calibrating
def use_known(document: dict[str, Any], *, name: str, used: bool) -> str:
    """Leave something known out of the calibration, or count it again."""
    item = _known(document, name)
    item["used"] = bool(used)
    return f"{item['name']} {'counts again' if used else 'left out'}"


@command("reference.rename_known", name=ID, text=TEXT)
def rename_known(document: dict[str, Any], *, name: str, text: str) -> str:
    """Another name for something known, in all expressions too."""
    item = _known(document, name)
    old, new = item["name"], clean_name(text, "A known length")
    if item.get("kind", "length") in ("length", "diameter"):
        rename_quantity(document, f"known:{name}", new)
    item["name"] = new
    return f"{old} is called {item['name']} now"


@command("reference.level", picture=ID, start=PLACE, end=PLACE)
@_calibrating
def level(document: Any, *, start: Any, end: Any, picture: str = "") -> Any:
    """Make the way between two picked places level or upright, whichever is nearer."""
    key, item = _picture(document, picture)
    (x0, y0), (x1, y1) = _place(start), _place(end)
    if math.hypot(x1 - x0, y1 - y0) < 5:
        raise InputError("The two picks are on the same place; pick two places far apart on a straight edge.")
    fit = calibration_of(document, key)
    item["angle"] = (
        level_angle(fit, (x0, y0), (x1, y1)) if fit else math.remainder(math.atan2(-(y1 - y0), x1 - x0), math.pi / 2)
    )
    return f"Picture levelled by {math.degrees(item['angle']):.2f}°"


@command("reference.set_origin", picture=ID, place=PLACE)
@_calibrating
def set_origin(document: dict[str, Any], *, place: list[float], picture: str = "") -> str:
    """Make a picked place the origin."""
    _, item = _picture(document, picture)
    item["origin_px"], item["at_mm"] = _place(place), [0.0, 0.0]
    return f"Origin of {item['name']} set"


@command("reference.put_on_axis", picture=ID, point=PLACE, angle=NUMBER)
@_calibrating
def put_on_axis(document: Any, *, point: Any, angle: Any, picture: str = "") -> Any:
    """Turn the picture so that its mirror axis lies on an axis of the plane, the given place at the origin."""
    _, item = _picture(document, picture)
    item["origin_px"], item["at_mm"], item["angle"] = (
        _place(point),
        [0.0, 0.0],
        math.remainder(float(angle), 2 * math.pi),
    )
    return f"{item['name']} centred on its mirror axis"


def _steps(document, picture):
    _, item = _picture(document, picture)
    return item.setdefault("steps", [])


def _step(document, index, picture):
    steps = _steps(document, picture)
    if index >= len(steps):
        raise InputError("That clean-up step is not there any more.")
    return steps, steps[index]


@command("reference.add_step", picture=ID, step=STEP)
def add_step(document: dict[str, Any], *, step: dict[str, Any], picture: str = "") -> str:
    """A clean-up step at the end of the list."""
    check_step(step)
    if step["kind"] in SIZED and calibration_of(document, picture) is None:
        raise InputError("Set a known length first: this step takes its size in millimetres.")
    steps = _steps(document, picture)
    if len(steps) >= MOST_STEPS:
        raise InputError(f"A picture takes up to {MOST_STEPS} clean-up steps; change one that is there.")
    steps.append({**step, "on": True})
    return f"Clean-up: {KINDS[step['kind']].lower()}"


@command("reference.set_step", picture=ID, index=Whole(0, 1000), step=STEP)
def set_step(document: dict[str, Any], *, index: int, step: dict[str, Any], picture: str = "") -> str:
    """Other parameters for a clean-up step, or its switch."""
    steps, old = _step(document, index, picture)
    check_step(step)
    if step["kind"] != old["kind"]:
        raise InputError("A clean-up step keeps its kind; add another step instead.")
    steps[index] = {**step, "on": bool(step.get("on", True))}
    return f"{KINDS[step['kind']]} {'changed' if steps[index]['on'] else 'switched off'}"


@command("reference.remove_step", picture=ID, index=Whole(0, 1000))
def remove_step(document: dict[str, Any], *, index: int, picture: str = "") -> Any:
    """Take a clean-up step away."""
    steps, old = _step(document, index, picture)
    del steps[index]
    return f"Clean-up: {KINDS[old['kind']].lower()} taken away"


def _noted(library, picture, sketch, settings, records, calibration):
    """What is kept of a trace: its recipe, its deviations, and where it saw the edge, in pixels."""
    edge = [calibration.to_px(np.array(record["comb"])[:, :2]) for record in records if record["comb"]]
    return {
        "picture": picture,
        "sketch": sketch,
        "settings": settings,
        "edge": library.keep(edge_bytes(np.vstack(edge))) if edge else "",
        "max_dev_mm": max(record["max_dev_mm"] for record in records),
        "rms_dev_mm": max(record["rms_dev_mm"] for record in records),
    }


def _traced(document, library, picture, sketch, settings):
    """(picture id, calibration, records) of a trace that goes into a sketch.

    Raises:
        InputError: the picture has no scale, or lies on another plane than the sketch.
    """
    picture, item = _picture(document, picture, change=False)
    calibration = calibration_of(document, picture)
    if calibration is None:
        raise InputError("The picture has no known length any more; set one and find the outlines again.")
    check_same_plane(document, item, sketch)
    return picture, calibration, library.records(document, picture, settings)


@command("reference.accept_trace", settings=PLAIN, picture=ID, sketch=ID)
def accept_trace(
    document: dict[str, Any], library: Any, *, settings: Any, picture: str = "", sketch: str = ""
) -> tuple[str, str]:
    """Put the outlines that a trace finds in a picture into a sketch."""
    sketch = sketch_id(document, sketch)
    picture, calibration, records = _traced(document, library, picture, sketch, settings)
    outlines = outlines_of(records)
    trace, item = next_id(document, "t"), document["references"][picture]
    drawing = sketch_of(document, sketch)
    traced = [outline.curves for outline in outlines if outline.closed and not outline.axis]
    document["traces"][trace] = _noted(library, picture, sketch, settings, records, calibration)
    if not any(other["curves"] for other in document["sketches"].values()):
        outlines, item["origin_px"] = from_origin(outlines, calibration)
        item["at_mm"] = [0.0, 0.0]
    placed = calibration_of(document, picture)
    drawing, told = taken_in(drawing, outlines, trace)
    keep_sketch(document, sketch, drawing)
    note = _jaws_closed_again(document, picture, traced, calibration, placed)
    return f"{len(records)} outline{'s' if len(records) > 1 else ''} traced: {told}{_halves_in_words(records)}", note


def _jaws_closed_again(document, picture, outlines, calibration, before):
    """Known lengths that jaws took moved onto what was traced, curves in the millimetres of a calibration, and the
    sketch after them; what moved, in words."""
    for item in known_of(document, picture).values():
        if item.get("jaws"):
            jaws = closed_again(outlines, calibration, item["jaws"]["place"], item["jaws"]["way"])
            if jaws:
                item["start"], item["end"] = list(jaws.start), list(jaws.end)
    return follow_picture(document, picture, before)


def _halves_in_words(records):
    axis = records[0].get("axis")
    return f"; mirrored in their axis, from which the picture departs by {axis['rms_mm']:.3f} mm rms" if axis else ""


@command("reference.trace_again", trace=ID, settings=PLAIN)
def trace_again(document: dict[str, Any], library: Any, *, trace: str, settings: Any) -> tuple[str, str]:
    """Put the outlines of a trace in the place of an earlier one; what still corresponds keeps its constraints."""
    old = document["traces"].get(trace)
    if old is None:
        raise InputError("The trace to be replaced is not in the job any more; add this one as a trace of its own.")
    sketch = sketch_id(document, old["sketch"])
    picture, calibration, records = _traced(document, library, old["picture"], sketch, settings)
    outlines = outlines_of(records)
    done = traced_again(sketch_of(document, sketch), outlines, trace)
    document["traces"][trace] = _noted(library, picture, sketch, settings, records, calibration)
    keep_sketch(document, sketch, done.sketch)
    closed = [outline.curves for outline in outlines if outline.closed and not outline.axis]
    note = _jaws_closed_again(document, picture, closed, calibration, calibration)
    return f"{len(records)} outline{'s' if len(records) > 1 else ''} traced again", " ".join(
        filter(None, [done.sentence(), note])
    )
