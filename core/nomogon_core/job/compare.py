"""What differs between two states of a job, in words, in numbers and drawn."""

from __future__ import annotations

from typing import Any

import attrs

from nomogon_core.geometry.paths import path_data
from nomogon_core.job.ledger import number_text
from nomogon_core.job.quantities import quantities
from nomogon_core.quantity.expression import LENGTH
from nomogon_core.sketch import model
from nomogon_core.solid.operations import declaration

SAME_MM = 1e-4
VOLUME = (3, 0)
SAME_NUMBER = 1e-9
KINDS_TOLD = {
    "references": ("picture", "name", ("digest", "steps")),
    "bodies": ("body", "name", ("name", "colour", "material")),
    "groups": ("group", "title", ("title",)),
}
FIELDS_TOLD = {
    "name": "name",
    "title": "name",
    "colour": "colour",
    "material": "material",
    "steps": "clean-up",
    "digest": "file",
}


@attrs.frozen
class Changed:
    """A number that is another, new (``before`` is "") or gone (``after`` is "")."""

    name: str
    before: str
    after: str


@attrs.frozen
class Body:
    """A body as built at both: (size, volume) as texts, None where it was not built."""

    name: str
    was: tuple | None
    now: tuple | None


@attrs.frozen
class Drawn:
    """A sketch of both states: path data of what only the first has, of what only the second has, and of what is the
    same; the box (left, low, right, high) around all, in millimetres."""

    title: str
    gone: tuple
    new: tuple
    same: tuple
    box: tuple


@attrs.frozen
class Compared:
    """What differs: sentences, numbers, sketches that differ."""

    told: tuple
    numbers: tuple
    drawn: tuple
    bodies: tuple = ()

    @property
    def same(self) -> bool:
        return not (self.told or self.numbers or self.drawn)


def compare(
    before: dict[str, Any], after: dict[str, Any], unit: str = "mm", results: tuple[Any, Any] = (None, None)
) -> Compared:
    """What is different in the second of two documents of a job.

    Args:
        before, after: plain data of the same version of the form; unit: of the numbers told, "mm" or "in".
        results: of the rebuild of each, or None.
    """
    drawings = [
        _drawn(before["sketches"].get(name), after["sketches"].get(name))
        for name in {**before["sketches"], **after["sketches"]}
    ]
    told = [
        *_of_sketches(before["sketches"], after["sketches"]),
        *_of_operations(before, after),
        *(sentence for part in KINDS_TOLD for sentence in _of_part(part, before[part], after[part])),
        *_of_known(before, after),
    ]
    was, now = (_built(document, result, unit) for document, result in zip((before, after), results))
    bodies = [Body(name, was.get(name), now.get(name)) for name in {**was, **now} if was.get(name) != now.get(name)]
    drawn = tuple(one for one in drawings if one)
    return Compared(tuple(told), _numbers(before, after, unit), drawn, tuple(bodies))


def _built(document, result, unit):
    """{name: (size, volume)} of the bodies of a rebuild, as texts with units."""
    told = {}
    for key, body in (result or {}).get("bodies", {}).items():
        if key in document["bodies"]:
            size = " × ".join(number_text(high - low, LENGTH, unit) for low, high in zip(*body["box"]))
            told[document["bodies"][key]["name"]] = (f"{size} {unit}", number_text(body["volume_mm3"], VOLUME, unit))
    return told


def _numbers(before, after, unit):
    was, now = ({item.id: item for item in quantities(document)} for document in (before, after))
    changes = []
    for key in {**was, **now}:
        texts = [number_text(side[key].number, side[key].dimension, unit) if key in side else "" for side in (was, now)]
        if key not in was or key not in now or abs(was[key].number - now[key].number) > SAME_NUMBER:
            changes.append(Changed((now.get(key) or was[key]).name, *texts))
    return tuple(changes)


def _listed(counts):
    """Words like "2 added, 1 gone" of {word: number}, without what is 0."""
    return ", ".join(f"{number} {word}" for word, number in counts.items() if number)


def _sketch(data):
    parts = ("points", "curves", "constraints")
    return model.from_json({part: data[part] for part in parts}) if data else model.Sketch()


def _lies(sketch, name):
    """Numbers that say where a curve is."""
    curve = sketch.curves[name]
    return [*(number for point in curve.points for number in sketch.points[point]), curve.radius or 0.0]


def _stays(was, now, name):
    """Whether a curve of two sketches is the same, but for rounding."""
    one, two = _lies(was, name), _lies(now, name)
    return (
        was.curves[name].kind == now.curves[name].kind
        and len(one) == len(two)
        and all(abs(before - after) < SAME_MM for before, after in zip(one, two))
    )


