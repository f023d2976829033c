"""A mesh that somebody else made, as a body."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from nomogon_core.quantity.units import MM_PER_INCH
from nomogon_core.sentence import Choice, Declaration
from nomogon_core.solid.meshes import unpacked
from nomogon_core.solid.phrases import RESULT
from nomogon_core.solid.sentence import MeshFile

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 36
UNITS = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": MM_PER_INCH}


def build(ask: Ask) -> dict[str, Body]:
    mesh, scale = unpacked(ask.file("mesh")), UNITS[ask.choice("unit")]
    low, high = mesh.vertices.min(axis=0) * scale, mesh.vertices.max(axis=0) * scale
    away = np.array([*(low + high)[:2] / 2, low[2]]) if ask.choice("lying") == "stands" else np.zeros(3)
    return ask.put_mesh(ask.choice("result"), "body", mesh.moved(scale * np.eye(3), -away))


DECLARATION = Declaration(
    kind="bring",
    title="Mesh",
    shelf="Bodies",
    told="Choose a mesh file that somebody else made: STL, OBJ, PLY or 3MF.",
    sentence=(
        "Bring in",
        MeshFile("mesh", asks="Choose a mesh file: STL, OBJ, PLY or 3MF.", empty="a mesh file"),
        "in",
        Choice(
            "unit",
            asks="The unit of its numbers; a 3MF says its own and comes in millimetres.",
            options={"mm": "millimetres", "cm": "centimetres", "m": "metres", "in": "inches"},
        ),
        ",",
        Choice(
            "lying",
            asks="Where it lies.",
            options={"stands": "standing on Plan above its middle", "lies": "where its file has it"},
        ),
        *RESULT,
    ),
    build=build,
    example={
        "mesh": {"file": "0f" * 32, "name": "entrance-disc.stl"},
        "unit": "mm",
        "lying": "stands",
        "result": "new",
        "body": "Disc",
    },
)
