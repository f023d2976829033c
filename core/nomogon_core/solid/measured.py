"""What sizes can be read off the solid, and of which dimension each is; without the kernel."""

from __future__ import annotations

DIMENSIONS = {"length": (1, 0), "area": (2, 0), "angle": (0, 1)}
WORDS = {
    "area": "area",
    "radius": "length",
    "diameter": "length",
    "length": "length",
    "x": "length",
    "y": "length",
    "z": "length",
    "shortest distance": "length",
    "angle": "angle",
    "between axes": "length",
}
