"""Commands of Inspect and Release: how the part is made, how it lies, what of the findings is accepted, and what the
files allow for."""

from __future__ import annotations

import math
from typing import Any

from nomogon_core.arguments import NUMBER, TEXT, UNIT, Choice, Record, Rows, Text
from nomogon_core.errors import InputError
from nomogon_core.inspect.making import (
    ALLOWANCES,
    BY_KIND,
    CUTTER,
    FLAT_AT,
    FLAT_OF,
    OF_CUTTING,
    OF_PRINTING,
    PRINTER,
    WHOLE,
    WHOLE_CUTS,
    making_of,
)
from nomogon_core.job.commands.registry import command
from nomogon_core.job.schema import MANY
from nomogon_core.quantity.expression import ANGLE, evaluate
from nomogon_core.quantity.units import length_of

WAY = Choice(tuple(BY_KIND))
LEAST_UP = 1e-6
PRINTED = {
    "layer": "The layer",
    "nozzle": "The line",
    "walls": "The number of walls",
    "skins": "The number of closed layers",
    "infill": "The infill",
    "speed": "The speed",
    "price": "The price of a kilogram",
}
CALLED = {
    "holes": "The growth of holes",
    "widest": "The widest hole that grows",
    "outer": "The growth of outlines",
    "shrinkage": "The growth for shrinkage",
    "upright": "The growth upright",
    "kerf": "The kerf",
    "clearance": "The clearance",
}


CUT = {
    "copies": "The number of copies",
    "gap": "The gap between copies",
    "sheet_x": "The width of the sheet",
    "sheet_y": "The height of the sheet",
    "kerf": "The width of the cut",
    "feed": "The feed",
    "pierce": "The time to pierce",
    "passes": "The number of passes",
}


@command("inspect.make", way=WAY)
def make(document: dict[str, Any], *, way: str) -> str:
    """How the part is to be made; the checks and their numbers follow."""
    document["making"]["way"] = way
    return f"To be made by {BY_KIND[way].title.lower()}"


@command("inspect.set", name=TEXT, text=TEXT, unit=UNIT)
def set_number(document: dict[str, Any], *, name: str, text: str, unit: str = "mm") -> str:
    """A number of the way in which the part is made, such as the nozzle of the printer."""
    making = making_of(document["making"])
    setting = next((one for one in BY_KIND[making.way].settings if one.name == name), None)
    if setting is None:
        raise InputError(f"{BY_KIND[making.way].title} has no number called {name!r}.")
    value = _number(setting, setting.words.capitalize(), text, unit)
    document["making"].setdefault("numbers", {}).setdefault(making.way, {})[name] = round(value, 9)
    return f"{setting.words.capitalize()} set to {value:g} {setting.unit}"


@command("inspect.machine", way=WAY, title=TEXT, numbers=Record(rest=NUMBER))
def take_machine(document: dict[str, Any], *, way: str, title: str, numbers: dict[str, float]) -> str:
    """Make the part on a machine: all numbers of its way at once."""
    settings = {one.name: one for one in BY_KIND[way].settings}
    for name, value in numbers.items():
        setting = settings.get(name)
        if setting is None or not setting.least <= value <= setting.most:
            raise InputError(f"The machine {title} has a number for {name} that makes no sense; keep it anew.")
    document["making"]["way"] = way
    document["making"].setdefault("numbers", {})[way] = {name: round(value, 9) for name, value in numbers.items()}
    return f"To be made on {title}"


def _number(setting, called, text, unit):
    """What was typed for a setting, in its unit.

    Raises:
        InputError: it is no such number, or makes no sense.
    """
    told = evaluate(text.strip().rstrip("%"), {}, unit=unit)
    if setting.unit in ("%", ""):
        value = told.number
    elif setting.unit == "°":
        value = math.degrees(told.number) if told.dimension == ANGLE else told.number
    else:
        value = length_of(told, text, unit=unit)
    if not setting.least <= value <= setting.most:
        raise InputError(f"{called} lies between {setting.least:g} and {setting.most:g} {setting.unit}; {text!r} came.")
    return value


