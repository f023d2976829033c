"""Planes of a job by reference: whether there is such a plane, what it is called, and which run alike."""

from __future__ import annotations

from typing import Any

from nomogon_core.errors import InputError, TraceError
from nomogon_core.job.document import numbers_of
from nomogon_core.solid import planes


def check_plane(document: dict[str, Any], plane: dict[str, str] | str, at: str | None = None) -> None:
    """Refuse a plane that is not in the job, or that stands later than where it is wanted.

    Args:
        at: id of the step that is to lie on it, None where any place will do.

    Raises:
        InputError: there is no such plane, body or operation before that step.
    """
    if isinstance(plane, dict):
        if plane["body"] not in document["bodies"]:
            raise InputError("That body is not in the solid any more; click another face.")
        needed = planes.operation_of(plane["face"])
        if needed not in document["operations"]:
            raise InputError("That face is not in the solid any more; click another.")
    elif plane in planes.BASE:
        return
    else:
        needed = plane
        if plane not in document["planes"]:
            raise InputError("That plane is not in the job any more; choose another.")
    steps = document["steps"]
    if at in steps and steps.index(needed) >= steps.index(at):
        raise InputError("That plane stands later in the Build sheet than what is to lie on it; move it up first.")


def plane_words(document: dict[str, Any], plane: dict[str, str] | str) -> str:
    """A plane in words: ``Plan``, ``top of 1``, ``Middle``."""
    if isinstance(plane, dict):
        return planes.words_of(plane["face"], numbers_of(document))
    return planes.BASE_WORDS.get(plane) or document["planes"].get(plane, {}).get("title", "a lost plane")


def looks_up(document: dict[str, Any], plane: dict[str, str] | str) -> bool:
    """Whether coordinates of a plane are those of Plan: it is level, and looks up."""
    if isinstance(plane, dict):
        operation = document["operations"].get(planes.operation_of(plane["face"]))
        if operation is None or planes.role_of(plane["face"]) not in planes.UP_ROLES:
            return False
        picked = next(
            (pick for pick in operation["blanks"].values() if isinstance(pick, dict) and "sketch" in pick), None
        )
        sketch = picked and document["sketches"].get(picked["sketch"])
        return looks_up(document, sketch["plane"]) if sketch else False
    if plane in planes.BASE:
        return plane == "plan"
    made = document["planes"].get(plane)
    if made is None or made["kind"] not in ("offset", "midway"):
        return False
    return looks_up(document, made["fields"]["from" if made["kind"] == "offset" else "first"])


def run_alike(document: dict[str, Any], one: dict[str, str] | str, other: dict[str, str] | str) -> bool:
    """Whether coordinates of one plane mean the same in the other: those of a station are the ones of its plan."""
    one, other = (_plan_of(document, plane) for plane in (one, other))
    return one == other or (looks_up(document, one) and looks_up(document, other))


def _plan_of(document, plane):
    while not isinstance(plane, dict) and (made := document["planes"].get(plane)) and made["kind"] == "station":
        plane = made["fields"]["from"]
    return plane


def check_same_plane(document: dict[str, Any], picture: dict[str, Any], sketch: str) -> None:
    """Refuse to trace a picture into a sketch that lies on another plane.

    Raises:
        TraceError: its outlines would come in turned.
    """
    plane = document["sketches"][sketch]["plane"]
    if not run_alike(document, picture["plane"], plane):
        raise TraceError(
            f"{picture['name']} lies on {plane_words(document, picture['plane'])}, and the sketch "
            f"{document['sketches'][sketch]['title']} on {plane_words(document, plane)}, so its outlines would come in "
            "turned. Open a sketch on the picture's plane, or lay the picture on the sketch's (Solid, Picture on a "
            "face)."
        )
