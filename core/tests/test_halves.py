"""Symmetric parts traced by halves: exact mirror images, fewest curves across the axis, and the relation kept in the
sketch."""

import math
import unittest

import attrs
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import light_of
from core.tests.test_tracing import calibrated, plate_view
from examples.render import hole, rounded_polygon
from nomogon_core.errors import TraceError
from nomogon_core.geometry.curves import Arc, Circle, Line, closed_area, end_directions, outline_points
from nomogon_core.job.tracing import Outlines, axis_outline, taken_in, traced_again
from nomogon_core.sketch.model import Sketch
from nomogon_core.sketch.solve import Grab, freedom, solve
from nomogon_core.trace.halves import fit_halves
from nomogon_core.trace.outlines import TraceSettings, trace

BODY = rounded_polygon([(-20, 0), (20, 0), (16, 24), (6, 24), (0, 18), (-6, 24), (-16, 24)], [4, 4, 3, 0, 4, 0, 3])
HOLES = (hole(-10, 8, 6), hole(10, 8, 6), hole(0, 9, 5))
PIXEL = 0.1


def contour(curves, turn, noise, seed):
    """Evenly stepped, noisy points of an outline turned about the origin and shifted."""
    ring = outline_points(curves, 0.0005)
    ring = np.vstack([ring, ring[:1]])
    along = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(ring, axis=0).T))])
    at = np.arange(0, along[-1], PIXEL)
    points = np.column_stack([np.interp(at, along, ring[:, axis]) for axis in (0, 1)])
    way = np.array([[math.cos(turn), -math.sin(turn)], [math.sin(turn), math.cos(turn)]])
    return (points + np.random.default_rng(seed).normal(0, noise, points.shape)) @ way.T + (7.0, 3.0)


def kinks(curves):
    """Degrees at each joint."""
    return [
        math.degrees(math.acos(float(np.clip(end_directions(before)[1] @ end_directions(after)[0], -1, 1))))
        for before, after in zip((curves[-1], *curves[:-1]), curves)
    ]


def taken(outlines, sketch=None):
    """A sketch with traced outlines and their axis, as the web command makes it."""
    given_in = [Outlines(outline.curves, outline.u95_mm) for outline in outlines]
    axis = outlines[0].axis
    given_in.append(axis_outline([curve for outline in outlines for curve in outline.curves], axis.point, axis.angle))
    return taken_in(Sketch(), given_in, "t1")[0] if sketch is None else traced_again(sketch, given_in, "t1")


class Halves(unittest.TestCase):
    @settings(max_examples=8, deadline=None)
    @given(st.floats(-0.7, 2.2), st.sampled_from(["left", "right", "average"]), st.integers(0, 99))
    def test_each_outline_is_exactly_its_own_image_or_anothers(self, turn, keep, seed):
        contours = [contour(curves, turn, 0.003, seed + place) for place, curves in enumerate((BODY, *HOLES))]
        found = fit_halves(contours, [False, True, True, True], keep, pixel=PIXEL, tolerance=0.05)
        self.assertLess(abs(math.remainder(found.axis.angle - turn - math.pi / 2, math.pi)), 0.002)
        self.assertEqual([len(one.curves) for one in found.fitted], [12, 1, 1, 1])
        everything = [curve for one in found.fitted for curve in one.curves]
        for curve in everything:
            image = self.image(curve, found.axis)
            nearest = min(
                math.dist(image, self.image(other, None)) for other in everything if type(other) is type(curve)
            )
            self.assertLess(nearest, 1e-9)
        self.assertLess(max(one.max_deviation for one in found.fitted), 0.06)
        self.assertTrue(all(closed_area(one.curves) > 0 for one in found.fitted))
        self.assertTrue(all(kink < 0.5 or kink > 40 for kink in kinks(found.fitted[0].curves)))

    def image(self, curve, axis):
        """Middle of a curve and its size, mirrored or not."""
        if isinstance(curve, (Arc, Circle)):
            middle, size = curve.center, curve.radius
        else:
            middle, size = np.add(curve.start, curve.end) / 2, math.dist(curve.start, curve.end)
        return (*(axis.mirrored(middle)[0] if axis else middle), size)

    def test_left_is_left_and_its_own_shape_is_kept(self):
        """One corner is bevelled more on the right: each half kept gives its own bevel on both sides, the average the
        mean."""
        lopsided = rounded_polygon([(-20, 0), (20, 0), (20, 20), (16, 24), (-16.4, 24), (-20, 20)], [0] * 6)
        widths = {}
        for keep in ("left", "right", "average"):
            curves = (
                fit_halves([contour(lopsided, 0.0, 0.001, 1)], [False], keep, pixel=PIXEL, tolerance=0.05)
                .fitted[0]
                .curves
            )
            top = max(
                (curve for curve in curves if isinstance(curve, Line)), key=lambda line: min(line.start[1], line.end[1])
            )
            bevels = [
                line
                for line in curves
                if isinstance(line, Line)
                and abs(abs(line.end[0] - line.start[0]) - abs(line.end[1] - line.start[1])) < 0.6
            ]
            # Where the bevels, carried on, meet the top: the mean of two corners at different places is itself no
            # corner.
            meets = [
                line.start[0]
                + (top.start[1] - line.start[1]) * (line.end[0] - line.start[0]) / (line.end[1] - line.start[1])
                for line in bevels
            ]
            widths[keep] = max(meets) - min(meets)
        self.assertAlmostEqual(widths["left"] - widths["right"], 0.8, delta=0.25)
        self.assertAlmostEqual(widths["average"], (widths["left"] + widths["right"]) / 2, delta=0.1)

    def test_refusals_in_words(self):
        crooked = rounded_polygon([(0, 0), (40, 0), (50, 20), (10, 20)], [0] * 4)
        with self.assertRaisesRegex(TraceError, "has no mirror axis"):
            fit_halves([contour(crooked, 0.3, 0.001, 1)], [False], "left", pixel=PIXEL, tolerance=0.05)
        with self.assertRaisesRegex(TraceError, "left, right, average"):
            trace(np.zeros((20, 20), np.float32), calibrated(), TraceSettings(halves="upper"))


