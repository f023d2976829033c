"""Edits of the sketch that are said as sentences: offset, corner, mirror, move, turn, scale, repeat, close up."""

import math
import unittest
from typing import ClassVar

import attrs
import numpy as np
import shapely
from fontTools.pens.areaPen import AreaPen
from fontTools.ttLib import TTFont
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import drawn, fixed, tied
from examples.parts import rounded_polygon
from nomogon_core.errors import InputError, OperationError, SketchError
from nomogon_core.geometry.curves import Ellipse, Spline, bezier, bounds, closed_area, outline_points
from nomogon_core.geometry.lettering import FOLDER, FONTS, letter
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import new_document, sketch_of
from nomogon_core.job.library import Library
from nomogon_core.sketch import arrange, edit
from nomogon_core.sketch.chains import as_run, chains
from nomogon_core.sketch.constrain import set_value
from nomogon_core.sketch.edits import EDITS
from nomogon_core.sketch.findings import find_findings
from nomogon_core.sketch.mending import mend_all, remedy_of
from nomogon_core.sketch.model import Constraint, Sketch
from nomogon_core.sketch.offset import backwards, offset
from nomogon_core.sketch.regions import find_regions
from nomogon_core.sketch.solve import Grab, freedom


def done(sketch, kind, **filled):
    return EDITS[kind].build(sketch, filled)


def rectangle(width=40.0, height=20.0):
    sketch = drawn(rounded_polygon([(0, 0), (width, 0), (width, height), (0, height)], [0] * 4))
    return sketch, list(sketch.curves)


def areas(sketch):
    return sorted(round(region.area, 6) for region in find_regions(sketch))


