"""Contours and fitting against drawn parts whose outlines are known exactly."""

import math
import unittest
from collections import Counter

import numpy as np
from shapely.geometry import LineString, Point

from core.tests.specimens import camera, light_of
from examples import parts
from examples.render import hole, rounded_polygon, slot
from examples.tilted import scale_from
from nomogon_core.errors import TraceError
from nomogon_core.geometry.curves import Arc, Circle, Line, closed_area, end_directions, ends, outline_points
from nomogon_core.geometry.records import curve_of_record, primitive_record
from nomogon_core.picture.contours import find_contours
from nomogon_core.reference.calibration import KnownLength
from nomogon_core.trace.fit import fit_outline
from nomogon_core.trace.outlines import TraceSettings, trace


def kinds(curves):
    return Counter(type(curve).__name__ for curve in curves)


def calibrated(view):
    return scale_from([KnownLength("a", (0, 0), (100 * view.scale, 0), 100.0)], origin_px=view.center, angle=view.angle)


def worst_mm(outline, truth):
    """Largest distance of a traced outline from the true one."""
    line = LineString(np.vstack([outline_points(truth, 1e-4), outline_points(truth, 1e-4)[:1]]))
    return max(line.distance(Point(place)) for place in outline_points(outline.curves, 0.01))


class Contours(unittest.TestCase):
    def test_a_disc_in_uneven_light(self):
        view = camera(9.0, (350.3, 340.6))
        light = light_of(((Circle((0, 0), 30),), hole(8, 5, 12)), 700, 680, view, light=0.5, noise=0.012)
        outer, inner = find_contours(light)
        self.assertEqual((outer.hole, inner.hole, inner.parent), (False, True, 0))
        for contour, center, radius in ((outer, (0, 0), 270), (inner, (8, 5), 54)):
            away = np.hypot(*(contour.points - view.to_px([center])[0]).T) - radius
            self.assertLess(abs(away.mean()), 0.05)
            self.assertLess(away.std(), 0.08)

    def test_a_bright_part_on_dark_ground(self):
        light = light_of((hole(20, 20, 20),), 400, 400, camera(9.0, (20.0, 380.0)), ground=0.06, part=0.6)
        (disc,) = find_contours(light)
        self.assertFalse(disc.hole)
        self.assertAlmostEqual(disc.area_px, math.pi * 90**2, delta=60)

    def test_what_touches_the_border_is_told(self):
        contours = find_contours(light_of((hole(0, 20, 20), hole(25, 20, 10)), 400, 400, camera(9.0, (20.0, 380.0))))
        self.assertEqual([contour.touches_border for contour in contours], [True, False])

    def test_pictures_without_outlines(self):
        random = np.random.default_rng(1)
        for light, words in (
            (np.full((200, 200), 0.5, np.float32), "one tone only"),
            (random.normal(0.5, 0.15, (700, 700)).astype(np.float32), "texture or noise|almost equally bright"),
        ):
            with self.assertRaisesRegex(TraceError, words):
                find_contours(light)


