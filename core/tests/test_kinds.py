"""Kinds of pictures that people bring: brushed metal by two strokes, flat colours, plans, faint pencil; drawn at random
with known outlines."""

import math
import unittest

import attrs
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from benchmarks import random_kinds, unseen_kinds
from examples.tilted import scale_from
from nomogon_core.errors import TraceError
from nomogon_core.geometry.curves import Line
from nomogon_core.picture.contours import Tones
from nomogon_core.picture.decode import colours, decode
from nomogon_core.reference.calibration import KnownLength
from nomogon_core.trace.centre_lines import Stroke, centre_lines, marks_among
from nomogon_core.trace.compiled_cut import dearest_way, least_cut
from nomogon_core.trace.fit import FittedOutline
from nomogon_core.trace.flat_colours import contours_by_flat_colours, main_colours
from nomogon_core.trace.outlines import TraceSettings, contour_preview, trace
from nomogon_core.trace.seen import _carried_on
from nomogon_core.trace.two_strokes import contours_by_strokes, sure_runs

SCALE = scale_from([KnownLength("given", (0, 0), (1000, 0), 100.0)])


class Cut(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 1 << 30))
    def test_a_least_cut_is_no_dearer_than_any_other(self, seed):
        """Every one of the 512 ways to cut a picture of nine pixels, counted out."""
        random = np.random.default_rng(seed)
        against, across, down = (random.uniform(low, 1, (3, 3)).astype(np.float32) for low in (-1, 0, 0))

        def cost(share):
            return float(
                (against * share).sum()
                + (across[:, :2] * np.abs(np.diff(share, axis=1))).sum()
                + (down[:2] * np.abs(np.diff(share, axis=0))).sum()
            )

        found = cost((least_cut(against, across, down, 3000) > 0.5).astype(float))
        least = min(
            cost(np.array([(number >> bit) & 1 for bit in range(9)], float).reshape(3, 3)) for number in range(512)
        )
        self.assertLess(found - least, 2e-3)

    def test_the_dearest_way_is_closed_and_keeps_to_the_ridge(self):
        around = np.arange(120)
        ridge = np.round(10 + 6 * np.sin(2 * math.pi * around / 120)).astype(int)
        gains = np.random.default_rng(3).uniform(0, 0.5, (120, 21))
        gains[around, ridge] += 3
        way = dearest_way(gains, 0.2)
        self.assertLessEqual(int(np.abs(way - ridge).max()), 1)
        self.assertLessEqual(int(np.abs(np.diff(np.append(way, way[0]))).max()), 2)