@command("release.allow", name=Choice(tuple(CALLED)), text=TEXT, unit=UNIT)
def allow(document: dict[str, Any], *, name: str, text: str, unit: str = "mm") -> str:
    """What the files of a release allow for, such as by how much round holes grow; the design keeps its sizes."""
    setting = next(one for one in ALLOWANCES if one.name == name)
    value = _number(setting, CALLED[name], text, unit)
    document["making"].setdefault("allowances", {})[name] = round(value, 9)
    return f"{CALLED[name]} set to {value:g} {setting.unit}"


@command("release.printer", name=Choice(tuple(PRINTED)), text=TEXT, unit=UNIT)
def set_printer(document: dict[str, Any], *, name: str, text: str, unit: str = "mm") -> str:
    """A number of the simulated printer, such as how many walls it prints; its layer and line are those of printing."""
    way = "printing" if name in OF_PRINTING else "printer"
    return _of_a_machine(document, way, next(one for one in PRINTER if one.name == name), PRINTED[name], text, unit)


@command("release.cutter", name=Choice(tuple(CUT)), text=TEXT, unit=UNIT)
def set_cutter(document: dict[str, Any], *, name: str, text: str, unit: str = "mm") -> str:
    """A number of the simulated cutter, such as how many copies it cuts; its cut and its sheet are those of cutting."""
    way = "cutting" if name in OF_CUTTING else "cutter"
    return _of_a_machine(document, way, next(one for one in CUTTER if one.name == name), CUT[name], text, unit)


def _of_a_machine(document, way, setting, called, text, unit):
    value = _number(setting, called, text, unit)
    if setting.name in (*WHOLE, *WHOLE_CUTS) and value != int(value):
        raise InputError(f"{called} is a whole number; {text!r} came.")
    document["making"].setdefault("numbers", {}).setdefault(way, {})[setting.name] = round(value, 9)
    return f"{called} set to {value:g} {setting.unit}".rstrip()


@command("release.flat", of=Choice(tuple(FLAT_OF)), at=TEXT, unit=UNIT)
def set_flat(document: dict[str, Any], *, of: str, at: str = "", unit: str = "mm") -> str:
    """What the flat files show: the first outline, or the section by a plane at a distance from a base plane."""
    told = document["making"].setdefault("flat", {})
    told["of"] = of
    if at:
        told["at"] = round(_number(FLAT_AT, "The distance from the plane", at, unit), 9)
    return f"Flat files show {FLAT_OF[of]}"


@command("inspect.lay", up=Rows(NUMBER, 3, 3))
def lay(document: dict[str, Any], *, up: list[float]) -> str:
    """Lay the part for making so that a direction points up; files for printing lie that way."""
    size = sum(value * value for value in up) ** 0.5
    if size < LEAST_UP:
        raise InputError("The direction that came has no length; choose a way to lie again.")
    document["making"]["up"] = [value / size + 0.0 for value in up]
    return "Part laid for making"


@command("inspect.accept", key=Text(MANY), why=TEXT, number=TEXT)
def accept(document: dict[str, Any], *, key: str, why: str, number: str) -> str:
    """Accept a finding for a reason; it comes back when its number changes."""
    if not why.strip():
        raise InputError("Say in a few words why this is accepted; the release report repeats it.")
    document["making"].setdefault("accepted", {})[key] = {"why": why.strip(), "number": number}
    return f"Finding accepted: {why.strip()}"


@command("inspect.reopen", key=Text(MANY))
def reopen(document: dict[str, Any], *, key: str) -> str:
    """Take an accepted finding up again."""
    if document["making"].get("accepted", {}).pop(key, None) is None:
        raise InputError("That finding is not accepted any more.")
    return "Finding taken up again"
