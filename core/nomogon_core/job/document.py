"""A job's document as the core understands it: plain data in, typed values out, and the other way round.

A document is plain JSON of one version. Ids are unique in the job; ``next_number`` counts them::

    references {name, digest, width, plane, pose …}     known {kind, picture, places, length_mm …}
    traces {picture, sketch, settings, edge (digest)}   quantities {name, typed, value}
    sketches {title, plane, points, curves, constraints}   planes {title, kind, fields}
    operations {kind, title, suppressed, blanks}        bodies {name, colour, material}
    steps [ids of planes, sketches and operations in order]

What a person looks at or works on is not in it.
"""

from __future__ import annotations

import copy
import json
import math
import re
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import attrs

from nomogon_core.errors import CalibrationError, InputError, OperationError, SketchError
from nomogon_core.kept import Kept
from nomogon_core.reference.calibration import CAMERA, MODELS, KnownLength, set_scale
from nomogon_core.reference.camera import Usual, lens_of
from nomogon_core.reference.models import Edge, Rectangle, choose_model, fit_plane, resolution_lengths
from nomogon_core.reference.sheets import Round
from nomogon_core.sketch import model
from nomogon_core.solid.facts import DENSITIES
from nomogon_core.solid.operations import declaration
from nomogon_core.solid.sheet import BuildSheet, OperationStep, PlaneStep, SketchStep
from nomogon_core.trace.things import thing_of

if TYPE_CHECKING:
    from nomogon_core.quantity.expression import Known
    from nomogon_core.reference.calibration import Calibration
    from nomogon_core.sketch.model import Sketch
    from nomogon_core.solid.sheet import Files
    from nomogon_core.trace.things import Thing

VERSION = 2
FIRST_SKETCH = "s1"
EMPTY = {
    "version": VERSION,
    "next_number": 2,
    "quantities": {},
    "references": {},
    "known": {},
    "traces": {},
    "planes": {},
    "sketches": {FIRST_SKETCH: {"title": "Outline", "plane": "plan", "points": {}, "curves": {}, "constraints": {}}},
    "operations": {},
    "bodies": {},
    "making": {},
    "steps": [FIRST_SKETCH],
    "groups": {},
}
PARTS = tuple(EMPTY)
USUAL_MATERIAL = "PLA"
COLOURS = ("#9fb0a6", "#d8b45a", "#7f9fc4", "#c98f7a", "#a493bd", "#8fa85f")
SAME_FOCAL = 0.01
PLACING = (
    "width",
    "height",
    "origin_px",
    "angle",
    "at_mm",
    "flipped",
    "model",
    "height_mm",
    "camera_mm",
    "focal",
    "set_width_mm",
)


def new_document() -> dict[str, Any]:
    """A document with one empty sketch on Plan."""
    return copy.deepcopy(EMPTY)


def age_of(name: str) -> int:
    """The number in an id: the larger, the younger."""
    return int(re.sub(r"\D", "", name)[-15:] or 0)


def next_id(document: dict[str, Any], prefix: str) -> str:
    """An id that is new in the job."""
    name = f"{prefix}{document['next_number']}"
    document["next_number"] += 1
    return name


def sketch_id(document: dict[str, Any], name: str = "") -> str:
    """The id of a sketch; without one the first of the Build sheet.

    Raises:
        SketchError: there is no such sketch.
    """
    name = name or next((step for step in document["steps"] if step in document["sketches"]), "")
    if name not in document["sketches"]:
        raise SketchError("That sketch is not in the job any more; open another.")
    return name


def built_to(document: dict[str, Any], until: str | None) -> dict[str, Any]:
    """The document with its Build sheet up to a step; whole where there is no such step."""
    steps = document["steps"]
    return {**document, "steps": steps[: steps.index(until) + 1]} if until in steps else document


def working_copy(document: dict[str, Any]) -> dict[str, Any]:
    """A copy of a document for a command, all the way down but for what sketches hold: that is never changed in place
    but put anew (:func:`keep_sketch`, :func:`with_constraint`)."""
    sketches = {
        name: {part: item if part in SKETCH_PARTS else plain_copy(item) for part, item in data.items()}
        for name, data in document["sketches"].items()
    }
    rest = {part: item for part, item in document.items() if part != "sketches"}
    return plain_copy(rest) | {"sketches": sketches}


