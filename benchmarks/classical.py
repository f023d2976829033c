"""Problems of plane geometry whose answers are known from any text, as sketches at their answer."""

import math

import numpy as np

from examples.parts import rounded_polygon
from examples.parts import slot as drawn_slot
from nomogon_core.sketch import edit
from nomogon_core.sketch.model import Constraint, Sketch

PROBLEMS = {}


def problem(function):
    PROBLEMS[function.__name__] = function
    return function


class Drawing:
    """A sketch in the making."""

    def __init__(self):
        self.sketch = Sketch()

    def point(self, *place):
        self.sketch, name = edit.add_point(self.sketch, place)
        return name

    def line(self, start, end):
        self.sketch, name = edit.add_line(self.sketch, start, end)
        return name

    def circle(self, x, y, radius):
        self.sketch, name = edit.add_circle(self.sketch, (x, y), radius)
        return name

    def arc(self, start, middle, end):
        self.sketch, name = edit.add_arc_through(self.sketch, start, middle, end)
        return name

    def polygon(self, places):
        points = [self.point(*place) for place in places]
        return points, [self.line(a, b) for a, b in zip(points, points[1:] + points[:1])]

    def ends(self, curve):
        return self.sketch.curves[curve].points

    def tie(self, kind, *of, value=None):
        self.sketch, _ = edit.add_constraint(self.sketch, Constraint(kind, of, value=value, name=kind if value else ""))

    def sizes(self, lines, values):
        for line, value in zip(lines, values):
            self.tie("distance", line, value=value)

    def equal(self, first, *others):
        for other in others:
            self.tie("equal", first, other)

    def touching(self, *pairs):
        for pair in pairs:
            self.tie("tangent", *pair)

    def circles(self, *told):
        """Circles (x, y, radius), fixed where they are."""
        names = [self.circle(*one) for one in told]
        for name in names:
            self.tie("fixed", name)
        return names


def triangle(a, b, c):
    """A triangle with sides AB = c, BC = a, CA = b, A at the origin, AB level."""
    told = Drawing()
    x = (b * b + c * c - a * a) / (2 * c)
    points, lines = told.polygon([(0, 0), (c, 0), (x, math.sqrt(b * b - x * x))])
    told.tie("fixed", points[0])
    told.tie("horizontal", lines[0])
    told.sizes(lines, (c, a, b))
    return told, points, lines


def regular(count, circle, angles):
    told = Drawing()
    radius = 1 / (2 * math.sin(math.pi / count))
    turn = 2 * math.pi / count
    places = [(radius * math.cos(k * turn), radius * math.sin(k * turn)) for k in range(count)]
    points, lines = told.polygon(places)
    if circle:
        around = told.circle(0, 0, radius)
        told.tie("fixed", told.ends(around)[0])
        for point in points:
            told.tie("on curve", point, around)
    else:
        told.tie("fixed", points[0])
    told.equal(*lines)
    told.tie("distance", lines[0], value=1.0)
    for index in range(angles):
        told.tie("angle", lines[index], lines[index + 1], value=turn)
    return told.sketch


@problem
def equilateral():
    told = Drawing()
    points, lines = told.polygon([(0, 0), (1, 0), (0.5, math.sqrt(3) / 2)])
    told.tie("fixed", points[0])
    told.tie("horizontal", lines[0])
    told.tie("distance", lines[0], value=1.0)
    told.equal(*lines)
    return told.sketch


@problem
def pentagon():
    return regular(5, False, 2)


@problem
def hexagon():
    return regular(6, True, 0)


@problem
def heptagon():
    return regular(7, True, 0)


def _apollonius(*answer):
    told = Drawing()
    given = told.circles((0, 0, 1), (4, 0, 1), (2, 4, 2))
    sought = told.circle(*answer)
    told.touching(*[(sought, one) for one in given])
    return told.sketch


@problem
def apollonius_outside():
    return _apollonius(2, 5 / 6, 7 / 6)


@problem
def apollonius_enclosing():
    return _apollonius(2, 2.1, 3.9)


