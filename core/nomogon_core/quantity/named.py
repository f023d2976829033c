"""Sizes that expressions can call by name: of metric screws, where ``M4`` is the clearance hole, medium, and ``M4
fine``, ``M4 coarse``, ``M4 head`` and ``M4 head height`` are others; and of finger rings, where ``ring 54`` is the
inside diameter."""

from __future__ import annotations

import math

from nomogon_core.quantity.expression import LENGTH, Known

# Clearance holes fine, medium and coarse (ISO 273, from memory).
CLEARANCE = {
    "M2": (2.2, 2.4, 2.6),
    "M2.5": (2.7, 2.9, 3.1),
    "M3": (3.2, 3.4, 3.6),
    "M4": (4.3, 4.5, 4.8),
    "M5": (5.3, 5.5, 5.8),
    "M6": (6.4, 6.6, 7.0),
    "M8": (8.4, 9.0, 10.0),
    "M10": (10.5, 11.0, 12.0),
    "M12": (13.0, 13.5, 14.5),
}
# Diameter and height of the heads of hexagon socket cap screws (ISO 4762, from memory).
HEADS = {
    "M2": (3.8, 2.0),
    "M2.5": (4.5, 2.5),
    "M3": (5.5, 3.0),
    "M4": (7.0, 4.0),
    "M5": (8.5, 5.0),
    "M6": (10.0, 6.0),
    "M8": (13.0, 8.0),
    "M10": (16.0, 10.0),
    "M12": (18.0, 12.0),
}
# A ring's size is its inside circumference in millimetres (ISO 8653, from memory).
RINGS = range(38, 77)


def _sizes():
    for screw, holes in CLEARANCE.items():
        yield from zip((f"{screw} fine", screw, f"{screw} coarse"), holes)
        yield from zip((f"{screw} head", f"{screw} head height"), HEADS[screw])
    yield from ((f"ring {size}", size / math.pi) for size in RINGS)


NAMED = {name: Known(size, LENGTH) for name, size in _sizes()}
