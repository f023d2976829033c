"""One module an operation: its blanks, its sentence, how it builds. A module that stands here is found by itself.

A module declares ``DECLARATION``, a :class:`nomogon_core.solid.sentence.Declaration`. It imports nothing of the kernel,
since pages read its sentence too; what it builds with is handed to it (:class:`nomogon_core.solid.asking.Ask`).
"""

from __future__ import annotations

import importlib
import math
import pkgutil
from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError

if TYPE_CHECKING:
    from nomogon_core.sentence import Declaration


def _found():
    modules = [importlib.import_module(f"{__name__}.{item.name}") for item in pkgutil.iter_modules(__path__)]
    return {module.DECLARATION.kind: module.DECLARATION for module in sorted(modules, key=lambda one: one.ORDER)}


DECLARATIONS = _found()


def declaration(kind: str) -> Declaration:
    """The declaration of an operation.

    Raises:
        OperationError: there is no such operation.
    """
    found = DECLARATIONS.get(kind) if isinstance(kind, str) else None
    if found is None:
        raise OperationError(f"There is no operation {kind!r}; there are {', '.join(DECLARATIONS)}.")
    return found


def typed(kind: str, blank: str, value: float) -> str:
    """A number, millimetres or radians, as it would be typed into a blank of an operation: ``3.80 mm``, ``2.5°``."""
    is_angle = declaration(kind).blanks()[blank].kind == "angle"
    return f"{math.degrees(value):.4g}°" if is_angle else f"{value:.2f} mm"
