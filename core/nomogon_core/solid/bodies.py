"""A body of the Build sheet: an exact shape with the names of its faces and what is known of it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import attrs
from OCP.TopoDS import TopoDS_Shape

from nomogon_core.errors import OperationError
from nomogon_core.solid import kernel, planes
from nomogon_core.solid.facts import Facts
from nomogon_core.solid.kernel import ShapeMap

if TYPE_CHECKING:
    from nomogon_core.solid.planes import Frame


@attrs.frozen
class Body:
    """A body after a step.

    Attributes:
        name: its id; title: what it is called; colour: ``#rrggbb``.
        shape, names: exact shape, names of its faces.
        key: hash of everything that it was made from.
    """

    name: str
    title: str
    shape: Any = attrs.field(repr=False)
    names: ShapeMap = attrs.field(repr=False)
    facts: Facts
    key: str = attrs.field(default="", repr=False)
    colour: str = "#9fb0a6"

    def heights(self, frame: Frame = planes.PLAN) -> tuple[float, float]:
        """Lowest and highest reach along the normal of a plane, from that plane."""
        if frame == planes.PLAN:
            (_, _, low), (_, _, high) = self.facts.box
            return low, high
        (_, _, low), (_, _, high) = kernel.tight_box(kernel.seen_from(self.shape, frame))
        return low, high

    def flat_faces(self) -> dict[str, Frame]:
        """{face name: its :class:`planes.Frame`} of every flat face."""
        found = {}
        for face in kernel.faces_of(self.shape):
            name, plane = self.names.get(face), kernel.plane_of(face)
            if name and plane:
                found.setdefault(name, planes.frame_of(*plane))
        return found


def accepted(
    name: str,
    title: str,
    shape: TopoDS_Shape,
    names: ShapeMap,
    before: Body | None = None,
    *,
    grows: bool | None = None,
) -> Body:
    """A body from a result that has been looked at.

    Raises:
        OperationError: the result is empty, not valid, or its volume went the wrong way.
    """
    if kernel.is_empty(shape):
        raise OperationError("Nothing would be left of the body.")
    facts = kernel.facts_of(shape)
    if facts.solids == 0 or facts.volume_mm3 <= 1e-9:
        raise OperationError("Nothing would be left of the body.")
    if not facts.valid or not kernel.is_finite(facts):
        raise OperationError(
            "The result would not be a closed, valid solid; look for crossing or almost touching curves."
        )
    if before is not None and grows is not None:
        slack = kernel.VOLUME_SLACK * max(before.facts.volume_mm3, 1.0)
        difference = facts.volume_mm3 - before.facts.volume_mm3
        if (grows and difference < -slack) or (not grows and difference > slack):
            raise OperationError(
                "The kernel's result has an impossible volume, so it was not taken; move the operation by a hair and "
                "try again."
            )
    return Body(name, title, shape, names, facts)