class InTheSketch(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        shifted = [
            tuple(
                attrs.evolve(curve, start=np.add(curve.start, (22, 2)), end=np.add(curve.end, (22, 2)))
                if isinstance(curve, Line)
                else attrs.evolve(curve, center=np.add(curve.center, (22, 2)))
                for curve in curves
            )
            for curves in (BODY, *HOLES)
        ]
        cls.light = light_of(shifted, 540, 380, plate_view())
        cls.sketch = taken(cls.traced())

    @classmethod
    def traced(cls, **how):
        return trace(cls.light, calibrated(), TraceSettings(tolerance_mm=0.06, halves="average", **how))

    def symmetric(self, sketch):
        """Largest distance of a point's image from the nearest point, millimetres."""
        axis = next(curve for curve in sketch.curves.values() if curve.construction)
        start, end = (np.array(sketch.points[name]) for name in axis.points)
        normal = np.array([-(end - start)[1], (end - start)[0]]) / math.dist(start, end)
        places = np.array(
            [
                sketch.points[point]
                for curve in sketch.curves.values()
                if not curve.construction
                for point in curve.points
            ]
        )
        images = places - 2 * ((places - start) @ normal)[:, None] * normal
        return np.hypot(*(images[:, None] - places[None]).transpose(2, 0, 1)).min(axis=1).max()

    def test_all_is_tied_and_nothing_twice(self):
        kinds = [item.kind for item in self.sketch.constraints.values()]
        self.assertGreaterEqual(kinds.count("symmetric"), 7)
        self.assertEqual(kinds.count("on curve"), 1)
        self.assertLess(self.symmetric(self.sketch), 1e-7)
        loose = attrs.evolve(self.sketch, constraints={})
        rows = sum({"symmetric": 2}.get(kind, 1) for kind in kinds)
        self.assertEqual(freedom(loose).degrees - freedom(self.sketch).degrees, rows)

    def test_a_drag_on_one_side_moves_the_other(self):
        corner = max(self.sketch.points, key=lambda name: self.sketch.points[name][0] if name in self.ends() else -1e9)
        place = self.sketch.points[corner]
        moved = Grab(self.sketch, [corner]).move((0.8, 0.4), (place[0] + 0.8, place[1] + 0.4))
        self.assertGreater(math.dist(moved.points[corner], place), 0.3)
        self.assertLess(self.symmetric(moved), 1e-6)

    def ends(self):
        return {
            point
            for curve in self.sketch.curves.values()
            if curve.kind == "line" and not curve.construction
            for point in curve.points
        }

    def test_traced_again_the_halves_stay_tied(self):
        again = taken(self.traced(threshold=0.4), self.sketch)
        self.assertEqual((again.new, again.lost), (0, ()))
        self.assertLess(self.symmetric(again.sketch), 1e-7)
        self.assertEqual(len(again.sketch.constraints), len(self.sketch.constraints))
        self.assertTrue(solve(again.sketch).solved)
