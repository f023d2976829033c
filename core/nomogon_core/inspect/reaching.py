"""How much is left between round holes and the edge, and what no tool and no mould reaches along the pull."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import attrs
import numpy as np

from nomogon_core.inspect.meshed import OFF_MM, Meshed
from nomogon_core.solid.bores import Bore
from nomogon_core.solid.planes import frame_of

AROUND, ALONG, APART_MM, LEAST_AREA_MM2, SIDE = 144, (0.1, 0.3, 0.5, 0.7, 0.9), 0.5, 0.5, math.sin(math.radians(0.5))
ON_WALL = 0.05


@attrs.frozen
class Land:
    """What is left between a round hole and the nearest edge or hole: millimetres, the hole, the middle of it, and
    the faces beside it."""

    size: float
    bore: Bore
    place: tuple[float, float, float]
    faces: tuple[str, ...]


def land_of(meshed: Meshed, bore: Bore) -> Land | None:
    """The least material around a round hole, by rays square to its axis; None where it is nowhere within material all
    along, so that it is no hole there."""
    frame = frame_of(np.array(bore.start), np.array(bore.way))
    turns = np.arange(AROUND) * math.tau / AROUND
    ways = np.cos(turns)[:, None] * frame.across + np.sin(turns)[:, None] * np.array(frame.up)
    start, along = np.array(bore.start), np.array(bore.way)
    origins, ways = (
        np.concatenate(rows)
        for rows in zip(
            *((start + share * bore.length * along + (bore.radius + OFF_MM) * ways, ways) for share in ALONG)
        )
    )
    hit, far = meshed.first_hit(origins, ways)
    # From within material the first face met is seen from behind, and the hole's own wall lies right behind.
    back, wall = meshed.first_hit(origins, -ways)
    out = np.einsum("ij,ij->i", meshed.normals[np.maximum(hit, 0)], ways) > 0
    real = (hit >= 0) & out & (back >= 0) & (wall < ON_WALL * max(bore.radius, 1.0))
    if not real.any():
        return None
    far = np.where(real, far, np.inf)
    best = int(far.argmin())
    place = origins[best] + far[best] / 2 * ways[best]
    faces = tuple(dict.fromkeys(meshed.name(int(meshed.owner[one])) for one in (back[best], hit[best])))
    return Land(float(far[best]) + OFF_MM, bore, tuple(place.tolist()), faces)


@attrs.frozen
class Hidden:
    """Surface that nothing reaches along the pull: square millimetres, the middle of its largest face, the faces."""

    area: float
    place: tuple[float, float, float]
    faces: tuple[str, ...]


def hidden_from(meshed: Meshed, ways: Sequence[Any]) -> Hidden | None:
    """Surface that cannot be seen from any of some directions, whose faces look there or stand along them."""
    places, triangle = meshed.places(APART_MM)
    share = (meshed.areas / np.bincount(triangle, minlength=len(meshed.areas)))[triangle]
    hidden = np.ones(len(places), bool)
    for way in np.atleast_2d(np.asarray(ways, float)):
        looks = meshed.normals[triangle] @ way
        asks = np.flatnonzero(hidden & (looks > -SIDE))
        # A little off the surface, so that a wall along the way does not hide itself.
        origins = places[asks] + OFF_MM * meshed.normals[triangle[asks]] + OFF_MM * way
        hit, _ = meshed.first_hit(origins, np.repeat(way[None], len(asks), axis=0))
        hidden[asks[hit < 0]] = False
    if share[hidden].sum() < LEAST_AREA_MM2:
        return None
    by_face = np.bincount(meshed.owner[triangle[hidden]], share[hidden], minlength=len(meshed.faces))
    face = int(by_face.argmax())
    mine = hidden & (meshed.owner[triangle] == face)
    place = tuple(np.average(places[mine], axis=0, weights=share[mine]).tolist())
    names = tuple(meshed.name(int(one)) for one in np.flatnonzero(by_face > LEAST_AREA_MM2 / 2))
    return Hidden(float(share[hidden].sum()), place, names)
