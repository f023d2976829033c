"""Typing over a number of the Ledger: which command that is."""

from nomogon_core.job.ledger import split_id


def command_for(row_id, text, unit):
    """Name and arguments of the command that gives a Ledger row a new value.

    Raises:
        InputError: the row cannot be typed over.
    """
    kind, rest = split_id(row_id)
    if kind == "known":
        name, _, side = rest.partition(":")
        return "reference.set_known", {"name": name, "text": text, "unit": unit, "side": side}
    if kind == "dimension":
        return "sketch.set_value", {"name": rest, "text": text, "unit": unit}
    name, _, field = rest.partition(":")
    return "solid.set_number", {"name": name, "field": field, "text": text, "unit": unit}
