"""Every number of a job as a quantity with a name, and the expressions that tie one to another.

A quantity's id says where it stands: ``known:g1``, ``known:g2:width``, ``quantity:q3``, ``dimension:k7``,
``operation:op1:length``, ``plane:l4:distance``. Its value may be an expression over the names of others; after every
change all of these are worked out anew, in the order in which they hang on one another.
"""

from __future__ import annotations

from typing import Any

import attrs

from nomogon_core.errors import InputError
from nomogon_core.job.document import keep_sketch, measured_in, sketch_of, with_constraint
from nomogon_core.quantity.expression import (
    ANGLE,
    ANGLE_UNITS,
    CONSTANTS,
    FUNCTIONS,
    LENGTH,
    LENGTH_UNITS,
    PLAIN,
    Known,
    evaluate,
    names_in,
    renamed,
    uncertainty,
)
from nomogon_core.quantity.named import NAMED
from nomogon_core.quantity.units import angle_of, length_of, number_of
from nomogon_core.sketch.constrain import set_value
from nomogon_core.solid.operations import declaration
from nomogon_core.solid.sentence import sketches_in

SAME = 1e-12
FORBIDDEN = set('+*/^()"″′×÷·=;<>[]{}')
LONGEST_NAME = 60
BODY_SIZES = {"width": LENGTH, "depth": LENGTH, "height": LENGTH, "area": (2, 0), "volume": (3, 0)}


@attrs.frozen
class Quantity:
    """A number of the job.

    Attributes:
        id: see the module; name: as expressions call it.
        number: millimetres or radians; dimension: its powers of length and angle.
        typed: what was typed, "" when it was measured or set plainly.
        u95: its own 95 % uncertainty, or 0.
        step: place in the Build sheet of what it belongs to, -1 for what belongs to none.
        reads: it is only read off (a reference dimension).
    """

    id: str
    name: str
    number: float
    dimension: tuple = LENGTH
    typed: str = ""
    u95: float = 0.0
    step: int = -1
    reads: bool = False


def quantities(document: dict[str, Any]) -> list[Quantity]:
    """All quantities of a job, in the order of the Ledger."""
    return [*_known(document), *_free(document), *_of_steps(document)]


def _known(document):
    for key, item in document["known"].items():
        kind = item.get("kind", "length")
        u95 = item.get("gauge_u95_mm", 0.0)
        if kind in ("length", "diameter"):
            yield Quantity(f"known:{key}", item["name"], item["length_mm"], u95=u95)
        elif kind == "rectangle":
            for side in ("width", "height"):
                yield Quantity(f"known:{key}:{side}", f"{item['name']}, {side}", item[f"{side}_mm"], u95=u95)


def _free(document):
    for key, item in document["quantities"].items():
        if item.get("measured"):
            continue
        dimension = tuple(item.get("dimension", LENGTH))
        yield Quantity(f"quantity:{key}", item["name"], item["value"], dimension, item["typed"])


def _of_steps(document):
    for place, step in enumerate(document["steps"]):
        if step in document["sketches"]:
            for key, item in document["sketches"][step]["constraints"].items():
                if item.get("value") is not None:
                    yield Quantity(
                        f"dimension:{key}",
                        item.get("name", ""),
                        item["value"],
                        ANGLE if item["kind"] == "angle" else LENGTH,
                        item.get("typed", "") if item.get("driving", True) else "",
                        item.get("u95") or 0.0,
                        place,
                        not item.get("driving", True),
                    )
        elif step in document["operations"]:
            operation = document["operations"][step]
            kinds = {name: blank.dimension for name, blank in declaration(operation["kind"]).blanks().items()}
            yield from _numbers(f"operation:{step}", operation["blanks"], place, kinds)
        elif step in document["planes"]:
            fields = document["planes"][step]["fields"]
            numbers = {field: fields[field] for field in ("distance", "angle") if field in fields}
            yield from _numbers(f"plane:{step}", numbers, place, {"angle": ANGLE})


def _numbers(prefix, fields, place, kinds):
    for field, value in fields.items():
        if isinstance(value, dict) and "value" in value:
            dimension = kinds.get(field) or (LENGTH if field not in kinds else PLAIN)
            yield Quantity(
                f"{prefix}:{field}",
                value.get("name", ""),
                value["value"],
                dimension,
                value.get("typed", ""),
                step=place,
            )


