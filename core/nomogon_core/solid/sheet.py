"""The Build sheet as typed values: planes, sketches and operations in one order."""

from __future__ import annotations

from typing import Any, Protocol

import attrs

from nomogon_core.sketch.model import Sketch
from nomogon_core.tuples import as_tuple

FILLING = ("inlay",)


class Files(Protocol):
    """Where files that were brought into a job are kept."""

    def blob(self, digest: str) -> bytes:
        """Bytes under a digest; raises InputError where there are none."""


@attrs.frozen
class PlaneStep:
    """A plane made from others; see :data:`planes.KINDS` for its fields."""

    name: str
    title: str
    kind: str
    fields: dict


@attrs.frozen
class SketchStep:
    """A sketch on a plane.

    Attributes:
        plane: a reference to a plane.
        brought: {curve id: {"body", "edge"}} of curves that follow an edge of the solid.
    """

    name: str
    title: str
    plane: Any
    sketch: Sketch = attrs.field(repr=False)
    brought: dict = attrs.field(factory=dict, repr=False)


@attrs.frozen
class OperationStep:
    """An operation with the fillings of its blanks."""

    name: str
    kind: str
    blanks: dict
    title: str = ""
    suppressed: bool = False


@attrs.frozen
class BuildSheet:
    """What the solid is made from.

    Attributes:
        steps: in order.
        bodies: {id: {"name", "colour", "material"}}.
        known: {name: value} of all quantities, for numbers that only the solid tells.
        measures: {name: {"picks", "word"}} of sizes that are read off the solid, see :mod:`measuring`.
        files: where files that operations bring in are kept, or None.
    """

    steps: tuple = attrs.field(converter=as_tuple)
    bodies: dict
    known: dict = attrs.field(factory=dict, repr=False)
    measures: dict = attrs.field(factory=dict, repr=False)
    files: Files | None = attrs.field(default=None, repr=False, eq=False)

    @property
    def operations(self) -> tuple[OperationStep, ...]:
        return tuple(step for step in self.steps if isinstance(step, OperationStep))

    @property
    def apart(self) -> frozenset[str]:
        """Ids of bodies that may be several solids, since they fill areas that lie apart."""
        return frozenset(
            step.blanks["body"]
            for step in self.operations
            if step.kind in FILLING and step.blanks.get("result") == "new"
        )

    def numbers(self) -> dict[str, int]:
        """{operation id: its number in the Build sheet}."""
        return {step.name: number for number, step in enumerate(self.operations, 1)}