def _of_sketches(before, after):
    for name in {**before, **after}:
        if name not in after:
            yield f"Sketch {before[name]['title']} is gone."
        elif name not in before:
            yield f"Sketch {after[name]['title']} is new."
        elif before[name] != after[name]:
            yield from _of_sketch(before[name], after[name])


def _of_sketch(before, after):
    title = after["title"]
    if before["title"] != title:
        yield f"Sketch {before['title']} is called {title}."
    if before["plane"] != after["plane"]:
        yield f"{title} lies on another plane."
    old, new = _sketch(before), _sketch(after)
    was, now = old.curves, new.curves
    curves = _listed(
        {
            "added": len(now.keys() - was.keys()),
            "gone": len(was.keys() - now.keys()),
            "moved": sum(not _stays(old, new, key) for key in was.keys() & now.keys()),
        }
    )
    if curves:
        yield f"{title}: curves {curves}."
    was, now = before["constraints"], after["constraints"]
    ties = _listed({"added": len(now.keys() - was.keys()), "gone": len(was.keys() - now.keys())})
    if ties:
        yield f"{title}: constraints and dimensions {ties}."


def _drawn(before, after):
    if before == after:
        return None
    was, now = _sketch(before), _sketch(after)
    same = {name for name in was.curves.keys() & now.curves.keys() if _stays(was, now, name)}

    def paths(sketch, wanted):
        return tuple(
            path_data([sketch.geometry(name)])
            for name, curve in sketch.curves.items()
            if not curve.construction and wanted(name)
        )

    gone, new = (paths(sketch, lambda name: name not in same) for sketch in (was, now))
    if not gone and not new:
        return None
    points = [place for sketch in (was, now) for place in sketch.points.values()] or [(0.0, 0.0), (1.0, 1.0)]
    room = max((curve.radius or 0.0 for sketch in (was, now) for curve in sketch.curves.values()), default=0.0)
    room = room if len(points) < 4 else 0.0
    xs, ys = zip(*points)
    return Drawn(
        (after or before)["title"],
        gone,
        new,
        paths(now, lambda name: name in same),
        (min(xs) - room, min(ys) - room, max(xs) + room, max(ys) + room),
    )


def _called(document, name):
    """How an operation is called: its kind and its number in the Build sheet."""
    numbers = [one for one in document["steps"] if one in document["operations"]]
    kind = declaration(document["operations"][name]["kind"]).title
    return f"{kind} {numbers.index(name) + 1}"


def _of_operations(before, after):
    was, now = before["operations"], after["operations"]
    for name in {**was, **now}:
        if name not in now:
            yield f"{_called(before, name)} is gone."
        elif name not in was:
            yield f"{_called(after, name)} is new."
        elif was[name] != now[name]:
            if was[name].get("suppressed", False) != now[name].get("suppressed", False):
                yield f"{_called(after, name)} is {'left out' if now[name].get('suppressed') else 'built again'}."
            if _typed(was[name]["blanks"]) != _typed(now[name]["blanks"]):
                yield f"{_called(after, name)} says something else."
    kept = [[name for name in one["steps"] if name in two["steps"]] for one, two in ((before, after), (after, before))]
    if kept[0] != kept[1]:
        yield "The Build sheet is in another order."


def _typed(value):
    """What was filled into blanks, without the numbers that it came to."""
    if isinstance(value, dict):
        return value["typed"] if value.get("typed") else {key: _typed(item) for key, item in value.items()}
    return value


def _of_part(part, before, after):
    word, name, fields = KINDS_TOLD[part]
    for key in {**before, **after}:
        if key not in after:
            yield f"{word.capitalize()} {before[key].get(name, key)} is gone."
        elif key not in before:
            yield f"{word.capitalize()} {after[key].get(name, key)} is new."
        elif before[key] != after[key]:
            other = [FIELDS_TOLD[field] for field in fields if before[key].get(field) != after[key].get(field)]
            called = before[key].get(name, key)
            yield f"{word.capitalize()} {called}: {' and '.join(other) or 'place or settings'} changed."


def _of_known(before, after):
    was, now = before["known"], after["known"]
    count = _listed({"added": len(now.keys() - was.keys()), "gone": len(was.keys() - now.keys())})
    if count:
        yield f"Known sizes {count}."
    was, now = before["planes"], after["planes"]
    count = _listed(
        {
            "added": len(now.keys() - was.keys()),
            "gone": len(was.keys() - now.keys()),
            "moved": sum(_typed(was[key]) != _typed(now[key]) for key in was.keys() & now.keys()),
        }
    )
    if count:
        yield f"Planes {count}."
    if before["traces"] != after["traces"]:
        yield "What was traced is another."
