"""Why a constraint cannot be met: the smallest set that it contradicts, and which of these would settle it if dropped.

At the last good geometry a new equation that depends on others is a mix of them, and those in the mix are the suspects;
where it does not, they are what is left over at the best compromise. Of the suspects the smallest set is found by
halving (QuickXplain, Junker 2004).
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import attrs
import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.sketch.dimensions import in_words, listed
from nomogon_core.sketch.equations import Equations
from nomogon_core.sketch.solve import dependence, solve, solved_from
from nomogon_core.sketch.system import System

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

LEFT_OVER = 1e-4
MOST_SUSPECTS, FAR, MOST_NAMED = 200, 600, 6


@attrs.frozen
class Conflict:
    """A constraint against others.

    Attributes:
        name: id of the one that cannot be met; among: ids of the smallest set that it contradicts.
        choices: those of them without which it can be met.
    """

    name: str
    among: tuple
    choices: tuple


class ConflictError(SketchError):
    """A constraint contradicts others.

    Attributes:
        conflict: the smallest set; choices: [{"id", "words"}] of what to drop.
    """

    def __init__(self, sentence: str, conflict: Conflict, choices: list[dict[str, str]]) -> None:
        super().__init__(sentence)
        self.conflict, self.choices = conflict, choices


def conflict_of(sketch: Sketch, name: str) -> Conflict:
    """What a constraint contradicts, in a sketch whose places meet all others."""
    told = dependence(sketch, name)
    suspects = [one for one in told.among if one != name] if told.dependent else []
    if not suspects or _can_be_met(sketch, [name, *suspects]):
        suspects = _left_over(sketch, name)
    if not suspects or _can_be_met(sketch, [name, *suspects]):
        suspects = [one for one in _active(sketch) if one != name][:MOST_SUSPECTS]
    if _can_be_met(sketch, [name, *suspects]):
        return Conflict(name, (), ())
    among = _smallest(sketch, [name], False, suspects)
    everything = _active(sketch)
    choices = tuple(one for one in among if _can_be_met(sketch, [other for other in everything if other != one]))
    return Conflict(name, tuple(among), choices)


def _active(sketch):
    return [key for key, item in sketch.constraints.items() if item.driving and not item.against]


def _can_be_met(sketch, names):
    kept = {key: item for key, item in sketch.constraints.items() if key in set(names)}
    return solve(attrs.evolve(sketch, constraints=kept), most=FAR, again=False).solved


def _left_over(sketch, name):
    """Constraints that are not met at the best compromise, and those of the things that these are on."""
    system = System(Equations(sketch), merge=False)
    x, _, _, _ = solved_from(system, system.start(), again=False)
    residual = np.abs(system.evaluate(x)[0])
    rows = np.flatnonzero(residual > LEFT_OVER * residual.max(initial=0))
    return [
        one for one in dict.fromkeys(system.owners[row] for row in rows) if one in sketch.constraints and one != name
    ]


def _smallest(sketch, basis, grown, rest):
    """The smallest part of ``rest`` that cannot be met with ``basis``."""
    if grown and not _can_be_met(sketch, basis):
        return []
    if len(rest) == 1:
        return rest
    half = len(rest) // 2
    second = _smallest(sketch, [*basis, *rest[:half]], True, rest[half:])
    first = _smallest(sketch, [*basis, *second], bool(second), rest[:half])
    return [*first, *second]


def told_of(sketch: Sketch, conflict: Conflict) -> ConflictError:
    """The refusal of a constraint in words, with what could be dropped."""
    item = sketch.constraints[conflict.name]
    what = item.name or item.kind.capitalize()
    if not conflict.among:
        return ConflictError(
            f"{what} cannot be met together with the other constraints near the shape as drawn; nothing was changed.",
            conflict,
            [],
        )
    words = [in_words(sketch, one) for one in conflict.among]
    more = len(words) - MOST_NAMED
    others = listed([*words[:MOST_NAMED], f"{more} others"] if more > 1 else words)
    choices = [{"id": one, "words": in_words(sketch, one)} for one in conflict.choices]
    advice = "Drop one of them, or keep it unmet for now." if choices else "No single one of them can make room for it."
    return ConflictError(f"{what} contradicts {others}. {advice} Nothing was changed.", conflict, choices)
