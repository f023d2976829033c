"""Planes to draw on: the three base planes, planes made from others, and flat faces of the solid.

A plane is referred to by a text, ``plan``, ``front``, ``side`` or the id of a plane of the job, or by
``{"body": id, "face": name}``. Each has a :class:`Frame` in which plane coordinates mean the same whatever made it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import attrs
import numpy as np

from nomogon_core.errors import OperationError

UPRIGHT = 1 - 1e-9
SAME_WAY = 1e-9
UP_ROLES = ("top", "floor")
BASE_WORDS = {"plan": "Plan", "front": "Front", "side": "Side"}
KINDS = ("offset", "turned", "midway", "points", "station")


@attrs.frozen
class Frame:
    """A plane in space: plane coordinates (u, v) stand for origin + u · across + v · up.

    Attributes:
        origin: a point of the plane, millimetres.
        across, up, normal: unit vectors, right-handed; of a face the normal points out of the material.
    """

    origin: tuple
    across: tuple
    up: tuple
    normal: tuple

    def in_space(self, place: tuple[float, float], height: float = 0.0) -> tuple[float, float, float]:
        """(x, y, z) of plane coordinates, so far above the plane."""
        steps = zip(self.origin, self.across, self.up, self.normal)
        return tuple(o + place[0] * a + place[1] * b + height * n for o, a, b, n in steps)

    def turned_over(self) -> Frame:
        """The same plane looking the other way."""
        up, normal = (tuple(-value for value in way) for way in (self.up, self.normal))
        return Frame(self.origin, self.across, up, normal)

    def of_space(self, point: tuple[float, float, float]) -> tuple[float, float, float]:
        """(u, v, height above the plane) of a point in space; the inverse of :meth:`in_space`."""
        away = np.subtract(point, self.origin)
        u, v, height = (float(np.dot(away, way)) for way in (self.across, self.up, self.normal))
        return u, v, height


PLAN = Frame((0.0, 0.0, 0.0), (1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))
FRONT = Frame((0.0, 0.0, 0.0), (1.0, 0.0, 0.0), (0.0, 0.0, 1.0), (0.0, -1.0, 0.0))
SIDE = Frame((0.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
BASE = {"plan": PLAN, "front": FRONT, "side": SIDE}


def _frame(origin, across, up):
    normal = np.cross(across, up)
    return Frame(*(tuple((float(value) + 0.0) for value in vector) for vector in (origin, across, up, normal)))


def frame_of(point: np.ndarray | tuple[int, int, int], normal: np.ndarray | tuple[int, int, float]) -> Frame:
    """The frame of a plane through a point.

    On a level face looking up, (u, v) are the job's own (x, y). On one looking down v runs against y. On any other u
    is level and v runs upward. The origin is the point of the plane nearest to the job's origin.

    Args:
        point: (x, y, z) anywhere on the plane, millimetres.
        normal: outward direction, of any length but zero.
    """
    normal = np.asarray(normal, float) / np.linalg.norm(normal)
    if abs(normal[2]) > UPRIGHT:
        normal = np.array([0.0, 0.0, math.copysign(1.0, normal[2])])
        across = np.array([1.0, 0.0, 0.0])
    else:
        across = np.cross([0.0, 0.0, 1.0], normal)
        across /= np.linalg.norm(across)
    return _frame(normal * float(np.dot(point, normal)), across, np.cross(normal, across))


def offset(frame: Frame, distance: float) -> Frame:
    """A plane so far along the normal of another."""
    return attrs.evolve(frame, origin=frame.in_space((0.0, 0.0), distance))


def station(frame: Frame, at: Sequence[float], distance: float, angle: float) -> Frame:
    """The plane of a cross-section: so far along the normal of another, turned in itself about a place, which lies over
    the other's origin; what is drawn on it has the other's coordinates.

    Args:
        at: (u, v) of the place; angle: radians, right-handed about the normal.
    """
    cos, sin = math.cos(angle), math.sin(angle)
    across, up = np.array(frame.across), np.array(frame.up)
    own_across, own_up = cos * across + sin * up, cos * up - sin * across
    origin = np.array(frame.in_space((0.0, 0.0), distance)) - at[0] * own_across - at[1] * own_up
    return _frame(origin, own_across, own_up)


def turned(frame: Frame, point: Sequence[float], way: Sequence[float], angle: float) -> Frame:
    """A plane turned about an axis, right-handed (Rodrigues 1840).

    Args:
        point, way: a point and the direction of the axis in space; angle: radians.
    """
    axis = np.asarray(way, float) / np.linalg.norm(way)

    def turn(vector):
        vector = np.asarray(vector, float)
        rest = axis * np.dot(axis, vector) * (1 - math.cos(angle))
        return vector * math.cos(angle) + np.cross(axis, vector) * math.sin(angle) + rest

    return _frame(np.asarray(point) + turn(np.subtract(frame.origin, point)), turn(frame.across), turn(frame.up))


def midway(first: Frame, second: Frame) -> Frame:
    """The plane halfway between two that are parallel; else the one that halves the angle between them.

    Raises:
        OperationError: the two are one plane.
    """
    one, other = np.array(first.normal), np.array(second.normal)
    if np.dot(one, other) < 0:
        other = -other
    cross = np.cross(one, other)
    if np.linalg.norm(cross) < 1e-9:
        gap = float(np.dot(np.subtract(second.origin, first.origin), one))
        if abs(gap) < 1e-9:
            raise OperationError("The two planes are one and the same, so there is nothing midway between them.")
        return offset(first, gap / 2)
    # The line in which both meet: the point on both and on the plane through the origin square to it.
    rows = np.array([one, other, cross])
    told = np.array([np.dot(one, first.origin), np.dot(other, second.origin), 0.0])
    return frame_of(np.linalg.solve(rows, told), one + other)


def through(points: list[tuple[int, int, int]]) -> Frame:
    """The plane through three points.

    Raises:
        OperationError: they lie on one line.
    """
    a, b, c = (np.asarray(point, float) for point in points)
    normal = np.cross(b - a, c - a)
    if np.linalg.norm(normal) < 1e-9 * max(np.linalg.norm(b - a), np.linalg.norm(c - a), 1e-9) ** 2 + 1e-12:
        raise OperationError("The three points lie on one line, so no one plane goes through them.")
    return frame_of(a, normal if normal[2] >= 0 else -normal)


def operation_of(face: str) -> str:
    """Id of the operation that made a face."""
    return face.partition(".")[0]


def role_of(face: str) -> str:
    """What a face is to the operation that made it: top, side, wall …"""
    return face.partition(".")[2].partition("(")[0]


def words_of(face: str, numbers: dict[str, int]) -> str:
    """A face in words: ``top of 1``.

    Args:
        face: its name.
        numbers: number of each operation in the Build sheet.
    """
    return f"{role_of(face) or 'face'} of {numbers.get(operation_of(face), '?')}"
