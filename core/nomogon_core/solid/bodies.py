"""A body of the Build sheet: an exact shape with the names of its faces, or a mesh, and what is known of it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
from OCP.TopoDS import TopoDS_Shape

from nomogon_core.errors import OperationError
from nomogon_core.solid import kernel, meshes, planes
from nomogon_core.solid.facts import Facts
from nomogon_core.solid.kernel import ShapeMap

if TYPE_CHECKING:
    from OCP.gp import gp_Trsf

    from nomogon_core.solid.meshes import Mesh
    from nomogon_core.solid.planes import Frame

TOOL_CHORD_MM = 0.01


@attrs.frozen
class Body:
    """A body after a step.

    Attributes:
        name: its id; title: what it is called; colour: ``#rrggbb``.
        exact, names: exact shape, names of its faces; of a mesh None, and none.
        mesh: its triangles where it is a mesh that somebody else made, or has one in it, else None.
        key: hash of everything that it was made from.
    """

    name: str
    title: str
    exact: Any = attrs.field(repr=False)
    names: ShapeMap = attrs.field(repr=False)
    facts: Facts
    key: str = attrs.field(default="", repr=False)
    colour: str = "#9fb0a6"
    mesh: Mesh | None = attrs.field(default=None, repr=False)

    @property
    def shape(self) -> Any:
        """The exact shape.

        Raises:
            OperationError: it is a mesh.
        """
        if self.exact is None:
            raise OperationError(
                f"{self.title} is a mesh, without exact faces and edges, which this needs; extrude, cut, hole and join "
                "work on it."
            )
        return self.exact

    def moved(self, motion: gp_Trsf) -> Body:
        """It elsewhere; what is known of it, and its names, are of where it was."""
        if self.mesh is not None:
            return attrs.evolve(self, mesh=self.mesh.moved(*kernel.matrix_of(motion)))
        return attrs.evolve(self, exact=kernel.transformed(self.shape, motion))

    def lowest(self) -> float:
        """Height of its lowest place."""
        return kernel.tight_box(self.shape)[0][2] if self.mesh is None else float(self.mesh.vertices[:, 2].min())

    def heights(self, frame: Frame = planes.PLAN) -> tuple[float, float]:
        """Lowest and highest reach along the normal of a plane, from that plane."""
        if frame == planes.PLAN:
            (_, _, low), (_, _, high) = self.facts.box
            return low, high
        if self.mesh is not None:
            reach = (self.mesh.vertices - frame.origin) @ np.asarray(frame.normal)
            return float(reach.min()), float(reach.max())
        (_, _, low), (_, _, high) = kernel.tight_box(kernel.seen_from(self.shape, frame))
        return low, high

    def flat_faces(self) -> dict[str, Frame]:
        """{face name: its :class:`planes.Frame`} of every flat face."""
        if self.mesh is not None:
            return self.mesh.flat_faces()
        found = {}
        for face in kernel.faces_of(self.shape):
            name, plane = self.names.get(face), kernel.plane_of(face)
            if name and plane:
                found.setdefault(name, planes.frame_of(*plane))
        return found


def of_mesh(name: str, title: str, mesh: Mesh) -> Body:
    """A body of triangles.

    Raises:
        OperationError: it encloses nothing, or is not closed.
    """
    facts = meshes.facts_of(mesh)
    if not facts.valid:
        raise OperationError(f"{title} would not be a closed mesh; change its size or its place by a hair.")
    return Body(name, title, None, ShapeMap(), facts, mesh=mesh)


def as_mesh(shape: TopoDS_Shape, names: ShapeMap, chord: float = TOOL_CHORD_MM) -> Mesh:
    """An exact shape as a mesh no farther from it than ``chord`` millimetres, its faces by their names."""
    vertices, triangles, owners = kernel.triangulate(shape, chord, angle=0.3)
    called = tuple(names.get(face) or "?" for face in kernel.faces_of(shape))
    return meshes.joined(vertices, triangles, owners, called)


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
