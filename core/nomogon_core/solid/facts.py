"""What is known of a body, and what came of a step; the hash under which results are kept."""

from __future__ import annotations

import hashlib
import json
from typing import Any

import attrs

DENSITIES = {"PLA": 1.24, "PETG": 1.27, "ABS": 1.04, "aluminium": 2.70, "steel": 7.85, "brass": 8.5}


def fingerprint(*parts: Any) -> str:
    """Hash of plain data, the key under which results are kept."""
    return hashlib.sha256(json.dumps(parts, sort_keys=True, default=str).encode()).hexdigest()


@attrs.frozen
class Facts:
    """What is known of one body after a step.

    Attributes:
        volume_mm3, area_mm2: of the exact shape.
        box: ((min x, y, z), (max x, y, z)) in millimetres.
        center: centre of mass.
        solids: how many separate solids it is.
        valid: closed and free of errors by the kernel's own check.
    """

    volume_mm3: float
    area_mm2: float
    box: tuple
    center: tuple
    solids: int
    valid: bool

    @property
    def size(self) -> tuple[float, float, float]:
        return tuple(high - low for low, high in zip(*self.box))

    def mass_g(self, material: str) -> float:
        return self.volume_mm3 / 1000 * DENSITIES[material]


LEAST_CHANGE_MM3 = 0.5


@attrs.frozen
class Change:
    """What a step changed.

    Attributes:
        volume_mm3: what came or, negative, went; 0 where it is too little to tell.
        pieces: how many solids a body fell into that was not so many before; 0 where none did.
        gone: ids of bodies that went into others.
        nothing: whether the bodies are as they were.
    """

    volume_mm3: float
    pieces: int
    gone: tuple[str, ...]
    nothing: bool


def is_sound(facts: dict[str, Any], *, apart: bool = False) -> bool:
    """Whether a body is closed, valid and of one piece, from its facts as plain data.

    Args:
        apart: it may be of several.
    """
    return bool(facts["valid"] and (facts["solids"] == 1 or (apart and facts["solids"] > 1)))


def change_between(
    before: dict[str, dict[str, Any]], after: dict[str, dict[str, Any]], apart: frozenset[str] = frozenset()
) -> Change:
    """What changed from the facts of bodies, as plain data by id, to those after a step.

    Args:
        apart: ids of bodies that may be of several pieces.
    """
    was, now = (sum(facts["volume_mm3"] for facts in bodies.values()) for bodies in (before, after))
    pieces = (
        facts["solids"]
        for name, facts in after.items()
        if name not in apart and facts["solids"] > 1 and before.get(name, {}).get("solids", 1) != facts["solids"]
    )
    return Change(
        now - was if abs(now - was) >= LEAST_CHANGE_MM3 else 0.0,
        next(pieces, 0),
        tuple(name for name in before if name not in after),
        bool(before) and before == after,
    )


@attrs.frozen
class Step:
    """What came of one step of the Build sheet.

    Attributes:
        name: its id.
        facts: of each body after it, by id.
        problem: why it failed, or "".
        suggestion: {blank: value} that would work, millimetres or radians, or {}.
        numbers: {blank: value} that only the solid tells.
        suppressed: it was left out.
    """

    name: str
    facts: dict = attrs.field(factory=dict)
    problem: str = ""
    suggestion: dict = attrs.field(factory=dict)
    numbers: dict = attrs.field(factory=dict)
    suppressed: bool = False
