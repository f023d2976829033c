"""Commands of the Solid stage: the Build sheet."""

import attrs

from jobs.actions import command
from nomogon_core.arguments import ID, IDS, NAMES, NUMBER, SWITCH, TEXT, UNIT, Record
from nomogon_core.errors import OperationError
from nomogon_core.quantity.units import format_length, parse_length
from nomogon_core.solid import operations as ops
from reference.commands import clean_name

FIELDS = Record(
    {"mode": ID, "body": TEXT, "regions": NAMES, "centers": IDS, "edges": NAMES, "through": SWITCH, "title": TEXT}
)
TITLES = {"extrude": "Extrude", "hole": "Hole", "fillet": "Fillet"}


def _operation(build, name):
    data = build["operations"].get(name)
    if data is None:
        raise OperationError("That operation is not in the Build sheet any more.")
    return ops.from_json(data)


def _keep(build, operation):
    build["operations"][operation.name] = ops.to_json(operation)


def _number_of(build, name):
    return build["order"].index(name) + 1


@command("solid.add", kind=ID, fields=FIELDS, lengths=Record(rest=TEXT), unit=UNIT)
def add(documents, *, kind, fields, lengths, unit="mm"):
    """A new operation at the end of the Build sheet.

    ``lengths`` are texts as typed, by field name.
    """
    if kind not in ops.KINDS:
        raise OperationError(f"There is no operation {kind!r}.")
    build = documents["build"]
    name = f"op{build['next_number']}"
    typed = {
        field: parse_length(text, unit=unit)
        for field, text in lengths.items()
        if field in ("length", "start", "diameter", "depth", "radius")
    }
    operation = ops.check(ops.from_json({"name": name, "kind": kind, **fields, **typed}))
    build["next_number"] += 1
    build["order"].append(name)
    _keep(build, operation)
    return f"{TITLES[kind]} added as operation {len(build['order'])}"


@command("solid.set_number", name=ID, field=ID, text=TEXT, unit=UNIT)
def set_number(documents, *, name, field, text, unit="mm"):
    """Another number in an operation's sentence."""
    build = documents["build"]
    operation = _operation(build, name)
    if field not in ("length", "start", "diameter", "depth", "radius"):
        raise OperationError("That number is not part of the operation.")
    value = parse_length(text, unit=unit)
    _keep(build, ops.check(attrs.evolve(operation, **{field: value})))
    return f"Operation {_number_of(build, name)}: {field} set to {format_length(value)} mm"


@command("solid.suppress", name=ID, suppressed=SWITCH)
def suppress(documents, *, name, suppressed):
    build = documents["build"]
    _keep(build, attrs.evolve(_operation(build, name), suppressed=bool(suppressed)))
    return f"Operation {_number_of(build, name)} {'left out' if suppressed else 'taken in again'}"


@command("solid.remove", name=ID)
def remove(documents, *, name):
    build = documents["build"]
    _operation(build, name)
    number = _number_of(build, name)
    build["order"].remove(name)
    del build["operations"][name]
    return f"Operation {number} deleted"


@command("solid.move", name=ID, by=NUMBER)
def move(documents, *, name, by):
    """Move an operation up or down in the Build sheet."""
    build = documents["build"]
    _operation(build, name)
    place = _number_of(build, name) - 1
    target = place + (1 if by > 0 else -1)
    if not 0 <= target < len(build["order"]):
        raise OperationError("The operation is at that end of the Build sheet already.")
    build["order"].insert(target, build["order"].pop(place))
    return f"Operation {place + 1} moved to {target + 1}"


@command("solid.choose", name=ID, field=ID, values=NAMES)
def choose(documents, *, name, field, values):
    """Other regions, centres or edges for an operation."""
    build = documents["build"]
    operation = _operation(build, name)
    if field not in ("regions", "centers", "edges"):
        raise OperationError("That choice is not part of the operation.")
    _keep(build, ops.check(attrs.evolve(operation, **{field: tuple(values)})))
    return f"Operation {_number_of(build, name)}: other {field} chosen"


@command("solid.material", text=TEXT)
def material(documents, *, text):
    if text not in ops.DENSITIES:
        raise OperationError(f"There is no material {text!r}; choose one of {', '.join(ops.DENSITIES)}.")
    documents["build"]["material"] = text
    return f"Material is {text}"


@command("solid.title", name=ID, text=TEXT)
def title(documents, *, name, text):
    build = documents["build"]
    operation = _operation(build, name)
    _keep(build, attrs.evolve(operation, title=clean_name(text, "An operation")))
    return f"Operation {_number_of(build, name)} is called {clean_name(text, 'An operation')} now"
