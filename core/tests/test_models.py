"""Calibration models on a pinhole camera with known truth."""

import math
import unittest

import numpy as np

from examples.tilted import Pinhole
from nomogon_core.errors import CalibrationError
from nomogon_core.reference.calibration import COVERAGE_FACTOR, MODELS, KnownLength
from nomogon_core.reference.models import Rectangle, choose_model, fit_plane

SIZE = (4000, 3000)
# ISO/IEC 7810 ID-1 (memory) and ISO 216.
CARD, A4 = (85.60, 53.98), (297.0, 210.0)
PAIRS = (
    ((10, 10), (100, 12)),
    ((20, 80), (22, 140)),
    ((10, 10), (110, 150)),
    ((90, 20), (15, 130)),
    ((100, 12), (105, 140)),
    ((12, 75), (108, 78)),
    ((30, 20), (90, 140)),
    ((15, 100), (100, 60)),
)


def camera_at(tilt=0.0, **how):
    return Pinhole(SIZE, tilt=tilt, **how)


def rectangle(camera, name, size, at, random, sigma):
    x, y = at
    corners = camera.to_px([(x, y + size[1]), (x + size[0], y + size[1]), (x + size[0], y), (x, y)])
    return Rectangle(
        name, (corners + random.normal(0, sigma, (4, 2))).tolist(), *size, sigma_px=max(sigma, 0.02), u95_mm=0.01
    )


def known(camera, random, sigma, pairs=PAIRS):
    return [
        KnownLength(
            f"L{index}",
            *map(tuple, camera.to_px(pair) + random.normal(0, sigma, (2, 2))),
            math.dist(*pair) + random.normal(0, 0.01),
            sigma_px=sigma,
        )
        for index, pair in enumerate(pairs)
    ]


class Exact(unittest.TestCase):
    """Without noise each model reproduces what it describes."""

    random = np.random.default_rng(3)

    def worst(self, fit, camera):
        return max(abs(fit.distance(*camera.to_px(pair))[0] - math.dist(*pair)) for pair in PAIRS)

    def test_a_card_takes_perspective_out(self):
        for tilt in (0.0, 8.0, 25.0):
            camera = camera_at(tilt)
            fit = fit_plane("perspective", SIZE, rectangles=[rectangle(camera, "Card", CARD, (5, 5), self.random, 0.0)])
            self.assertLess(self.worst(fit, camera), 1e-5, tilt)

    def test_lengths_alone_take_perspective_out(self):
        camera = camera_at(20.0)
        exact = [KnownLength("a", *map(tuple, camera.to_px(pair)), math.dist(*pair), sigma_px=0.05) for pair in PAIRS]
        self.assertLess(self.worst(fit_plane("perspective", SIZE, lengths=exact), camera), 1e-5)

    def test_x_and_y_scale(self):
        camera = camera_at(0.0, turn=0.0, squash=1.013)
        exact = [KnownLength("a", *map(tuple, camera.to_px(pair)), math.dist(*pair)) for pair in PAIRS[:2]]
        self.assertLess(self.worst(fit_plane("x and y scale", SIZE, lengths=exact), camera), 1e-6)

    def test_straight_edges_take_lens_bending_out(self):
        camera = camera_at(12.0, bend=0.05)
        card = rectangle(camera, "Sheet", A4, (-60, -20), self.random, 0.0)
        lines = [camera.to_px(np.column_stack([np.linspace(-60, 200, 30), np.full(30, y)])) for y in (0.0, 60.0, 160.0)]
        bent = fit_plane("perspective", SIZE, rectangles=[card], bend=False)
        straightened = fit_plane("perspective", SIZE, rectangles=[card], straights=lines)
        self.assertLess(self.worst(straightened, camera), 0.005)
        self.assertGreater(self.worst(bent, camera), 10 * self.worst(straightened, camera))
        self.assertAlmostEqual(straightened.parameters[-1], 0.05, delta=0.003)

    def test_similarity_agrees_with_the_closed_form(self):
        camera = camera_at(0.0)
        lengths = known(camera, self.random, 0.1)
        fit = fit_plane("similarity", SIZE, lengths=lengths)
        base = np.array([item.base_px for item in lengths])
        target = np.array([item.length_mm for item in lengths])
        picks = np.array([item.sigma_px for item in lengths])
        gauges = np.array([item.gauge_u95_mm / COVERAGE_FACTOR for item in lengths])
        # Weighted least squares of L = s l with variance u_L² + 2 s²σ², widened where they disagree (Birge 1932).
        scale = float(target @ base / (base @ base))
        for _ in range(4):
            weight = 1 / (gauges**2 + 2 * (scale * picks) ** 2)
            scale = float((weight * base) @ target / ((weight * base) @ base))
        reduced = float(weight @ (scale * base - target) ** 2) / (len(lengths) - 1)
        self.assertAlmostEqual(fit.mm_per_px, scale, delta=1e-7)
        uncertain = math.sqrt(max(1.0, reduced) / float((weight * base) @ base))
        self.assertAlmostEqual(fit.u_mm_per_px, uncertain, delta=0.02 * uncertain)


