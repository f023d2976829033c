"""Cuts along edges and leaning sides tried out, and the largest that works."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NoReturn

from nomogon_core.errors import OperationError
from nomogon_core.geometry.fronts import most_inward

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

BISECTIONS = 9
STEP_MM = 0.05
STEP_DEGREES, LEAST_DEGREES, TRIES = 0.1, 0.1, 5


def attempt(ask: Ask, body: Body, maker: Callable[[float], Any], size: float) -> tuple[Any, Any, Any] | None:
    """(maker, shape, facts) of a body whose edges were cut by a size, or None where it cannot be.

    Args:
        maker: of a size, gives the kernel's maker that was built; it may raise OperationError.

    Raises:
        CuspError: no size can be.
    """
    try:
        made = maker(size)
    except ask.kernel.CuspError:
        raise
    except OperationError:
        return None
    if not made.IsDone():
        return None
    shape = made.Shape()
    if ask.kernel.is_empty(shape):
        return None
    facts = ask.kernel.facts_of(shape)
    return (made, shape, facts) if facts.valid and 0 < facts.volume_mm3 < 2 * body.facts.volume_mm3 else None


def largest(ask: Ask, body: Body, maker: Callable[[float], Any], too_large: float) -> float | None:
    """Largest size that works, rounded down to 0.05 mm, by bisection; None when none does."""
    low, high = 0.0, min(too_large, max(body.facts.size))
    for _ in range(BISECTIONS):
        middle = (low + high) / 2
        if attempt(ask, body, maker, middle):
            low = middle
        else:
            high = middle
    found = int(low / STEP_MM) * STEP_MM
    return round(found, 6) if found > 0 else None


def refuse_draft(ask: Ask, areas: list[tuple[list[list[tuple]], float]], draft: float) -> NoReturn:
    """Refuse a draft that not all sides of some areas can have: say where the first of them would vanish, and the
    largest that was built for the area that stands it least.

    Args:
        areas: loops of each, and how high its sides are, millimetres. draft: radians; negative leans outward.

    Raises:
        OperationError: always; with the draft that works where there is one.
    """
    found = []
    for loops, height in areas:
        for index, loop in enumerate(loops):
            told = most_inward(loop, height * math.tan(-draft if index else draft))
            if told is not None:
                found.append((math.atan2(abs(told[0]), height), told[1], loops, height))
    whole = f"The sides cannot lean {math.degrees(abs(draft)):.4g}°"
    if not found:
        raise OperationError(f"{whole}: they could not be built. Type another angle, or draft fewer areas at once.")
    most, (x, y), loops, height = min(found, key=lambda entry: entry[0])
    sentence = f"{whole}: at ({x:.1f}, {y:.1f}) of the sketch its outline would come apart or vanish before they end."
    for _ in range(TRIES):
        degrees = int(math.degrees(most) / STEP_DEGREES) * STEP_DEGREES
        if degrees < LEAST_DEGREES:
            break
        lean, typed = (math.copysign(math.radians(degrees), sign) for sign in (draft, ask.number("draft")))
        if ask.leaning_prism(loops, 0.0, height, lean, ask.no_names()) is not None:
            ask.suggest(f"{sentence} At most {degrees:.1f}° works there.", draft=typed)
        most *= 0.8
    raise OperationError(f"{sentence} Type a smaller angle, or make the outline simpler there.")
