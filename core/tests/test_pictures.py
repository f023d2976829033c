"""Formats, clean-up steps and the quality of pictures."""

import io
import unittest

import cv2
import numpy as np
from PIL import Image, ImageCms

from core.tests.specimens import SVG_DISC, camera, dxf_rectangle, light_of, pdf_rectangle
from examples import parts
from nomogon_core.errors import PictureError
from nomogon_core.exchange.readers import vector
from nomogon_core.picture.cleanup import Scale, clean
from nomogon_core.picture.decode import colours, decode, inspect
from nomogon_core.picture.edges import pick_edge
from nomogon_core.picture.quality import assess

HALF = 188  # the sRGB value of half the light, IEC 61966-2-1


def in_proportion(profile):
    """An sRGB profile with its tone curve replaced by Y = X and another name (ICC.1, parametric curve type 3: g, a, b,
    c, d)."""
    at = profile.index(b"para") + 12
    numbers = b"".join(int(value * 65536).to_bytes(4, "big") for value in (1, 1, 0, 1, 0))
    return (profile[:at] + numbers + profile[at + 20 :]).replace("sRGB".encode("utf-16-be"), "LRGB".encode("utf-16-be"))


class Formats(unittest.TestCase):
    grey = np.full((40, 60, 3), HALF, np.uint8)

    def encoded(self, kind, **options):
        stream = io.BytesIO()
        Image.fromarray(self.grey).save(stream, kind, **options)
        return stream.getvalue()

    def test_every_format_gives_the_same_light(self):
        for kind in ("PNG", "JPEG", "WEBP", "TIFF", "BMP", "GIF", "HEIF", "AVIF"):
            light = decode(self.encoded(kind))
            self.assertEqual(light.shape, (40, 60), kind)
            self.assertAlmostEqual(float(light.mean()), 0.503, delta=0.008, msg=kind)

    def test_sixteen_bits_keep_what_eight_would_lose(self):
        deep = np.full((40, 60, 3), 30000, np.uint16)
        deep[:, 30:] += 60
        for ending in (".png", ".tif"):
            light = decode(cv2.imencode(ending, deep)[1].tobytes())
            step = float(light[:, 40:].mean() - light[:, :20].mean())
            self.assertGreater(step, 0.0003, ending)

    def test_a_colour_profile_is_taken_out(self):
        """In a profile whose values are light itself, half the value is half the light."""
        plain = decode(self.encoded("PNG"))
        self.assertAlmostEqual(float(plain.mean()), 0.503, delta=0.005)
        srgb = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
        np.testing.assert_allclose(decode(self.encoded("PNG", icc_profile=srgb)), plain, atol=1e-6)
        np.testing.assert_allclose(decode(self.encoded("PNG", icc_profile=b"damaged")), plain, atol=1e-6)
        linear = decode(self.encoded("PNG", icc_profile=in_proportion(srgb)))
        self.assertAlmostEqual(float(linear.mean()), HALF / 255, delta=0.005)

    def test_colours_are_linear_and_in_order(self):
        self.grey = np.zeros((40, 60, 3), np.uint8)
        self.grey[..., 0] = HALF
        red, green, blue = colours(self.encoded("PNG")).reshape(-1, 3).mean(axis=0)
        self.assertAlmostEqual(red, 0.503, delta=0.005)
        self.assertEqual((green, blue), (0, 0))