def is_usable(name: str) -> bool:
    """Whether expressions can call something by a name."""
    return (
        bool(name)
        and name[0].isalpha()
        and not FORBIDDEN & set(name)
        and name not in (*LENGTH_UNITS, *ANGLE_UNITS, *FUNCTIONS, *CONSTANTS)
    )


def check_name(document: dict[str, Any], name: str, own: str = "") -> str:
    """A name for a quantity, on one line.

    Args:
        own: id of the quantity that is to have it.

    Raises:
        InputError: expressions cannot use it, or another quantity has it.
    """
    name = " ".join(str(name).split())[:LONGEST_NAME]
    if not is_usable(name):
        raise InputError(
            f"A quantity cannot be called {name!r}: a name begins with a letter, holds none of + * / ^ ( ), and is no "
            "unit."
        )
    taken = {item.name for item in quantities(document) if item.id != own} | _told_by_solid(document).keys()
    if name in taken:
        raise InputError(f"There is another quantity called {name}; choose a different name.")
    return name


def free_name(document: dict[str, Any], wanted: str) -> str:
    """A name that nothing has yet: the one wanted, or with a number after it."""
    taken = {item.name for item in quantities(document)} | _told_by_solid(document).keys()
    name, number = wanted, 2
    while name in taken:
        name, number = f"{wanted} {number}", number + 1
    return name


def _told_by_solid(document):
    """{name: dimension} of what only the solid tells: sizes of bodies, and what was measured on it."""
    sizes = {
        f"{body['name']} {word}": dimension
        for body in document["bodies"].values()
        for word, dimension in BODY_SIZES.items()
    }
    return sizes | {item["name"]: tuple(item["dimension"]) for item in measured_in(document).values()}


def _by_name(items):
    """Quantities that expressions can call, by name; of several with one name none."""
    count = {}
    for item in items:
        count[item.name] = count.get(item.name, 0) + 1
    return {item.name: item for item in items if count[item.name] == 1 and is_usable(item.name)}


@attrs.frozen
class Web:
    """How quantities hang on one another.

    Attributes:
        by_name: those that can be called; uses: {id: names in its expression}.
    """

    items: tuple
    by_name: dict
    uses: dict

    def needs(self, item: Quantity) -> list[Quantity]:
        """What a quantity is worked out from."""
        found = [self.by_name[name] for name in self.uses.get(item.id, ()) if name in self.by_name]
        if item.reads:
            found += [
                other for other in self.items if other.step == item.step and not other.reads and other.id in self.uses
            ]
        return found

    def in_order(self) -> list[Quantity]:
        """All quantities, each after what it needs.

        Raises:
            InputError: some hang on one another in a circle, which is named.
        """
        order, done, way = [], set(), []

        def visit(item):
            if item.id in done:
                return
            if item in way:
                circle = [*(one.name for one in way[way.index(item) :]), item.name]
                raise InputError(
                    f"These hang on one another in a circle: {' → '.join(circle)}. Give one of them a plain value."
                )
            way.append(item)
            for other in self.needs(item):
                visit(other)
            way.pop()
            done.add(item.id)
            order.append(item)

        for item in self.items:
            visit(item)
        return order

    def level(self, item: Quantity) -> int:
        """The last step of the Build sheet that a quantity is read off from, -1 for none."""
        own = item.step if item.reads else -1
        return max([own, *(self.level(other) for other in self.needs(item) if not item.reads)])


def web_of(document: dict[str, Any]) -> Web:
    """How the quantities of a job hang on one another."""
    items = tuple(quantities(document))
    by_name = _by_name(items)
    callable_names = [*by_name, *_told_by_solid(document)]
    uses = {}
    for item in items:
        if item.typed and any(name in item.typed for name in callable_names):
            used = [name for name in names_in(item.typed, [*callable_names, *NAMED]) if name in callable_names]
            if used:
                uses[item.id] = used
    return Web(items, by_name, uses)


def environment(document: dict[str, Any], web: Web | None = None) -> dict[str, Known]:
    """{name: :class:`Known`} of all quantities, with where their uncertainty comes from."""
    web = web or web_of(document)
    known = dict(NAMED)
    for item in web.in_order():
        shares = {item.id: item.u95 / 2} if item.u95 else {}
        used = web.uses.get(item.id, ())
        if used and not item.reads and all(name in known for name in used):
            shares = uncertainty(evaluate(item.typed, known), known)
        if item.name in web.by_name:
            known[item.name] = Known(item.number, item.dimension, shares)
    return known


