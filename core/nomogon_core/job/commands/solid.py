"""Commands of the Solid stage: the steps of the Build sheet, planes and bodies."""

from __future__ import annotations

import re
from typing import Any

from nomogon_core.arguments import ID, PLAIN, SWITCH, TEXT, UNIT, Record, Whole, Wrong
from nomogon_core.errors import OperationError
from nomogon_core.job.commands.registry import command
from nomogon_core.job.document import COLOURS, USUAL_MATERIAL, clean_name, next_id, numbers_of
from nomogon_core.job.groups import settle_moved
from nomogon_core.job.places import check_plane
from nomogon_core.job.quantities import free_name, read_number, read_plain, rename_body
from nomogon_core.job.schema import PLANE_FIELDS
from nomogon_core.quantity.units import format_angle, format_length
from nomogon_core.sentence import NUMBERS, Angle, Blank, Choice, Length
from nomogon_core.solid.facts import DENSITIES
from nomogon_core.solid.operations import declaration
from nomogon_core.solid.planes import operation_of
from nomogon_core.solid.sentence import BodyBlank, Operations, PlaneBlank, sketches_in

BLANKS = Record(rest=PLAIN)
MOST_STEPS = 400
COLOUR = re.compile(r"#[0-9a-fA-F]{6}")


def _operation(document, name):
    data = document["operations"].get(name)
    if data is None:
        raise OperationError("That operation is not in the Build sheet any more.")
    return data


def _number(document, name):
    return numbers_of(document)[name]


def _filled(document, declared, name, blanks, unit, old=None):
    """Fillings of blanks as they are kept, from what was sent: numbers as text, picks and choices as plain data.

    Args:
        name: id of the operation; old: its fillings until now.
    """
    kept = dict(old or {})
    for key, value in blanks.items():
        blank = declared.blanks().get(key)
        if blank is None:
            raise OperationError(f"{declared.title} has no {key!r}; it has {', '.join(declared.blanks())}.")
        if value is None:
            kept.pop(key, None)
        elif isinstance(blank, NUMBERS):
            kept[key] = _number_in(document, declared, name, blank, value, unit, kept.get(key))
        else:
            kept[key] = value
    return kept


def _number_in(document, declared, name, blank, value, unit, before):
    if not isinstance(value, str):
        raise OperationError(f"{declared.title} expects a {blank.kind} as text for its {blank.name}, as {blank.usual}.")
    if isinstance(blank, (Length, Angle)):
        told = read_number(document, value, unit=unit, angle=isinstance(blank, Angle), at=name)
    else:
        told = read_plain(document, value)
    title = document["operations"].get(name, {}).get("title") or declared.kind
    called = (before or {}).get("name") or free_name(document, f"{title} {blank.name.replace('_', ' ')}")
    return {"typed": told.typed, "value": told.value, "name": called} | ({"late": True} if told.late else {})


def _check_picks(document, declared, name, blanks):
    """Refuse picks of what is not in the job before this operation.

    Raises:
        OperationError: names what is missing or later.
    """
    steps = document["steps"]
    before = steps[: steps.index(name)] if name in steps else steps
    for blank in declared.standing(blanks):
        if not isinstance(blank, Blank):
            continue
        value = blanks[blank.name]
        for picked in sketches_in(value):
            if picked not in document["sketches"]:
                raise OperationError("That sketch is not in the job any more; choose again.")
            if picked not in before:
                raise OperationError(
                    f"{document['sketches'][picked]['title']} stands later in the Build sheet; move it up first."
                )
        if isinstance(blank, Operations):
            for picked in value["operations"]:
                if picked not in before or picked not in document["operations"]:
                    raise OperationError("An operation that is to be repeated has to stand before this one.")
        picked = value if isinstance(blank, BodyBlank) else value.get("body") if isinstance(value, dict) else None
        if picked is not None and picked not in document["bodies"]:
            raise OperationError(f"There is no body {picked!r} in the job; extrude a region as a new body first.")
        if isinstance(blank, PlaneBlank):
            check_plane(document, value, name)


def _with_body(document, declared, blanks, before=None):
    """Fillings in which a new body's name has become its id; the body is put into the document.

    Args:
        before: fillings until now, of an operation that keeps the body that it made, under another name if one comes.
    """
    for blank in declared.standing(blanks):
        if not isinstance(blank, BodyBlank) or not blanks.get(blank.name):
            continue
        value = blanks[blank.name]
        if not isinstance(value, str):
            raise OperationError(f"{declared.title} expects the id of a body, or the name of a new one.")
        if blank.when and blanks.get(blank.when) == blank.makes:
            own = before.get(blank.name) if before and before.get(blank.when) == blank.makes else None
            kept = own in document["bodies"]
            blanks[blank.name] = _kept_body(document, own, value) if kept else _made_body(document, value)
        else:
            blanks[blank.name] = _body_called(document, value)
    return blanks


