"""One module an edit of the sketch: its blanks, its sentence, what it does. What stands here is found by itself.

A module declares ``DECLARATION``, a :class:`nomogon_core.sentence.Declaration`, whose ``build`` is a function of the
sketch and the filled blanks (numbers as millimetres, radians or counts) that gives
:class:`nomogon_core.sketch.arrange.Edited`, and ``ORDER``, its place in the Tray.
"""

from __future__ import annotations

import importlib
import pkgutil
from typing import TYPE_CHECKING

from nomogon_core.errors import SketchError

if TYPE_CHECKING:
    from nomogon_core.sentence import Declaration


def _found():
    modules = [importlib.import_module(f"{__name__}.{item.name}") for item in pkgutil.iter_modules(__path__)]
    return {module.DECLARATION.kind: module.DECLARATION for module in sorted(modules, key=lambda one: one.ORDER)}


EDITS = _found()


def edit_called(kind: str) -> Declaration:
    """The declaration of an edit.

    Raises:
        SketchError: there is none of that name.
    """
    found = EDITS.get(kind) if isinstance(kind, str) else None
    if found is None:
        raise SketchError(f"There is no edit {kind!r}; there are {', '.join(EDITS)}.")
    return found
