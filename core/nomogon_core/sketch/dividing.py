"""Curves cut where they meet others, so that areas close there.

A piece is called by its curve and by what it ends on: ``c4~c7~`` is the piece of c4 from where it meets c7 to its own
end; where two curves meet more than once, the later places are counted along the cut one: ``c4~c7~c7:2``. So a piece
keeps its name while other curves come and go, and one that is divided anew has another name.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from nomogon_core.geometry.crossings import crossings, part, span
from nomogon_core.geometry.curves import CLOSED

MARK = "~"
MOST_KEPT = 16_384
OWN_END = 1e-7


def whole(name: str) -> str:
    """The id of the curve that a piece is of; of a whole curve its own."""
    return name.split(MARK, 1)[0]


def is_piece(name: str) -> bool:
    """Whether an id is that of a piece."""
    return MARK in name


def met(name: str) -> str:
    """The id of the curve that a piece with one end of its curve begins or ends on."""
    _, first, last = name.split(MARK)
    return (first or last).split(":")[0]


@lru_cache(maxsize=MOST_KEPT)
def met_at(curve: Any, other: Any) -> tuple[float, ...]:
    """Parameters of a curve, ascending, where it meets another one between its own ends."""
    top = span(curve)
    inside = curve if isinstance(curve, CLOSED) else None
    return tuple(t for t in crossings(curve, other) if inside or OWN_END * top < t < (1 - OWN_END) * top)


@lru_cache(maxsize=MOST_KEPT)
def divided(name: str, curve: Any, cuts: tuple[tuple[float, str], ...]) -> dict[str, Any]:
    """Pieces of a curve by id, in order along it; {} where it is not cut. What is given is kept, so never change it.

    Args:
        cuts: (parameter, id of the curve met there).
    """
    top, stops = span(curve), []
    for t, other in sorted(cuts):
        if not stops or t - stops[-1][0] > OWN_END * top:
            stops.append((t, other))
    seen: dict[str, int] = {}
    marked = []
    for t, other in stops:
        seen[other] = seen.get(other, 0) + 1
        marked.append((t, other if seen[other] == 1 else f"{other}:{seen[other]}"))
    if isinstance(curve, CLOSED):
        runs = list(zip(marked, marked[1:] + marked[:1]))
    else:
        runs = list(zip([(0.0, ""), *marked], [*marked, (top, "")])) if marked else []
    return {MARK.join((name, low[1], high[1])): part(curve, low[0], high[0]) for low, high in runs}
