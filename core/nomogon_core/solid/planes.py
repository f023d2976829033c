"""Flat faces as drawing planes: each has a frame in which plane coordinates mean the same whatever made the face."""

import attrs
import numpy as np

UPRIGHT = 1 - 1e-9
UP_ROLES = ("top", "floor")


@attrs.frozen
class Frame:
    """A plane in space: plane coordinates (u, v) stand for origin + u · across + v · up.

    Attributes:
        origin: the point of the plane nearest to the job's origin, millimetres.
        across, up, normal: unit vectors, right-handed; the normal points out of the material.
    """

    origin: tuple
    across: tuple
    up: tuple
    normal: tuple


def frame_of(point, normal):
    """The frame of a plane through a point.

    On a level face looking up, (u, v) are the job's own (x, y). On one looking down v runs against y. On any other, u is
    level and v runs upward.

    Args:
        point: (x, y, z) anywhere on the plane, millimetres.
        normal: outward direction, of any length but zero.
    """
    normal = np.asarray(normal, float) / np.linalg.norm(normal)
    if abs(normal[2]) > UPRIGHT:
        across = np.array([1.0, 0.0, 0.0])
    else:
        across = np.cross([0.0, 0.0, 1.0], normal)
        across /= np.linalg.norm(across)
    up = np.cross(normal, across)
    origin = normal * float(np.dot(point, normal))
    return Frame(*(tuple((float(value) + 0.0) for value in vector) for vector in (origin, across, up, normal)))


def faces_up(face):
    """Whether a face of this name is level and looks up, so that its plane coordinates are the base sketch's."""
    return face.partition(".")[2].partition("(")[0] in UP_ROLES


def operation_of(face):
    """Name of the operation that made a face."""
    return face.partition(".")[0]


def words_of(face, numbers):
    """A face in words: ``top of operation 1``.

    Args:
        face: its name.
        numbers: place of each operation in the Build sheet, from 1.
    """
    role = face.partition(".")[2].partition("(")[0]
    return f"{role or 'face'} of operation {numbers.get(operation_of(face), '?')}"
