"""Cards and sheets as the trace takes them, things with four straight sides, bowed edges, and which outlines are
needless."""

import math
import unittest

import cv2
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from nomogon_core.devices.compiled_coverage import coverage
from nomogon_core.errors import CalibrationError
from nomogon_core.picture.contours import Contour, find_contours
from nomogon_core.reference.bowed import follow_edge_between
from nomogon_core.reference.quadrangles import find_quadrangles
from nomogon_core.trace.finding import needless
from nomogon_core.trace.things import Thing, is_thing, light_on_sheet, light_without_cards

SHEET = np.array([(60, 50), (740, 60), (735, 540), (65, 545)], float)
CARD = np.array([(500, 80), (720, 90), (715, 230), (495, 220)], float)


def thing(corners, may_be_ground=False):
    return Thing(tuple(map(tuple, corners.tolist())), tuple(map(tuple, corners.tolist())), may_be_ground)


def scene(tones, size=(800, 600), noise=0.004, seed=1):
    """Light of polygons laid over one another: the first tone is the ground's, then (corners, tone)."""
    light = np.full(size[::-1], tones[0], np.float32)
    for corners, tone in tones[1:]:
        light += (tone - light) * np.maximum(coverage([corners], *size), coverage([corners[::-1]], *size))
    return (cv2.GaussianBlur(light, (0, 0), 0.9) + np.random.default_rng(seed).normal(0, noise, light.shape)).astype(
        np.float32
    )


def square(x, y, half):
    return np.array([(x - half, y - half), (x + half, y - half), (x + half, y + half), (x - half, y + half)], float)


class Things(unittest.TestCase):
    def test_a_part_on_a_sheet_is_seen_against_the_sheet(self):
        """A grey part on white paper on a dark table: without the sheet, table and part are alike."""
        part = square(400, 300, 90)
        light = scene([0.06, (SHEET, 0.75), (part, 0.12)])
        on_sheet = light_on_sheet(light, [thing(SHEET, True)])
        self.assertAlmostEqual(float(np.median(on_sheet[:30])), 0.75, delta=0.03)
        (contour,) = find_contours(on_sheet)
        self.assertAlmostEqual(contour.area_px, 180 * 180, delta=60)
        self.assertIsNone(light_on_sheet(scene([0.06, (SHEET, 0.75)]), [thing(SHEET, True)]))
        self.assertIsNone(light_on_sheet(light, [thing(SHEET)]))

    def test_a_card_beside_a_part_of_less_contrast_is_taken_out(self):
        part = square(250, 380, 90)
        light = scene([0.3, (CARD, 0.85), (part, 0.22)])
        without = light_without_cards(light, [thing(CARD)])
        self.assertAlmostEqual(float(without[150, 600]), 0.3, delta=0.02)
        self.assertAlmostEqual(float(without[380, 250]), 0.22, delta=0.02)
        self.assertEqual([round(contour.area_px / 32400, 1) for contour in find_contours(without)], [1.0])
        self.assertIs(light_without_cards(light, []), light)

    def test_only_its_own_outline_is_the_thing(self):
        around, inside = (
            Contour(points, cv2.contourArea(points.astype(np.float32)), False, None, False)
            for points in (CARD + 1.0, square(600, 155, 40))
        )
        self.assertTrue(is_thing(around, [thing(CARD)]))
        self.assertFalse(is_thing(inside, [thing(CARD)]))
        self.assertFalse(is_thing(around, []))


