"""Parts with references into them, and edits upstream drawn at random: every seed gives other ones.

A part is a polygon extruded, with a hole in it, a fillet on one of its upper edges that is told by name, and a second
sketch on one of its side faces with a boss. After an edit the truth is known from the geometry alone: of which side's
upper edge material was taken, and on which side the boss stands.
"""

import math

import numpy as np

from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import build_of, new_document, sketch_of
from nomogon_core.job.library import Library
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph, kernel, naming

FILLET_MM, HEIGHT_MM = 0.8, 6.0
SHARES = (0.2, 0.8)
SMOOTH = 0.05


class RandomPart:
    """A part, what its references mean, and edits of it.

    Attributes:
        document: of the job; wanted: the curve whose upper edge is rounded; faced: the curve on whose side the boss
            stands.
    """

    def __init__(self, random):
        self.random, self.library = random, Library()
        self.document = new_document()
        count = int(random.integers(4, 8))
        angles = np.sort(random.uniform(0, 0.6, count) + np.arange(count)) / count * 2 * math.pi
        radius = random.uniform(24, 34, count)
        places = [[float(r * math.cos(a)), float(r * math.sin(a))] for r, a in zip(radius, angles)]
        self.points = []
        self._outline(places)
        self.do("sketch.circle", center=[0.0, 0.0], rim=[float(random.uniform(3, 5)), 0.0])
        curves = self.sides()
        self.wanted, self.faced = (curves[int(index)] for index in random.choice(len(curves), 2, replace=False))
        region = find_regions(self.sketch())[0].name
        height = f"{HEIGHT_MM} mm"
        self.do("solid.add", kind="extrude", blanks=self._extrude("s1", region, height, "new", "Part"))
        (self.body,), self.base = self.document["bodies"], self.operation()
        edge = f"{self.base}.side({self.wanted}) | {self.base}.top"
        self.do(
            "solid.add",
            kind="fillet",
            blanks={"edges": {"body": self.body, "names": [edge]}, "radius": f"{FILLET_MM} mm"},
        )
        self.fillet = self.operation()
        self._boss()

    def do(self, name, /, **arguments):
        self.document = carry_out(self.document, name, arguments, self.library).document

    def _extrude(self, sketch, region, length, result, body):
        picked = {"sketch": sketch, "names": [region]}
        return {
            "regions": picked,
            "extent": "by",
            "length": length,
            "way": "up",
            "result": result,
            "body": body,
        }

    def _outline(self, places):
        for index, place in enumerate(places):
            before = set(self.sketch().points)
            first = self.points[-1] if self.points else place
            target = places[index + 1] if index + 1 < len(places) else self.points[0]
            self.do("sketch.line", start=first, end=target, free=True)
            fresh = [name for name in self.sketch().points if name not in before]
            if not self.points:
                self.points = fresh[:2]
            else:
                self.points += fresh[:1]

    def _boss(self):
        plane = {"body": self.body, "face": f"{self.base}.side({self.faced})"}
        self.do("sketch.new", title="Boss", plane=plane)
        self.boss_sketch = self.document["steps"][-1]
        frame = self.built().frames[self.boss_sketch]
        middle = frame.of_space((*self.middle(self.faced), HEIGHT_MM / 2))[:2]
        rim = [middle[0] + 1.0, middle[1]]
        self.do("sketch.circle", center=list(middle), rim=rim, sketch=self.boss_sketch)
        region = find_regions(self.sketch(self.boss_sketch))[0].name
        self.do("solid.add", kind="extrude", blanks=self._extrude(self.boss_sketch, region, "2 mm", "new", "Boss"))
        self.boss = self.operation()

    def sketch(self, name="s1"):
        return sketch_of(self.document, name)

    def sides(self):
        return [name for name, curve in self.sketch().curves.items() if curve.kind == "line"]

    def operation(self):
        return self.document["steps"][-1]

    def middle(self, curve):
        line = self.sketch().geometry(curve)
        return tuple((a + b) / 2 for a, b in zip(line.start, line.end))

    def built(self, cache=None):
        return graph.run(build_of(self.document), cache)

    def edit(self):
        """One edit upstream of the references, drawn at random; its name."""
        edits = (self._move_corner, self._height, self._hole, self._redraw, self._split, self._across, self._suppress)
        chosen = edits[int(self.random.integers(len(edits)))]
        chosen()
        return chosen.__name__.strip("_")

    def _move_corner(self):
        point = self.points[int(self.random.integers(len(self.points)))]
        shift = self.random.uniform(-2.5, 2.5, 2).tolist()
        place = [a + b for a, b in zip(self.sketch().points[point], shift)]
        self.do("sketch.drag", held=[point], offset=shift, place=place)

    def _height(self):
        self.do("solid.set", name=self.base, blanks={"length": f"{self.random.uniform(4, 12):.2f} mm"})

    def _hole(self):
        circle = next(name for name, curve in self.sketch().curves.items() if curve.kind == "circle")
        blanks = {"centres": {"sketch": "s1", "names": [circle]}, "diameter": "11 mm", "extent": "through"}
        self.do("solid.add", kind="hole", blanks=blanks | {"body": self.body}, after=self.base)

    def _redraw(self):
        """A side deleted and drawn anew: it has another id."""
        curve = self.sides()[int(self.random.integers(len(self.sides())))]
        ends = list(self.sketch().curves[curve].points)
        self.do("sketch.remove", names=[curve])
        there = self.sketch().points
        self.do("sketch.line", start=ends[0], end=ends[1], free=True) if all(end in there for end in ends) else None

    def _split(self):
        """A corner set into a side: one half keeps its id."""
        curve = self.sides()[int(self.random.integers(len(self.sides())))]
        line, ends = self.sketch().geometry(curve), self.sketch().curves[curve].points
        middle = np.array(self.middle(curve))
        outward = np.array([line.end[1] - line.start[1], line.start[0] - line.end[0]])
        corner = (middle + 1.5 * outward / np.hypot(*outward)).tolist()
        self.do("sketch.remove", names=[curve])
        before = set(self.sketch().points)
        self.do("sketch.line", start=ends[0], end=corner, free=True)
        fresh = next(name for name in self.sketch().points if name not in before)
        self.do("sketch.line", start=fresh, end=ends[1], free=True)
        self.points.append(fresh)

    def _across(self):
        """A round cut through the middle of a side, which splits its upper edge."""
        curve = self.sides()[int(self.random.integers(len(self.sides())))]
        self.do("sketch.new", title=f"Across {self.document['next_number']}", plane="plan")
        sketch = self.document["steps"][-1]
        middle = list(self.middle(curve))
        self.do("sketch.circle", center=middle, rim=[middle[0] + 1.6, middle[1]], sketch=sketch)
        region = find_regions(self.sketch(sketch))[0].name
        blanks = self._extrude(sketch, region, "1 mm", "cut", self.body)
        del blanks["length"], blanks["way"]
        self.do("solid.add", kind="extrude", blanks=blanks | {"extent": "through"})
        for step in (sketch, self.operation()):
            steps = self.document["steps"]
            self.do("solid.move", name=step, by=steps.index(self.fillet) - steps.index(step))

    def _suppress(self):
        others = [
            step
            for step in self.document["steps"]
            if step in self.document["operations"] and step not in (self.base, self.fillet, self.boss)
        ]
        if others:
            self.do("solid.suppress", name=others[int(self.random.integers(len(others)))], suppressed=True)
        else:
            self._height()

    def wrong_references(self):
        """What of the references came to lie on something else than was meant, in words; "" where each is right or
        reported lost."""
        built = self.built()
        told = {step.name: step.problem for step in built.steps}
        if told[self.base] or self.body not in built.bodies:
            return ""
        return self._wrong_fillet(built, told) or self._wrong_boss(built, told)

    def _wrong_fillet(self, built, told):
        body = built.bodies[self.body]
        top = self.document["operations"][self.base]["blanks"]["length"]["value"]
        for curve in self.sides():
            line = np.array([self.sketch().geometry(curve).start, self.sketch().geometry(curve).end])
            for share in SHARES:
                place = line[0] + share * (line[1] - line[0])
                inward = np.array([line[0][1] - line[1][1], line[1][0] - line[0][0]])
                inward = inward / np.hypot(*inward) * 0.05
                gone = all(not kernel.holds(body.shape, (*(place + sign * inward), top - 0.05)) for sign in (1, -1))
                if gone and not told[self.fillet] and curve != self.wanted and not self._runs_on(curve):
                    return f"the edge of {curve} was rounded, {self.wanted} was meant"
                if not gone and not told[self.fillet] and curve == self.wanted:
                    return f"the edge of {curve} was not rounded, and nothing was said"
        if not told[self.fillet] and self.wanted not in self.sides():
            return "the side is gone, and nothing was said"
        return ""

    def _runs_on(self, curve):
        """Whether a side goes on from the wanted one so smoothly that a fillet runs along both."""
        one, other = (self.sketch().geometry(name) for name in (self.wanted, curve))
        ways = [np.subtract(line.end, line.start) / math.dist(line.start, line.end) for line in (one, other)]
        return abs(ways[0][0] * ways[1][1] - ways[0][1] * ways[1][0]) < SMOOTH and float(ways[0] @ ways[1]) > 0

    def _wrong_boss(self, built, told):
        if told[self.boss] or told[self.boss_sketch]:
            return ""
        if self.faced not in self.sides():
            return "the side that the boss stood on is gone, and nothing was said"
        boss = next(body for name, body in built.bodies.items() if name != self.body)
        line = np.array([self.sketch().geometry(self.faced).start, self.sketch().geometry(self.faced).end])
        normal = np.array([line[1][1] - line[0][1], line[0][0] - line[1][0]]) / math.dist(*line)
        near = abs(float((np.array(boss.facts.center[:2]) - line[0]) @ normal))
        return "" if abs(near - 1.0) < 1e-4 else "the boss stands on another face"

    def names(self, cache):
        """Names of all faces and edges of all bodies."""
        found = []
        for body in self.built(cache).bodies.values():
            found += [(body.name, body.names.get(face)) for face in kernel.faces_of(body.shape)]
            found += [(body.name, name) for _, name in naming.edge_names(body.shape, body.names)]
        return sorted(found, key=str)
