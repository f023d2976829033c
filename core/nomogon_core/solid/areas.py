"""Areas of a sketch that are taken together."""

from __future__ import annotations

import math
from collections import Counter
from typing import Any

import shapely

from nomogon_core.geometry.curves import ends, outline_points

Loops = list[list[tuple[str, Any]]]
MEETS_MM, CHORD_MM = 1e-6, 0.01


def together(areas: list[Loops]) -> list[Loops]:
    """Areas, each its outline and its holes, without the curves between two of them: neighbours are one."""
    times = Counter(name for area in areas for loop in area for name, _ in loop)
    if all(count == 1 for count in times.values()):
        return areas
    left = [[[(name, curve) for name, curve in loop if times[name] == 1] for loop in area] for area in areas]
    whole = [area for area, kept in zip(areas, left) if all(len(a) == len(b) for a, b in zip(area, kept))]
    loose = [one for area, kept in zip(areas, left) if area not in whole for loop in kept for one in loop]
    return whole + _nested(_chained(loose))


def _chained(loose):
    """Curves one after another, in closed loops; a circle or an ellipse is one by itself."""
    loops, left = [[one] for one in loose if ends(one[1]) is None], [one for one in loose if ends(one[1])]
    while left:
        loop = [left.pop()]
        while True:
            tip = ends(loop[-1][1])[1]
            following = next((one for one in left if math.dist(ends(one[1])[0], tip) < MEETS_MM), None)
            if following is None:
                break
            left.remove(following)
            loop.append(following)
        loops.append(loop)
    return loops


def _nested(loops):
    """Loops as areas: those that lie in another are its holes, unless that is one itself."""
    rings = [shapely.Polygon(outline_points([curve for _, curve in loop], CHORD_MM)) for loop in loops]
    inside = [
        [other for other, larger in enumerate(rings) if larger.area > ring.area and larger.contains(place)]
        for ring, place in ((ring, ring.representative_point()) for ring in rings)
    ]
    outer = [index for index, around in enumerate(inside) if len(around) % 2 == 0]
    areas = {index: [loops[index]] for index in outer}
    for index, around in enumerate(inside):
        if len(around) % 2:
            areas[min((one for one in around if one in areas), key=lambda one: rings[one].area)].append(loops[index])
    return list(areas.values())