class Offsets(unittest.TestCase):
    """Against shapely's buffer, a general-purpose library, on outlines of lines, arcs and cubics."""

    def outlines(self, random):
        count = int(random.integers(4, 8))
        angles = np.sort(random.uniform(0, 2 * math.pi, count))
        places = [
            (float(r * math.cos(a)), float(r * math.sin(a))) for r, a in zip(random.uniform(25, 45, count), angles)
        ]
        yield rounded_polygon(places, [0.0] * count)
        yield rounded_polygon([(0, 0), (50, 0), (50, 15), (20, 18), (18, 40), (0, 40)], [4, 3, 0, 2, 5, 0])
        wave = 3 * random.normal(0, 1, 4)
        points = [
            (0, 0),
            (10, wave[0]),
            (20, wave[1]),
            (30, 0),
            (45, 8),
            (40, 25),
            (25, 30),
            (5, 28 + wave[2]),
            (-8, 14),
            (0, 0),
        ]
        yield [Spline(points)]

    @settings(max_examples=12, deadline=None)
    @given(st.integers(0, 10**6))
    def test_areas_agree_with_a_buffer(self, seed):
        random = np.random.default_rng(seed)
        for outline in self.outlines(random):
            polygon = shapely.Polygon(outline_points(outline, 1e-4))
            if not polygon.is_valid:
                continue
            run = list(outline) if closed_area(tuple(outline)) > 0 else backwards(outline)
            for distance in (-3.0, -0.8, 0.8, 3.0):
                told = sum(closed_area(chain.curves) for chain in offset(run, True, distance))
                wanted = polygon.buffer(distance, quad_segs=300).area
                self.assertAlmostEqual(told, wanted, delta=3e-4 * polygon.area)

    def test_sharp_corners_and_round_ones(self):
        sketch, lines = rectangle()
        sharp = done(sketch, "offset", curves=lines, distance=2.0, side="out", corners="sharp", kept="free").sketch
        self.assertEqual(len(sharp.curves), 8)
        self.assertAlmostEqual(areas(sharp)[0], 44 * 24 - 40 * 20, places=6)
        rounded = done(sketch, "offset", curves=lines, distance=2.0, side="both", corners="round", kept="free").sketch
        self.assertEqual(len(rounded.curves), 4 + 4 + 8)
        self.assertAlmostEqual(sum(areas(rounded)), 44 * 24 - 16 + 4 * math.pi, places=5)
        with self.assertRaisesRegex(SketchError, "narrower than twice that"):
            done(sketch, "offset", curves=lines, distance=12.0, side="in", corners="sharp", kept="free")

    def test_kept_at_their_distance_they_follow_it_and_what_they_are_off(self):
        """Buffers of shapely at the new distance, of the outline as it is then."""
        rng = np.random.default_rng(11)
        for corners, side in [("sharp", "out"), ("round", "out"), ("sharp", "in"), ("round", "both")]:
            wide, high, slant = rng.uniform((40, 30, 5), (60, 40, 9))
            radii = rng.choice([0.0, 5.0, 6.5], 5)
            places = [(0, 0), (wide, slant), (wide + 8, high), (wide / 2, high + 9), (-slant, high)]
            outline = rounded_polygon(places, radii)
            sketch, lines, joints = edit.add_outline(Sketch(), outline, [None] * len(outline), origin="drawn")
            sketch = tied(sketch, *edit.smooth_joints(sketch, joints))
            free = freedom(sketch).degrees
            blanks = {"curves": lines, "distance": 2.0, "side": side, "corners": corners, "kept": "kept"}
            kept = done(sketch, "offset", **blanks).sketch
            self.assertEqual(freedom(kept).degrees, free, (corners, radii))
            key, item = next((key, item) for key, item in kept.constraints.items() if item.name == "Offset 1")
            moved = set_value(kept, key, 3.25, typed="3.25 mm").sketch
            point = next(iter(sketch.points))
            pulled = Grab(moved, [point]).move((0.7, -0.4), None)
            self.assertEqual({one: moved.points[one] for one in sketch.points}, sketch.points)
            for told, distance in ((kept, 2.0), (moved, 3.25), (pulled, 3.25)):
                outline = shapely.Polygon(outline_points([told.geometry(name) for name in lines], 1e-4))
                buffers = [
                    outline.buffer(sign * distance, quad_segs=500, join_style={"sharp": "mitre"}.get(corners, "round"))
                    for sign in {"out": [1], "in": [-1], "both": [1, -1]}[side]
                ]
                wanted = [*(abs(outline.area - one.area) for one in buffers)]
                rest = [region.area for region in find_regions(told)]
                for area in wanted:
                    self.assertLess(
                        min(abs(area - one) for one in rest), 2e-4 * outline.area, (corners, side, distance)
                    )

    def test_what_is_kept_at_a_distance(self):
        sketch, circle = edit.add_circle(Sketch(), (0, 0), 10)
        blanks = {"distance": 1.5, "side": "both", "corners": "round", "kept": "kept"}
        kept = done(sketch, "offset", curves=[circle], **blanks).sketch
        (key,) = [key for key, item in kept.constraints.items() if item.is_dimension]
        told = set_value(kept, key, 2.5, typed="2.5 mm").sketch
        self.assertEqual(sorted(curve.radius for curve in told.curves.values()), [7.5, 10, 12.5])
        inner = min(told.curves, key=lambda name: told.curves[name].radius)
        less = edit.remove(told, [inner])
        self.assertEqual(less.constraints[key].parts, [(*less.constraints[key].of,)])
        radii = sorted(curve.radius for curve in set_value(less, key, 4, typed="4").sketch.curves.values())
        np.testing.assert_allclose(radii, [10, 14])
        spline, free = edit.add_spline_through(Sketch(), [(0, 0), (10, 4), (20, 0)])
        with self.assertRaisesRegex(SketchError, "Let the new curves be free"):
            done(spline, "offset", curves=[free], **blanks | {"side": "out"})

    def test_a_circle_an_ellipse_and_an_open_chain(self):
        sketch, circle = edit.add_circle(Sketch(), (0, 0), 10)
        wider = done(sketch, "offset", curves=[circle], distance=1.5, side="out", corners="round", kept="free").sketch
        self.assertEqual(sorted(curve.radius for curve in wider.curves.values()), [10, 11.5])
        oval = Ellipse((0, 0), (20, 12), 0.3)
        told = sum(closed_area(chain.curves) for chain in offset([oval], True, 2.0))
        wanted = shapely.Polygon(oval.at(np.linspace(0, 2 * math.pi, 20_001)[:-1])).buffer(2.0, quad_segs=300).area
        self.assertAlmostEqual(told, wanted, delta=1e-4 * wanted)
        sketch, lines = rectangle()
        (chain,) = offset(as_run(sketch, lines[:2], False), False, 2.0, sharp=True)
        self.assertFalse(chain.closed)
        self.assertEqual(len(chain.curves), 2)

    def test_chains(self):
        sketch, lines = rectangle()
        self.assertEqual([(len(run), closed) for run, closed in chains(sketch, lines)], [(4, True)])
        self.assertEqual([(len(run), closed) for run, closed in chains(sketch, lines[::2])], [(1, False), (1, False)])
        self.assertGreater(closed_area(tuple(as_run(sketch, lines[::-1], True))), 0)
        corner = sketch.curves[lines[0]].points[0]
        sketch, third = edit.add_line(sketch, corner, (-9, -9))
        with self.assertRaisesRegex(SketchError, r"More than two .* meet at \(0.00, 0.00\)"):
            chains(sketch, [*lines, third])


