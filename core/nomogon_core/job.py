"""A job's documents as the core understands them: plain data in, typed values out, and the other way round.

A job has three documents, each plain JSON: ``reference`` (pictures, known lengths, placement, traces),
``sketch`` and ``build`` (operations in order, material).
"""

import re
import unicodedata

import attrs

from nomogon_core.reference.calibration import KnownLength, fit_similarity
from nomogon_core.sketch import model
from nomogon_core.solid import operations as ops

EMPTY = {
    "reference": {"pictures": {}, "known": {}, "traces": {}, "next_number": 1},
    "sketch": {"points": {}, "curves": {}, "constraints": {}, "next_number": 1},
    "build": {"operations": {}, "order": [], "material": "PLA", "next_number": 1},
}


@attrs.frozen
class Build:
    """What the solid is made from."""

    sketch: model.Sketch
    operations: tuple
    material: str


def build_of(documents):
    """The solved sketch, the operations in order and the material of a job."""
    build = documents.get("build") or EMPTY["build"]
    operations = tuple(ops.from_json(build["operations"][name]) for name in build.get("order", []) if name in build.get("operations", {}))
    material = build.get("material", "PLA")
    return Build(model.from_json(documents.get("sketch") or {}), operations, material if material in ops.DENSITIES else "PLA")


def picture_of(documents):
    """(id, plain data) of the job's picture, or (None, None)."""
    pictures = documents["reference"]["pictures"]
    name = next(iter(pictures), None)
    return name, pictures.get(name)


def known_lengths_of(documents, picture):
    """The known lengths of a picture by id."""
    return {name: KnownLength(item["name"], tuple(item["start"]), tuple(item["end"]), item["length_mm"], item["sigma_px"], item["gauge_u95_mm"])
            for name, item in documents["reference"]["known"].items() if item["picture"] == picture}


def calibration_of(documents):
    """Calibration of the job's picture, or None while nothing is known.

    Raises:
        CalibrationError: the stored known lengths give none; commands refuse such lengths.
    """
    name, picture = picture_of(documents)
    lengths = known_lengths_of(documents, name)
    if not lengths:
        return None
    return fit_similarity(lengths.values(), origin_px=tuple(picture["origin_px"]), angle=picture["angle"])


def file_stem(title):
    """A plain file name for a title."""
    plain = unicodedata.normalize("NFKD", title).encode("ascii", "ignore").decode()
    return re.sub(r"[^a-z0-9]+", "-", plain.lower()).strip("-")[:60] or "part"
