"""Rough outlines, narrow places, acute tips and pictures of two tones: what a fit must not spoil, and how few curves it
takes."""

import math
import unittest

import numpy as np
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import camera, light_of
from examples.render import hole, part_coverage, photograph, rounded_polygon
from examples.tilted import scale_from
from nomogon_core.errors import TraceError
from nomogon_core.geometry.curves import Arc, Circle, Line, Spline, bezier, end_directions, ends, sample
from nomogon_core.picture.contours import find_contours, is_two_toned
from nomogon_core.picture.decode import srgb_to_linear
from nomogon_core.reference.calibration import KnownLength
from nomogon_core.trace.compiled_cubics import folds
from nomogon_core.trace.distances import distances_from
from nomogon_core.trace.fit import fit_open, fit_outline
from nomogon_core.trace.fit_settings import FitSettings
from nomogon_core.trace.outlines import TraceSettings, trace

SMOOTH = math.radians(0.2)


def ragged(seed, size=60.0, teeth=7, wobble=0.35):
    """A closed contour about a pixel apart that no line or arc makes up: a lobed blot with grain."""
    random = np.random.default_rng(seed)
    count = int(2 * math.pi * size)
    angles = np.linspace(0, 2 * math.pi, count, endpoint=False)
    radius = size * np.ones(count)
    for order in range(2, teeth):
        radius += size * 0.35 / order * random.normal() * np.cos(order * angles + random.uniform(0, 6.28))
    grain = np.convolve(random.normal(size=count + 4), np.ones(5) / 5, "valid") * wobble
    return np.column_stack([(radius + grain) * np.cos(angles), (radius + grain) * np.sin(angles)])


def turn(before, after):
    return math.acos(float(np.clip(end_directions(before)[1] @ end_directions(after)[0], -1, 1)))