class Quadrangles(unittest.TestCase):
    @settings(max_examples=12, deadline=None, derandomize=True)
    @given(st.integers(0, 1 << 30))
    def test_a_card_anywhere_is_found(self, seed):
        random = np.random.default_rng(seed)
        turn, long = random.uniform(0, 2 * math.pi), random.uniform(220, 380)
        box = np.array([(-1, -1), (1, -1), (1, 1), (-1, 1)]) * (long / 2, long / 2 / 1.586)
        corners = (
            box @ np.array([[math.cos(turn), math.sin(turn)], [-math.sin(turn), math.cos(turn)]])
            + (400, 300)
            + random.uniform(-60, 60, 2)
        )
        light = scene([random.uniform(0.1, 0.3), (corners, random.uniform(0.5, 0.9))], noise=0.01, seed=seed)
        best = find_quadrangles(light, 1.586)[0]
        self.assertLess(max(float(np.hypot(*(best.corners - corner).T).min()) for corner in corners), 4.0)

    def test_another_ratio_is_none(self):
        self.assertFalse(find_quadrangles(scene([0.2, (square(400, 300, 150), 0.7)]), 3.2))


class Bowed(unittest.TestCase):
    def test_a_bowed_edge_is_followed_and_a_missing_one_refused(self):
        x = np.arange(0, 900, dtype=float)
        bow = 200 + 12 * (1 - ((x - 450) / 350) ** 2)
        light = scene([0.2, (np.vstack([np.column_stack([x, bow]), [(899, 599), (0, 599)]]), 0.7)], (900, 600))
        edge = follow_edge_between(light, (100.0, 201.0), (800.0, 201.0))
        places = np.array(edge.places)
        true = 200 + 12 * (1 - ((places[:, 0] - 450) / 350) ** 2)
        self.assertLess(float(np.abs(places[:, 1] - true).mean()), 0.06)
        self.assertGreater(float(np.ptp(places[:, 0])), 600)
        with self.assertRaises(CalibrationError):
            follow_edge_between(light, (100.0, 420.0), (800.0, 420.0))


class Needless(unittest.TestCase):
    @staticmethod
    def rings(*pairs):
        """An outer outline and its inner one for each (outer, inner) of points."""
        contours = []
        for outer, inner in pairs:
            for points, hole in ((outer, False), (inner, True)):
                parent = len(contours) - 1 if hole else None
                contours.append(Contour(points, cv2.contourArea(points.astype(np.float32)), hole, parent, False))
        return contours

    @staticmethod
    def ring(radius, wobble=0.0, middle=(300, 300)):
        angle = np.linspace(0, 2 * math.pi, 600, endpoint=False)
        return np.asarray(middle) + (radius * (1 + wobble * np.sin(7 * angle)))[:, None] * np.column_stack(
            [np.cos(angle), np.sin(angle)]
        )

    def test_designed_rings_keep_their_hole_and_lines_by_hand_do_not(self):
        designed = self.rings((self.ring(100), self.ring(94)))
        by_hand = self.rings((self.ring(100), self.ring(95, 0.006)))
        wide = self.rings((self.ring(100), self.ring(85, 0.02)))
        for contours, sides, told in (
            (designed, "auto", {}),
            (by_hand, "auto", {1: "double"}),
            (wide, "auto", {}),
            (by_hand, "both", {}),
            (designed, "outer", {1: "double"}),
        ):
            self.assertEqual(needless(contours, (600, 600), sides), told)

    def test_several_lines_of_one_width_are_drawn_lines(self):
        middles = ((150, 150), (450, 150), (300, 420))
        contours = self.rings(*((self.ring(80, middle=middle), self.ring(75, middle=middle)) for middle in middles))
        self.assertEqual(needless(contours, (600, 600)), {1: "double", 3: "double", 5: "double"})

    def test_the_frame_round_the_picture_is_left_out_with_both_its_sides(self):
        self.assertEqual(
            needless(self.rings((square(300, 300, 290), square(300, 300, 284))), (600, 600)), {0: "frame", 1: "frame"}
        )

    def test_outlines_within_outlines_know_their_parents(self):
        light = scene(
            [0.8, *((square(300, 300, half), tone) for half, tone in ((250, 0.1), (200, 0.8), (120, 0.1), (60, 0.8)))],
            (600, 600),
        )
        self.assertEqual(
            [(contour.hole, contour.parent) for contour in find_contours(light)],
            [(False, None), (True, 0), (False, 1), (True, 2)],
        )
