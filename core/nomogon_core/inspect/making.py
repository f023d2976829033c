"""Ways of making a part, each with the few numbers that the checks need."""

from __future__ import annotations

from typing import Any

import attrs

from nomogon_core.solid.planes import PLAN


@attrs.frozen
class Setting:
    """A number of a way of making.

    Attributes:
        name: its id; words: what stands before it; usual: its value at first; unit: mm, ° or "".
        least, most: the range that makes sense.
    """

    name: str
    words: str
    usual: float
    unit: str = "mm"
    least: float = 0.01
    most: float = 5000.0


@attrs.frozen
class Way:
    """A way of making: its id, what it is called, its settings."""

    kind: str
    title: str
    settings: tuple[Setting, ...]


# Usual values: common practice.
WAYS = (
    Way(
        "printing",
        "Printing",
        (
            Setting("nozzle", "nozzle", 0.4, most=5.0),
            Setting("layer", "layer", 0.2, most=3.0),
            Setting("hang", "steepest overhang", 45.0, "°", 0.0, 90.0),
            Setting("bed_x", "bed", 220.0),
            Setting("bed_y", "by", 220.0),
            Setting("bed_z", "by", 250.0),
        ),
    ),
    Way(
        "cutting",
        "Cutting",
        (
            Setting("kerf", "kerf", 0.15, most=5.0),
            Setting("bridge", "narrowest bridge", 1.0, most=50.0),
            Setting("sheet_x", "sheet", 600.0),
            Setting("sheet_y", "by", 400.0),
        ),
    ),
    Way(
        "milling",
        "Milling",
        (
            Setting("cutter", "cutter Ø", 3.0, most=100.0),
            Setting("reach", "reach", 12.0, most=500.0),
            Setting("wall", "thinnest wall", 0.8, most=50.0),
        ),
    ),
    Way(
        "casting",
        "Casting",
        (
            Setting("draft", "least draft", 1.0, "°", 0.0, 30.0),
            Setting("wall", "thinnest wall", 3.0, most=50.0),
            Setting("inside", "least inside radius", 1.0, most=50.0),
        ),
    ),
)
BY_KIND = {way.kind: way for way in WAYS}
USUAL_WAY = "printing"


@attrs.frozen
class Making:
    """How a part is made.

    Attributes:
        way: id of the way; numbers: of its settings, by name.
        up: unit vector that points away from the bed, table or parting plane.
        accepted: {key of a finding: (why, the number it had)}.
    """

    way: str
    numbers: dict[str, float]
    up: tuple[float, float, float] = PLAN.normal
    accepted: dict[str, tuple[str, str]] = attrs.field(factory=dict)


def making_of(data: dict[str, Any]) -> Making:
    """How a part is made, from plain data in which anything may be missing: ``way``, ``numbers`` by way, ``up``,
    ``accepted``."""
    way = data.get("way", USUAL_WAY)
    own = data.get("numbers", {}).get(way, {})
    numbers = {one.name: float(own.get(one.name, one.usual)) for one in BY_KIND[way].settings}
    accepted = {key: (told["why"], told["number"]) for key, told in data.get("accepted", {}).items()}
    return Making(way, numbers, tuple(data.get("up", PLAN.normal)), accepted)