def _kept_body(document, own, value):
    """The id of the body that an operation made already, which is called otherwise where another name comes."""
    if value != own and value != document["bodies"][own]["name"]:
        set_body(document, name=own, field="name", text=document["bodies"].get(value, {}).get("name", value))
    return own


def _made_body(document, value):
    """The id of a new body of that name; a body that no operation makes yet is taken again."""
    makers = {
        operation["blanks"]["body"]
        for operation in document["operations"].values()
        if operation["blanks"].get("result") == "new"
    }
    if value in document["bodies"] and value not in makers:
        return value
    title = clean_name(document["bodies"].get(value, {}).get("name", value), "The body", 60)
    if any(body["name"] == title for body in document["bodies"].values()):
        raise OperationError(f"There is a body {title} already; add to it, or name the new one differently.")
    name = next_id(document, "b")
    colour = COLOURS[len(document["bodies"]) % len(COLOURS)]
    document["bodies"][name] = {"name": title, "colour": colour, "material": USUAL_MATERIAL}
    return name


def _body_called(document, value):
    """The id of a body by its id or its name."""
    if value in document["bodies"]:
        return value
    return next((name for name, body in document["bodies"].items() if body["name"] == value), value)


def _clear_bodies(document):
    """Take bodies away that no operation speaks of any more."""
    used = set()
    for operation in document["operations"].values():
        for value in operation["blanks"].values():
            used.add(value["body"] if isinstance(value, dict) and "body" in value else str(value))
    for name in set(document["bodies"]) - used:
        del document["bodies"][name]
    for picture in document["references"].values():
        if isinstance(picture["plane"], dict) and picture["plane"]["body"] not in document["bodies"]:
            picture["plane"] = "plan"


@command("solid.add", kind=ID, blanks=BLANKS, unit=UNIT, title=TEXT, after=ID)
def add(
    document: dict[str, Any], *, kind: str, blanks: dict[str, Any], unit: str = "mm", title: str = "", after: str = ""
) -> str:
    """A new operation: at the end of the Build sheet, or after a step of it.

    Numbers are texts as typed, a new body is its name, picks and choices are plain data.
    """
    declared = declaration(kind)
    if len(document["steps"]) >= MOST_STEPS:
        raise OperationError(f"A Build sheet holds at most {MOST_STEPS} steps; take some away first.")
    if after and after not in document["steps"]:
        raise OperationError("The step that this one was to follow is not in the Build sheet any more.")
    name = next_id(document, "op")
    document["operations"][name] = {
        "kind": kind,
        "title": title and clean_name(title, "An operation"),
        "suppressed": False,
        "blanks": {},
    }
    place = document["steps"].index(after) + 1 if after else len(document["steps"])
    document["steps"].insert(place, name)
    filled = _with_body(document, declared, _filled(document, declared, name, blanks, unit))
    document["operations"][name]["blanks"] = declared.check(filled)
    _check_picks(document, declared, name, document["operations"][name]["blanks"])
    return f"{declared.title} added as operation {_number(document, name)}"


@command("solid.set", name=ID, blanks=BLANKS, unit=UNIT)
def set_blanks(document: dict[str, Any], *, name: str, blanks: dict[str, str], unit: str = "mm") -> str:
    """Other fillings for blanks of an operation; nothing takes a clause away."""
    data = _operation(document, name)
    declared = declaration(data["kind"])
    filled = _filled(document, declared, name, blanks, unit, data["blanks"])
    for blank in declared.standing(filled):
        if isinstance(blank, NUMBERS) and blank.name not in filled:
            filled[blank.name] = _number_in(document, declared, name, blank, blank.usual, "mm", None)
        elif isinstance(blank, Choice) and blank.name not in filled:
            filled[blank.name] = next(iter(blank.options))
        elif isinstance(blank, PlaneBlank) and blank.name not in filled:
            filled[blank.name] = "plan"
    if set(blanks) & {blank.name for blank in declared.blanks().values() if isinstance(blank, BodyBlank)} | (
        {"result"} & set(blanks)
    ):
        filled = _with_body(document, declared, filled, data["blanks"])
    data["blanks"] = declared.check(filled)
    _check_picks(document, declared, name, data["blanks"])
    _clear_bodies(document)
    return f"Operation {_number(document, name)}: {_told(data['blanks'], blanks)}"