class Uncertainty(unittest.TestCase):
    def coverage(self, model, camera, observe):
        random, inside, count = np.random.default_rng(11), 0, 0
        for _ in range(60):
            lengths, rectangles = observe(camera, random)
            fit = fit_plane(model, SIZE, lengths=lengths, rectangles=rectangles)
            for pair in (((25, 30), (95, 110)), ((40, 120), (80, 40)), ((20, 60), (100, 64))):
                read, u95 = fit.distance(*(camera.to_px(pair) + random.normal(0, 0.3, (2, 2))), 0.3)
                inside += abs(read - math.dist(*pair)) <= u95
                count += 1
        return inside / count

    def test_true_values_lie_inside_the_stated_interval(self):
        sigma = 0.3
        cases = {
            "similarity": (camera_at(0.0), lambda camera, random: (known(camera, random, sigma, PAIRS[:3]), [])),
            "x and y scale": (
                camera_at(0.0, turn=0.0, squash=1.01),
                lambda camera, random: (known(camera, random, sigma, PAIRS[:4]), []),
            ),
            "affine": (
                camera_at(0.0, turn=0.2, squash=1.02),
                lambda camera, random: (known(camera, random, sigma, PAIRS[:6]), []),
            ),
            "perspective": (
                camera_at(18.0),
                lambda camera, random: ([], [rectangle(camera, "Card", CARD, (15, 40), random, sigma)]),
            ),
        }
        for model, (camera, observe) in cases.items():
            share = self.coverage(model, camera, observe)
            self.assertGreater(share, 0.90, model)
            self.assertLess(share, 1.0, model)


class Choice(unittest.TestCase):
    def test_the_smallest_model_within_noise_is_chosen_and_says_why(self):
        for camera, expected in (
            (camera_at(0.0), "similarity"),
            (camera_at(0.0, turn=0.0, squash=1.02), "x and y scale"),
            (camera_at(20.0), "perspective"),
        ):
            fit = choose_model(SIZE, lengths=known(camera, np.random.default_rng(2), 0.2))
            self.assertEqual(fit.model, expected)
            self.assertIn(f"The {expected} model fits all known sizes within their noise", fit.why)

    def test_a_wrong_length_shows_in_the_residuals(self):
        lengths = known(camera_at(0.0), np.random.default_rng(2), 0.2)
        lengths[3] = KnownLength("Wrong", lengths[3].start, lengths[3].end, lengths[3].length_mm + 2.0, sigma_px=0.2)
        fit = choose_model(SIZE, lengths=lengths)
        self.assertEqual(fit.doubt.name, "Wrong")
        self.assertAlmostEqual(fit.doubt.off_mm, 2.0, delta=3 * fit.doubt.u95_mm)
        self.assertIn("but Wrong, which disagrees by", fit.why)
        self.assertEqual(
            max(fit_plane("similarity", SIZE, lengths=lengths).residuals, key=lambda item: abs(item.off_mm)).name,
            "Wrong",
        )

    def test_refusals(self):
        camera, random = camera_at(0.0), np.random.default_rng(2)
        card = rectangle(camera, "Card", CARD, (5, 5), random, 0.1)
        crossed = Rectangle("Card", [card.corners[index] for index in (0, 2, 1, 3)], *CARD)
        backwards = Rectangle("Card", card.corners[::-1], *CARD)
        for how, words in (
            ({"rectangles": [crossed]}, "do not go around"),
            ({"rectangles": [backwards]}, "counter-clockwise"),
            ({}, "no scale"),
            ({"lengths": known(camera, random, 0.1, PAIRS[:2])}, "needs 5 known lengths"),
            ({"rectangles": [card], "straights": [[(0, 0), (1, 1)]]}, "at least three places"),
        ):
            with self.assertRaisesRegex(CalibrationError, words):
                fit_plane("perspective", SIZE, **how)
        self.assertEqual(list(MODELS.values()), [1, 2, 3, 5])


if __name__ == "__main__":
    unittest.main()