class Corners(unittest.TestCase):
    def test_rounded_between_lines(self):
        # Tangent length of a radius r in a corner of 90 degrees: r; area lost: (1 - pi / 4) r^2.
        sketch, lines = rectangle()
        corner = sketch.curves[lines[0]].points[0]
        edited = done(sketch, "corner", corner=corner, how="round", size=5.0)
        self.assertAlmostEqual(areas(edited.sketch)[0], 800 - (1 - math.pi / 4) * 25, places=6)
        (radius,) = [item for item in edited.sketch.constraints.values() if item.is_dimension]
        self.assertEqual((radius.kind, radius.value), ("radius", 5.0))
        self.assertNotIn(corner, edited.sketch.points)

    @settings(max_examples=25, deadline=None)
    @given(st.floats(0.35, 2.8), st.floats(0.5, 4.0))
    def test_contacts_at_any_angle(self, angle, radius):
        # Tangent length r / tan(angle / 2), corner to centre r / sin(angle / 2) (any geometry text).
        sketch, first = edit.add_line(Sketch(), (0, 0), (60, 0))
        corner = sketch.curves[first].points[0]
        sketch, _ = edit.add_line(sketch, corner, (60 * math.cos(angle), 60 * math.sin(angle)))
        made = done(sketch, "corner", corner=corner, how="round", size=radius).sketch
        arc = next(curve for curve in made.curves.values() if curve.kind == "arc")
        self.assertAlmostEqual(math.hypot(*made.points[arc.points[0]]), radius / math.sin(angle / 2), places=6)
        near = min(math.hypot(*made.points[point]) for point in arc.points[1:])
        self.assertAlmostEqual(near, radius / math.tan(angle / 2), places=6)

    def test_between_a_line_and_an_arc_and_a_spline(self):
        sketch, arc = edit.add_arc_through(Sketch(), (0, 0), (10, 6), (20, 0))
        corner = next(point for point in sketch.curves[arc].points[1:] if sketch.points[point][0] > 10)
        sketch, line = edit.add_line(sketch, corner, (40, 0))
        made = done(sketch, "corner", corner=corner, how="round", size=2.0).sketch
        self.assertEqual(len(made.curves), 3)
        fillet = next(name for name in made.curves if name not in (arc, line))
        center, big = made.points[made.curves[fillet].points[0]], made.curves[arc]
        self.assertAlmostEqual(math.dist(center, made.points[big.points[0]]), big.radius + 2.0, places=6)
        self.assertAlmostEqual(abs(center[1]), 2.0, places=6)
        sketch, spline = edit.add_spline_through(Sketch(), [(0, 0), (10, 8), (20, 2)])
        corner = sketch.curves[spline].points[-1]
        sketch, line = edit.add_line(sketch, corner, (45, 2))
        made = done(sketch, "corner", corner=corner, how="round", size=3.0).sketch
        self.assertEqual(len(made.curves), 3)

    def test_cut_and_too_large(self):
        sketch, lines = rectangle()
        corner = sketch.curves[lines[0]].points[0]
        self.assertAlmostEqual(
            areas(done(sketch, "corner", corner=corner, how="cut", size=4.0).sketch)[0], 792.0, places=6
        )
        with self.assertRaisesRegex(SketchError, "does not fit at this corner; at most (19.99|20.00) mm does"):
            done(sketch, "corner", corner=corner, how="round", size=30.0)
        with self.assertRaisesRegex(SketchError, "just two curves"):
            done(edit.add_point(sketch, (90, 90))[0], "corner", corner=f"p{sketch.next_number}", how="cut", size=1.0)

    def test_what_goes_is_told(self):
        sketch, lines = rectangle()
        sketch = tied(sketch, Constraint("distance", lines[:1], value=40.0, name="Length"))
        corner = sketch.curves[lines[0]].points[0]
        self.assertEqual(done(sketch, "corner", corner=corner, how="round", size=3.0).lost, ("Length (40.00 mm)",))


