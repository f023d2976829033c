"""Views of the solid: visible and hidden lines against their closed forms, curves that stay what they are."""

import math
import unittest
from unittest import mock
from xml.etree import ElementTree

import numpy as np

from core.tests.specimens import drawn, sheet_of
from core.tests.test_bar import bar
from core.tests.test_operations import block, built, step
from examples.render import hole, rounded_polygon
from nomogon_core.errors import OperationError
from nomogon_core.exchange import release
from nomogon_core.exchange.writers import drawing
from nomogon_core.geometry.curves import Arc, Circle, Line, Spline, bounds, ends, length
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph, planes, projection
from nomogon_core.solid.projection import projected


def lengths(curves):
    return sum(length(curve) for curve in curves)


class Views(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 36), (0, 36)], [6.0] * 4), hole(30, 18, 10))
        cls.rounded = step("op2", "fillet", edges={"body": "Plate", "rule": {"at": "top"}}, radius=2.0)
        cls.body = built(cls.sketch, block(cls.sketch, 14.0))["Plate"]

    def seen(self, frame, body=None):
        return projected([(body or self.body).shape], frame)

    def test_from_above_an_outline_and_its_hole_as_they_were_drawn(self):
        told = self.seen(planes.PLAN)
        kinds = sorted(type(curve).__name__ for curve in told.visible)
        self.assertEqual(kinds, ["Arc"] * 4 + ["Circle"] + ["Line"] * 4)
        self.assertAlmostEqual(lengths(told.visible), 2 * 48 + 2 * 24 + 2 * math.pi * (6 + 5), places=6)
        self.assertEqual((told.smooth, told.hidden), ((), ()))

    def test_from_the_front_a_bore_is_two_hidden_lines(self):
        told = self.seen(planes.FRONT)
        self.assertAlmostEqual(lengths(told.visible), 2 * (60 + 14), places=6)
        np.testing.assert_allclose([(one.start[0], one.end[0]) for one in told.smooth], [(6, 6), (54, 54)])
        across = sorted(round(one.start[0], 6) for one in told.hidden)
        self.assertEqual(across, [25, 35])
        self.assertAlmostEqual(lengths(told.hidden), 2 * 14, places=6)

    def test_a_silhouette_of_a_rounding_is_an_arc_and_its_seam_no_line(self):
        body = built(self.sketch, block(self.sketch, 14.0), self.rounded)["Plate"]
        told = self.seen(planes.FRONT, body)
        self.assertEqual(sum(isinstance(curve, Arc) and abs(curve.radius - 2) < 1e-4 for curve in told.visible), 2)
        self.assertFalse(any(isinstance(curve, Spline) for curve in told.all))
        above = self.seen(planes.PLAN, body)
        seams = [one for one in above.smooth if isinstance(one, Line) and abs(one.start[1] - 18) < 0.1]
        self.assertEqual(seams, [])

    def test_a_box_askew_shows_nine_edges_and_hides_three(self):
        """A convex body with three faces to the eye (any geometry text); each edge is as long as its run across the
        eye's direction."""
        box = built(sketch := drawn(rounded_polygon([(0, 0), (40, 0), (40, 20), (0, 20)], [0] * 4)), block(sketch))
        told = self.seen(release.ASKEW, box["Plate"])
        self.assertEqual((len(told.visible), len(told.smooth), len(told.hidden)), (9, 0, 3))
        foreshortened = math.sqrt(2 / 3)
        self.assertAlmostEqual(lengths(told.visible), 3 * (40 + 20 + 10) * foreshortened, places=6)
        self.assertAlmostEqual(lengths(told.hidden), (40 + 20 + 10) * foreshortened, places=6)

    def test_a_ring_seen_askew_is_an_ellipse_to_a_few_thousandths(self):
        told = self.seen(release.ASKEW)
        middle = np.array(release.ASKEW.of_space((30.0, 18.0, 14.0))[:2])
        rim = [one for one in told.visible if isinstance(one, Spline) and np.abs(one.points - middle).max() < 5.01]
        places = np.vstack([curve.points[::3] for curve in rim])
        # A circle of radius 5 seen under 35.26 degrees: half axes 5 and 5 / sqrt 3.
        off = places - middle
        np.testing.assert_allclose(off[:, 0] ** 2 / 25 + off[:, 1] ** 2 / (25 / 3), 1, atol=1e-6)

    def test_facets_show_what_the_exact_shape_shows(self):
        for frame in release.SHEET.values():
            exact = self.seen(frame, self.body)
            with mock.patch.object(projection, "MOST_FREE_PIECES", -1):
                faceted = self.seen(frame, self.body)
            for name in ("visible", "hidden"):
                wanted, told = (lengths(getattr(one, name)) for one in (exact, faceted))
                self.assertAlmostEqual(told, wanted, delta=0.004 * wanted + 0.02, msg=name)

    def test_seams_are_no_lines_of_facets_however_many_there_are(self):
        """A cap with a cone and a rounding on it has straight and round seams."""
        sketch = drawn(rounded_polygon([(0, 0), (20, 0), (20, 4), (6, 16), (0, 16)], [0, 0, 0, 3, 0]))
        spun = built(
            sketch,
            step(
                "op1",
                "revolve",
                regions={"sketch": "s1", "names": [find_regions(sketch)[0].name]},
                axis="y",
                extent="full",
                result="new",
                body="Plate",
            ),
        )["Plate"]
        with mock.patch.object(projection, "MOST_FREE_PIECES", -1):
            told = self.seen(release.SHEET["Plan"], spun)
        for line in told.smooth:
            self.assertAlmostEqual(line.start[1], line.end[1], msg="only where the rounding begins")
        low, high = np.array(bounds([*told.visible], 1e-3))
        np.testing.assert_allclose([*low, *high], (-20, 0, 20, 16), atol=0.06)

    def test_a_coil_from_its_end_is_a_ring(self):
        body = next(iter(bar(path="helix", about="x", reach=9.0, pitch=9.0, turns=4.0, diameter=3.0).bodies.values()))
        told = self.seen(release.SHEET["Side"], body)
        self.assertEqual(told.smooth, ())
        places = np.vstack([curve.points if isinstance(curve, Spline) else ends(curve) for curve in told.all])
        away = np.hypot(*places.T)
        self.assertLess(away.max(), 10.5 + 0.01)
        # The flat faces at its ends are seen at their true size, nearly.
        self.assertGreater(away.max(), 10.5 - 0.05)
        self.assertGreater(away.min(), 7.5 - 0.06)

    def test_the_views_lie_as_the_first_angle_method_has_them(self):
        views = release.views_of({"Plate": self.body}, release.SHEET)
        front, plan, side, askew = (np.array(view.bounds()) for view in views)
        self.assertEqual([view.name for view in views], ["Front", "Plan", "Side", "Askew"])
        self.assertLess(plan[1, 1], front[0, 1])
        np.testing.assert_allclose(plan[:, 0], front[:, 0], atol=1e-6)
        self.assertLess(side[1, 0], front[0, 0])
        np.testing.assert_allclose(side[:, 1], front[:, 1], atol=1e-6)
        self.assertTrue(askew[1, 1] < side[0, 1] and askew[1, 0] < plan[0, 0])

    def test_the_file_is_read_back_at_its_size(self):
        sheet = sheet_of(self.sketch, [block(self.sketch, 14.0)])
        root = ElementTree.fromstring(release.write_file("views", sheet, "Plate <1>").decode())
        views = release.views_of(graph.run(sheet).bodies, release.SHEET)
        corners = np.array([view.bounds() for view in views])
        wide = np.ptp(corners[:, :, 0]) + 2 * drawing.MARGIN_MM
        self.assertAlmostEqual(float(root.get("width").removesuffix("mm")), wide, places=3)
        self.assertEqual(root.find("{http://www.w3.org/2000/svg}title").text, "Plate <1>")
        one = release.write_file("view", sheet, "Plate", look=((1, 0, 0), (0, 0, 1))).decode()
        self.assertEqual(one.count('class="hidden"'), 2)
        # The outline of four lines is one path.
        self.assertEqual(one.count('class="visible"'), 1)
        with self.assertRaisesRegex(OperationError, "no direction"):
            release.write_file("view", sheet, "Plate", look=((1, 0, 0), (2, 0, 0)))

    def test_a_body_behind_another_is_hidden_by_it(self):
        front = built(
            near := drawn(rounded_polygon([(0, -10), (40, -10), (40, -5), (0, -5)], [0] * 4)), block(near, 30.0)
        )
        back = built(far := drawn(hole(20, 18, 10)), block(far, 14.0))
        told = projected([front["Plate"].shape, back["Plate"].shape], planes.FRONT)
        self.assertAlmostEqual(lengths(told.visible), 2 * (40 + 30), places=6)
        (left, low), (right, high) = bounds(told.hidden)
        np.testing.assert_allclose((left, low, right, high), (15, 0, 25, 14), atol=1e-6)
        self.assertFalse(any(isinstance(curve, Circle) for curve in told.all))


if __name__ == "__main__":
    unittest.main()
