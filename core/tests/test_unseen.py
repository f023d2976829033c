"""Random parts and photos: lines and arcs come out as what they are, blur is taken back, a camera is told by a card's
edges."""

import io
import math
import unittest

import cv2
import numpy as np
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from scipy.special import ndtri

from benchmarks import random_photos, unseen_parts
from benchmarks.random_photos import SIZE
from core.tests.specimens import camera, light_of
from examples import parts
from examples.render import hole, rounded_polygon
from examples.tilted import scale_from
from nomogon_core.errors import CalibrationError, TraceError
from nomogon_core.geometry.curves import Arc, Circle, Line, Spline, bezier, outline_points
from nomogon_core.picture.blur import tip_recession, true_radius
from nomogon_core.picture.contours import find_contours
from nomogon_core.picture.decode import decode, inspect, looks_drawn
from nomogon_core.reference.calibration import KnownLength, camera_pixels, camera_plane, unbent
from nomogon_core.reference.camera import fit_camera, is_straight
from nomogon_core.reference.models import Edge, Rectangle
from nomogon_core.reference.sheets import find_rectangle
from nomogon_core.trace.centre_lines import centre_lines
from nomogon_core.trace.distances import signed_distance
from nomogon_core.trace.faint import faint_strokes
from nomogon_core.trace.fit import fit_outline
from nomogon_core.trace.jaws import between_jaws, part_around, square_to, way_in_picture
from nomogon_core.trace.offered import offered_tolerance


class RandomParts(unittest.TestCase):
    @settings(max_examples=8, deadline=None, derandomize=True)
    @given(st.integers(0, 1 << 40))
    def test_every_long_line_and_arc_is_one_curve(self, seed):
        told = unseen_parts.judge(unseen_parts.shoot(np.random.default_rng(seed)))
        self.assertEqual(told.arcs[0], told.arcs[1])
        self.assertGreaterEqual(told.lines[0], told.lines[1] - 1)
        self.assertLess(told.largest_px, 1.0)

    def test_a_small_fillet_is_told_from_a_corner(self):
        """Two corners of 90 degrees, one rounded by 6 pixels, which is barely more than the lens does."""
        outline = rounded_polygon([(0, 0), (30, 0), (30, 20), (0, 20)], [0, 0.6, 0, 0])
        view = camera(10.0, (60.3, 260.7))
        (contour,) = find_contours(light_of((outline,), 420, 320, view, light=0.0, noise=0.003, blur_px=1.0))
        curves = fit_outline(contour.points, pixel=1.0, tolerance=0.5, blur_px=contour.blur_px).curves
        (arc,) = [curve for curve in curves if isinstance(curve, Arc)]
        self.assertEqual(sum(isinstance(curve, Line) for curve in curves), 4)
        self.assertAlmostEqual(arc.radius, 6.0, delta=0.8)


class Lens(unittest.TestCase):
    def test_tips_and_round_edges(self):
        """A right angle blurred by a Gaussian is crossed where both sides' shares are the root of a half: exact."""
        self.assertAlmostEqual(tip_recession(math.pi / 2, 1.0), math.sqrt(2) * float(ndtri(math.sqrt(0.5))), places=3)
        self.assertAlmostEqual(tip_recession(1.0, 2.6), 2.6 * tip_recession(1.0, 1.0), places=9)
        self.assertAlmostEqual(true_radius(20 - 1.5**2 / 40, 1.5), 20, delta=0.002)

    def test_small_holes_keep_their_size(self):
        """Before, a hole of 12 pixels came out up to 0.2 pixels small."""
        for blur in (0.6, 1.4):
            view = camera(10.0, (60.3, 260.7))
            plate = (
                rounded_polygon([(0, 0), (30, 0), (30, 20), (0, 20)], [0] * 4),
                hole(10, 10, 2.4),
                hole(22, 10, 6.0),
            )
            light = light_of(plate, 420, 320, view, light=0.0, noise=0.002, blur_px=blur)
            for contour in find_contours(light)[1:]:
                (circle,) = fit_outline(contour.points, pixel=1.0, tolerance=0.5, blur_px=contour.blur_px).curves
                self.assertIsInstance(circle, Circle)
                self.assertAlmostEqual(
                    circle.radius, min((12.0, 30.0), key=lambda size: abs(size - circle.radius)), delta=0.025
                )