def plain_copy(value: Any) -> Any:
    """A copy of plain data, all the way down; several times as fast as ``copy.deepcopy``."""
    if isinstance(value, dict):
        return {key: plain_copy(item) for key, item in value.items()}
    return [plain_copy(item) for item in value] if isinstance(value, list) else value


def sketch_of(document: dict[str, Any], name: str = "") -> Sketch:
    """A sketch of the job, without an id the first one.

    Raises:
        SketchError: there is no such sketch, or its data describes none.
    """
    return parsed(document["sketches"][sketch_id(document, name)]).numbered(document["next_number"])


SKETCH_PARTS = ("points", "curves", "constraints")
_parsed = Kept(32)


def parsed(data: dict[str, Any]) -> Sketch:
    """The sketch of plain data, kept as long as its parts are the same objects.

    Raises:
        SketchError: it describes none.
    """
    kept = _parsed.get(tuple(id(data.get(part)) for part in SKETCH_PARTS))
    return kept[0] if kept else keep_by_identity(_parsed, data, model.from_json(data))


def keep_by_identity(place: Kept, data: dict[str, Any], value: Any) -> Any:
    """Keep what was made of a sketch's plain data as long as its parts are the same objects; these are held with it, so
    that no others take their ids."""
    parts = tuple(data.get(part) for part in SKETCH_PARTS)
    return place.put(tuple(id(part) for part in parts), (value, parts))[0]


def with_constraint(document: dict[str, Any], constraint: str, **fields: Any) -> None:
    """Put other fields into the plain data of a constraint, whichever sketch it is in.

    Raises:
        StopIteration: it is in none.
    """
    key, data = next((key, data) for key, data in document["sketches"].items() if constraint in data["constraints"])
    changed = data["constraints"][constraint] | fields
    document["sketches"][key] = data | {"constraints": data["constraints"] | {constraint: changed}}


def keep_sketch(document: dict[str, Any], name: str, sketch: Sketch) -> None:
    """Put a changed sketch back into the document."""
    before = document["sketches"][name]
    kept = _parsed.get(tuple(id(before.get(part)) for part in SKETCH_PARTS))
    data = model.to_json(sketch, (kept[0], before) if kept else None)
    document["next_number"] = max(document["next_number"], data.pop("next_number"))
    document["sketches"][name] = before | data
    keep_by_identity(_parsed, data, sketch)


def with_followed(document: dict[str, Any], places: dict | None) -> dict[str, Any]:
    """The document with sketches as they followed the solid.

    Args:
        places: {sketch id: plain data of its points, curves and constraints}; those that are gone are passed over.
    """
    if not places:
        return document
    sketches = dict(document["sketches"])
    for name, data in places.items():
        if name in sketches:
            sketches[name] = sketches[name] | data
    return document | {"sketches": sketches}


def build_of(
    document: dict[str, Any],
    known: dict[str, Known] | None = None,
    sketches: dict[str, Sketch] | None = None,
    files: Files | None = None,
) -> BuildSheet:
    """The Build sheet of a job.

    Args:
        known: quantities by name, for numbers that only the solid tells.
        sketches: its sketches by id, where they were read already.
        files: where the meshes that it brings in are kept.

    Raises:
        OperationError: a step is not there, an operation is of no known kind, or a material is unknown.
        SketchError: a sketch's data describes none.
    """
    for body in document["bodies"].values():
        if body["material"] not in DENSITIES:
            raise OperationError(
                f"The material {body['material']!r} of {body['name']} is unknown; known are {', '.join(DENSITIES)}."
            )
    sketches = sketches or {name: sketch_of(document, name) for name in document["sketches"]}
    steps = [_step(document, name, sketches) for name in document["steps"]]
    measures = {item["name"]: item["measured"] for item in measured_in(document).values()}
    return BuildSheet(steps, document["bodies"], known or {}, measures, files)


def measured_in(document: dict[str, Any]) -> dict[str, dict[str, Any]]:
    """Free quantities that are read off the solid, by id."""
    return {key: item for key, item in document["quantities"].items() if item.get("measured")}


