"""Commands of the Ledger: quantities that stand free, and names."""

from __future__ import annotations

from typing import Any

from nomogon_core.arguments import ID, TEXT, UNIT, Choice
from nomogon_core.errors import InputError
from nomogon_core.job.commands.registry import command
from nomogon_core.job.document import next_id
from nomogon_core.job.quantities import check_name, environment, free_name, web_of
from nomogon_core.job.quantities import rename as rename_quantity
from nomogon_core.job.schema import PICKS
from nomogon_core.quantity.expression import LENGTH, PLAIN, evaluate
from nomogon_core.quantity.units import format_length, length_of
from nomogon_core.solid.measured import DIMENSIONS, WORDS

MOST_QUANTITIES = 500


def _read(document, text, unit):
    """(value, dimension) of a free quantity as typed; a bare number is a length.

    Raises:
        InputError: the text cannot be read.
    """
    text = str(text).strip()
    if not text:
        raise InputError("A quantity needs a value; write for example 4 mm, 30°, or rim / 2.")
    value = evaluate(text, environment(document), unit=unit)
    if value.dimension == PLAIN and value.bare:
        return length_of(value, text, unit=unit), LENGTH
    return value.number, value.dimension


def _typed(document, text, unit):
    """The text as it is kept: what was typed where it uses quantities or units, else with its unit."""
    bare = evaluate(text, environment(document), unit=unit).bare
    return f"{text} {unit}" if bare and unit != "mm" else text


@command("ledger.add", name=TEXT, text=TEXT, unit=UNIT)
def add(document: dict[str, Any], *, name: str, text: str, unit: str = "mm") -> str:
    """A quantity that stands free, to be used in expressions."""
    if len(document["quantities"]) >= MOST_QUANTITIES:
        raise InputError(f"A job holds at most {MOST_QUANTITIES} free quantities; take some away first.")
    name = check_name(document, name)
    value, dimension = _read(document, text, unit)
    key = next_id(document, "q")
    typed = _typed(document, str(text).strip(), unit)
    document["quantities"][key] = {"name": name, "typed": typed, "value": value, "dimension": list(dimension)}
    return f"{name} set to {_shown(value, dimension)}"


def _shown(value, dimension):
    return f"{format_length(value)} mm" if tuple(dimension) == LENGTH else f"{value:g}"


def _free(document, name):
    if name not in document["quantities"]:
        raise InputError("That quantity is not in the job any more.")
    return document["quantities"][name]


@command("ledger.set", name=ID, text=TEXT, unit=UNIT)
def set_free(document: dict[str, Any], *, name: str, text: str, unit: str = "mm") -> str:
    """Another value for a free quantity."""
    item = _free(document, name)
    if item.get("measured"):
        raise InputError(f"{item['name']} is read off the solid; change what it is taken from.")
    value, dimension = _read(document, text, unit)
    typed = _typed(document, str(text).strip(), unit)
    item |= {"typed": typed, "value": value, "dimension": list(dimension)}
    return f"{item['name']} set to {_shown(value, dimension)}"


@command("ledger.measure", picks=PICKS, word=Choice(tuple(WORDS)), name=TEXT)
def measure(document: dict[str, Any], *, picks: list[dict[str, str]], word: str, name: str = "") -> str:
    """A size of something picked on the solid, or between two, read off anew whenever the solid changes; operations
    after it can use it."""
    if len(document["quantities"]) >= MOST_QUANTITIES:
        raise InputError(f"A job holds at most {MOST_QUANTITIES} free quantities; take some away first.")
    for pick in picks:
        if pick["body"] not in document["bodies"]:
            raise InputError("That body is not in the solid any more; measure again.")
    usual = free_name(document, f"Measured {word}")
    key, name = next_id(document, "q"), check_name(document, name) if name.strip() else usual
    document["quantities"][key] = {
        "name": name,
        "typed": "",
        "value": 0.0,
        "dimension": list(DIMENSIONS[WORDS[word]]),
        "measured": {"picks": picks, "word": word},
    }
    return f"{name} is read off the solid"


@command("ledger.rename", row=ID, text=TEXT)
def rename(document: dict[str, Any], *, row: str, text: str) -> str:
    """Another name for any quantity of the Ledger, in all expressions too."""
    return f"Called {rename_quantity(document, row, text)} now"


@command("ledger.remove", name=ID)
def remove(document: dict[str, Any], *, name: str) -> Any:
    """Take a free quantity away that nothing uses."""
    item = _free(document, name)
    web = web_of(document)
    users = [other.name for other in web.items if item["name"] in web.uses.get(other.id, ())]
    if users:
        raise InputError(f"{item['name']} is used by {', '.join(users[:3])}; give these another value first.")
    del document["quantities"][name]
    return f"{item['name']} taken away"