class Drawings(unittest.TestCase):
    """Drawings have exact sizes, so their rendered areas are known."""

    def dark_mm2(self, data, name, dpi):
        light = decode(vector.render(data, name, dpi).png, drawn=True)
        return float((1 - light).sum()) / (dpi / 25.4) ** 2

    def test_svg_in_its_own_units(self):
        for dpi in (150, 600):
            self.assertAlmostEqual(self.dark_mm2(SVG_DISC, "a.svg", dpi), np.pi * 100, delta=0.4)
        self.assertEqual(inspect(vector.render(SVG_DISC, "a.svg", 254).png).width, 500)

    def test_the_size_that_an_svg_says(self):
        """CSS Values 3: 1 in is 96 px, 2.54 cm, 25.4 mm, 101.6 Q, 72 pt, 6 pc; per cent are of the viewBox."""
        for across in ("1in", "96px", "96", "2.54cm", "25.4mm", "101.6Q", "72pt", "6pc", "100%", None):
            said = f'width="{across}" height="{across}"' if across else ""
            drawing = f'<svg xmlns="http://www.w3.org/2000/svg" {said} viewBox="0 0 96 96"><path d="M0 0h9v9z"/></svg>'
            self.assertEqual(inspect(vector.render(drawing.encode(), "a.svg", 200).png).width, 200, across)

    def test_dxf_in_inches(self):
        self.assertAlmostEqual(self.dark_mm2(dxf_rectangle(), "a.dxf", 300), 2 * 25.4**2, delta=8)

    def test_a_page_of_a_pdf(self):
        self.assertAlmostEqual(self.dark_mm2(pdf_rectangle(), "a.pdf", 300), 25.4 * 12.7, delta=1.5)
        with self.assertRaisesRegex(PictureError, "has 1 page; page 2"):
            vector.render(pdf_rectangle(), "a.pdf", 300, page=2)

    def test_too_large_a_drawing_says_what_fits(self):
        with self.assertRaisesRegex(PictureError, r"Choose \d+ dpi or less"):
            vector.render(
                b'<svg xmlns="http://www.w3.org/2000/svg" width="900mm" height="900mm"><path d="M0 0h9v9z"/></svg>',
                "a.svg",
                600,
            )
        with self.assertRaisesRegex(PictureError, "between 30 and 2400"):
            vector.render(b"<svg/>", "a.svg", 5)


