"""Made-up parts of a workshop for beekeepers' fittings: outlines in millimetres, the outer one first."""

import math

import attrs

from examples.render import hole, rounded_polygon, slot
from nomogon_core.geometry.curves import Arc, Ellipse, Line

QUARTER = math.pi / 2
S_SWEEP = 2 * math.atan2(16, 24)


def latch_plate():
    """Hive latch plate FLA-014: 84 × 46 mm, a throat of R6, a nose of R14, two holes and a slot."""
    outline = (
        Arc((6, 6), 6, math.pi, QUARTER),
        Line((6, 0), (46, 0)),
        Arc((46, 4), 4, -QUARTER, QUARTER),
        Line((50, 4), (50, 8)),
        Arc((56, 8), 6, math.pi, -math.pi),
        Line((62, 8), (62, 5)),
        Arc((65, 5), 3, math.pi, QUARTER),
        Line((65, 2), (70, 2)),
        Arc((70, 16), 14, -QUARTER, math.pi),
        Line((70, 30), (62, 30)),
        Arc((62, 43), 13, -QUARTER, -S_SWEEP),
        Arc((38, 33), 13, QUARTER - S_SWEEP, S_SWEEP),
        Line((38, 46), (12, 46)),
        Arc((12, 34), 12, QUARTER, QUARTER),
        Line((0, 34), (0, 6)),
    )
    return (outline, hole(12, 34, 4.76), hole(70, 16, 4.76), slot((20, 13), 12, 4))


def hinge_leaf():
    """Smoker hinge leaf FLA-021: 62 × 38 mm with three holes."""
    return (
        rounded_polygon(
            [(0, 0), (50, 0), (50, 6), (62, 6), (62, 32), (50, 32), (50, 38), (0, 38)], [4, 2, 0, 3, 3, 0, 2, 4]
        ),
        hole(9, 9, 4.5),
        hole(9, 29, 4.5),
        hole(34, 19, 5.5),
    )


def entrance_reducer():
    """Entrance reducer FLA-022: 110 × 32 mm with three bee-sized arches and two holes."""
    arches = [Line((110, 0), (97, 0))]
    for x, radius in ((88, 5), (55, 8), (22, 5)):
        before = arches[-1].end
        arches[-1] = (
            Line(arches[-1].start, (x + radius, 0)) if arches[-1].start[1] == 0 and len(arches) == 1 else arches[-1]
        )
        if before != (x + radius, 0) and len(arches) > 1:
            arches.append(Line(before, (x + radius, 0)))
        arches += [
            Line((x + radius, 0), (x + radius, 10)),
            Arc((x, 10), radius, 0, math.pi),
            Line((x - radius, 10), (x - radius, 0)),
        ]
    arches.append(Line(arches[-1].end, (0, 0)))
    clockwise = [*arches, Line((0, 0), (0, 32)), Line((0, 32), (110, 32)), Line((110, 32), (110, 0))]
    reversed_outline = tuple(_turned(curve) for curve in reversed(clockwise))
    return (reversed_outline, hole(8, 24, 4.2), hole(102, 24, 4.2))


SPOUT_AXES = ((14.0, 14.0), (15.0, 12.5), (17.0, 10.0), (19.5, 7.5), (22.0, 6.0))
SPOUT_GAP, CROSS_ARM, CROSS_WIDTH = 8.0, 4.0, 0.5


def spout_plan():
    """Five cross-sections side by side, from round to a flat oval: (origin, its outline, the cross-hair at it)."""
    found, left = [], 0.0
    for wide, high in SPOUT_AXES:
        x, y = left + wide, 15.0
        left = x + wide + SPOUT_GAP
        arm, half = CROSS_ARM, CROSS_WIDTH / 2
        arms = [(arm, half), (half, half), (half, arm), (-half, arm), (-half, half), (-arm, half)]
        corners = [(x + sign * u, y + sign * v) for sign in (1, -1) for u, v in arms]
        found.append(((x, y), (Ellipse((x, y), (wide, high), 0.0),), rounded_polygon(corners, [0] * 12)))
    return found


def feeder_cap():
    """Feeder cap FLA-023: an oval of 96 × 62 mm with an oval window on the slant, a bee-sized hole and two screw
    holes."""
    return (
        (Ellipse((48, 31), (48, 31), 0.0),),
        (Ellipse((60, 34), (15, 8), 0.6),),
        hole(31, 31, 9.0),
        hole(10, 31, 4.2),
        hole(86, 31, 4.2),
    )


def _turned(curve):
    if isinstance(curve, Line):
        return Line(curve.end, curve.start)
    return Arc(curve.center, curve.radius, curve.start_angle + curve.sweep, -curve.sweep)


@attrs.frozen
class Sample:
    """A sample part: its title, its number and a function that gives its outlines."""

    title: str
    number: str
    outlines: object


SAMPLES = {
    "latch-plate": Sample("Hive latch plate", "FLA-014", latch_plate),
    "hinge-leaf": Sample("Smoker hinge leaf", "FLA-021", hinge_leaf),
    "feeder-cap": Sample("Feeder cap", "FLA-023", feeder_cap),
    "entrance-reducer": Sample("Entrance reducer", "FLA-022", entrance_reducer),
}