def _malfatti(a, b, c):
    """Malfatti's circles by the formulas of Steiner (any text): radii of the three."""
    told, points, lines = triangle(a, b, c)
    s = (a + b + c) / 2
    r = math.sqrt((s - a) * (s - b) * (s - c) / s)
    center = np.array([s - a, r])
    far = [math.dist(told.sketch.points[point], center) for point in points]
    radii = [
        r / (2 * (s - side)) * (s - r + own - other - third)
        for side, own, other, third in ((a, *far), (b, far[1], far[2], far[0]), (c, far[2], far[0], far[1]))
    ]
    names = []
    for point, radius in zip(points, radii):
        corner = np.array(told.sketch.points[point])
        place = corner + (center - corner) * radius / r
        names.append(told.circle(float(place[0]), float(place[1]), radius))
    for index, name in enumerate(names):
        told.touching((lines[index], name), (lines[index - 1], name), (name, names[(index + 1) % 3]))
    return told.sketch


@problem
def malfatti_equilateral():
    return _malfatti(1, 1, 1)


@problem
def malfatti_right():
    return _malfatti(4, 3, 5)


def _soddy(told):
    """Circles of radius 1, 2, 3 that touch one another, about the corners of a 3-4-5 triangle."""
    names = [told.circle(0, 0, 1), told.circle(3, 0, 2), told.circle(0, 4, 3)]
    told.tie("fixed", told.ends(names[0])[0])
    told.tie("horizontal", told.ends(names[0])[0], told.ends(names[1])[0])
    told.touching(*[(names[k], names[(k + 1) % 3]) for k in range(3)])
    return names


def _descartes(*answer):
    told = Drawing()
    names = _soddy(told)
    for name, radius in zip(names, (1.0, 2.0, 3.0)):
        told.tie("radius", name, value=radius)
    sought = told.circle(*answer)
    told.touching(*[(sought, name) for name in names])
    return told.sketch


@problem
def descartes_inner():
    return _descartes(21 / 23, 20 / 23, 6 / 23)


@problem
def descartes_outer():
    return _descartes(3, 4, 6)


@problem
def touching_circles():
    told = Drawing()
    names = _soddy(told)
    centers = [told.ends(name)[0] for name in names]
    for k, value in enumerate((3.0, 5.0, 4.0)):
        told.tie("distance", centers[k], centers[(k + 1) % 3], value=value)
    return told.sketch


@problem
def four_bar():
    told = Drawing()
    points, lines = told.polygon([(0, 0), (0, 2), (4, 5), (4, 0)])
    told.tie("fixed", points[0])
    told.tie("fixed", points[3])
    told.sizes(lines[:3], (2.0, 5.0, 5.0))
    told.tie("angle", lines[3], lines[0], value=math.pi / 2)
    return told.sketch


@problem
def s_curve():
    told = Drawing()
    a, b, c = (told.point(*place) for place in ((0, 0), (2, 1), (4, 2)))
    first, last = told.line((-3, 0), a), told.line(c, (7, 2))
    tip = 2.5 * math.sin(math.atan2(2, 1.5) / 2), 2.5 - 2.5 * math.cos(math.atan2(2, 1.5) / 2)
    one = told.arc(a, tip, b)
    other = told.arc(b, (4 - tip[0], 2 - tip[1]), c)
    told.tie("fixed", a)
    told.tie("fixed", c)
    told.tie("horizontal", first)
    told.tie("horizontal", last)
    told.touching((first, one), (last, other), (one, other))
    told.equal(one, other)
    told.sizes((first, last), (3.0, 3.0))
    return told.sketch


@problem
def isosceles():
    told = Drawing()
    axis = told.line((0, -1), (0, 6))
    told.tie("fixed", axis)
    points, lines = told.polygon([(-3, 0), (3, 0), (0, 4)])
    told.tie("symmetric", points[0], points[1], axis)
    told.tie("on curve", points[2], axis)
    told.sizes(lines[:2], (6.0, 5.0))
    told.tie("up", told.ends(axis)[0], points[0], value=1.0)
    return told.sketch


@problem
def rounded_rectangle():
    told = Drawing()
    outline = rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [5] * 4)
    told.sketch, names, joints = edit.add_outline(told.sketch, outline, [None] * len(outline), origin="drawn")
    for constraint in edit.smooth_joints(told.sketch, joints):
        told.sketch, _ = edit.add_constraint(told.sketch, constraint)
    lines = [name for name in names if told.sketch.curves[name].kind == "line"]
    arcs = [name for name in names if told.sketch.curves[name].kind == "arc"]
    for line in lines:
        a, b = (told.sketch.points[point] for point in told.ends(line))
        told.tie("horizontal" if abs(a[1] - b[1]) < 1e-6 else "vertical", line)
    told.tie("fixed", told.ends(arcs[0])[0])
    told.tie("radius", arcs[0], value=5.0)
    told.equal(*arcs)
    level = [line for line in lines if abs(np.subtract(*(told.sketch.points[p][1] for p in told.ends(line)))) < 1e-6]
    upright = [line for line in lines if line not in level]
    told.tie("distance", *level, value=40.0)
    told.tie("distance", *upright, value=60.0)
    return told.sketch


