"""What the files of a release allow for: holes that come out small, shrinkage, clearance. The design stays."""

from __future__ import annotations

import math
from collections import Counter
from typing import TYPE_CHECKING

import attrs
import numpy as np

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Blank
from nomogon_core.solid import kernel
from nomogon_core.solid.bores import bores_of
from nomogon_core.solid.operations import DECLARATIONS
from nomogon_core.solid.sheet import OperationStep

if TYPE_CHECKING:
    from nomogon_core.inspect.making import Allowances
    from nomogon_core.solid.bodies import Body
    from nomogon_core.solid.sheet import BuildSheet

CLEARANCE, OUTWARD, LIKELY, ORIGIN = "clearance", "outward", 0.5, (0.0, 0.0, 0.0)


def allowed_sheet(sheet: BuildSheet, allowances: Allowances) -> BuildSheet:
    """The Build sheet with more clearance wherever a filling has some or could have it, and with the outlines of
    extruded bodies moved out."""
    changes = (
        (CLEARANCE, allowances.clearance, _is_filling),
        (OUTWARD, allowances.outer / 2, _is_outside),
    )
    for blank, by, concerns in changes:
        if by:
            steps = [
                attrs.evolve(step, blanks=step.blanks | {blank: _more(step.blanks.get(blank), by)})
                if isinstance(step, OperationStep) and concerns(step)
                else step
                for step in sheet.steps
            ]
            sheet = attrs.evolve(sheet, steps=steps)
    return sheet


def _is_outside(step):
    return step.kind == "extrude" and step.blanks.get("result") in ("new", "add")


def _is_filling(step):
    declared = DECLARATIONS.get(step.kind)
    if declared is None:
        return False
    standing = {part.name for part in declared.standing(step.blanks) if isinstance(part, Blank)}
    return CLEARANCE in standing | {clause.first.name for clause in declared.offers(step.blanks)}


def _more(number, by):
    number = number or {"value": 0.0}
    return number | {"typed": "", "value": number["value"] + by}


def allowed(bodies: dict[str, Body], allowances: Allowances) -> dict[str, Body]:
    """Bodies whose round holes have grown and that have grown for shrinkage, about the origin.

    Raises:
        OperationError: the kernel cannot let the holes of one of them grow.
    """
    return {name: _scaled(_with_holes(body, allowances), allowances) for name, body in bodies.items()}


def _growing(body, allowances):
    """(bore, its radius in the files) of the round holes that change; a mesh has none that are known."""
    bores = bores_of(body.shape) if body.mesh is None and allowances.holes else []
    return [(bore, bore.radius + allowances.holes / 2) for bore in bores if allowances.grows(2 * bore.radius)]


def _with_holes(body, allowances):
    grown = _growing(body, allowances)
    if not grown:
        return body
    if min(radius for _, radius in grown) <= 0:
        raise OperationError("A hole would vanish by that allowance; let holes shrink by less.")
    blocks = [kernel.bored(bore.start, bore.way, bore.length, bore.radius, radius) for bore, radius in grown]
    shape = kernel.boolean("cut" if allowances.holes > 0 else "add", body.shape, blocks).Shape()
    facts = kernel.facts_of(shape)
    wanted = sum(math.pi * bore.length * (bore.radius**2 - radius**2) for bore, radius in grown)
    change = facts.volume_mm3 - body.facts.volume_mm3
    if not facts.valid or not LIKELY < change / wanted < 1 / LIKELY:
        raise OperationError(f"The holes of {body.title} cannot be let grow by that; type another size, or 0.")
    return attrs.evolve(body, exact=shape, facts=facts)


def _scaled(body, allowances):
    level, _, high = allowances.factors
    if level == high == 1:
        return body
    if body.mesh is not None:
        return attrs.evolve(body, mesh=body.mesh.moved(np.diag(allowances.factors), ORIGIN))
    if level == high:
        return attrs.evolve(body, exact=kernel.transformed(body.shape, kernel.enlarging(ORIGIN, level)))
    return attrs.evolve(body, exact=kernel.stretched(body.shape, ORIGIN, allowances.factors))


def told_of(bodies: dict[str, Body], allowances: Allowances) -> list[str]:
    """In words, what of the bodies is otherwise in the files than in the design."""
    told, count = [], Counter()
    for body in bodies.values():
        count.update((round(2 * bore.radius, 3), round(2 * radius, 3)) for bore, radius in _growing(body, allowances))
    if count:
        holes = "; ".join(
            f"{before:.2f} → {after:.2f}{_times(much)}" for (before, after), much in sorted(count.items())
        )
        told.append(f"Round holes, Ø: {holes}.")
    elif allowances.holes:
        told.append(f"No round hole is as narrow as {allowances.widest:g} mm.")
    level, _, high = allowances.factors
    if (level, high) != (1, 1):
        low, most = (np.array(edge) for edge in zip(*(body.facts.box for body in bodies.values())))
        size = most.max(axis=0) - low.min(axis=0)
        sizes = " × ".join(f"{one:.2f}" for one in size)
        told.append(f"Size: {sizes} → {' × '.join(f'{one:.2f}' for one in size * allowances.factors)} mm.")
    if allowances.kerf:
        told.append(f"Outlines of DXF and SVG stand off by {allowances.kerf / 2:g} mm.")
    if allowances.outer:
        way = "out" if allowances.outer > 0 else "in"
        told.append(f"Outlines of extruded bodies are moved {way} by {abs(allowances.outer) / 2:g} mm all around.")
    if allowances.clearance:
        told.append(f"Inlays and fillings stand back by {allowances.clearance:g} mm more.")
    return told


def _times(much):
    return f" ({much} times)" if much > 1 else ""