def _step(document, name, sketches):
    if name in document["sketches"]:
        data = document["sketches"][name]
        return SketchStep(name, data["title"], data["plane"], sketches[name], data.get("brought", {}))
    if name in document["planes"]:
        data = document["planes"][name]
        return PlaneStep(name, data["title"], data["kind"], data["fields"])
    data = document["operations"].get(name)
    if data is None:
        raise OperationError(f"The Build sheet names a step {name!r} that is not in the job.")
    declaration(data["kind"]).check_kinds(data["blanks"])
    return OperationStep(name, data["kind"], data["blanks"], data.get("title", ""), data.get("suppressed", False))


def numbers_of(document: dict[str, Any]) -> dict[str, int]:
    """{operation id: its number in the Build sheet}."""
    return {
        name: number
        for number, name in enumerate((one for one in document["steps"] if one in document["operations"]), 1)
    }


def picture_of(document: dict[str, Any], name: str | None = None) -> tuple[Any, Any]:
    """(id, plain data) of a picture, without an id the last one put in; (None, None) without any."""
    pictures = document["references"]
    if name not in pictures:
        name = max(pictures, key=age_of, default=None)
    return name, pictures.get(name)


def digests_of(document: dict[str, Any]) -> dict[str, str]:
    """Digests of all blobs that a document refers to, {digest: media type}."""
    edges = {trace["edge"]: "application/octet-stream" for trace in document["traces"].values() if trace.get("edge")}
    pictures = {picture["digest"]: picture["media_type"] for picture in document["references"].values()}
    return pictures | edges | dict.fromkeys(meshes_of(document), "application/octet-stream")


def meshes_of(document: dict[str, Any]) -> list[str]:
    """Digests of the meshes that operations bring in."""
    brought = (one["blanks"].get("mesh") for one in document["operations"].values() if one["kind"] == "bring")
    return sorted({one["file"] for one in brought if one})


def clean_name(text: str, what: str, most: int = 80) -> str:
    """A name as typed, shortened and on one line.

    Raises:
        InputError: nothing but spaces.
    """
    name = " ".join(str(text).split())[:most]
    if not name:
        raise InputError(f"{what} needs a name; write a word or two.")
    return name


@attrs.frozen
class Observations:
    """What is known of a picture: gauged lengths (a diameter counts as two), rectangles of known size, straight
    edges."""

    lengths: tuple = ()
    rectangles: tuple = ()
    straights: tuple = ()

    def __bool__(self):
        return bool(self.lengths or self.rectangles)


def _lengths(key, item):
    kind = item.get("kind", "length")
    if kind == "resolution":
        return resolution_lengths(item["dpi"], key)
    if kind == "diameter":
        pairs = Round(tuple(item["center"]), tuple(item["half_axes"]), item["angle"]).diameters()
        return [
            KnownLength(
                item["name"],
                tuple(map(float, a)),
                tuple(map(float, b)),
                item["length_mm"],
                item["sigma_px"],
                item["gauge_u95_mm"],
                key,
            )
            for a, b in pairs
        ]
    return [
        KnownLength(
            item["name"],
            tuple(item["start"]),
            tuple(item["end"]),
            item["length_mm"],
            item["sigma_px"],
            item["gauge_u95_mm"],
            key,
        )
    ]


def rectangle_of(key: str, item: dict[str, Any]) -> Rectangle:
    """A stored card, sheet or rectangle, whether it counts or not."""
    edges = tuple(
        Edge(tuple(map(tuple, edge["places"])), tuple(map(tuple, edge["normals"])), edge["sigma_px"])
        for edge in item.get("edges", ())
    )
    return Rectangle(
        item["name"],
        tuple(map(tuple, item["corners"])),
        item["width_mm"],
        item["height_mm"],
        item["sigma_px"],
        item["gauge_u95_mm"],
        key,
        edges,
    )