class TwoStrokes(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.picture = random_kinds.metal(np.random.default_rng(8), (1600, 1200))
        cls.light = decode(cls.picture.data)

    def test_brushed_metal_is_found_and_what_is_not_seen_is_left_open(self):
        outlines = trace(self.light, SCALE, self.picture.tries[0], colour=colours(self.picture.data))
        found = unseen_kinds.judge(self.picture)
        self.assertTrue(found[0])
        self.assertGreaterEqual(found.mean(), 0.5)
        for outline in outlines:
            self.assertTrue(outline.closed or not outline.hole)
            self.assertEqual(outline.area_mm2 > 0, outline.closed)

    def test_the_preview_says_where_the_edge_is_seen(self):
        shown = contour_preview(self.light, self.picture.tries[0], 0.1, 1.0, colour=colours(self.picture.data))
        contours = contours_by_strokes(
            self.light,
            self.picture.tries[0].part_strokes,
            self.picture.tries[0].ground_strokes,
            colour=colours(self.picture.data),
        )
        free = [contour for contour in contours if not contour.touches_border]
        self.assertTrue(0.3 < np.mean(np.concatenate([contour.sure for contour in free])) <= 1)
        self.assertEqual([one["seen"] is None for one in shown], [sure_runs(contour) is None for contour in contours])

    def test_strokes_that_tell_nothing_are_refused_in_words(self):
        part, ground = self.picture.tries[0].part_strokes, self.picture.tries[0].ground_strokes
        for wrong, words in (
            (((), ground), "the part has none"),
            ((part, ()), "the ground has none"),
            ((part, part), "crosses"),
            ((part, (((1, 1), (2, 2)),)), "too short"),
            ((part, (((1e9, 1), (2, 2)),)), "outside"),
        ):
            with self.assertRaisesRegex(TraceError, words):
                contours_by_strokes(self.light, *wrong)


class Seen(unittest.TestCase):
    @staticmethod
    def _open(*curves):
        return FittedOutline(curves, (0.01,) * len(curves), 0.02, 0.01, np.zeros((3, 3)))

    def test_sides_meet_at_their_corners_and_go_on_in_line(self):
        """A square of 10 of which every corner is hidden, and the middle of one side."""
        sides = [
            self._open(Line((1, 0), (4, 0))),
            self._open(Line((6, 0), (9, 0))),
            self._open(Line((10, 1), (10, 9))),
            self._open(Line((9, 10), (1, 10))),
            self._open(Line((0, 9), (0, 5)), Line((0, 5), (0, 1))),
        ]
        (told,) = _carried_on(sides, 0.1)
        self.assertTrue(told.closed)
        corners = sorted(tuple(round(value, 9) + 0.0 for value in line.start) for line in told.fitted.curves)
        self.assertEqual(corners, [(0, 0), (0, 5), (0, 10), (10, 0), (10, 10)])
        self.assertEqual(len(told.fitted.u95), len(told.fitted.curves))

    def test_a_wide_gap_stays_open(self):
        told = _carried_on([self._open(Line((0, 0), (1, 0))), self._open(Line((9, 5), (9, 6)))], 0.1)
        self.assertEqual([one.closed for one in told], [False, False])
        self.assertEqual(_carried_on([], 0.1), [])


class FlatColours(unittest.TestCase):
    def test_every_patch_and_ink_line_of_a_cartoon_has_one_outline(self):
        picture = random_kinds.cartoon(np.random.default_rng(8))
        self.assertEqual(int(unseen_kinds.judge(picture).sum()), len(picture.wanted))
        contours = contours_by_flat_colours(colours(picture.data), reach=0.06)
        self.assertEqual(len(contours), len(picture.wanted))

    def test_main_colours_and_one_colour_only(self):
        sign = np.zeros((200, 300, 3), np.float32)
        sign[:, :150], sign[60:140, 200:260] = (0.8, 0.1, 0.1), (0.1, 0.2, 0.9)
        self.assertEqual(len(main_colours(sign, 0.06)), 3)
        with self.assertRaisesRegex(TraceError, "one flat colour"):
            contours_by_flat_colours(np.full((90, 90, 3), 0.5, np.float32), reach=0.06)


class Drawings(unittest.TestCase):
    def test_sections_with_a_sharp_tail_close_and_labels_are_told_from_them(self):
        picture = random_kinds.plan(np.random.default_rng(4))
        self.assertTrue(unseen_kinds.judge(picture).all())
        shown = contour_preview(decode(picture.data), TraceSettings(mode="centre"), 0.1, 1.0)
        kept = [one for one in shown if not one["needless"]]
        self.assertEqual(len(kept), 3)
        self.assertGreaterEqual(len(shown), 9)

    def test_small_closed_strokes_are_no_marks_unless_they_stand_in_a_row(self):
        ring = np.column_stack([np.cos(np.linspace(0, 6, 60)), np.sin(np.linspace(0, 6, 60))])
        strokes = [
            Stroke(200 * ring, 3.0, True),
            Stroke(12 * ring, 3.0, True),
            Stroke(12 * ring + (500, 0), 3.0, True),
            Stroke(12 * ring + (528, 0), 3.0, True),
            Stroke(12 * ring[:20] + (100, 0), 3.0, False),
        ]
        self.assertEqual(marks_among(strokes), {2, 3, 4})
        self.assertEqual(marks_among(strokes[4:]), set())

    def test_ends_that_face_one_another_are_joined_on_wish(self):
        down, across = np.mgrid[0:300, 0:400].astype(float)
        away, angle = np.hypot(across - 200, down - 150), np.degrees(np.arctan2(down - 150, across - 200))
        ink = (np.abs(away - 100) < 2.5) & (np.abs(angle - 40) > 3) & (np.abs(angle + 120) > 3)
        light, tones = (0.8 - 0.7 * ink).astype(np.float32), Tones(0.8, 0.1, np.ones((2, 2), np.float32))
        self.assertEqual([stroke.closed for stroke in centre_lines(light, tones)], [False, False])
        (whole,) = centre_lines(light, tones, bridge_widths=4.0)
        self.assertTrue(whole.closed)
        self.assertLess(float(np.abs(np.hypot(*(whole.points - (200, 150)).T) - 100).max()), 0.6)

    def test_faint_pencil_on_creased_paper(self):
        picture = random_kinds.pencil(np.random.default_rng(12))
        self.assertTrue(unseen_kinds.judge(attrs.evolve(picture, tries=picture.tries[:1])).all())