class Arranged(unittest.TestCase):
    def test_moved_as_a_whole_keeps_everything(self):
        sketch, lines = rectangle()
        sketch = tied(sketch, *[Constraint(kind, (line,)) for kind, line in zip(("horizontal", "vertical") * 2, lines)])
        moved = done(sketch, "move", curves=lines, leaving="move", **{"from": (0, 0), "to": (7, 3)})
        self.assertEqual(moved.lost, ())
        self.assertEqual(moved.sketch.constraints, sketch.constraints)
        for name, (x, y) in sketch.points.items():
            np.testing.assert_allclose(moved.sketch.points[name], (x + 7, y + 3), atol=1e-12)

    def test_turned_loses_what_is_level_and_says_so(self):
        sketch, lines = rectangle()
        sketch = tied(
            sketch,
            Constraint("horizontal", lines[:1]),
            Constraint("perpendicular", lines[:2]),
            Constraint("distance", lines[:1], value=40.0, name="Length"),
        )
        turned = done(sketch, "turn", curves=lines, leaving="move", center=(0, 0), angle=math.radians(30))
        self.assertEqual(len(turned.lost), 1)
        self.assertIn("horizontal", turned.lost[0])
        self.assertEqual({item.kind for item in turned.sketch.constraints.values()}, {"perpendicular", "distance"})

    def test_scaled_dimensions_grow_with_it(self):
        sketch, lines = rectangle()
        sketch = tied(sketch, Constraint("distance", lines[:1], value=40.0, name="Length", typed="40 mm"))
        larger = done(sketch, "scale", curves=lines, leaving="move", center=(0, 0), factor=1.5).sketch
        self.assertAlmostEqual(next(iter(larger.constraints.values())).value, 60.0)
        self.assertAlmostEqual(areas(larger)[0], 800 * 2.25, places=6)

    def test_what_is_tied_to_the_rest_follows(self):
        sketch, lines = rectangle()
        sketch, circle = edit.add_circle(sketch, (20, 10), 3)
        center = sketch.curves[circle].points[0]
        corner = sketch.curves[lines[0]].points[0]
        sketch = tied(
            sketch,
            Constraint("across", (corner, center), value=20.0, name="a"),
            Constraint("up", (corner, center), value=10.0, name="b"),
        )
        moved = done(sketch, "move", curves=lines, leaving="move", **{"from": (0, 0), "to": (5, 0)})
        self.assertEqual(moved.lost, ())
        np.testing.assert_allclose(moved.sketch.points[center], (25, 10), atol=1e-9)

    def test_a_mirrored_half_stays_the_image(self):
        sketch, axis = edit.add_line(Sketch(), (0, -10), (0, 30), construction=True)
        sketch, side = edit.add_line(sketch, (0, 20), (15, 12))
        sketch, arc = edit.add_arc_through(sketch, sketch.curves[side].points[1], (20, 5), (15, 0))
        sketch, spline = edit.add_spline_through(sketch, [sketch.curves[arc].points[1], (8, -3), (0, -2)])
        half = [side, arc, spline]
        both = done(sketch, "mirror", curves=half, axis=axis, crossing="smooth", kept="kept").sketch
        self.assertEqual(len(both.curves), 7)
        self.assertEqual(len(find_regions(both)), 1)
        self.assertAlmostEqual(*(both.points[point][1] for point in both.curves[side].points), places=7)
        end = both.curves[side].points[1]
        changed = tied(
            both, fixed(axis), Constraint("across", (both.curves[side].points[0], end), value=18.0, name="w")
        )
        xs = sorted(place[0] for place in changed.points.values())
        self.assertAlmostEqual(xs[0], -xs[-1], places=6)
        # Both ends of one spline on the axis: it meets its image smoothly at each.
        lone, line = edit.add_line(Sketch(), (0, -15), (0, 35), construction=True)
        lone, wing = edit.add_spline_through(lone, [(0, 20), (12, 15), (14, 4), (0, -5)])
        winged = done(lone, "mirror", curves=[wing], axis=line, crossing="smooth", kept="kept").sketch
        for end, handle in ((0, 1), (-1, -2)):
            (x, y), (u, v) = (winged.points[winged.curves[wing].points[index]] for index in (end, handle))
            self.assertLess(abs(v - y), 1e-6 * abs(u - x))
        free = done(sketch, "mirror", curves=half, axis=axis, crossing="as", kept="free").sketch
        self.assertGreater(freedom(free).degrees, freedom(both).degrees)

    def test_repeated_in_a_row_a_ring_and_along_a_curve(self):
        sketch, circle = edit.add_circle(Sketch(), (20, 0), 2)
        sketch = tied(sketch, Constraint("diameter", (circle,), value=4.0, name="d"))
        ring = done(sketch, "repeat", curves=[circle], count=6, way="ring", center=(0, 0)).sketch
        centers = np.array([ring.points[curve.points[0]] for curve in ring.curves.values()])
        np.testing.assert_allclose(np.hypot(*centers.T), 20.0, atol=1e-9)
        self.assertEqual(len(centers), 6)
        wider = tied(
            ring,
            fixed(*[]),
            Constraint(
                "distance", (ring.curves[circle].points[0],) * 1 + (list(ring.points)[1],), value=20.0, name="e"
            ),
        )
        self.assertEqual({round(curve.radius, 9) for curve in wider.curves.values()}, {2.0})
        row = done(sketch, "repeat", curves=[circle], count=4, way="row", pitch=12.5, direction=math.pi / 2).sketch
        self.assertEqual(sorted(round(row.points[c.points[0]][1], 9) for c in row.curves.values()), [0, 12.5, 25, 37.5])
        sketch, path = edit.add_arc_through(sketch, (20, 0), (0, 20), (-20, 0))
        along = done(sketch, "repeat", curves=[circle], count=3, way="along", along=path).sketch
        places = {
            tuple(np.round(along.points[c.points[0]], 4) + 0.0) for c in along.curves.values() if c.kind == "circle"
        }
        self.assertEqual(places, {(20, 0), (0, 20), (-20, 0)})

    def test_a_copy_shares_ends_that_meet(self):
        sketch, line = edit.add_line(Sketch(), (0, 0), (10, 0))
        made, became = arrange.copy(sketch, [line], arrange.shifted((10, 0)))
        self.assertEqual(became[sketch.curves[line].points[0]], sketch.curves[line].points[1])
        self.assertEqual(len(made.points), 3)


