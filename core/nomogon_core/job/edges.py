"""Edges of the solid as a sketch sees them; loads the geometry kernel."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from nomogon_core.errors import OperationError
from nomogon_core.geometry.records import primitive_record
from nomogon_core.job.document import build_of
from nomogon_core.job.quantities import environment
from nomogon_core.solid import graph
from nomogon_core.solid.brought import shown_in
from nomogon_core.solid.planes import operation_of

if TYPE_CHECKING:
    from nomogon_core.solid.sheet import Files


def edge_record(
    document: dict[str, Any], sketch: str, body: str, edge: str, cache: Any = None, files: Files | None = None
) -> dict[str, Any]:
    """Record of the plane curve that an edge of the solid shows in the plane of a sketch, as it is at that step.

    Args:
        document: plain data; of what stands outside of the Build sheet, empty parts suffice.

    Raises:
        OperationError: there is no such edge before that sketch, or it shows as no line, arc or circle.
    """
    built = graph.run(
        build_of(document, environment(document), files=files), cache, document["steps"].index(sketch) + 1
    )
    if sketch not in built.frames:
        raise OperationError(built.steps[-1].problem)
    later = set(document["steps"][document["steps"].index(sketch) :])
    if body not in built.bodies or later & {operation_of(part.strip()) for part in edge.partition("@")[0].split("|")}:
        raise OperationError("That edge is made later in the Build sheet than this sketch; move the sketch down first.")
    return primitive_record(shown_in(built.bodies[body], edge, built.frames[sketch]), None)
