"""Cuts along edges tried out, and the largest that works."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from nomogon_core.errors import OperationError
from nomogon_core.solid.kernel import CuspError

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

BISECTIONS = 9
STEP_MM = 0.05


def attempt(ask: Ask, body: Body, maker: Callable[[float], Any], size: float) -> tuple[Any, Any, Any] | None:
    """(maker, shape, facts) of a body whose edges were cut by a size, or None where it cannot be.

    Args:
        maker: of a size, gives the kernel's maker that was built; it may raise OperationError.

    Raises:
        CuspError: no size can be.
    """
    try:
        made = maker(size)
    except CuspError:
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