class Drawn(unittest.TestCase):
    def test_a_slot_a_polygon_and_a_box(self):
        slot = done(Sketch(), "slot", width=6.0, **{"from": (0, 0), "to": (20, 0)}).sketch
        self.assertAlmostEqual(areas(slot)[0], 20 * 6 + math.pi * 9, places=5)
        # The area of a hexagon is 2 sqrt(3) r^2 by its inner radius r (any geometry text).
        hexagon = done(Sketch(), "polygon", sides=6, center=(1, 2), at="side", through=(9, 2)).sketch
        self.assertAlmostEqual(areas(hexagon)[0], 2 * math.sqrt(3) * 64, places=5)
        corner = done(Sketch(), "polygon", sides=5, center=(0, 0), at="corner", through=(0, 10)).sketch
        self.assertIn((0.0, 10.0), [tuple(np.round(place, 9) + 0.0) for place in corner.points.values()])
        box = done(Sketch(), "box", center=(5, 5), width=40.0, height=20.0, **{"as": "outline"}).sketch
        self.assertEqual((areas(box), freedom(box).degrees), ([800.0], 2))
        guide = done(Sketch(), "box", center=(5, 5), width=40.0, height=20.0, **{"as": "guide"}).sketch
        self.assertEqual(find_regions(guide), ())

    def test_a_split_curve_is_still_one_line(self):
        sketch, line = edit.add_line(Sketch(), (0, 0), (30, 10))
        split = done(sketch, "split", curve=line, at=(9, 3)).sketch
        self.assertEqual(len(split.curves), 2)
        self.assertEqual([item.kind for item in split.constraints.values()], ["parallel"])
        with self.assertRaisesRegex(SketchError, "at an end of the curve"):
            done(sketch, "split", curve=line, at=(30, 10))
        sketch, circle = edit.add_circle(sketch, (0, 0), 5)
        with self.assertRaisesRegex(SketchError, "has no ends; trim it"):
            done(sketch, "split", curve=circle, at=(5, 0))


class Simplified(unittest.TestCase):
    def test_points_go_as_far_as_is_allowed(self):
        places = [(2.0 * k, 6 * math.sin(k / 4)) for k in range(30)]
        sketch, spline = edit.add_spline_through(Sketch(), places)
        before = len(sketch.curves[spline].points)
        told = []
        for within in (0.02, 0.2):
            simpler = done(sketch, "simplify", curve=spline, within=within).sketch
            told.append(len(simpler.curves[spline].points))
            old = np.vstack([bezier(piece, np.linspace(0, 1, 200)) for piece in sketch.geometry(spline).pieces()])
            new = np.vstack([bezier(piece, np.linspace(0, 1, 2000)) for piece in simpler.geometry(spline).pieces()])
            far = shapely.hausdorff_distance(shapely.LineString(old), shapely.LineString(new))
            self.assertLess(far, within * 1.05 + 1e-3)
        self.assertTrue(before > told[0] > told[1] >= 4, (before, told))

    def test_a_point_that_something_hangs_on_stays(self):
        sketch, spline = edit.add_spline_through(Sketch(), [(0, 0), (5, 0.01), (10, 0), (15, 0.01), (20, 0)])
        middle = sketch.curves[spline].points[6]
        sketch, _ = edit.add_constraint(sketch, fixed(middle))
        simpler = done(sketch, "simplify", curve=spline, within=0.5).sketch
        self.assertIn(middle, simpler.curves[spline].points)
        self.assertEqual(len(simpler.curves[spline].points), 7)
        with self.assertRaisesRegex(SketchError, "goes with a spline"):
            line, name = edit.add_line(Sketch(), (0, 0), (1, 0))
            done(line, "simplify", curve=name, within=0.5)


class ClosedUp(unittest.TestCase):
    @settings(max_examples=20, deadline=None)
    @given(st.integers(3, 9), st.integers(0, 10**6))
    def test_overlong_sides_of_a_polygon(self, count, seed):
        random = np.random.default_rng(seed)
        angles = 2 * math.pi * (np.arange(count) + random.uniform(-0.2, 0.2, count)) / count
        corners = 30 * np.column_stack([np.cos(angles), np.sin(angles)])
        sketch, lines = Sketch(), []
        for a, b in zip(corners, np.roll(corners, -1, axis=0)):
            way = (b - a) / math.dist(a, b)
            sketch, line = edit.add_line(sketch, a - way * random.uniform(1, 5), b + way * random.uniform(1, 5))
            lines.append(line)
        order = [lines[index] for index in random.permutation(count)]
        closed = done(sketch, "close-up", curves=order).sketch
        (area,) = areas(closed)
        self.assertAlmostEqual(area, shapely.Polygon(corners).area, places=4)

    def test_lines_that_fall_short_are_named(self):
        sketch, first = edit.add_line(Sketch(), (0, 0), (30, 0))
        sketch, second = edit.add_line(sketch, (20, -5), (20, 20))
        sketch, third = edit.add_line(sketch, (40, 40), (60, 60))
        with self.assertRaisesRegex(SketchError, "crosses fewer than two of the others"):
            done(sketch, "close-up", curves=[first, second, third])


