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


# What is allowed for at release; the design keeps its sizes.
ALLOWANCES = (
    Setting("holes", "Round holes grow by", 0.0, least=-1.0, most=5.0),
    Setting("widest", "where they are no wider than", 20.0, most=1000.0),
    Setting("outer", "; outlines of extruded bodies grow by", 0.0, least=-5.0, most=5.0),
    Setting("shrinkage", "; everything grows by", 0.0, "%", -5.0, 20.0),
    Setting("upright", "% level and by", 0.0, "%", -5.0, 20.0),
    Setting("kerf", "% upright for shrinkage; cut outlines stand off by half a kerf of", 0.0, least=0.0, most=10.0),
    Setting("clearance", "; inlays stand back by", 0.0, least=0.0, most=2.0),
)


# The simulated printer; its line, its layer and what hangs are those of printing. Usual values: common practice.
PRINTER = (
    Setting("layer", "Layer", 0.2, most=3.0),
    Setting("nozzle", ", lines of", 0.4, most=5.0),
    Setting("walls", ", walls", 2, "", 0, 20),
    Setting("skins", ", top and bottom", 4, "", 0, 50),
    Setting("infill", ", infill", 20.0, "%", 0, 100),
    Setting("speed", "% at", 50.0, "", 1, 1000),
    Setting("price", "mm/s; a kilogram costs", 22.0, "", 0, 10000),
)
WHOLE, OF_PRINTING = ("walls", "skins"), ("layer", "nozzle", "hang")


def printer_of(data: dict[str, Any]) -> dict[str, float]:
    """Numbers of the simulated printer by name, from the plain data of how a part is made."""
    kept = data.get("numbers", {})
    printing, own = kept.get("printing", {}), kept.get("printer", {})
    usual = {one.name: one.usual for one in (*BY_KIND["printing"].settings, *PRINTER)}
    shared = {name: float(printing.get(name, usual[name])) for name in OF_PRINTING}
    told = {one.name: float(own.get(one.name, one.usual)) for one in PRINTER}
    return told | shared | {name: int(told[name]) for name in WHOLE}


# The simulated cutter, laser or router; its cut and its sheet are those of cutting. Usual values: common practice.
CUTTER = (
    Setting("copies", "Copies", 1, "", 1, 500),
    Setting("gap", ", apart", 3.0, most=100.0),
    Setting("sheet_x", ", on a sheet of", 600.0),
    Setting("sheet_y", "by", 400.0),
    Setting("kerf", "; the cut is as wide as", 0.15, most=20.0),
    Setting("feed", ", at", 20.0, "", 0.1, 1000),
    Setting("pierce", "mm/s, piercing takes", 0.5, "", 0, 60),
    Setting("passes", "s, in so many passes:", 1, "", 1, 50),
)
OF_CUTTING, WHOLE_CUTS = ("kerf", "sheet_x", "sheet_y"), ("copies", "passes")
# What the flat files show: the first outline, or the section by a plane.
FLAT_OF = {
    "outline": "the outline of the first extrusion",
    "plan": "the section level with Plan",
    "front": "the section level with Front",
    "side": "the section level with Side",
}
FLAT_AT = Setting("at", "distance", 1.0, least=-5000.0)


def cutter_of(data: dict[str, Any]) -> dict[str, float]:
    """Numbers of the simulated cutter by name, from the plain data of how a part is made."""
    kept = data.get("numbers", {})
    cutting, own = kept.get("cutting", {}), kept.get("cutter", {})
    told = {one.name: float((cutting if one.name in OF_CUTTING else own).get(one.name, one.usual)) for one in CUTTER}
    return told | {name: int(told[name]) for name in WHOLE_CUTS}


@attrs.frozen
class Flat:
    """What the flat files show: one of FLAT_OF, and of a section how far its plane is from that one, millimetres."""

    of: str = "outline"
    at: float = FLAT_AT.usual


@attrs.frozen
class Allowances:
    """What the files of a release allow for; all of it in millimetres, shrinkage in percent.

    Attributes:
        holes: what diameters of round holes no wider than ``widest`` grow by.
        outer: what outlines of extruded bodies grow by, half of it on each side.
        shrinkage, upright: what everything grows by, level and along the height.
        kerf: how wide a cut is; clearance: what inlays stand back by besides their own clearance.
    """

    holes: float = 0.0
    widest: float = 20.0
    outer: float = 0.0
    shrinkage: float = 0.0
    upright: float = 0.0
    kerf: float = 0.0
    clearance: float = 0.0

    def grows(self, diameter: float) -> bool:
        """Whether a hole of that diameter grows or, of a negative allowance, shrinks."""
        return bool(self.holes) and diameter <= self.widest + 1e-9

    @property
    def factors(self) -> tuple[float, float, float]:
        """What sizes along x, y and z are multiplied by."""
        level, high = 1 + self.shrinkage / 100, 1 + self.upright / 100
        return level, level, high


def in_words(allowances: Allowances) -> str:
    """Allowances as a list says them, "" where there are none."""
    told = []
    if allowances.holes:
        told.append(f"holes {allowances.holes:+g} mm up to Ø {allowances.widest:g}")
    if allowances.outer:
        told.append(f"outlines {allowances.outer:+g} mm")
    if allowances.shrinkage or allowances.upright:
        told.append(f"{allowances.shrinkage:+g} % level, {allowances.upright:+g} % upright")
    if allowances.kerf:
        told.append(f"kerf {allowances.kerf:g} mm")
    if allowances.clearance:
        told.append(f"clearance {allowances.clearance:+g} mm")
    return "; ".join(told)


@attrs.frozen
class Making:
    """How a part is made.

    Attributes:
        way: id of the way; numbers: of its settings, by name.
        up: unit vector that points away from the bed, table or parting plane.
        accepted: {key of a finding: (why, the number it had)}.
        allowances: what the files allow for; flat: what the flat ones show; cutter: its numbers, see
            :func:`cutter_of`.
    """

    way: str
    numbers: dict[str, float]
    up: tuple[float, float, float] = PLAN.normal
    accepted: dict[str, tuple[str, str]] = attrs.field(factory=dict)
    allowances: Allowances = Allowances()
    flat: Flat = Flat()
    cutter: dict[str, float] = attrs.field(factory=dict)


def making_of(data: dict[str, Any]) -> Making:
    """How a part is made, from plain data in which anything may be missing: ``way``, ``numbers`` by way, ``up``,
    ``accepted``, ``allowances``, ``flat``."""
    way = data.get("way", USUAL_WAY)
    own = data.get("numbers", {}).get(way, {})
    numbers = {one.name: float(own.get(one.name, one.usual)) for one in BY_KIND[way].settings}
    accepted = {key: (told["why"], told["number"]) for key, told in data.get("accepted", {}).items()}
    allowances = Allowances(**data.get("allowances", {}))
    flat = Flat(**data.get("flat", {}))
    return Making(way, numbers, tuple(data.get("up", PLAN.normal)), accepted, allowances, flat, cutter_of(data))