def u95_of(known: Known) -> float:
    """95 % uncertainty of a quantity from the shares of its sources."""
    return 2 * sum(share**2 for share in known.shares.values()) ** 0.5


@attrs.frozen
class Typed:
    """A number as it was typed.

    Attributes:
        value: millimetres or radians; of what only the solid tells, 0 until it is built.
        typed: the expression, or what was typed.
        late: only the solid tells it.
    """

    value: float
    typed: str
    late: bool = False


def read_plain(document: dict[str, Any], text: str) -> Typed:
    """A number without a unit as typed for a place in the Build sheet.

    Raises:
        InputError: the text cannot be read, or comes to something else.
    """
    text = str(text).strip()
    if not text:
        raise InputError("A number is missing; write for example 3.")
    return Typed(number_of(evaluate(text, environment(document)), text, PLAIN), text)


def read_number(
    document: dict[str, Any], text: str, *, unit: str = "mm", angle: bool = False, at: str | None = None
) -> Typed:
    """A number as typed for a place in the Build sheet.

    Args:
        unit: of bare numbers; angle: whether an angle is wanted; at: id of the step that it belongs to, None for none.

    Raises:
        InputError: the text cannot be read, or uses what is read off only later.
    """
    text = str(text).strip()
    if not text:
        what = (
            "An angle is missing; write for example 45°."
            if angle
            else ('A length is missing; write for example 84, 3 1/2 in, 3.48" or 91.2 mm.')
        )
        raise InputError(what)
    web = web_of(document)
    sizes = _told_by_solid(document)
    own = [*web.by_name, *sizes]
    used = []
    if any(name in text for name in own):
        used = [name for name in names_in(text, [*own, *NAMED]) if name in own]
    late = [name for name in used if name in sizes and name not in web.by_name]
    if late:
        if at not in document["operations"]:
            raise InputError(
                f"{late[0]} is known only once the solid is built, so only operations after it can use it."
            )
        _try(text, {name: Known(1.0, dimension) for name, dimension in sizes.items()} | environment(document, web))
        return Typed(0.0, text, True)
    known = environment(document, web)
    value = evaluate(text, known, unit=unit)
    number = angle_of(value, text) if angle else length_of(value, text, unit=unit)
    if used and unit != "mm" and abs(number - _in_mm(text, known, angle)) > SAME * max(abs(number), 1.0):
        raise InputError(f"{text!r} holds a number without a unit beside a quantity; write its unit, for example 2 in.")
    return Typed(number, text)


def _try(text, known):
    length_of(evaluate(text, known), text)


def _in_mm(text, known, angle):
    value = evaluate(text, known)
    return angle_of(value, text) if angle else length_of(value, text)


def settle(document: dict[str, Any]) -> None:
    """Work out every expression of a document anew; changes the document.

    Raises:
        InputError: a quantity that one uses is gone or is read off only later, they hang on one another in a circle, or
            what one comes to cannot be.
    """
    web = web_of(document)
    _refuse_lost(document, web)
    for item in web.in_order():
        if item.id not in web.uses or item.reads:
            continue
        sizes = _told_by_solid(document)
        if any(name in sizes and name not in web.by_name for name in web.uses[item.id]):
            continue
        level = max((web.level(web.by_name[name]) for name in web.uses[item.id]), default=-1)
        if level >= item.step >= 0:
            late = next(name for name in web.uses[item.id] if web.level(web.by_name[name]) == level)
            raise InputError(
                f"{item.name} cannot use {late}, which is read off only at that place of the Build sheet or later."
            )
        value = evaluate(item.typed, environment(document))
        _put(document, item, value)


def _refuse_lost(document, web):
    """Refuse a document in which an expression uses what is gone."""
    for item in web.items:
        if item.typed and not item.reads and item.id not in web.uses and _has_words(item.typed):
            try:
                evaluate(item.typed, environment(document, web))
            except InputError as problem:
                raise InputError(
                    f"{item.name} is set to {item.typed!r}, which could not be worked out any more ({problem}) "
                    "Give it another value first."
                ) from None