class Texts(unittest.TestCase):
    def test_letters_close_areas_and_capitals_have_their_height(self):
        for font in FONTS:
            with self.subTest(font):
                filled = {"font": font, "height": 8.0, "from": "left", "place": (5.0, 3.0), "run": "straight"}
                sketch = done(Sketch(), "text", words="HIB", **filled).sketch
                self.assertEqual(find_findings(sketch), ())
                (left, low), (_, high) = bounds([sketch.geometry(name) for name in sketch.curves])
                self.assertAlmostEqual(left, 5.0, delta=0.01)
                # Letters with straight tops are as high as capitals are said to be; round ones reach past by a few
                # hundredths (common practice of type design, "overshoot").
                self.assertAlmostEqual(low, 3.0, delta=0.08)
                self.assertAlmostEqual(high, 11.0, delta=0.08)

    def test_curves_are_the_fonts_own(self):
        """The area of a letter against fontTools' own area of the same outline (a general-purpose library)."""
        face = TTFont(FOLDER / "archivo-medium.woff")
        pen = AreaPen(face.getGlyphSet())
        face.getGlyphSet()["S"].draw(pen)
        scale = 10.0 / face["OS/2"].sCapHeight
        outlines = letter("S", font="plain", cap_height=10.0).outlines
        self.assertAlmostEqual(abs(sum(closed_area(one) for one in outlines)), abs(pen.value) * scale**2, places=6)

    def test_pairs_are_kerned_and_spacing_adds(self):
        def width(text, spacing=0.0):
            return letter(text, font="plain", cap_height=10.0, spacing=spacing).width

        self.assertLess(width("AV"), width("A") + width("V") - 0.3)
        self.assertAlmostEqual(width("HHH", 0.5) - width("HHH"), 1.0)

    def test_what_cannot_be_set_is_said(self):
        filled = {"font": "stencil", "height": 5.0, "from": "left", "place": (0.0, 0.0), "run": "straight"}
        with self.assertRaisesRegex(SketchError, "This font has no 蜂"):
            done(Sketch(), "text", words="蜂A", **filled)
        with self.assertRaisesRegex(SketchError, "type at least one letter"):
            done(Sketch(), "text", words="   ", **filled)


class TextAlong(unittest.TestCase):
    """Text that runs along a curve of the sketch."""

    usual: ClassVar = {"words": "HHHHH", "font": "plain", "height": 4.0, "from": "middle", "run": "along"}

    def along(self, sketch, curve, place, side, reads="upright", **more):
        filled = {**self.usual, "along": curve, "place": place, "side": side, "reads": reads, **more}
        made = done(sketch, "text", **filled).sketch
        return np.array([place for name, place in made.points.items() if name not in sketch.points])

    def test_around_a_circle_outside_and_inside(self):
        """An E has its arms to the right of its stem; so where its points lie nearer tells which way it reads."""
        sketch, name = edit.add_circle(Sketch(), (3.0, -2.0), 20.0)
        for side, low, high in (("outside", 20.0, 24.0), ("inside", 16.0, 20.0)):
            for end in (1, -1):
                for reads in ("upright", "turned"):
                    with self.subTest(f"{side} {end} {reads}"):
                        points = self.along(sketch, name, (3.0, 40.0 * end), side, reads, words="E")
                        away = np.hypot(*(points - (3.0, -2.0)).T)
                        # A letter stands on its straight baseline: half its width to its side that is off the circle
                        # by no more than that squared over twice the radius.
                        self.assertGreater(away.min(), low - 0.1)
                        self.assertLess(away.max(), high + 0.15)
                        self.assertEqual(points[:, 1].mean() > -2.0, end > 0)
                        middle = (points[:, 0].min() + points[:, 0].max()) / 2
                        self.assertEqual(np.median(points[:, 0]) > middle, reads == "upright")

    def test_letters_keep_their_distance_along_the_baseline(self):
        """Five equal letters stand at equal angles: their advance over the radius of their baseline."""
        sketch, name = edit.add_circle(Sketch(), (0.0, 0.0), 30.0)
        advance = letter("HH", font="plain", cap_height=4.0).width - letter("H", font="plain", cap_height=4.0).width
        for side, end, radius in (
            ("outside", 1, 32.0),
            ("inside", 1, 24.0),
            ("outside", -1, 36.0),
            ("inside", -1, 28.0),
        ):
            points = self.along(sketch, name, (0.0, 30.0 * end), side, away=2.0)
            middles = points.reshape(5, -1, 2).mean(axis=1)
            angles = np.sort(np.arctan2(middles[:, 1], middles[:, 0]))
            np.testing.assert_allclose(np.diff(angles), advance / radius, rtol=1e-3)

    def test_along_a_line_above_or_below(self):
        sketch, name = edit.add_line(Sketch(), (40.0, 30.0), (0.0, 0.0))
        way = np.array([0.8, 0.6])
        for side, low, high in (("outside", 1.0, 5.0), ("inside", -5.0, -1.0)):
            for reads in ("upright", "turned"):
                points = self.along(sketch, name, (20.0, 15.0), side, reads, away=1.0, words="E")
                beside, on = points @ [-way[1], way[0]], points @ way
                np.testing.assert_allclose((beside.min(), beside.max()), (low, high), atol=1e-6)
                middle = (on.min() + on.max()) / 2
                self.assertAlmostEqual(middle, 25.0, places=2)
                self.assertEqual(np.median(on) > middle, reads == "upright")

    def test_what_does_not_fit_is_said(self):
        sketch, name = edit.add_circle(Sketch(), (0.0, 0.0), 3.0)
        with self.assertRaisesRegex(SketchError, "do not fit inside"):
            self.along(sketch, name, (0.0, 3.0), "inside")
        with self.assertRaisesRegex(SketchError, r"once around is only 18\.85 mm"):
            self.along(sketch, name, (0.0, 3.0), "outside", words="HHHHHHHH")
        sketch, name = edit.add_curve(sketch, "spline", [(9.0, 0.0), (12.0, 3.0), (14.0, 3.0), (17.0, 0.0)])
        with self.assertRaisesRegex(SketchError, "along lines, arcs and circles"):
            self.along(sketch, name, (0.0, 3.0), "outside")

    def test_the_narrowest_stroke_is_told(self):
        """An I is a bar: its stroke is as wide as its outline. A stroke grows with the height."""
        (low, _), (high, _) = bounds(
            [curve for one in letter("I", font="bold", cap_height=9).outlines for curve in one]
        )
        self.assertAlmostEqual(letter("I", font="bold", cap_height=9).stroke, high - low, delta=0.01)
        self.assertAlmostEqual(
            letter("HIVE", font="serif", cap_height=8).stroke, 2 * letter("HIVE", font="serif", cap_height=4).stroke
        )


