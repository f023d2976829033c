"""What commands may have besides the document: blobs by digest, and work that takes its time."""

from __future__ import annotations

import hashlib
import importlib
from functools import lru_cache
from typing import Any

import numpy as np

from nomogon_core.errors import InputError
from nomogon_core.geometry.records import curve_of_record
from nomogon_core.job.document import calibration_of, picture_of, things_of
from nomogon_core.job.tracing import Outlines, axis_outline
from nomogon_core.picture.cleanup import Scale, clean
from nomogon_core.picture.decode import colours, decode, inspect, looks_drawn
from nomogon_core.trace.outlines import COLOURED, TraceSettings, outline_record, trace


class Library:
    """Blobs held in memory, and work done at once; a server hands out what its workers have finished instead."""

    def __init__(self, blobs: Any = None) -> None:
        self.blobs = dict(blobs or {})

    def blob(self, digest: str) -> bytes:
        """Bytes under a digest.

        Raises:
            InputError: there are none.
        """
        if digest not in self.blobs:
            raise InputError("The file that belongs to this is not there any more.")
        return self.blobs[digest]

    def keep(self, data: bytes, media_type: str = "application/octet-stream") -> str:
        """Store bytes; their SHA-256."""
        digest = hashlib.sha256(data).hexdigest()
        self.blobs[digest] = data
        return digest

    def light(self, document: Any, picture: Any) -> Any:
        """Linear light (h, w) of a picture after its clean-up steps."""
        name, item = picture_of(document, picture)
        fit = calibration_of(document, name)
        return cleaned_light(self.blob(item["digest"]), item, fit.mm_per_px if fit else None)

    def edge(self, document: dict[str, Any], sketch: str, body: str, edge: str) -> dict[str, Any]:
        """Record of the plane curve that an edge of the solid shows in the plane of a sketch.

        Raises:
            OperationError: there is no such edge before that sketch, or it shows as no line, arc or circle.
        """
        # The kernel takes seconds to load, so it is loaded only where an edge is asked for.
        return importlib.import_module("nomogon_core.job.edges").edge_record(document, sketch, body, edge, files=self)

    def records(self, document: dict[str, Any], picture: str, settings: dict[str, Any]) -> list[dict[str, Any]]:
        """Records of the outlines that a trace with these settings finds in a picture."""
        return traced(document, picture, self.blob(picture_of(document, picture)[1]["digest"]), settings)


@lru_cache(maxsize=2)
def _light(data, name, drawn):
    return decode(data, name, drawn=drawn)


def cleaned_light(data: bytes, picture: dict[str, Any], mm_per_px: float | None, progress: Any = None) -> np.ndarray:
    """Linear light (h, w) of a picture's bytes after its clean-up steps.

    Args:
        picture: its plain data; mm_per_px: None while it has no scale; progress: called with the share done.
    """
    light = _light(data, picture["name"], picture.get("drawn", False))
    steps = [step for step in picture.get("steps", []) if step.get("on", True)]
    return clean(light, steps, Scale(1.0, mm_per_px), progress) if steps else light


def traced(
    document: dict[str, Any], name: str, data: bytes, settings: dict[str, Any], progress: Any = None
) -> list[dict[str, Any]]:
    """Records of the outlines that a trace finds in a picture of a job.

    Args:
        name: id of the picture; data: its bytes; settings: plain data of
            :class:`nomogon_core.trace.outlines.TraceSettings`.

    Raises:
        TraceError: nothing is found. InputError: the picture has no scale.
    """
    name, picture = picture_of(document, name)
    fit = calibration_of(document, name)
    if fit is None:
        raise InputError("Set a known length first, so that outlines have a size.")
    light = cleaned_light(data, picture, fit.mm_per_px, progress)
    colour = None
    if settings.get("mode") in COLOURED:
        colour = colours(data, picture["name"], drawn=picture.get("drawn", False))
    outlines = trace(light, fit, TraceSettings(**settings), progress, things_of(document, name), colour)
    return [outline_record(outline) for outline in outlines]


def outlines_of(records: list[dict[str, Any]]) -> list[Outlines]:
    """Outlines of records, and the axis of their halves if they have one, as the sketch takes them in."""
    outlines = [
        Outlines(
            [curve_of_record(item) for item in record["primitives"]],
            [item["u95_mm"] for item in record["primitives"]],
            record["closed"],
            stroke_mm=record["stroke_mm"],
        )
        for record in records
    ]
    axis = records[0].get("axis")
    if axis:
        curves = [curve for outline in outlines for curve in outline.curves]
        outlines.append(axis_outline(curves, axis["point"], axis["angle"], axis["rms_mm"]))
    return outlines


def picture_facts(data: bytes, name: str) -> dict[str, Any]:
    """What is stored of a picture besides its bytes, which are decoded once to see that they can be.

    Raises:
        PictureError: they are no picture that can be read.
    """
    info = inspect(data, name)
    decode(data, name)
    return {
        "name": name,
        "media_type": info.media_type,
        "width": info.width,
        "height": info.height,
        "dpi": list(info.dpi) if info.dpi else None,
        "drawn": looks_drawn(data, name),
        "camera": info.camera,
        "focal": info.focal,
    }


def picture_arguments(library: Any, data: bytes, name: str) -> dict[str, Any]:
    """Arguments of ``reference.add_picture`` for the bytes of a picture, which are looked at and kept.

    Raises:
        PictureError: they are no picture that can be read.
    """
    facts = picture_facts(data, name)
    return {**facts, "digest": library.keep(data, facts["media_type"])}