def _told(filled, blanks):
    """What was changed, in words."""
    words = []
    for key in blanks:
        value = filled.get(key)
        if value is None:
            words.append(f"{key} taken away")
        elif isinstance(value, dict) and "value" in value:
            words.append(f"{key} set to {value['typed'] or format_length(value['value']) + ' mm'}")
        else:
            words.append(f"other {key} chosen")
    return ", ".join(words) or "nothing changed"


@command("solid.suppress", name=ID, suppressed=SWITCH)
def suppress(document: dict[str, Any], *, name: str, suppressed: bool) -> str:
    """Leave an operation out, or take it in again."""
    _operation(document, name)["suppressed"] = bool(suppressed)
    return f"Operation {_number(document, name)} {'left out' if suppressed else 'taken in again'}"


def _step_words(document, name):
    for part, word in (("sketches", "Sketch"), ("planes", "Plane")):
        if name in document[part]:
            return f"{word} {document[part][name]['title']}"
    return f"Operation {_number(document, name)}"


def _check_step(document, name):
    if name not in document["steps"]:
        raise OperationError("That step is not in the Build sheet any more.")


@command("solid.remove", name=ID)
def remove(document: dict[str, Any], *, name: str) -> str:
    """Take a step out of the Build sheet: an operation, a plane or a sketch that nothing uses."""
    _check_step(document, name)
    words = _step_words(document, name)
    users = [other for other in document["steps"] if other != name and name in _read_by(document, other)]
    if users and name not in document["operations"]:
        raise OperationError(f"{words} is used by {_step_words(document, users[0])}; take that away first.")
    if name in document["sketches"] and len(document["sketches"]) == 1:
        raise OperationError("A job keeps at least one sketch.")
    document["steps"].remove(name)
    for part in ("sketches", "planes", "operations"):
        document[part].pop(name, None)
    document["traces"] = {key: trace for key, trace in document["traces"].items() if trace["sketch"] != name}
    for picture in document["references"].values():
        if picture["plane"] == name:
            picture["plane"] = "plan"
    _clear_bodies(document)
    return f"{words} deleted"


def _read_by(document, name):
    """Ids of the steps that a step refers to."""
    if name in document["operations"]:
        blanks = document["operations"][name]["blanks"]
        values = [value for value in blanks.values() if isinstance(value, dict)]
        read = {sketch for value in values for sketch in sketches_in(value)}
        for key, value in blanks.items():
            if isinstance(declaration(document["operations"][name]["kind"]).blanks().get(key), PlaneBlank):
                read |= _plane_reads(value)
        for value in values:
            read |= set(value.get("operations", ()))
            read |= _edge_reads(value["edge"]) if "edge" in value else set()
            rule = value.get("rule") or {}
            read |= {operation_of(one) for one in value.get("names", ()) if "sketch" not in value}
            read |= {rule["operation"]} if rule.get("operation") else set()
            read |= set(rule.get("but", ()))
        return read
    if name in document["sketches"]:
        data = document["sketches"][name]
        edges = [source["edge"] for source in data.get("brought", {}).values()]
        return _plane_reads(data["plane"]).union(*map(_edge_reads, edges))
    fields = document["planes"][name]["fields"]
    read = set()
    for key in ("from", "first", "second"):
        read |= _plane_reads(fields[key]) if key in fields else set()
    if isinstance(fields.get("axis"), dict):
        read |= _edge_reads(fields["axis"]["edge"])
    return read.union(*(_edge_reads(point["corner"]) for point in _corners(fields)))


def _corners(fields):
    """Corners of bodies among the points that a plane goes through."""
    return [point for point in fields.get("points", ()) if isinstance(point, dict)]


def _edge_reads(edge):
    """Operations that made the faces which meet in an edge or a corner."""
    return {operation_of(part.strip()) for part in edge.partition("@")[0].split("|")}


def _plane_reads(plane):
    return {operation_of(plane["face"])} if isinstance(plane, dict) else {plane}


@command("solid.move", name=ID, by=Whole(-MOST_STEPS, MOST_STEPS))
def move(document: dict[str, Any], *, name: str, by: int) -> str:
    """Move a step up or down in the Build sheet.

    An order in which something would come before what it uses is refused.
    """
    _check_step(document, name)
    steps = document["steps"]
    place = steps.index(name)
    target = min(max(place + by, 0), len(steps) - 1)
    if target == place:
        raise OperationError("The step is at that end of the Build sheet already.")
    words = _step_words(document, name)
    steps.insert(target, steps.pop(place))
    check_order(document)
    settle_moved(document, name)
    return f"{words} moved {'up' if target < place else 'down'}"


def check_order(document: dict[str, Any]) -> None:
    """Refuse an order of the Build sheet in which something comes before what it uses.

    Raises:
        OperationError: names both.
    """
    steps = document["steps"]
    for index, step in enumerate(steps):
        later = [other for other in _read_by(document, step) if other in steps[index + 1 :]]
        if later:
            raise OperationError(
                f"{_step_words(document, step)} uses {_step_words(document, later[0])}, so it stays below it."
            )