class CleanUp(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.view = camera(10.0, (100.0, 560.0))
        cls.light = light_of(parts.latch_plate(), 1040, 660, cls.view)
        cls.scale = Scale(1.0, 0.1)

    def at(self, light, place):
        x, y = self.view.to_px([place])[0]
        return float(light[int(round(y)), int(round(x))])

    def cleaned(self, light, **step):
        before = light.copy()
        result = clean(light, [step], self.scale)
        np.testing.assert_array_equal(light, before)
        return result

    def assert_edges_stay(self, light):
        for place in ((0, 20), (25, 46), (84, 16), (30, 0)):
            x, y = self.view.to_px([place])[0]
            was, now = pick_edge(self.light, x, y), pick_edge(light, x, y)
            self.assertLess(np.hypot(was.x - now.x, was.y - now.y), 0.03, place)

    def test_specks_go_and_edges_stay(self):
        dirty = self.light.copy()
        for x, y in ((40, 40), (980, 600), (900, 60)):
            cv2.circle(dirty, (x, y), 5, 0.05, -1)
        result = self.cleaned(dirty, kind="specks", area_mm2=2.0)
        for x, y in ((40, 40), (980, 600), (900, 60)):
            self.assertAlmostEqual(float(result[y, x]), float(self.light[y, x]), delta=0.06)
        self.assert_edges_stay(result)
        self.assertLess(self.at(self.cleaned(dirty, kind="specks", area_mm2=0.1), (-6, 52)), 0.2)

    def test_holes_and_cracks_are_filled(self):
        result = self.cleaned(self.light, kind="holes", area_mm2=30.0, crack_mm=0.0)
        self.assertLess(self.at(result, (12, 34)), 0.25)
        self.assertGreater(self.at(result, (20, 13)), 0.4)
        cracked = self.light.copy()
        (x0, y0), (x1, y1) = self.view.to_px([(2, 25), (40, 28)])
        cv2.line(cracked, (int(x0), int(y0)), (int(x1), int(y1)), 0.6, 3)
        mended = self.cleaned(cracked, kind="holes", area_mm2=0.0, crack_mm=0.8)
        self.assertGreater(self.at(cracked, (20, 26.4)), 0.4)
        self.assertLess(self.at(mended, (20, 26.4)), 0.25)

    def test_the_background_goes_and_the_part_stays(self):
        texture = light_of(parts.latch_plate(), 1040, 660, self.view, light=0.0) * (
            1 + 0.1 * np.sin(np.arange(1040) / 9)
        ).astype(np.float32)
        result = self.cleaned(texture, kind="background", margin_mm=2.0)
        far = result[20:60, 20:1000]
        self.assertLess(float(far.std()), 0.4 * float(texture[20:60, 20:1000].std()))
        self.assertAlmostEqual(self.at(result, (6, 20)), self.at(texture, (6, 20)), places=5)

    def test_even_light(self):
        fall = self.light * np.linspace(1.0, 0.45, 1040).astype(np.float32)
        result = self.cleaned(fall, kind="even", reach_percent=30)
        left, right = float(result[600:640, 20:60].mean()), float(result[600:640, 980:1020].mean())
        self.assertAlmostEqual(left / right, 1.0, delta=0.04)
        self.assertLess(float(fall[600:640, 980:1020].mean()) / float(fall[600:640, 20:60].mean()), 0.6)

    def test_crop_paint_and_erase(self):
        box = [*self.view.to_px([(-2, 48)])[0], *self.view.to_px([(40, -2)])[0]]
        result = self.cleaned(self.light, kind="crop", box=box)
        self.assertGreater(self.at(result, (70, 24)), 0.4)
        self.assertLess(self.at(result, (20, 30)), 0.25)
        x, y = self.view.to_px([(12, 34)])[0]
        painted = self.cleaned(self.light, kind="paint", strokes=[{"points": [[x, y]], "radius": 40, "tone": "part"}])
        self.assertLess(self.at(painted, (12, 34)), 0.25)
        erased = self.cleaned(
            self.light, kind="paint", strokes=[{"points": [[x, y], [x + 200, y]], "radius": 60, "tone": "ground"}]
        )
        self.assertGreater(self.at(erased, (20, 34)), 0.4)

    def test_a_step_can_be_switched_off_and_needs_a_scale(self):
        np.testing.assert_array_equal(
            clean(self.light, [{"kind": "even", "on": False, "reach_percent": 30}]), self.light
        )
        np.testing.assert_array_equal(
            clean(self.light, [{"kind": "specks", "area_mm2": 5}], Scale(1.0, None)), self.light
        )

    def test_a_reduced_copy_looks_the_same(self):
        step = {"kind": "holes", "area_mm2": 30.0, "crack_mm": 0.0}
        small = cv2.resize(self.light, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
        full = cv2.resize(clean(self.light, [step], self.scale), None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
        self.assertLess(float(np.abs(clean(small, [step], Scale(2.0, 0.1)) - full).mean()), 0.004)

    def test_nonsense_is_refused_in_words(self):
        for step, words in (
            ({"kind": "melt"}, "no clean-up step"),
            ({"kind": "even", "reach_percent": 900}, "between 2 and 60"),
            ({"kind": "even"}, "number is missing"),
            ({"kind": "crop", "box": [0, 0, 3, 3]}, "at least 16 pixels"),
            ({"kind": "paint", "strokes": [{"points": "x", "tone": "part", "radius": 3}]}, "stroke"),
            ({"kind": "crop", "box": [5000, 0, 6000, 400]}, "outside the picture"),
        ):
            with self.assertRaisesRegex(PictureError, words):
                clean(self.light, [step], self.scale)


class Quality(unittest.TestCase):
    def told(self, light, name, fit=None):
        return next(measure for measure in assess(light, fit) if measure.name.startswith(name))

    def picture(self, **how):
        return light_of(parts.latch_plate(), 1260, 800, camera(12.0, (120.0, 680.0)), **how)

    def test_a_good_picture_has_no_remedies(self):
        measures = assess(self.picture())
        self.assertEqual({measure.state for measure in measures} - {"good", "unknown", "fair"}, set())

    def test_each_fault_is_told(self):
        dark_corner = self.picture() * np.clip(np.linspace(1.0, 0.12, 1260), 0, 1).astype(np.float32)
        shifted = light_of(parts.latch_plate(), 1000, 800, camera(12.0, (-200.0, 680.0)))
        for light, name, remedy in (
            (self.picture(blur_px=4.5), "Sharpness", "focus"),
            (self.picture(ground=0.3, part=0.24), "Contrast", "lighter or darker"),
            (dark_corner, "Evenness", "two sides"),
            (shifted, "Outlines at the border", "ground all around"),
        ):
            measure = self.told(light, name)
            self.assertEqual(measure.state, "poor", name)
            self.assertIn(remedy, measure.remedy)
        self.assertEqual(assess(np.random.default_rng(1).random((300, 300)).astype(np.float32))[0].state, "poor")

    def test_the_edge_width_grows_with_blur(self):
        widths = [float(self.told(self.picture(blur_px=blur), "Sharpness").shown) for blur in (0.6, 1.5, 3.0)]
        self.assertEqual(widths, sorted(widths))
        # 10 to 90 % of a Gaussian edge is 2.56 standard deviations wide.
        self.assertAlmostEqual(widths[2], 2.56 * 3.0, delta=0.9)