class CameraModel(unittest.TestCase):
    @settings(max_examples=60)
    @given(
        st.floats(-0.08, 0.08),
        st.floats(-0.02, 0.02),
        st.floats(0.9, 1.6),
        st.floats(-0.4, 0.4),
        st.floats(-0.4, 0.4),
        st.floats(0, 20),
    )
    def test_pixels_and_plane_are_inverses(self, k1, k2, focal, lean, tip, height):
        parameters = np.array([math.log(focal), 0.01, -0.02, k1, k2, lean, tip, 0.3, 5.0, -8.0, -400.0])
        q = np.random.default_rng(1).uniform(-0.55, 0.55, (40, 2))
        np.testing.assert_allclose(camera_pixels(parameters, camera_plane(parameters, q, height), height), q, atol=1e-9)

    def test_against_opencv(self):
        """Bending and its inverse beside OpenCV's, which is written apart from ours."""
        places = np.random.default_rng(2).uniform(-0.5, 0.5, (50, 2))
        still = np.zeros(3)
        bent, _ = cv2.projectPoints(
            np.column_stack([places, np.ones(50)]), still, still, np.eye(3), np.array([0.05, -0.01, 0, 0, 0])
        )
        np.testing.assert_allclose(unbent(bent.reshape(-1, 2), 0.05, -0.01), places, atol=1e-8)

    def exact(self, lens, size, at, count=30):
        """A rectangle with places on its edges as a perfect picture would show them."""
        corners = np.add([(0, size[1]), size, (size[0], 0), (0, 0)], at)
        edges = []
        for start, end in zip(corners, np.roll(corners, -1, axis=0)):
            shares = np.linspace(0.05, 0.95, count)[:, None]
            way = (end - start) / math.dist(start, end)
            places, beside = (
                lens.to_px(start + shares * (end - start) + off * np.array([-way[1], way[0]])) for off in (0.0, 1e-3)
            )
            normal = (beside - places) / np.hypot(*(beside - places).T)[:, None]
            edges.append(Edge(tuple(map(tuple, places)), tuple(map(tuple, normal)), 0.02))
        return Rectangle("Sheet", tuple(map(tuple, lens.to_px(corners))), *size, 0.02, 0.02, edges=tuple(edges))

    def test_a_perfect_sheet_tells_the_camera(self):
        for seed in range(4):
            lens = random_photos.random_lens(np.random.default_rng(seed), 170.0, (148.5, 105.0))
            sheet = self.exact(lens, (297.0, 210.0), (0.0, 0.0))
            fit = fit_camera(SIZE, rectangles=[sheet])
            pairs = np.random.default_rng(9).uniform((20, 20), (270, 190), (20, 2, 2))
            off = [fit.distance(*lens.to_px(pair), 0.0)[0] - math.dist(*pair) for pair in pairs]
            self.assertLess(np.abs(off).max(), 0.02)
            self.assertTrue(np.all(np.abs(off) < [fit.distance(*lens.to_px(pair), 0.0)[1] + 1e-3 for pair in pairs]))
            line = lens.to_px(np.linspace((30, 40), (250, 170), 40))
            self.assertLess(abs(is_straight(fit, line, 0.03)[1]), 3.0)
            bowed = lens.to_px(
                np.column_stack([np.linspace(30, 250, 40), 100 + 1.0 * np.sin(np.linspace(0, math.pi, 40))])
            )
            self.assertGreater(abs(is_straight(fit, bowed, 0.03)[1]), 5.0)

    def test_a_wrong_length_beside_a_card_is_named(self):
        lens = random_photos.random_lens(np.random.default_rng(3), 120.0, (60.0, 60.0))
        card = self.exact(lens, (85.60, 53.98), (10.0, 10.0))
        right, wrong = ((20.0, 90.0), (100.0, 90.0)), ((20.0, 100.0), (20.0, 20.0))
        lengths = [
            KnownLength(name, *map(tuple, lens.to_px(pair)), size, 0.05, key=name)
            for name, pair, size in (("a", right, 80.0), ("b", wrong, 81.5))
        ]
        fit = fit_camera(SIZE, rectangles=[card], lengths=lengths)
        self.assertEqual(fit.doubt.name, "b")
        self.assertAlmostEqual(fit.doubt.off_mm, 1.5, delta=0.2)
        with self.assertRaisesRegex(CalibrationError, "needs the edges of a card"):
            fit_camera(SIZE, rectangles=[], lengths=lengths)

    def test_photos_of_cards_and_sheets(self):
        for seed, thing, spoiled in ((21, "card", None), (22, "sheet", None), (23, "sheet", "folded")):
            random = np.random.default_rng(seed)
            photo = random_photos.shoot(random, thing, spoiled)
            light = decode(photo.jpeg)
            found = find_rectangle(light, "card" if thing == "card" else "A4")
            self.assertLess(max(float(np.hypot(*(photo.corners_px - corner).T).min()) for corner in found.corners), 5.0)
            self.assertLess(max(edge.sigma_px for edge in found.edges), 0.12)
        with self.assertRaisesRegex(CalibrationError, "No card was found"):
            find_rectangle(light_of(parts.latch_plate(), 900, 600, camera(8.0, (40, 520))), "card")


