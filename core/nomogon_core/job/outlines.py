"""Outlines of a drawing from a file, kept among the blobs of a job until they are put into a sketch."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from nomogon_core.errors import InputError, SketchError
from nomogon_core.geometry.records import curve_of_record, primitive_record

if TYPE_CHECKING:
    from nomogon_core.exchange.readers.curves import Outlines


def outline_bytes(told: Outlines) -> bytes:
    """Outlines as they are kept: JSON of groups, each a list of runs of curve records."""
    groups = {
        name: [[primitive_record(curve, None) for curve in run] for run in runs] for name, runs in told.groups.items()
    }
    return json.dumps({"groups": groups}).encode()


def outlines_in(library: Any, picked: dict[str, str]) -> list[list[Any]]:
    """Runs of curves of a kept drawing, of one of its groups or of all.

    Raises:
        InputError: it is not kept any more, or is none.
        SketchError: it has no such group.
    """
    try:
        groups = json.loads(library.blob(picked["file"]))["groups"]
    except (ValueError, KeyError, TypeError):
        raise InputError("What was picked is no drawing; choose its file again.") from None
    if picked["group"] and picked["group"] not in groups:
        raise SketchError(f"The drawing has no group {picked['group']!r}; choose one of {', '.join(groups)}.")
    wanted = [groups[picked["group"]]] if picked["group"] else groups.values()
    return [[curve_of_record(record) for record in run] for runs in wanted for run in runs]
