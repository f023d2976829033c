"""Decoding, picking edges, and calibration against sizes known from outside."""

import io
import math
import struct
import unittest
import zlib

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from core.tests.specimens import camera, light_of
from examples.render import rounded_polygon
from examples.tilted import scale_from
from nomogon_core.errors import CalibrationError, InputError, PictureError
from nomogon_core.picture.decode import decode, inspect, linear_to_srgb, srgb_to_linear
from nomogon_core.picture.edges import pick_edge
from nomogon_core.reference.calibration import KnownLength

# ISO/IEC 7810 ID-1 (memory): 85.60 x 53.98 mm, corner radius 3.18 mm.
CARD = rounded_polygon([(0, 0), (85.60, 0), (85.60, 53.98), (0, 53.98)], [3.18] * 4)


def encoded(pixels, kind, **options):
    stream = io.BytesIO()
    Image.fromarray(pixels).save(stream, kind, **options)
    return stream.getvalue()


def png_claiming(width, height):
    """A PNG whose header claims a size; there are hardly any pixels behind it."""

    def chunk(name, data):
        return struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))

    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\0" * 1000)) + chunk(b"IEND", b"")
    )


class Decode(unittest.TestCase):
    grey = np.full((40, 60), 188, np.uint8)

    def test_all_formats_give_linear_light(self):
        # IEC 61966-2-1: the stored value 188/255 is about half the light.
        for kind in ("PNG", "JPEG", "WEBP", "TIFF"):
            light = decode(encoded(self.grey, kind))
            self.assertEqual(light.shape, (40, 60), kind)
            self.assertAlmostEqual(float(light.mean()), 0.503, delta=0.006, msg=kind)

    def test_colour_is_weighted_by_luminance(self):
        red = np.zeros((20, 20, 3), np.uint8)
        red[..., 0] = 255
        self.assertAlmostEqual(float(decode(encoded(red, "PNG")).mean()), 0.2126, places=4)

    def test_transparent_is_laid_on_white(self):
        clear = np.zeros((20, 20, 4), np.uint8)
        self.assertAlmostEqual(float(decode(encoded(clear, "PNG")).mean()), 1.0, places=5)

    def test_exif_orientation_is_honoured(self):
        exif = Image.Exif()
        exif[0x0112] = 6
        png = encoded(self.grey, "PNG", exif=exif)
        note = png.index(b"eXIf") - 4
        end, close = note + 12 + int.from_bytes(png[note : note + 4], "big"), len(png) - 12
        behind = png[:note] + png[end:close] + png[note:end] + png[close:]
        for data in (encoded(self.grey, "JPEG", exif=exif), png, behind):
            self.assertEqual((inspect(data).width, inspect(data).height), (40, 60))
            self.assertEqual(decode(data).shape, (60, 40))

    def test_resolution_metadata(self):
        self.assertAlmostEqual(inspect(encoded(self.grey, "PNG", dpi=(300, 600))).dpi[1], 600, delta=0.1)
        self.assertIsNone(inspect(encoded(self.grey, "PNG")).dpi)

    def test_bad_files_are_refused_in_words(self):
        whole = encoded(np.random.default_rng(1).integers(0, 255, (200, 300), np.uint8), "JPEG")
        png = encoded(self.grey, "PNG")
        for data, words in (
            (b"hello, this is text", "not PNG, JPEG, WebP, TIFF, BMP, GIF, HEIC or AVIF"),
            (b"", "empty"),
            (whole[: len(whole) // 2], "cut off"),
            (png[:-20], "cut off|damaged"),
            (png_claiming(20000, 10000), "200 megapixels"),
            (encoded(self.grey[:8], "PNG"), "at least 16"),
        ):
            with self.assertRaisesRegex(PictureError, words):
                decode(data, "picture.png")

    @given(st.floats(0, 1))
    def test_transfer_curve_and_its_inverse(self, value):
        self.assertAlmostEqual(float(linear_to_srgb(srgb_to_linear(value))), value, places=6)


class PickEdge(unittest.TestCase):
    def test_to_a_fraction_of_a_pixel(self):
        for angle in (0.0, 0.3, 1.2):
            view = camera(7.0, (500.3, 720.7), angle)
            light = light_of((CARD,), 1300, 1300, view, noise=0.008)
            for place in ((0.0, 20.0), (40.0, 0.0), (85.6, 30.0)):
                true = view.to_px([place])[0]
                pick = pick_edge(light, *(true + [2.3, -1.6]))
                self.assertTrue(pick.on_edge)
                across = abs(float(np.dot(np.subtract((pick.x, pick.y), true), pick.normal)))
                self.assertLess(across, 0.15)

    def test_far_from_any_edge_the_click_stays(self):
        pick = pick_edge(np.full((100, 100), 0.5, np.float32), 40.0, 50.0)
        self.assertEqual((pick.x, pick.y, pick.on_edge), (40.0, 50.0, False))

    def test_outside_the_picture(self):
        with self.assertRaisesRegex(InputError, "outside the picture of 100 × 80"):
            pick_edge(np.zeros((80, 100), np.float32), 120, 10)


class Similarity(unittest.TestCase):
    def test_a_bank_card_gives_its_other_side(self):
        view = camera(11.3, (60.2, 700.9))
        light = light_of((CARD,), 1100, 780, view, noise=0.01)
        picks = [pick_edge(light, *view.to_px([place])[0]) for place in ((0, 27), (85.6, 27), (40, 0), (40, 53.98))]
        places = [(pick.x, pick.y) for pick in picks]
        fit = scale_from([KnownLength("Card width", places[0], places[1], 85.60)])
        height = math.dist(*fit.to_mm(places[2:]))
        self.assertAlmostEqual(height, 53.98, delta=max(0.02, fit.distance(places[2], places[3])[1]))

    def test_scan_resolution(self):
        # A scan at N dpi has 25.4 / N mm a pixel, by definition.
        fit = scale_from([KnownLength("One inch", (0, 0), (300, 0), 25.4)])
        self.assertAlmostEqual(fit.mm_per_px, 25.4 / 300)

    def test_uncertainty_covers_repeated_picks(self):
        random, inside = np.random.default_rng(5), 0
        for _ in range(400):
            sigma = 0.3
            ends = np.array([[0, 0], [800, 0]]) + random.normal(0, sigma, (2, 2))
            fit = scale_from([KnownLength("a", ends[0], ends[1], 80 + random.normal(0, 0.01), sigma_px=sigma)])
            other = np.array([[100, 100], [100, 600]]) + random.normal(0, sigma, (2, 2))
            inside += abs(math.dist(*fit.to_mm(other)) - 50) <= fit.distance(*other, sigma)[1]
        self.assertGreater(inside / 400, 0.92)
        self.assertLess(inside / 400, 0.99)

    def test_the_length_that_disagrees_has_the_largest_residual(self):
        lengths = [
            KnownLength(name, (0, 0), (size * 10, 0), size + wrong)
            for name, size, wrong in (("a", 80, 0), ("b", 50, 0), ("c", 70, 1.5))
        ]
        fit = scale_from(lengths)
        self.assertEqual(max(fit.residuals, key=lambda item: abs(item.off_mm)).name, "c")
        self.assertGreater(fit.reduced_chi2, 10)

    @settings(max_examples=40)
    @given(st.floats(-3, 3), st.floats(-500, 500), st.floats(0.01, 2))
    def test_mapping_and_its_inverse(self, angle, shift, scale):
        fit = scale_from([KnownLength("a", (0, 0), (100, 0), 100 * scale)], origin_px=(shift, -shift), angle=angle)
        points = np.array([[0.0, 0.0], [123.0, -45.0]])
        np.testing.assert_allclose(fit.to_px(fit.to_mm(points)), points, atol=1e-6)
        a, b, c, d, e, f = fit.px_matrix()
        np.testing.assert_allclose(
            [[a * x + c * y + e, b * x + d * y + f] for x, y in points], fit.to_mm(points), atol=1e-6
        )

    def test_refusals(self):
        for known, words in (
            (KnownLength("Width", (0, 0), (100, 0), 0.0), "longer than zero"),
            (KnownLength("Width", (5, 5), (5, 5), 10.0), "same place"),
        ):
            with self.assertRaisesRegex(CalibrationError, words):
                scale_from([known])
        with self.assertRaisesRegex(CalibrationError, "without a known length"):
            scale_from([])


if __name__ == "__main__":
    unittest.main()