class FaintStrokes(unittest.TestCase):
    def test_pencil_on_shadowed_and_creased_paper(self):
        """Strokes 20 % darker than paper whose own light falls to a third, with a crease darker than they are; half a
        pixel is asked for."""
        random, (height, width) = np.random.default_rng(4), (800, 1100)
        down, across = np.mgrid[0:height, 0:width].astype(float)
        paper = 0.7 * (1 - 0.65 * across / width) * (1 + 0.1 * np.tanh((across + 0.3 * down - 700) / 3))
        lines = [
            np.array(pair, float)
            for pair in (((100, 120), (900, 160)), ((150, 650), (1000, 600)), ((180, 200), (160, 560)))
        ]
        away = np.min(
            [shapely.distance(shapely.LineString(line), shapely.points(across, down)) for line in lines], axis=0
        )
        light = paper * (1 - 0.2 * np.clip(2.2 - away, 0, 1)) * (1 + 0.012 * random.normal(0, 1, paper.shape))
        even, tones = faint_strokes(light.astype(np.float32))
        found = [stroke.points for stroke in centre_lines(even, tones, threshold=0.5, least_px=30.0)]
        true = shapely.MultiLineString([shapely.LineString(line) for line in lines])
        off = shapely.distance(true, shapely.points(np.vstack(found)))
        self.assertLess(float(np.median(off)), 0.5)
        self.assertLess(float(np.quantile(off, 0.95)), 2.0)
        places = shapely.points(
            np.vstack(
                [line[0] + share * (line[1] - line[0]) for line in lines for share in np.linspace(0.03, 0.97, 50)]
            )
        )
        seen = shapely.MultiPoint(np.vstack(found))
        self.assertGreater(float(np.mean(shapely.distance(seen, places) < 3)), 0.95)
        for blank in (np.full((300, 400), 0.5, np.float32), random.uniform(0.2, 0.8, (300, 400)).astype(np.float32)):
            with self.assertRaisesRegex(TraceError, "No thin strokes"):
                faint_strokes(blank)