class Rough(unittest.TestCase):
    @given(st.integers(0, 10**6), st.sampled_from([0.6, 1.0, 1.6]))
    @settings(max_examples=12, deadline=None)
    def test_closed_true_and_without_loops(self, seed, tolerance):
        """Whatever comes in: the curves join, the contour is within the tolerance (more by the lens's rounding next to
        a corner), no curve loops."""
        contour = ragged(seed)
        told = []
        fitted = fit_outline(contour, pixel=1.0, tolerance=tolerance, noise_px=0.2, tell=told.append)
        self.assertLess(
            np.abs(distances_from(contour, fitted.curves)).max(), tolerance + FitSettings().free_tip_px + 0.1
        )
        self.assertTrue(all(0 <= share <= 1 for share in told))
        if len(fitted.curves) > 1:
            for before, after in zip((fitted.curves[-1], *fitted.curves[:-1]), fitted.curves):
                self.assertLess(math.dist(ends(before)[1], ends(after)[0]), 1e-6)
        for curve in fitted.curves:
            if isinstance(curve, Spline):
                self.assertFalse(folds(np.array(curve.points)))

    def test_a_looser_tolerance_takes_fewer_curves(self):
        counts = [
            sum(
                len(fit_outline(ragged(seed), pixel=1.0, tolerance=tolerance, noise_px=0.2).curves) for seed in range(6)
            )
            for tolerance in (0.4, 1.0, 4.0)
        ]
        self.assertGreater(counts[0], 1.5 * counts[1])
        self.assertGreater(counts[1], counts[2])

    def test_no_kink_where_pieces_meet_smoothly(self):
        """Joints are smooth to a fifth of a degree or else plain corners."""
        for seed in range(4):
            curves = fit_outline(ragged(seed, teeth=4, wobble=0.25), pixel=1.0, tolerance=0.8, noise_px=0.2).curves
            if len(curves) > 1:
                self.assertFalse(
                    [
                        turn(before, after)
                        for before, after in zip((curves[-1], *curves[:-1]), curves)
                        if SMOOTH < turn(before, after) < math.radians(5)
                    ]
                )

    @given(st.integers(0, 10**6), st.sampled_from([1.0, 3.0, 10.0]), st.sampled_from([15.0, 120.0]), st.booleans())
    @settings(max_examples=15, deadline=None)
    def test_curves_join_at_any_tolerance_and_size(self, seed, tolerance, size, is_open):
        """Smooth blots of any size: long arcs that stay and meet one another must still join."""
        contour = ragged(seed, size=size, wobble=0.0)
        curves = (
            fit_open(contour[: len(contour) // 2], pixel=1.0, tolerance=tolerance)
            if is_open
            else fit_outline(contour, pixel=1.0, tolerance=tolerance, noise_px=0.1)
        ).curves
        for before, after in zip(curves[:-1], curves[1:]):
            self.assertLess(math.dist(ends(before)[1], ends(after)[0]), 1e-3)

    def test_a_long_straight_edge_stays_a_line(self):
        contour = ragged(3)
        across = contour[:, 0] < -20
        contour[across, 0] = -20 + 0.15 * np.random.default_rng(1).normal(size=across.sum())
        curves = fit_outline(contour, pixel=1.0, tolerance=0.8, noise_px=0.2).curves
        longest = max(
            (curve for curve in curves if isinstance(curve, Line)), key=lambda line: math.dist(line.start, line.end)
        )
        self.assertGreater(math.dist(longest.start, longest.end), 60)
        self.assertLess(abs(longest.start[0] - longest.end[0]), 0.5)

    @given(st.lists(st.integers(-1000, 1000).map(lambda value: value / 100), min_size=8, max_size=8))
    @settings(max_examples=60, deadline=None)
    def test_a_cubic_that_crosses_itself_folds(self, numbers):
        """Against shapely's test for simple lines."""
        control = np.array(numbers).reshape(4, 2)
        line = bezier(control, np.linspace(0, 1, 33))
        if np.ptp(line, axis=0).max() > 0.1 and not shapely.LineString(line).is_simple:
            self.assertTrue(folds(control))


class NarrowPlaces(unittest.TestCase):
    """A drawing at 10 px/mm, seen by a lens with one pixel of blur."""

    def contour(self, part):
        view = camera(10.0, (40.3, 330.6))
        light = light_of((part,), 480, 380, view, blur_px=1.0, noise=0.004, seed=2)
        return (
            find_contours(light),
            scale_from([KnownLength("a", (0, 0), (1000, 0), 100.0)], origin_px=view.center),
            light,
        )

    def test_a_thin_bar_is_as_wide_as_it_is(self):
        """Arms of 0.5 and 0.8 mm: the other edge, 5 and 8 pixels away, must not count as the light beside this one."""
        for width in (0.5, 0.8):
            part = rounded_polygon(
                [(2, 4), (14, 4), (14, 10), (36, 10), (36, 10 + width), (14, 10 + width), (14, 28), (2, 28)], [0] * 8
            )
            (found,), fit, _ = self.contour(part)
            across = fit.to_mm(found.points)
            middle = across[(across[:, 0] > 18) & (across[:, 0] < 33)]
            upper, lower = (
                middle[middle[:, 1] > 10 + width / 2, 1].mean(),
                middle[middle[:, 1] < 10 + width / 2, 1].mean(),
            )
            self.assertAlmostEqual(upper - lower, width, delta=0.012)

    def test_the_tip_of_a_needle(self):
        """The point of a triangle of 30 degrees, which the lens draws back by three pixels, stands where its sides
        meet."""
        needle = rounded_polygon([(3, 6), (33, 6), (33, 6 + 30 * math.tan(math.radians(30)))], [0] * 3)
        _, fit, light = self.contour(needle)
        (outline,) = trace(light, fit, TraceSettings(tolerance_mm=0.03))
        self.assertEqual([type(curve) for curve in outline.curves], [Line] * 3)
        self.assertLess(min(math.dist(ends(curve)[0], (3, 6)) for curve in outline.curves), 0.05)

    def test_a_pointed_leaf_of_two_arcs(self):
        radius, half = 18.0, math.radians(20.0)
        leaf = tuple(
            Arc((19.0, 16.0 - sense * radius * math.cos(half)), radius, sense * math.pi / 2 - half, 2 * half)
            for sense in (1, -1)
        )
        _, fit, light = self.contour(leaf)
        (outline,) = trace(light, fit, TraceSettings(tolerance_mm=0.03))
        tips = [(19.0 - sense * radius * math.sin(half), 16.0) for sense in (1, -1)]
        for tip in tips:
            self.assertLess(min(math.dist(ends(curve)[0], tip) for curve in outline.curves), 0.12)
        self.assertLessEqual(len(outline.curves), 4)


class Gaps(unittest.TestCase):
    def test_a_cracked_plate_is_one_part(self):
        """A crack of 0.6 mm splits a plate in two; closing gaps up to 1 mm gives one outline, the plate's own, and its
        hole stays."""
        view = camera(10.0, (40.3, 330.6))
        halves = (
            rounded_polygon([(3, 4), (18, 4), (18, 28), (3, 28)], [0] * 4),
            rounded_polygon([(18.6, 4), (36, 4), (36, 28), (18.6, 28)], [0] * 4),
            hole(10, 16, 6),
        )
        cover = sum(part_coverage((half,), view, 480, 380) for half in halves[:2]) - part_coverage(
            (halves[2],), view, 480, 380
        )
        light = srgb_to_linear(photograph(cover, noise=0.004, seed=3) / 255).astype(np.float32)
        fit = scale_from([KnownLength("a", (0, 0), (1000, 0), 100.0)], origin_px=view.center)
        self.assertEqual([outline.hole for outline in trace(light, fit, TraceSettings())], [False, False, True])
        whole, round_one = trace(light, fit, TraceSettings(gap_mm=1.0))
        self.assertAlmostEqual(whole.area_mm2, 33 * 24, delta=1.0)
        self.assertAlmostEqual(round_one.curves[0].radius, 3.0, delta=0.02)
        with self.assertRaisesRegex(TraceError, "Gaps are closed"):
            trace(light, fit, TraceSettings(gap_mm=-1.0))


class TwoTones(unittest.TestCase):
    def test_a_stencil_is_told_from_a_photo(self):
        view = camera(9.0, (350.3, 340.6))
        photo = light_of(((Circle((0, 0), 30),), hole(8, 5, 12)), 700, 680, view, light=0.0, noise=0.0)
        self.assertFalse(is_two_toned(photo))
        self.assertTrue(is_two_toned((photo > 0.3).astype(np.float32)))

    def test_a_stencil_is_followed_to_half_a_pixel(self):
        """A black square of 40 pixels turned by nothing: its edges lie between pixels 19 and 20, and 59 and 60."""
        light = np.ones((80, 80), np.float32)
        light[20:60, 20:60] = 0.0
        (found,) = find_contours(light)
        sides = found.points[(np.abs(found.points - 39.5) < 15).any(axis=1)]
        off = np.abs(np.abs(sides - 39.5).max(axis=1) - 20)
        self.assertLess(off.max(), 0.02)
        curves = fit_outline(found.points, pixel=1.0, tolerance=0.3, blur_px=found.blur_px).curves
        self.assertEqual([type(curve) for curve in curves], [Line] * 4)
        corners = np.array([ends(curve)[0] for curve in curves])
        self.assertLess(np.abs(np.abs(corners - 39.5) - 20).max(), 0.05)

    def test_round_holes_of_a_stencil_are_circles(self):
        view = camera(9.0, (350.3, 340.6))
        photo = light_of(
            (rounded_polygon([(-30, -25), (30, -25), (30, 25), (-30, 25)], [5] * 4), hole(8, 5, 12), hole(-14, -8, 7)),
            700,
            680,
            view,
            light=0.0,
            noise=0.0,
            blur_px=0.0,
        )
        fit = scale_from([KnownLength("a", (0, 0), (900, 0), 100.0)], origin_px=view.center)
        outlines = trace((photo > 0.3).astype(np.float32), fit, TraceSettings(tolerance_mm=0.1))
        self.assertEqual([[type(curve) for curve in outline.curves] for outline in outlines[1:]], [[Circle], [Circle]])
        self.assertAlmostEqual(outlines[1].curves[0].radius, 6.0, delta=0.02)
        self.assertLess(
            max(np.abs(distances_from(sample(curve, 0.01), [Circle((8, 5), 6)])).max() for curve in outlines[1].curves),
            0.03,
        )