class Mendings(unittest.TestCase):
    """What keeps areas from closing is put right, and nothing else."""

    def overlong(self, *pokes):
        """A rectangle of 40 × 20 of lines that run past its corners, each by so much at its start and end."""
        corners, sketch = [(0, 0), (40, 0), (40, 20), (0, 20)], Sketch()
        for index, (before, after) in enumerate(pokes):
            start, end = np.array(corners[index], float), np.array(corners[(index + 1) % 4], float)
            way = (end - start) / np.hypot(*(end - start))
            sketch, _ = edit.add_line(sketch, tuple(start - before * way), tuple(end + after * way))
        return sketch

    @settings(max_examples=15, deadline=None)
    @given(st.lists(st.tuples(st.floats(0.05, 1.4), st.floats(0.05, 1.4)), min_size=4, max_size=4))
    def test_ends_that_poke_past_a_crossing_are_cut_off_there(self, pokes):
        mended, _ = mend_all(self.overlong(*pokes), 1.5)
        self.assertEqual(find_findings(mended), ())
        self.assertEqual(areas(mended), [800.0])

    def test_nothing_larger_than_the_size_is_touched(self):
        sketch = self.overlong((0.2, 0.2), (0.2, 0.2), (0.2, 3.0), (3.0, 0.2))
        mended, count = mend_all(sketch, 0.5)
        self.assertEqual(count, 6)
        self.assertIn((0.0, 23.0), [tuple(np.round(place, 9)) for place in mended.points.values()])

    def test_doubles_and_curves_without_length_go_and_gaps_are_joined(self):
        sketch = drawn(rounded_polygon([(0, 0), (30, 0), (30, 12), (0, 12)], [0] * 4))
        sketch, _ = edit.add_line(sketch, (0, 0), (30, 0))
        sketch, name = edit.add_line(sketch, (50, 0), (50, 5))
        end = sketch.curves[name].points[1]
        sketch = attrs.evolve(sketch, points={**sketch.points, end: (50.0, 0.0)})
        sketch, _ = edit.add_line(sketch, (60, 0), (70, 0))
        sketch, _ = edit.add_line(sketch, (70.2, 0), (70, 9))
        sketch, _ = edit.add_line(sketch, (70, 9.1), (60, 0.1))
        mended, count = mend_all(sketch, 0.3)
        self.assertEqual((count, find_findings(mended)), (5, ()))
        self.assertEqual(areas(mended)[-1], 360.0)

    def test_a_remedy_tells_what_it_does(self):
        sketch = self.overlong((0, 0), (0, 0), (0.7, 0), (0, 0))
        findings = find_findings(sketch)
        told = {one.code: remedy_of(one) for one in findings}
        self.assertEqual(list(told), ["loose end"])
        self.assertEqual(told["loose end"].words, "Cut off 0.70 mm")
        sketch, _ = edit.add_line(sketch, (10, -0.4), (10, 60))
        found = {one.sentence: remedy_of(one) for one in find_findings(sketch)}
        self.assertIsNone(found["The line ends loosely at (10.0, 60.0)."])
        self.assertEqual(found["The line pokes out by 0.40 mm, to (10.0, -0.4)."].words, "Cut off 0.40 mm")