@problem
def slot():
    told = Drawing()
    outline = drawn_slot((0, 0), 15, 3)
    told.sketch, names, joints = edit.add_outline(told.sketch, outline, [None] * len(outline), origin="drawn")
    for constraint in edit.smooth_joints(told.sketch, joints):
        told.sketch, _ = edit.add_constraint(told.sketch, constraint)
    arcs = [name for name in names if told.sketch.curves[name].kind == "arc"]
    told.equal(*arcs)
    told.tie("radius", arcs[0], value=3.0)
    centers = [told.ends(arc)[0] for arc in arcs]
    told.tie("fixed", centers[0])
    told.tie("horizontal", *centers)
    told.tie("distance", *centers, value=15.0)
    return told.sketch


def _belt(crossed):
    told = Drawing()
    large, small = told.circles((0, 0, 3), (10, 0, 1))
    cos = (3 + (1 if crossed else -1)) / 10
    normal = np.array([cos, math.sqrt(1 - cos * cos)])
    places = (3 * normal, np.array([10, 0]) + (-normal if crossed else normal))
    line = told.line(*[tuple(place.tolist()) for place in places])
    spokes = [told.line(told.ends(one)[0], end) for one, end in zip((large, small), told.ends(line))]
    for end, one in zip(told.ends(line), (large, small)):
        told.tie("on curve", end, one)
    for spoke in spokes:
        told.tie("perpendicular", line, spoke)
    return told.sketch


@problem
def belt_open():
    return _belt(False)


@problem
def belt_crossed():
    return _belt(True)


@problem
def incircle():
    told, _, lines = triangle(4, 3, 5)
    round_one = told.circle(2, 1, 1)
    told.touching(*[(line, round_one) for line in lines])
    return told.sketch


@problem
def circumcircle():
    told, points, _ = triangle(13, 14, 15)
    (x, y), radius = edit.circle_through(*(told.sketch.points[point] for point in points))
    around = told.circle(x, y, radius)
    for point in points:
        told.tie("on curve", point, around)
    return told.sketch


@problem
def fillet():
    told = Drawing()
    corner = told.point(0, 0)
    told.tie("fixed", corner)
    reach = 10 * math.sqrt(3)
    one, other = (reach, 0.0), (reach / 2, reach * math.sqrt(3) / 2)
    first = told.line((60, 0), one)
    second = told.line(other, (30, 30 * math.sqrt(3)))
    ends = told.ends(first)[1], told.ends(second)[0]
    arc = told.arc(ends[0], (5 * math.sqrt(3), 5.0), ends[1])
    told.tie("on curve", corner, first)
    told.tie("on curve", corner, second)
    told.tie("horizontal", first)
    told.tie("angle", first, second, value=math.pi / 3)
    told.touching((first, arc), (second, arc))
    told.tie("radius", arc, value=10.0)
    told.tie("distance", corner, told.ends(first)[0], value=60.0)
    told.tie("distance", corner, told.ends(second)[1], value=60.0)
    return told.sketch


@problem
def crossed_ladders():
    # Ladders 20 and 30 that cross at height 8: width 16.2121258966917 (Gardner).
    told, width = Drawing(), 16.2121258966917
    low, high = math.sqrt(400 - width**2), math.sqrt(900 - width**2)
    a, b = told.point(0, 0), told.point(width, 0)
    c, d = told.point(0, low), told.point(width, high)
    told.tie("fixed", a)
    told.tie("horizontal", a, b)
    told.tie("vertical", a, c)
    told.tie("vertical", b, d)
    long, short = told.line(a, d), told.line(b, c)
    told.sizes((long, short), (30.0, 20.0))
    crossing = told.point(width * 8 / high, 8)
    told.tie("on curve", crossing, long)
    told.tie("on curve", crossing, short)
    told.tie("up", a, crossing, value=8.0)
    return told.sketch


