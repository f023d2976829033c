"""Parts as they are meant: plates with level or turned edges, equal corners, holes of standard sizes at whole places,
some of them turned, some drawn in inches; for what a trace of them should be recognised as."""

import math

from examples.parts import rounded_polygon, slot
from nomogon_core.geometry.curves import Circle, closed_area, moved, reverse

INCH_MM = 25.4
CLEARANCE_MM = (3.4, 4.5, 5.5, 6.6)


def meant_part(random):
    """Outlines of one part.

    Args:
        random: numpy Generator.
    """
    inches = random.random() < 0.25
    unit = INCH_MM / 8 if inches else 1.0

    def whole(low, high):
        step = unit if inches or random.random() < 0.8 else 0.5
        return step * int(random.integers(math.ceil(low / step), math.floor(high / step) + 1))

    width, height = whole(60, 110), whole(40, 70)
    corners = [(0, 0), (width, 0), (width, height), (0, height)]
    if random.random() < 0.6:
        notch, deep = whole(15, 25), whole(10, 20)
        corners = [
            (0, 0),
            (width, 0),
            (width, height - deep),
            (width - notch, height - deep),
            (width - notch, height),
            (0, height),
        ]
    radius = whole(3, 6)
    radii = [radius if random.random() < 0.7 else 0.0 for _ in corners]
    outlines = [rounded_polygon(corners, radii)]
    hole = (int(random.integers(2, 5)) * INCH_MM / 16 if inches else float(random.choice(CLEARANCE_MM))) / 2
    low, high = whole(10, 13), whole(10, 13)
    across = whole(20, 30)
    centers = [(low, high), (low + across, high)]
    outlines += [(Circle(center, hole),) for center in centers]
    if random.random() < 0.6:
        outlines.append(slot((low, high + whole(14, 18)), across, whole(3, 4)))
    angle = random.uniform(-0.6, 0.6) if random.random() < 0.3 else 0.0
    cos, sin = math.cos(angle), math.sin(angle)

    def turned(place):
        return (cos * place[0] - sin * place[1], sin * place[0] + cos * place[1])

    made = [tuple(moved(curve, turned, turn=angle) for curve in outline) for outline in outlines]
    return [
        outline if len(outline) == 1 or closed_area(outline) > 0 else tuple(reverse(one) for one in reversed(outline))
        for outline in made
    ]
