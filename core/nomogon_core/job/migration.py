"""Documents of older versions made into one of today's.

Version 1 had three documents, ``reference``, ``sketch`` and ``build``: one sketch on the base plane, three kinds of
operation, a material for the whole job, and the picture worked on among what was stored.
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from typing import Any

import numpy as np

from nomogon_core.errors import ArchiveError
from nomogon_core.job.document import COLOURS, FIRST_SKETCH, USUAL_MATERIAL, age_of, new_document

OLD_RULES = ("top", "bottom", "upright")
OLD_NUMBERS = {"extrude": ("length", "start"), "hole": ("diameter", "depth"), "fillet": ("radius",)}


def edge_bytes(places: list[list[float]] | np.ndarray) -> bytes:
    """Places (n, 2) along a traced edge, in pixels, as they are kept: 32-bit floats, little-endian."""
    return np.asarray(places, "<f4").reshape(-1, 2).tobytes()


def edge_places(data: bytes) -> np.ndarray:
    """Places (n, 2) of :func:`edge_bytes`.

    Raises:
        ArchiveError: the bytes are no places.
    """
    if len(data) % 8:
        raise ArchiveError("The places of a traced edge are damaged.")
    return np.frombuffer(data, "<f4").reshape(-1, 2).astype(float)


def from_version_1(old: dict[str, dict[str, Any]], keep: Callable) -> dict[str, Any]:
    """A document from the three of version 1.

    Args:
        old: ``reference``, ``sketch`` and ``build``, whole and checked.
        keep: function of bytes that stores them and gives their digest.
    """
    old = copy.deepcopy(old)
    document = new_document()
    bodies = _bodies(old["build"], document)
    _references(old["reference"], document, bodies)
    _traces(old["reference"], document, keep)
    sketch = old["sketch"]
    document["sketches"][FIRST_SKETCH] |= {part: sketch[part] for part in ("points", "curves", "constraints")}
    names = set()
    for name in old["build"]["order"]:
        data = old["build"]["operations"].get(name)
        if data is None:
            raise ArchiveError(f"The Build sheet names an operation {name!r} that is not in the job.")
        document["operations"][name] = _operation(data, bodies, names)
        document["steps"].append(name)
    document["next_number"] = 1 + max(map(age_of, _all_ids(document)), default=1)
    return document


def _all_ids(document):
    for part in ("references", "known", "traces", "sketches", "operations", "bodies"):
        yield from document[part]
    for sketch in document["sketches"].values():
        for part in ("points", "curves", "constraints"):
            yield from sketch[part]


def _references(reference, document, bodies):
    for name, picture in reference["pictures"].items():
        face = picture.pop("face", None)
        body = face and bodies.get(face["body"])
        plane = {"body": body, "face": face["name"]} if body else "plan"
        document["references"][name] = picture | {"plane": plane}
    for name, item in reference["known"].items():
        document["known"]["g" + name.removeprefix("k")] = item


def _traces(reference, document, keep):
    for name, trace in reference["traces"].items():
        edge = trace.pop("edge", [])
        document["traces"][name] = trace | {"sketch": FIRST_SKETCH, "edge": keep(edge_bytes(edge)) if edge else ""}


def _bodies(build, document):
    """The bodies that operations make or change, put into the document; {title: id}."""
    titles = list(
        dict.fromkeys(
            build["operations"][name].get("body", "Part") for name in build["order"] if name in build["operations"]
        )
    )
    found = {}
    for number, title in enumerate(titles, 1):
        found[title] = f"b{number}"
        document["bodies"][found[title]] = {
            "name": title,
            "colour": COLOURS[(number - 1) % len(COLOURS)],
            "material": build.get("material", USUAL_MATERIAL),
        }
    return found


def _operation(data, bodies, names):
    kind, title = data["kind"], data.get("title", "")
    blanks = _BLANKS[kind](data, bodies[data.get("body", "Part")]) if kind in _BLANKS else {}
    for field in OLD_NUMBERS.get(kind, ()):
        if field in blanks:
            name = wanted = f"{title or kind} {field}"
            number = 2
            while name in names:
                name, number = f"{wanted} {number}", number + 1
            names.add(name)
            blanks[field] = {"typed": "", "value": blanks[field], "name": name}
    return {"kind": kind, "title": title, "suppressed": data.get("suppressed", False), "blanks": blanks}


def _extrude(data, body):
    through = data.get("through", False)
    blanks = {
        "regions": {"sketch": FIRST_SKETCH, "names": data.get("regions", [])},
        "extent": "through" if through else "by",
        "result": data.get("mode", "add"),
        "body": body,
    }
    if not through:
        blanks |= {"length": data.get("length", 0.0), "way": "up"}
        if data.get("start"):
            blanks["start"] = data["start"]
    return blanks


def _hole(data, body):
    through = data.get("through", False)
    blanks = {
        "centres": {"sketch": FIRST_SKETCH, "names": data.get("centers", [])},
        "diameter": data.get("diameter", 0.0),
        "extent": "through" if through else "by",
        "body": body,
    }
    return blanks if through else blanks | {"depth": data.get("depth", 0.0)}


def _fillet(data, body):
    edges = data.get("edges", [])
    rules = [edge for edge in edges if edge in OLD_RULES]
    named = [edge for edge in edges if edge not in OLD_RULES]
    picked = {"body": body} | ({"rule": {"at": rules[0]}} if rules else {}) | ({"names": named} if named else {})
    return {"edges": picked, "radius": data.get("radius", 0.0)}


_BLANKS = {"extrude": _extrude, "hole": _hole, "fillet": _fillet}