@problem
def arbelos_twin():
    told = Drawing()
    large, left, _ = told.circles((0, 0, 3), (-1, 0, 2), (2, 0, 1))
    wall = told.line((1, 0), (1, 3))
    told.tie("fixed", wall)
    twin = told.circle(1 - 2 / 3, math.sqrt((7 / 3) ** 2 - (1 / 3) ** 2), 2 / 3)
    told.touching((wall, twin), (large, twin), (left, twin))
    return told.sketch


@problem
def square_on_the_hypotenuse():
    told = Drawing()
    points, lines = told.polygon([(0, 0), (4, 0), (0, 3)])
    told.tie("fixed", points[0])
    told.tie("horizontal", lines[0])
    told.sizes(lines, (4.0, 5.0, 3.0))
    side, along, inward = 60 / 37, np.array([-0.8, 0.6]), np.array([-0.6, -0.8])
    start = np.array([4.0, 0.0]) + along * side * 4 / 3
    places = [start, start + along * side, start + along * side + inward * side, start + inward * side]
    corners, sides = told.polygon([tuple(place.tolist()) for place in places])
    for corner, line in zip(corners, (lines[1], lines[1], lines[2], lines[0])):
        told.tie("on curve", corner, line)
    for one, other in zip(sides[:3], sides[1:]):
        told.tie("perpendicular", one, other)
    told.tie("equal", *sides[:2])
    return told.sketch


@problem
def steiner_chain():
    told = Drawing()
    inner, outer = told.circle(0, 0, 1), told.circle(0, 0, 3)
    told.tie("fixed", told.ends(inner)[0])
    told.tie("concentric", inner, outer)
    told.tie("radius", inner, value=1.0)
    ring = [told.circle(2 * math.cos(k * math.pi / 3), 2 * math.sin(k * math.pi / 3), 1) for k in range(6)]
    for k in range(6):
        told.touching((inner, ring[k]), (ring[k], ring[(k + 1) % 6]))
    told.touching((outer, ring[0]))
    told.equal(*ring)
    return told.sketch


def _meet(p, q, r, s):
    """Where the lines pq and rs cross."""
    (px, py), (qx, qy), (rx, ry), (sx, sy) = p, q, r, s
    t = np.linalg.solve([[qx - px, rx - sx], [qy - py, ry - sy]], [rx - px, ry - py])[0]
    return float(px + t * (qx - px)), float(py + t * (qy - py))


@problem
def pappus():
    told = Drawing()
    upper, lower = [(0, 3), (3, 3.6), (6, 4.2)], [(0, 0), (2, 0.2), (5, 0.5)]
    a, b = [told.point(*place) for place in lower], [told.point(*place) for place in upper]
    for row, places in ((a, lower), (b, upper)):
        told.tie("fixed", row[0])
        told.tie("fixed", row[2])
        told.tie("on curve", row[1], told.line(row[0], row[2]))
        told.tie("distance", row[0], row[1], value=math.dist(*places[:2]))
    for i, j in ((0, 1), (0, 2), (1, 2)):
        meeting = told.point(*_meet(lower[i], upper[j], lower[j], upper[i]))
        told.tie("on curve", meeting, told.line(a[i], b[j]))
        told.tie("on curve", meeting, told.line(a[j], b[i]))
    return told.sketch


@problem
def desargues():
    told, near = Drawing(), [(3, 1), (1, 3), (-2, 2)]
    far = [(t * x, t * y) for t, (x, y) in zip((1.8, 1.5, 1.6), near)]
    origin = told.point(0, 0)
    told.tie("fixed", origin)
    a, b = [told.point(*place) for place in near], [told.point(*place) for place in far]
    for p, q, one, other in zip(a, b, near, far):
        told.tie("fixed", p)
        told.tie("on curve", q, told.line(origin, p))
        told.tie("distance", p, q, value=math.dist(one, other))
    for i, j in ((0, 1), (0, 2), (1, 2)):
        meeting = told.point(*_meet(near[i], near[j], far[i], far[j]))
        told.tie("on curve", meeting, told.line(a[i], a[j]))
        told.tie("on curve", meeting, told.line(b[i], b[j]))
    return told.sketch


def starts(system, share, random):
    """Unknowns of a system moved at random by a share of the sketch's size, again and again; radii stay positive."""
    first = system.start()
    count = len(system.equations.point_at)
    radii = system.unknown_of[1 + 2 * count :][: len(system.equations.radius_at)]
    radii = radii[radii >= 0]
    while True:
        moved = first + random.normal(0, share, len(first))
        moved[radii] = np.abs(moved[radii])
        yield moved