class Fitting(unittest.TestCase):
    """Every line, arc and circle of the drawn parts is recognised, and lies where it was drawn."""

    def check(self, outlines, expected, *, angle=0.0, scale=11.0, within=0.02, **how):
        points = np.vstack([outline_points(outline, 0.1) for outline in outlines])
        view = camera(scale, (0, 0), angle)
        low, high = view.to_px(points).min(axis=0), view.to_px(points).max(axis=0)
        view = camera(scale, tuple(60.3 - low), angle)
        width, height = (high - low + 120).astype(int)
        traced = trace(
            light_of(outlines, width, height, view, **how), calibrated(view), TraceSettings(tolerance_mm=0.1)
        )
        self.assertEqual(len(traced), len(outlines))
        self.assertEqual(sum((kinds(outline.curves) for outline in traced), Counter()), Counter(expected))
        for truth in outlines:
            nearest = min(
                traced,
                key=lambda outline: (
                    math.dist(
                        np.ptp(outline_points(outline.curves, 0.1), axis=0), np.ptp(outline_points(truth, 0.1), axis=0)
                    )
                    + math.dist(outline_points(outline.curves, 0.1).min(axis=0), outline_points(truth, 0.1).min(axis=0))
                ),
            )
            self.assertLess(worst_mm(nearest, truth), within)
            self.assertAlmostEqual(
                nearest.area_mm2, abs(closed_area(truth)), delta=0.002 * abs(closed_area(truth)) + 0.1
            )
        return traced

    def test_bracket_straight_and_turned(self):
        outlines = (
            rounded_polygon([(0, 0), (60, 0), (60, 20), (25, 20), (25, 45), (0, 45)], [4, 5, 5, 8, 4, 3]),
            hole(9, 9, 5),
            hole(9, 34, 6.6),
        )
        for angle in (0.0, 0.37):
            self.check(outlines, {"Line": 6, "Arc": 6, "Circle": 2}, angle=angle, noise=0.01)

    def test_slot_and_sharp_hexagon(self):
        corners = [
            (45 + 9 * math.cos(math.pi / 3 * k + 0.2), 20 + 9 * math.sin(math.pi / 3 * k + 0.2)) for k in range(6)
        ]
        outlines = (
            rounded_polygon([(0, 0), (70, 0), (70, 40), (0, 40)], [4, 12, 4, 12]),
            slot((18, 20), 16, 4),
            rounded_polygon(corners, [0] * 6),
        )
        self.check(outlines, {"Line": 12, "Arc": 6}, within=0.05)

    def test_latch_plate_is_smooth_where_it_was_drawn_smooth(self):
        traced = self.check(parts.latch_plate(), {"Line": 9, "Arc": 10, "Circle": 2}, scale=16.0, grain=0.04)
        outer = max(traced, key=lambda outline: outline.area_mm2).curves
        for before, after in zip([outer[-1], *outer[:-1]], outer):
            kink = math.acos(float(np.clip(end_directions(before)[1] @ end_directions(after)[0], -1, 1)))
            self.assertLess(math.degrees(kink), 0.2)

    def test_radius_within_its_stated_uncertainty(self):
        inside = 0
        for seed in range(12):
            view = camera(9.0, (150.0 + 0.1 * seed, 150.3))
            light = light_of((hole(0, 0, 20),), 300, 300, view, noise=0.015, seed=seed)
            (outline,) = trace(light, calibrated(view), TraceSettings())
            (circle,) = outline.curves
            inside += abs(circle.radius - 10) <= outline.u95_mm[0] + 0.1 / view.scale
        self.assertGreaterEqual(inside, 11)

    def test_a_free_form_outline_stays_within_the_tolerance(self):
        angle = np.linspace(0, 2 * math.pi, 3000, endpoint=False)
        radius = 300 + 40 * np.sin(3 * angle) + 12 * np.cos(7 * angle)
        points = np.column_stack([radius * np.cos(angle), radius * np.sin(angle)])
        coarse = fit_outline(points, pixel=1.0, tolerance=2.0)
        fine = fit_outline(points, pixel=1.0, tolerance=0.5)
        self.assertLessEqual(coarse.max_deviation, 2.2)
        self.assertLessEqual(fine.max_deviation, 0.8)
        self.assertLess(len(coarse.curves), len(fine.curves))
        self.assertLess(len(fine.curves), 40)

    def test_outlines_close_and_run_counter_clockwise(self):
        for outline in self.check(parts.hinge_leaf(), {"Line": 8, "Arc": 6, "Circle": 3}, within=0.06):
            self.assertGreater(closed_area(outline.curves), 0)
            for before, after in zip([outline.curves[-1], *outline.curves[:-1]], outline.curves):
                if not isinstance(after, Circle):
                    self.assertLess(math.dist(ends(before)[1], ends(after)[0]), 1e-9)

    def test_records_read_back(self):
        for curve in (Line((0, 0), (3, 4)), Arc((1, 2), 5, 0.3, 4.0), Arc((1, 2), 5, 0.3, -4.0), Circle((1, 1), 2)):
            again = curve_of_record(primitive_record(curve, 0.1))
            np.testing.assert_allclose(outline_points([again], 0.01)[-1], outline_points([curve], 0.01)[-1], atol=1e-9)

    def test_settings_out_of_range(self):
        light = light_of((hole(10, 10, 10),), 200, 200, camera(9.0, (10.0, 190.0)))
        for settings, words in (
            (TraceSettings(tolerance_mm=0.0), "between 0.001 and 20 mm"),
            (TraceSettings(threshold=1.5), "between 0.02 and 0.98"),
            (TraceSettings(speck_mm2=-1), "zero or more"),
        ):
            with self.assertRaisesRegex(TraceError, words):
                trace(light, calibrated(camera(9.0)), settings)
        with self.assertRaisesRegex(TraceError, "more than zero"):
            fit_outline(np.zeros((50, 2)), pixel=1.0, tolerance=0.0)


if __name__ == "__main__":
    unittest.main()