class Command(unittest.TestCase):
    def setUp(self):
        self.document = new_document()
        self.do("sketch.rectangle", first=[0, 0], second=[40, 20])

    def do(self, command, /, **arguments):
        outcome = carry_out(self.document, command, arguments, Library())
        self.document = outcome.document
        return outcome

    def test_numbers_may_be_expressions_and_what_is_missing_is_said(self):
        lines = list(sketch_of(self.document).curves)
        self.do("ledger.add", name="gap", text="3 mm")
        blanks = {"curves": lines, "distance": "gap / 2", "side": "in", "corners": "sharp", "kept": "free"}
        self.assertIn("Offset by 1.50 mm: 4 curves", self.do("sketch.edit", kind="offset", blanks=blanks).told)
        with self.assertRaisesRegex(OperationError, "Offset needs a distance"):
            self.do("sketch.edit", kind="offset", blanks=blanks | {"distance": None})
        with self.assertRaisesRegex(OperationError, "a whole number from 2 to 200"):
            ring = {"curves": lines[:1], "count": "2.5", "way": "ring", "center": [0, 0]}
            self.do("sketch.edit", kind="repeat", blanks=ring)
        with self.assertRaisesRegex(SketchError, "There is no edit 'melt'"):
            self.do("sketch.edit", kind="melt", blanks={})

    def test_sizes_typed_while_drawing_are_kept_as_dimensions(self):
        self.do("ledger.add", name="pitch", text="30 mm")
        self.do("sketch.line", start=[100, 0], end=[110, 9], sizes=["pitch * 2", "30°"])
        self.do("sketch.circle", center=[200, 0], rim=[201, 0], sizes=["1/2 in"])
        self.do("sketch.rectangle", first=[300, 50], second=[299, 49], sizes=["12", "8"])
        sketch = sketch_of(self.document)
        line = next(
            sketch.geometry(name)
            for name, curve in sketch.curves.items()
            if curve.kind == "line" and sketch.geometry(name).start == (100.0, 0.0)
        )
        self.assertAlmostEqual(math.dist(line.start, line.end), 60.0)
        self.assertAlmostEqual(math.atan2(line.end[1], line.end[0] - 100), math.radians(30))
        told = [(item.kind, round(item.value, 9), item.typed) for item in sketch.constraints.values() if item.value]
        self.assertEqual(
            told,
            [
                ("distance", 60.0, "pitch * 2"),
                ("diameter", 12.7, "1/2 in"),
                ("distance", 12.0, "12"),
                ("distance", 8.0, "8"),
            ],
        )
        self.assertIn((288.0, 42.0), [tuple(np.round(place, 9)) for place in sketch.points.values()])
        with self.assertRaisesRegex(InputError, "at most 1 number here"):
            self.do("sketch.circle", center=[0, 90], rim=[1, 90], sizes=["4", "5"])
        with self.assertRaisesRegex(InputError, "A length must be more than zero; '-4' came"):
            self.do("sketch.line", start=[0, 90], end=[1, 90], sizes=["-4"])

    def test_a_dimension_reads_or_drives(self):
        (bottom, *_), ids = list(sketch_of(self.document).curves), lambda: list(sketch_of(self.document).constraints)
        self.do("sketch.dimension", kind="distance", of=[bottom], text="44 mm")
        name = ids()[-1]
        self.do("sketch.drive", name=name, on=False)
        corner = sketch_of(self.document).curves[bottom].points[1]
        self.do("sketch.drag", held=[corner], offset=[6, 0], place=[50, 0])
        item = sketch_of(self.document).constraints[name]
        self.assertEqual((item.driving, round(item.value, 6)), (False, 50.0))
        self.do("sketch.drive", name=name, on=True)
        self.do("sketch.set_value", name=name, text="41 mm")
        self.assertEqual(areas(sketch_of(self.document)), [820.0])
        top = list(sketch_of(self.document).curves)[2]
        self.do("sketch.dimension", kind="distance", of=[top])
        with self.assertRaisesRegex(SketchError, "cannot drive: it already follows from"):
            self.do("sketch.drive", name=ids()[-1], on=True)

    def test_every_example_names_blanks_that_there_are(self):
        for declared in EDITS.values():
            self.assertLessEqual(declared.example.keys(), declared.blanks().keys())


if __name__ == "__main__":
    unittest.main()
