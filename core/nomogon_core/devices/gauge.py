"""A simulated gauge that reads a made part, a stand-in for a caliper on the real one: the process leaves each size off
by a bias and a spread of its own, so that what is read says what the files should allow for."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from typing import Any

import attrs
import numpy as np
from scipy import stats

from nomogon_core.quantity.units import format_length
from nomogon_core.solid.bodies import Body
from nomogon_core.solid.bores import bores_of

RESOLUTION_MM, REPEATABILITY_MM, LEVEL = 0.01, 0.01, 0.975
# Common practice: holes come out small and outer sizes large; (bias, spread of parts) in millimetres.
PROCESSES = {
    "printing": {"hole": (-0.18, 0.04), "level": (0.06, 0.04), "upright": (0.03, 0.04)},
    "cutting": {"hole": (0.0, 0.02), "level": (0.0, 0.02), "upright": (0.0, 0.02)},
    "milling": {"hole": (-0.01, 0.005), "level": (0.01, 0.005), "upright": (0.01, 0.005)},
    "casting": {"hole": (-0.05, 0.06), "level": (-0.05, 0.06), "upright": (-0.05, 0.06)},
}
# Which kind of size each allowance corrects, and how a page calls these.
CORRECTED = {"holes": ("hole", "holes"), "outer": ("level", "outlines")}


@attrs.frozen
class Reading:
    """One size: what it is called, what kind (``hole``; ``level`` or ``upright``, of outer sizes), as designed, as the
    file had it, and as it was read on the part, millimetres."""

    name: str
    kind: str
    design: float
    filed: float
    read: float

    @property
    def off(self) -> float:
        """How much larger the part came out than designed."""
        return self.read - self.design


@attrs.frozen
class Proposal:
    """What sizes of a kind should grow by in the files, so that they come out as designed: millimetres, ± at 95 %, from
    how many of them."""

    by: float
    u95: float
    count: int


def read(
    design: Sequence[Body], filed: Sequence[Body], way: str, kerf: float = 0.0, allowed: float = 0.0, part: str = "1"
) -> list[Reading]:
    """Round holes and outer sizes of a made part.

    Args:
        design: the bodies as designed; filed: as the files had them.
        way: how they were made; kerf: of cutting, the width of the cut, which opens holes and narrows outer sizes;
            allowed: how much of that the files already allow for.
        part: which of the parts made; each has errors of its own, always the same.
    """
    found = []
    for body, made in zip(design, filed):
        if body.mesh is None and made.mesh is None:
            pairs = zip(_holes(body), _holes(made))
            for index, (plain, there) in enumerate(pairs, 1):
                name = f"Hole {index} of {body.title}, Ø {2 * plain.radius:.2f}"
                error = kerf - allowed if way == "cutting" else 0.0
                found.append(_reading(name, "hole", 2 * plain.radius, 2 * there.radius, way, error, part))
        (low, high), (low_made, high_made) = body.facts.box, made.facts.box
        for axis, word in enumerate(("x", "y", "z")):
            error = allowed - kerf if way == "cutting" and axis < 2 else 0.0
            size, there = high[axis] - low[axis], high_made[axis] - low_made[axis]
            kind = "level" if axis < 2 else "upright"
            found.append(_reading(f"{body.title} along {word}", kind, size, there, way, error, part))
    return found


def _holes(body):
    """Round holes in an order that growing them leaves."""
    return sorted(bores_of(body.shape), key=lambda bore: (*np.round(bore.start, 3), round(bore.radius, 3)))


def _reading(name, kind, design, filed, way, error, part):
    bias, spread = PROCESSES[way][kind]
    seed = int.from_bytes(hashlib.sha256(f"{way} {part} {name}".encode()).digest()[:8])
    random = np.random.default_rng(seed)
    true = filed + error + bias + spread * random.standard_normal()
    told = true + REPEATABILITY_MM * random.standard_normal()
    return Reading(name, kind, design, filed, round(told / RESOLUTION_MM) * RESOLUTION_MM)


def proposal(readings: Sequence[Reading], kind: str = "hole") -> Proposal | None:
    """What sizes of a kind should grow by, from how far they came out from what the file had; None for less than two.

    The ± is that of a mean (Student 1908).
    """
    off = np.array([one.read - one.filed for one in readings if one.kind == kind])
    if len(off) < 2:
        return None
    half = float(stats.t.ppf(LEVEL, len(off) - 1) * off.std(ddof=1) / np.sqrt(len(off)))
    return Proposal(-float(off.mean()), half, len(off))


def in_words(readings: Sequence[Reading], unit: str) -> dict[str, Any]:
    """What a page says of readings, in its unit: ``rows`` of texts, and ``told``, of each allowance that they say
    something of: its name, a sentence, and what sets it, in words and as it is typed (None where too few were read)."""
    rows = []
    for one in readings:
        sizes = [format_length(size, unit=unit) for size in (one.design, one.filed, one.read, one.off)]
        rows.append([one.name, *sizes[:3], f"+{sizes[3]}" if one.off > 0 else sizes[3]])
    told = []
    for name, (kind, called) in CORRECTED.items():
        found = proposal(readings, kind)
        if found is None:
            sentence = f"With two {called} or more it would say by how much these should grow in the files."
            told.append({"name": name, "sentence": sentence, "words": "", "typed": None})
            continue
        grow, half = (format_length(size, unit=unit) for size in (found.by, found.u95))
        if abs(found.by) <= found.u95:
            tells = f"as far as these tell: within {half} {unit}"
            sentence = f"From {found.count} of them: {called} come out as designed, {tells}."
            told.append({"name": name, "sentence": sentence, "words": "", "typed": None})
            continue
        told.append(
            {
                "name": name,
                "sentence": f"From {found.count} of them: {called} come out as designed if the files let them grow by "
                f"{grow} ± {half} {unit}.",
                "words": f"Let {called} grow by {grow} {unit}",
                "typed": grow.replace("\N{MINUS SIGN}", "-"),
            }
        )
    return {"rows": rows, "told": told}
