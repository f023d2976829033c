"""A job's documents as the core understands them: plain data in, typed values out, and the other way round.

A job has three documents, each plain JSON: ``reference`` (pictures, known lengths, placement, traces),
``sketch`` and ``build`` (operations in order, material).
"""

import json
import math
import re
import unicodedata
from functools import lru_cache

import attrs

from nomogon_core.errors import CalibrationError, OperationError
from nomogon_core.reference.calibration import CAMERA, MODELS, KnownLength, set_scale
from nomogon_core.reference.camera import Usual, lens_of
from nomogon_core.reference.models import Edge, Rectangle, choose_model, fit_plane, resolution_lengths
from nomogon_core.reference.sheets import Round
from nomogon_core.sketch import model
from nomogon_core.solid import operations as ops
from nomogon_core.trace.things import thing_of

EMPTY = {
    "reference": {"pictures": {}, "active": "", "known": {}, "traces": {}, "next_number": 1},
    "sketch": {"points": {}, "curves": {}, "constraints": {}, "next_number": 1},
    "build": {"operations": {}, "order": [], "material": "PLA", "next_number": 1},
}

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


@attrs.frozen
class Build:
    """What the solid is made from."""

    sketch: model.Sketch
    operations: tuple
    material: str


def build_of(documents):
    """The solved sketch, the operations in order and the material of a job.

    Raises:
        OperationError: an operation is not there or of no known kind, or the material is unknown.
    """
    build = documents.get("build") or EMPTY["build"]
    for name in build.get("order", []):
        if name not in build.get("operations", {}):
            raise OperationError(f"The Build sheet names an operation {name!r} that is not in the job.")
    material = build.get("material", "PLA")
    if material not in ops.DENSITIES:
        raise OperationError(f"The job's material {material!r} is unknown; known are {', '.join(ops.DENSITIES)}.")
    return Build(
        model.from_json(documents.get("sketch") or {}),
        tuple(ops.from_json(build["operations"][name]) for name in build.get("order", [])),
        material,
    )


def picture_of(documents, name=None):
    """(id, plain data) of a picture, or of the one worked on; (None, None) without any."""
    reference = documents["reference"]
    pictures = reference["pictures"]
    name = name or reference.get("active")
    if name not in pictures:
        name = next(iter(pictures), None)
    return name, pictures.get(name)


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


def rectangle_of(key, item):
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


def observations(known):
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


def known_of(documents, picture):
    """Stored known lengths, checks and straight edges of a picture by id."""
    return {key: item for key, item in documents["reference"]["known"].items() if item["picture"] == picture}


def things_of(documents):
    """The cards and sheets in the picture worked on, as :class:`nomogon_core.trace.things.Thing`: they are no part to
    trace."""
    known = known_of(documents, picture_of(documents)[0])
    return [thing_of(rectangle_of(key, item)) for key, item in known.items() if item.get("thing")]


def calibration_of(documents, name=None):
    """Calibration of a picture, or of the one worked on; None while nothing is known.

    Raises:
        CalibrationError: what is known gives none; commands refuse such lengths.
    """
    name, picture = picture_of(documents, name)
    if picture is None:
        return None
    placing = {key: picture[key] for key in PLACING if key in picture}
    return _calibration(
        json.dumps([placing, known_of(documents, name), _lens_known(documents, name, picture)], sort_keys=True)
    )


def _lens_known(documents, name, picture):
    """(k1, its standard deviation) that another picture by the same camera tells best, or None."""
    if not picture.get("camera"):
        return None
    told = []
    for other, item in documents["reference"]["pictures"].items():
        same = (
            other != name
            and item.get("camera") == picture["camera"]
            and abs((item.get("focal") or 0) - (picture.get("focal") or 0)) < SAME_FOCAL
        )
        if same and any(known.get("edges") for known in known_of(documents, other).values()):
            placing = {key: item[key] for key in ("width", "height", "origin_px", "angle", "focal") if key in item}
            fit = _calibration(json.dumps([placing, known_of(documents, other), None], sort_keys=True))
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


def raised_factor(picture):
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


def file_stem(title):
    """A plain file name for a title."""
    plain = unicodedata.normalize("NFKD", title).encode("ascii", "ignore").decode()
    return re.sub(r"[^a-z0-9]+", "-", plain.lower()).strip("-")[:60] or "part"
