"""Hollow a body out to walls of one thickness."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Declaration, Length
from nomogon_core.solid.sentence import Faces

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 8
PROBES, SLACK_SHARE, ON_MOUTH_MM, FOLD_SHARE = 32, 0.07, 1e-6, 0.01
TOO_THICK = (
    "Walls of {:.2f} mm cannot be left on {}: they would meet, or a curve of it is tighter than that. Type a thinner "
    "wall, or open other faces."
)


def build(ask: Ask) -> dict[str, Body]:
    body, open_faces = ask.faces("faces")
    wall = ask.number("wall")
    refused = OperationError(TOO_THICK.format(wall, body.title))
    maker = ask.kernel.hollowed(body.shape, open_faces, wall)
    if not maker.IsDone() or ask.kernel.is_empty(maker.Shape()):
        raise refused
    shape = maker.Shape()
    names = ask.carried(body, maker, shape)
    ask.name_rest(shape, names, "inside")
    if not _is_even(ask, body, open_faces, shape, names, wall):
        raise refused
    return ask.replaced(body, shape, names, grows=False)


def _is_even(ask, body, open_faces, shape, names, wall):
    """Whether the new faces are everywhere as far from the outer ones as they should be: the kernel's own result can be
    wrong and yet valid."""
    outer = [face for face in ask.kernel.faces_of(body.shape) if not any(face.IsSame(one) for one in open_faces)]
    skin = ask.kernel.compound_of(outer)
    vertices, triangles, owners = ask.kernel.triangulate(shape, max(0.02, wall / 20))
    faces = ask.kernel.faces_of(shape)
    inside = [index for index, face in enumerate(faces) if (names.get(face) or "").startswith(ask.called("inside"))]
    if any(_folds(ask, faces[index], vertices[triangles[owners == index]]) for index in inside):
        return False
    middles = vertices[triangles].mean(axis=1)[np.isin(owners, inside)]
    if not len(middles):
        return False
    chosen = middles[np.linspace(0, len(middles) - 1, min(PROBES, len(middles))).astype(int)]
    mouth = ask.kernel.compound_of(open_faces)
    inner = [point for point in map(tuple, chosen.tolist()) if ask.kernel.distance_between(mouth, point) > ON_MOUTH_MM]
    if not inner:
        return False
    away = np.array([ask.kernel.distance_between(skin, point) for point in inner])
    # Along edges where the outside turns inward, the corner inside lies farther away.
    return bool(away.min() > (1 - SLACK_SHARE) * wall and np.median(away) < (1 + SLACK_SHARE) * wall)


def _folds(ask, face, corners):
    """Whether a face folds over itself: its triangles (n, 3, 3) and its integral then tell of two areas."""
    sides = corners[:, 1:] - corners[:, :1]
    flat = np.linalg.norm(np.cross(sides[:, 0], sides[:, 1]), axis=1).sum() / 2
    return abs(flat / ask.kernel.area_of_face(face) - 1) > FOLD_SHARE


DECLARATION = Declaration(
    kind="hollow",
    title="Hollow",
    shelf="Edges",
    told="Click the faces that stay open.",
    sentence=(
        "Hollow out, open at",
        Faces("faces", asks="Click the faces that stay open.", empty="faces"),
        ", leaving walls of",
        Length("wall", asks="Type how thick the walls are.", empty="a thickness", usual="2 mm", usual_in="1/16 in"),
        ".",
    ),
    build=build,
    example={"faces": {"body": "b1", "names": ["op1.top"]}, "wall": "2 mm"},
)