class ByThemselves(unittest.TestCase):
    def test_drawn_pictures_are_known(self):
        picture = np.full((400, 500), 255, np.uint8)
        cv2.circle(picture, (250, 200), 120, 20, -1, cv2.LINE_AA)
        for kind, how in ((".png", []), (".jpg", [cv2.IMWRITE_JPEG_QUALITY, 70])):
            self.assertIs(looks_drawn(cv2.imencode(kind, picture, how)[1].tobytes()), True)
        for blurred in (
            unseen_parts.shoot(np.random.default_rng(5)).jpeg,
            cv2.imencode(".png", cv2.GaussianBlur(picture, (0, 0), 1.0))[1].tobytes(),
        ):
            self.assertIs(looks_drawn(blurred), False)

    def test_the_camera_that_a_file_notes(self):
        exif = Image.Exif()
        exif[0x010F], exif[0x0110] = "Fennel Lane", "Box 3"
        exif.get_ifd(0x8769)[0xA405] = 26
        stream = io.BytesIO()
        Image.new("L", (64, 48), 90).save(stream, "JPEG", exif=exif)
        info = inspect(stream.getvalue())
        self.assertEqual(info.camera, "Fennel Lane Box 3")
        self.assertAlmostEqual(info.focal, 26 / (math.hypot(36, 24) / 2))

    def test_the_tolerance_that_a_picture_allows(self):
        self.assertEqual(offered_tolerance(0.03, 0.05)[0], 0.1)
        self.assertEqual(offered_tolerance(0.05, 0.27), (0.315, "a pixel is that large here"))
        self.assertEqual(offered_tolerance(0.2, 0.1)[0], 0.2)

    def test_jaws(self):
        """Against the extent of the true outline, with its tips, as shapely has it."""
        shot = unseen_parts.shoot(np.random.default_rng(12))
        true = outline_points(shot.truth[0], 0.002)
        place = (
            shapely.Polygon(true, [outline_points(inner, 0.05) for inner in shot.truth[1:]])
            .representative_point()
            .coords[0]
        )
        contour = part_around(decode(shot.jpeg), place)
        for way, axis in (("level", 0), ("upright", 1)):
            self.assertAlmostEqual(between_jaws(contour, way).apart_px, np.ptp(true[:, axis]), delta=0.15)
        turned = scale_from([KnownLength("given", (0, 0), (100, 0), 100.0)], angle=0.3)
        for way, axis in (("level", 0), ("upright", 1)):
            self.assertAlmostEqual(
                between_jaws(contour, way_in_picture(way, 0.3)).apart_px,
                np.ptp(turned.to_mm(true)[:, axis]),
                delta=0.15,
            )
        self.assertEqual(way_in_picture("closest", 0.3), "closest")
        self.assertAlmostEqual(
            between_jaws(contour, square_to((10, 5), (90, 5))).apart_px, np.ptp(true[:, 1]), delta=0.15
        )
        narrow = shapely.minimum_rotated_rectangle(shapely.Polygon(true))
        sides = [math.dist(*pair) for pair in zip(narrow.exterior.coords[:2], narrow.exterior.coords[1:3])]
        self.assertLess(between_jaws(contour, "closest").apart_px, min(sides) + 0.3)
        with self.assertRaisesRegex(CalibrationError, "Jaws close level, upright, closest"):
            between_jaws(contour, "sideways")
        with self.assertRaisesRegex(CalibrationError, "No outline goes around"):
            part_around(decode(shot.jpeg), (2.0, 2.0))


class Departures(unittest.TestCase):
    def test_splines_of_several_pieces_count_as_a_whole(self):
        """Against shapely, on a spline of three pieces."""
        spline = Spline(
            [(0, 0), (10, 20), (20, 20), (30, 0), (40, -20), (50, -20), (60, 0), (70, 20), (80, 30), (95, 5)]
        )
        places = np.random.default_rng(3).uniform((0, -25), (95, 25), (60, 2))
        line = shapely.LineString(np.vstack([bezier(control, np.linspace(0, 1, 2000)) for control in spline.pieces()]))
        np.testing.assert_allclose(
            np.abs(signed_distance(places, spline)), shapely.distance(line, shapely.points(places)), atol=2e-3
        )