def observations(known: dict[str, dict[str, Any]]) -> Observations:
    """:class:`Observations` of stored known lengths by id; what is left out or only checks is passed over."""
    lengths, rectangles, straights = [], [], []
    for key, item in known.items():
        kind = item.get("kind", "length")
        if not item.get("used", True) or kind == "check":
            continue
        if kind == "rectangle":
            rectangles.append(rectangle_of(key, item))
        elif kind == "straight":
            straights.append(tuple(map(tuple, item["places"])))
        else:
            lengths += _lengths(key, item)
    return Observations(tuple(lengths), tuple(rectangles), tuple(straights))


def known_of(document: dict[str, Any], picture: str | None) -> dict[str, dict[str, Any]]:
    """Stored known lengths, checks and straight edges of a picture by id."""
    return {key: item for key, item in document["known"].items() if item["picture"] == picture}


def things_of(document: dict[str, Any], name: str | None = None) -> list[Thing]:
    """The cards and sheets in a picture, as :class:`nomogon_core.trace.things.Thing`: they are no part to trace."""
    known = known_of(document, picture_of(document, name)[0])
    return [thing_of(rectangle_of(key, item)) for key, item in known.items() if item.get("thing")]


def calibration_of(document: dict[str, Any], name: str | None = None) -> Calibration | None:
    """Calibration of a picture, without an id of the last one; None while nothing is known.

    Raises:
        CalibrationError: what is known gives none; commands refuse such lengths.
    """
    name, picture = picture_of(document, name)
    if picture is None:
        return None
    placing = {key: picture[key] for key in PLACING if key in picture}
    return _calibration(
        json.dumps([placing, known_of(document, name), _lens_known(document, name, picture)], sort_keys=True)
    )


def _lens_known(document, name, picture):
    """(k1, its standard deviation) that another picture by the same camera tells best, or None."""
    if not picture.get("camera"):
        return None
    told = []
    for other, item in document["references"].items():
        same = (
            other != name
            and item.get("camera") == picture["camera"]
            and abs((item.get("focal") or 0) - (picture.get("focal") or 0)) < SAME_FOCAL
        )
        if same and any(known.get("edges") for known in known_of(document, other).values()):
            placing = {key: item[key] for key in ("width", "height", "origin_px", "angle", "focal") if key in item}
            fit = _calibration(json.dumps([placing, known_of(document, other), None], sort_keys=True))
            if fit is not None and fit.model == CAMERA:
                told.append(lens_of(fit))
    return min(told, key=lambda pair: pair[1], default=None)


@lru_cache(maxsize=64)
def _calibration(text):
    picture, known, lens = json.loads(text)
    told = observations(known)
    if not told and not picture.get("set_width_mm"):
        return None
    size, wanted = (picture["width"], picture["height"]), picture.get("model", "auto")
    common = {
        "lengths": told.lengths,
        "rectangles": told.rectangles,
        "straights": told.straights,
        "origin_px": tuple(picture["origin_px"]),
        "angle": picture["angle"],
    }
    if not told:
        fit = set_scale(
            picture["set_width_mm"] / size[0], origin_px=tuple(picture["origin_px"]), angle=picture["angle"]
        )
    elif wanted in MODELS:
        fit = attrs.evolve(fit_plane(wanted, size, **common), why=f"The {wanted} model was chosen by hand.")
    else:
        fit = choose_model(
            size, **common, focal=picture.get("focal"), usual=Usual(known_k1=tuple(lens) if lens else None)
        )
    placed = attrs.evolve(fit, at_mm=tuple(picture.get("at_mm", (0.0, 0.0))), flipped=picture.get("flipped", False))
    if fit.model == CAMERA:
        return attrs.evolve(placed, height_mm=picture.get("height_mm", 0.0))
    return attrs.evolve(placed, raised=raised_factor(picture))


def raised_factor(picture: dict[str, Any]) -> float:
    """1 - height / camera distance of a picture whose part stands above the plane of what is known (pinhole model).

    Raises:
        CalibrationError: the height is not below the camera.
    """
    height, camera = picture.get("height_mm", 0.0), picture.get("camera_mm", 0.0)
    if not height:
        return 1.0
    if not (math.isfinite(camera) and camera > height > 0):
        raise CalibrationError(
            "The camera must be farther above the plane than the part's edge; give both heights in the same unit."
        )
    return 1 - height / camera