def _has_words(text):
    """Whether a text may hold names: something that begins with a letter and is no unit."""
    words = "".join(letter if letter.isalpha() else " " for letter in text).split()
    return any(word not in (*LENGTH_UNITS, *ANGLE_UNITS, *FUNCTIONS, *CONSTANTS, "e", "E") for word in words)


def _put(document, item, value):
    """Give a quantity the value that its expression comes to."""
    kind, _, rest = item.id.partition(":")
    if kind == "quantity":
        document["quantities"][rest] |= {"value": value.number, "dimension": list(value.dimension)}
        return
    number = number_of(value, item.typed, item.dimension)
    if abs(number - item.number) <= SAME * max(abs(number), 1.0):
        return
    if kind == "dimension":
        step = document["steps"][item.step]
        keep_sketch(document, step, set_value(sketch_of(document, step), rest, number, typed=item.typed).sketch)
        return
    name, _, field = rest.partition(":")
    holder = document["operations"][name]["blanks"] if kind == "operation" else document["planes"][name]["fields"]
    holder[field] = {**holder[field], "value": number}
    if kind == "operation":
        declaration(document["operations"][name]["kind"]).check(holder)


def rename(document: dict[str, Any], own: str, name: str) -> str:
    """Call a quantity otherwise, in all expressions too; its new name.

    Raises:
        InputError: there is no such quantity, or the name cannot be.
    """
    measure = measured_in(document).get(own.removeprefix("quantity:"))
    if measure:
        name, old = check_name(document, name, own), measure["name"]
        rename_in_all(document, {old: name})
        measure["name"] = name
        return name
    item = next((one for one in quantities(document) if one.id == own), None)
    if item is None:
        raise InputError("That quantity is not in the job any more.")
    name = check_name(document, name, own)
    web = web_of(document)
    callable_names = [*web.by_name, *_told_by_solid(document), *NAMED]
    for other in web.items:
        if item.name in web.uses.get(other.id, ()):
            _retype(document, other, renamed(other.typed, item.name, name, callable_names))
    _rename_at(document, own, name)
    return name


def rename_body(document: dict[str, Any], old: str, new: str) -> None:
    """Carry the new name of a body into the expressions that use its sizes."""
    rename_in_all(document, {f"{old} {word}": f"{new} {word}" for word in BODY_SIZES})


def rename_in_all(document: dict[str, Any], names: dict[str, str]) -> None:
    """Carry new names of what only the solid tells into the expressions that use it."""
    web = web_of(document)
    before = [*web.by_name, *names, *NAMED]
    for item in web.items:
        text = item.typed
        for old, new in names.items():
            if text and old in text:
                text = renamed(text, old, new, before)
        if text != item.typed:
            _retype(document, item, text)


def _write(document, item_id, **fields):
    """Put fields into the record that holds a quantity."""
    if item_id.startswith("dimension:"):
        with_constraint(document, item_id.removeprefix("dimension:"), **fields)
    else:
        _holder(document, item_id).update(fields)


def _holder(document, item_id):
    """The record that holds a quantity other than a dimension."""
    kind, _, rest = item_id.partition(":")
    name, _, field = rest.partition(":")
    if kind == "known":
        return document["known"][name]
    if kind == "quantity":
        return document["quantities"][name]
    part = document["operations"][name]["blanks"] if kind == "operation" else document["planes"][name]["fields"]
    return part[field]


def _retype(document, item, text):
    _write(document, item.id, typed=text)


def _rename_at(document, own, name):
    if own.count(":") == 2 and own.startswith("known:"):
        raise InputError("The sides of a rectangle are called by its name; rename the rectangle.")
    _write(document, own, name=name)


def hangs_on(document: dict[str, Any], web: Web | None = None) -> dict[str, list[str]]:
    """{id: ids of what hangs on it}: expressions, and operations that read a sketch or body."""
    web = web or web_of(document)
    found = {}
    for item in web.items:
        for other in web.needs(item):
            if not item.reads:
                found.setdefault(other.id, []).append(item.id)
    for step, operation in document["operations"].items():
        read = {sketch for pick in operation["blanks"].values() for sketch in sketches_in(pick)}
        own = [item.id for item in web.items if item.id.startswith(f"operation:{step}:")]
        for item in web.items:
            if item.id.startswith("dimension:") and not item.reads and document["steps"][item.step] in read:
                found.setdefault(item.id, []).extend(own)
    return found