@command("solid.title", name=ID, text=TEXT)
def title(document: Any, *, name: Any, text: Any) -> Any:
    """Another name for an operation."""
    _operation(document, name)["title"] = clean_name(text, "An operation")
    return f"Operation {_number(document, name)} is called {clean_name(text, 'An operation')} now"


@command("plane.add", kind=ID, fields=BLANKS, title=TEXT, unit=UNIT)
def add_plane(document: dict[str, Any], *, kind: str, fields: dict[str, Any], title: str = "", unit: str = "mm") -> str:
    """A plane made from others: ``offset`` from one by a ``distance``, ``turned`` about an ``axis`` by an ``angle``,
    ``midway`` between a ``first`` and a ``second``, through three ``points`` in space or corners of bodies, or the
    ``station`` of a section at a ``distance``, turned by an ``angle`` about the place ``at``."""
    if kind not in PLANE_FIELDS:
        raise OperationError(f"There is no plane {kind!r}; there are {', '.join(PLANE_FIELDS)}.")
    name = next_id(document, "l")
    taken, count = {plane["title"] for plane in document["planes"].values()}, len(document["planes"]) + 1
    while f"Plane {count}" in taken:
        count += 1
    wanted = clean_name(title, "The plane") if title.strip() else f"Plane {count}"
    if wanted in taken:
        raise OperationError(f"There is a plane called {wanted} already; choose a different name.")
    kept = dict(fields)
    for field in ("distance", "angle"):
        if isinstance(kept.get(field), str):
            told = read_number(document, kept[field], unit=unit, angle=field == "angle", at=name)
            kept[field] = {"typed": told.typed, "value": told.value, "name": free_name(document, f"{wanted} {field}")}
    _check_plane_fields(document, kind, kept)
    document["planes"][name] = {"title": wanted, "kind": kind, "fields": kept}
    document["steps"].append(name)
    return f"{wanted} added"


def _check_plane_fields(document, kind, fields):
    try:
        PLANE_FIELDS[kind].check(fields)
    except Wrong as problem:
        raise OperationError(f"A plane of this kind expects {problem}.") from None
    for field in ("from", "first", "second"):
        if field in fields:
            check_plane(document, fields[field])
    axis = fields.get("axis")
    picked = [*_corners(fields), *([axis] if isinstance(axis, dict) else [])]
    if any(one["body"] not in document["bodies"] for one in picked):
        raise OperationError("That body is not in the solid any more; choose on another.")


@command("plane.set", name=ID, field=ID, text=TEXT, unit=UNIT)
def set_plane(document: Any, *, name: Any, field: Any, text: Any, unit: str = "mm") -> Any:
    """Another distance or angle for a plane."""
    data = document["planes"].get(name)
    if data is None:
        raise OperationError("That plane is not in the job any more.")
    if field not in ("distance", "angle") or field not in data["fields"]:
        raise OperationError(f"This plane has no {field}.")
    told = read_number(document, text, unit=unit, angle=field == "angle", at=name)
    data["fields"][field] = {**data["fields"][field], "typed": told.typed, "value": told.value}
    shown = format_angle(told.value) if field == "angle" else f"{format_length(told.value)} mm"
    return f"{data['title']}: {field} set to {shown}"


def _body(document, name):
    if name not in document["bodies"]:
        raise OperationError("That body is not in the job any more.")
    return document["bodies"][name]


@command("body.set", name=ID, field=ID, text=TEXT)
def set_body(document: dict[str, Any], *, name: str, field: str, text: str) -> str:
    """Name, colour (``#rrggbb``) or material of a body."""
    body = _body(document, name)
    if field == "name":
        new = clean_name(text, "The body", 60)
        if any(other["name"] == new for key, other in document["bodies"].items() if key != name):
            raise OperationError(f"There is a body {new} already; choose a different name.")
        rename_body(document, body["name"], new)
        old, body["name"] = body["name"], new
        return f"{old} is called {new} now"
    if field == "colour":
        if not COLOUR.fullmatch(text):
            raise OperationError(f"A colour is written #rrggbb, for example #d8b45a; {text!r} came.")
        body["colour"] = text.lower()
        return f"{body['name']} has another colour"
    if field != "material":
        raise OperationError(f"A body has a name, a colour and a material; {field!r} came.")
    if text not in DENSITIES:
        raise OperationError(f"There is no material {text!r}; choose one of {', '.join(DENSITIES)}.")
    body["material"] = text
    return f"{body['name']} is of {text}"
