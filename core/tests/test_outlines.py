"""Vector drawings as curves, against pictures of the same files by an independent renderer and against closed forms."""

import io
import math
import re
import unittest

import ezdxf
import numpy as np
import resvg_py
import shapely
from PIL import Image
from scipy.spatial import KDTree

from nomogon_core.errors import InputError, PictureError, SketchError
from nomogon_core.exchange.readers.curves import read_outlines
from nomogon_core.geometry.curves import (
    Arc,
    Circle,
    Ellipse,
    EllipticArc,
    Line,
    closed_area,
    length,
    outline_points,
)
from nomogon_core.job.commands import carry_out
from nomogon_core.job.commands.edits import how_it_lies
from nomogon_core.job.document import new_document, sketch_of
from nomogon_core.job.library import Library
from nomogon_core.job.outlines import outline_bytes, outlines_in
from nomogon_core.sketch.edits.drawing import farthest_across, own_points
from nomogon_core.sketch.regions import find_regions

PX_A_MM = 40
HEAD = '<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" '
# What the standard offers, each filled with one colour by the even-odd rule: shapes, transforms, groups, units, paths.
DRAWINGS = {
    "rect": '<rect x="3" y="4" width="20" height="9"/>',
    "round rect": '<rect x="3" y="4" width="20" height="12" rx="4"/>',
    "oval corners": '<rect x="3" y="4" width="20" height="12" rx="6" ry="3"/>',
    "circle": '<circle cx="14" cy="15" r="9"/>',
    "ellipse": '<ellipse cx="15" cy="15" rx="12" ry="5"/>',
    "polygon": '<polygon points="4,4 26,6 20,25 8,18"/>',
    "cubic": '<path d="M4 15C4 2 26 2 26 15S4 28 4 15Z"/>',
    "quadratic": '<path d="M4 15Q15 -6 26 15T4 15Z"/>',
    "arcs": '<path d="M6 15A9 9 0 0 1 24 15A9 4 0 0 1 6 15Z"/>',
    "large arc": '<path d="M10 10A8 8 0 1 1 10 20Z"/>',
    "turned arc": '<path d="M6 12A11 5 30 0 1 24 18L15 28Z"/>',
    "relative": '<path d="m5 5h18v9h-6l-4 8-3-8h-5z"/>',
    "hole": '<path fill-rule="evenodd" d="M3 3H27V27H3ZM10 10H20V20H10Z"/>',
    "two in one": '<path d="M3 3H12V12H3ZM15 15H27V27H15Z"/>',
    "turned": '<rect x="8" y="8" width="14" height="8" transform="rotate(25 15 15)"/>',
    "scaled": '<circle cx="4" cy="5" r="2.4" transform="translate(3 2) scale(3 2)"/>',
    "skewed": '<rect x="4" y="8" width="12" height="12" transform="skewX(20)"/>',
    "skewed circle": '<circle cx="10" cy="14" r="6" transform="skewX(25)"/>',
    "mirrored": '<path d="M4 4H20L12 22Z" transform="matrix(-1 0 0 1 28 0)"/>',
    "matrix": '<ellipse cx="12" cy="12" rx="7" ry="4" transform="matrix(.9 .3 -.2 1.1 3 -1)"/>',
    "groups": '<g transform="translate(2 3)"><g transform="scale(1.4)"><circle cx="8" cy="8" r="5"/></g></g>',
    "use": '<defs><path id="a" d="M0 0H8V8Z"/></defs><use xlink:href="#a" x="4" y="5"/><use href="#a" x="16" y="14"/>',
    "symbol": '<symbol id="s"><path d="M0 0H9V9Z"/></symbol><use href="#s" x="9" y="5"/><circle cx="6" cy="20" r="3"/>',
    "marker": '<marker id="m"><path d="M0 0L2 1L0 2Z"/></marker><path d="M3 3H20V20Z"/>',
    "unseen": '<rect x="3" y="3" width="9" height="9"/><path fill="none" d="M14 14H23V23Z"/>',
    "classes": '<style>.a{fill:none;stroke:none}</style><path d="M4 4H20V9H4Z"/><path class="a" d="M1 1H9V9Z"/>',
    "hidden": '<rect x="3" y="3" width="9" height="9"/><rect x="14" y="14" width="9" height="9" display="none"/>',
    "style": '<path style="fill:#804020;stroke:none" d="M5 5H25L15 24Z"/>',
    "exponents": '<path d="M.5e1,5 2.5e1 5 15,2.4e1z"/>',
    "tight arcs": '<path d="M6 15a9 9 0 0118 0 9 4 0 01-18 0z"/>',
    "spirals": '<path d="M15 15C18 12 22 16 18 20S8 22 8 14 16 4 22 8L15 15Z"/>',
    "polyline": '<polyline points="4,4 26,4 26,20 15,26 4,20 4,4"/>',
    "many": "".join(f'<circle cx="{4 + 4 * (k % 6)}" cy="{4 + 4 * (k // 6)}" r="1.6"/>' for k in range(36)),
    "units": '<rect x="2mm" y="3mm" width="1cm" height="12pt"/>',
}
# Whole pixels, since the renderer rounds its picture: an inch is 96 of them (CSS Values and Units 3).
SIZES = (
    'width="1in" height="1in" viewBox="0 0 30 30"',
    'width="2in" height="2in" viewBox="0 0 30 30"',
    'width="1.5in" height="1in" viewBox="0 0 30 30"',
    'width="96" height="96" viewBox="0 0 30 30"',
)
UNIT = 25.4 / 30
PLAIN = 'width="2in" height="2in"'


def svg(body, size=SIZES[0]):
    return f"{HEAD}{size}>{body}</svg>".encode()


def seen(data):
    """(how much of each pixel an independent renderer fills, pixels a millimetre)."""
    number, unit = re.search(r'width="([\d.]+)(in)?"', data.decode()).groups()
    wide = float(number) * 25.4 / (1 if unit else 96)
    png = resvg_py.svg_to_bytes(svg_string=data.decode(), dpi=96, width=round(wide * PX_A_MM))
    alpha = np.asarray(Image.open(io.BytesIO(bytes(png))).convert("RGBA"))[..., 3] / 255
    return alpha, alpha.shape[1] / wide


def filled(told):
    """Area in square millimetres inside the outlines by the even-odd rule (shapely, a general-purpose library)."""
    whole = shapely.Polygon()
    for run in (run for runs in told.groups.values() for run in runs):
        whole = whole.symmetric_difference(shapely.Polygon(outline_points(tuple(run), 1e-4)).buffer(0))
    return whole.area


class Svg(unittest.TestCase):
    def test_is_as_large_and_as_full_as_another_program_draws_it(self):
        """resvg (a general-purpose renderer) fills the same share: size to a pixel at each side."""
        for name, body in DRAWINGS.items():
            for size in SIZES if name in ("circle", "turned arc") else [PLAIN] if name == "units" else SIZES[:1]:
                with self.subTest(name=name, size=size):
                    data = svg(body, size)
                    told = read_outlines(data, "logo.svg")
                    alpha, px_a_mm = seen(data)
                    rows, columns = np.nonzero(alpha > 0.5)
                    box = np.ptp(columns) + 1, np.ptp(rows) + 1
                    np.testing.assert_allclose(np.array(told.size) * px_a_mm, box, atol=2.1)
                    self.assertAlmostEqual(filled(told) * px_a_mm**2 / alpha.sum(), 1, delta=0.002)
                    self.assertEqual(told.left_out, ())

    def test_what_is_round_stays_round(self):
        (run,) = read_outlines(svg(DRAWINGS["circle"]), "a.svg").groups["#000000"]
        self.assertEqual([type(curve) for curve in run], [Circle])
        self.assertAlmostEqual(run[0].radius, 9 * UNIT, places=9)
        (run,) = read_outlines(svg(DRAWINGS["round rect"]), "a.svg").groups["#000000"]
        self.assertEqual(sorted(type(curve).__name__ for curve in run), ["Arc"] * 4 + ["Line"] * 4)
        self.assertAlmostEqual(abs(closed_area(tuple(run))), (20 * 12 - (4 - math.pi) * 16) * UNIT**2, places=6)
        (run,) = read_outlines(svg(DRAWINGS["mirrored"]), "a.svg").groups["#000000"]
        self.assertEqual({type(curve) for curve in run}, {Line})

    def test_colours_are_groups_and_what_is_no_curve_is_told(self):
        body = (
            '<rect x="1" y="1" width="8" height="8" fill="#c03020"/><circle cx="20" cy="20" r="4" fill="#c03020"/>'
            '<path d="M1 25H9" fill="none" stroke="#2040c0"/><text x="3" y="20">A</text>'
        )
        told = read_outlines(svg(body), "a.svg")
        self.assertEqual({name: len(runs) for name, runs in told.groups.items()}, {"#c03020": 2, "#2040c0": 1})
        self.assertEqual(told.left_out, ("1 text",))
        clipped = (
            '<clipPath id="c"><rect width="9" height="9"/></clipPath><circle cx="9" cy="9" r="6" clip-path="url(#c)"/>'
        )
        told = read_outlines(svg(clipped), "a.svg")
        self.assertEqual((told.left_out, told.count), (("1 clipping",), 1))
        masked = '<mask id="m"><rect width="9" height="9"/></mask><circle cx="9" cy="9" r="6" mask="url(#m)"/>'
        self.assertEqual(read_outlines(svg(masked), "a.svg").count, 1)

    def test_bad_files_say_what_is_wrong(self):
        for data, name, why in (
            (b"<svg", "a.svg", "cannot be read as SVG"),
            (svg(""), "a.svg", "holds no curves"),
            (svg('<text x="1" y="9">A</text>'), "a.svg", "1 text was passed over"),
            (svg('<image href="http://elsewhere/a.png" width="9" height="9"/>'), "a.svg", "points to other files"),
            (svg(DRAWINGS["circle"]), "a.png", "SVG or DXF was expected"),
            (b"0\nSECTION\n", "a.dxf", "DXF|no curves"),
            (svg("".join(f'<circle cx="{k}" cy="1" r="1"/>' for k in range(5001))), "a.svg", "holds 5,001 curves"),
            (svg("<g>" * 300 + "</g>" * 300), "a.svg", "nests its groups"),
        ):
            with self.subTest(name=name, why=why), self.assertRaisesRegex(PictureError, why):
                read_outlines(data, name)


def dxf(draw, units=4):
    document = ezdxf.new("R2010", units=units)
    draw(document)
    stream = io.StringIO()
    document.write(stream)
    return stream.getvalue().encode()


class Dxf(unittest.TestCase):
    def curves(self, draw, units=4):
        told = read_outlines(dxf(draw, units), "part.dxf")
        return told, [curve for runs in told.groups.values() for run in runs for curve in run]

    def test_plain_entities_stay_what_they_are(self):
        def draw(document):
            space = document.modelspace()
            space.add_line((0, 0), (10, 0))
            space.add_circle((20, 5), 4)
            space.add_arc((0, 20), 5, 30, 200)
            space.add_ellipse((30, 20), (6, 0), 0.5)
            space.add_ellipse((30, 40), (0, 6), 0.5, 0, math.pi)

        _, curves = self.curves(draw)
        kinds = [type(curve) for curve in curves]
        self.assertEqual(kinds, [Line, Circle, Arc, Ellipse, EllipticArc])
        self.assertAlmostEqual(length(curves[2]), 5 * math.radians(170), places=9)
        # Half the circumference of an ellipse 6 x 3 by Ramanujan's second formula (1914), good to 1e-6 here.
        h = ((6 - 3) / (6 + 3)) ** 2
        whole = math.pi * 9 * (1 + 3 * h / (10 + math.sqrt(4 - 3 * h)))
        self.assertAlmostEqual(length(curves[4]) / (whole / 2), 1, places=6)

    def test_a_polyline_with_bulges_is_a_slot(self):
        """A bulge of 1 is half a turn (DXF reference, LWPOLYLINE): two lines of 20 and two half circles of radius 5."""

        def draw(document):
            places = [(0, 0, 0, 0, 0), (20, 0, 0, 0, 1), (20, 10, 0, 0, 0), (0, 10, 0, 0, 1)]
            document.modelspace().add_lwpolyline(places, close=True)

        told, curves = self.curves(draw)
        self.assertEqual(sorted(type(curve).__name__ for curve in curves), ["Arc", "Arc", "Line", "Line"])
        self.assertAlmostEqual(abs(closed_area(tuple(curves))), 200 + 25 * math.pi, places=6)
        np.testing.assert_allclose(told.size, (30, 10), atol=2e-3)

    def test_layers_blocks_and_inches(self):
        def draw(document):
            document.layers.add("CUT")
            block = document.blocks.new("HOLE")
            block.add_circle((0, 0), 0.25, dxfattribs={"layer": "CUT"})
            for x in (1, 2, 3):
                document.modelspace().add_blockref("HOLE", (x, 0), dxfattribs={"xscale": 2, "yscale": 2})
            document.modelspace().add_text("NAME")

        told, curves = self.curves(draw, units=1)
        self.assertEqual(list(told.groups), ["CUT"])
        self.assertEqual([round(curve.radius, 6) for curve in curves], [12.7] * 3)
        self.assertEqual(told.left_out, ("1 text",))

    def test_a_spline_of_four_poles_is_its_bezier(self):
        """An open uniform cubic B-spline of four control points is the Bezier curve on them (any text on splines)."""
        poles = [(0, 0), (10, 20), (20, -20), (30, 0)]
        told, (curve,) = self.curves(lambda document: document.modelspace().add_open_spline(poles))
        low = -(told.size[1]) / 2  # the curve is the same turned by half a turn, so it reaches as far down as up
        np.testing.assert_allclose(np.array(curve.points), np.add(poles, (0, -low)), atol=1e-3)


class PutIn(unittest.TestCase):
    """A drawing of a right-angled triangle with a round hole, put into a sketch by the command that a page sends."""

    def setUp(self):
        body = '<path fill-rule="evenodd" d="M0 0H20V10Z"/><circle cx="15" cy="3" r="1.5" fill="#c03020"/>'
        self.library = Library()
        self.file = self.library.keep(outline_bytes(read_outlines(svg(body), "logo.svg")))

    def put(self, group="", **blanks):
        usual = {"size": "40 mm", "by": "width", "place": [5, 7], "facing": "same"}
        filled = {"drawing": {"file": self.file, "group": group}, **usual, **blanks}
        done = carry_out(new_document(), "sketch.edit", {"kind": "drawing", "blanks": filled}, self.library)
        return sketch_of(done.document)

    def circle(self, sketch):
        return next(sketch.geometry(name) for name, curve in sketch.curves.items() if curve.kind == "circle")

    def test_at_its_size_its_middle_where_it_was_clicked(self):
        sketch = self.put()
        regions = find_regions(sketch)
        self.assertEqual([len(region.holes) for region in regions], [1, 0])
        self.assertAlmostEqual(regions[0].area, 40 * 20 / 2 - math.pi * 9, places=6)
        np.testing.assert_allclose(np.ptp(list(sketch.points.values()), axis=0), (40, 20), atol=1e-4)
        np.testing.assert_allclose(self.circle(sketch).center, (5 - 20 + 30, 7 + 10 - 6), atol=1e-3)

    def test_turned_and_mirrored(self):
        turned = self.circle(self.put(turn="90°")).center
        np.testing.assert_allclose(turned, (5 - 4, 7 + 10), atol=1e-3)
        mirrored = self.circle(self.put(facing="mirrored")).center
        np.testing.assert_allclose(mirrored, (5 - 10, 7 + 4), atol=1e-3)

    def test_by_its_height_and_by_two_of_its_points(self):
        np.testing.assert_allclose(np.ptp(list(self.put(by="height").points.values()), axis=0), (80, 40), atol=1e-4)
        points = own_points(outlines_in(self.library, {"file": self.file, "group": ""}))
        # The slanting side of the triangle, twice as wide as high, is made 50 mm long.
        first, second = min(points), min(points, key=lambda place: place[1])
        slanting = self.put(by="points", size="50 mm", first=list(first), second=list(second))
        np.testing.assert_allclose(
            np.ptp(list(slanting.points.values()), axis=0), np.array((100, 50)) / 5**0.5, atol=1e-3
        )
        with self.assertRaisesRegex(SketchError, "the same point of the drawing"):
            self.put(by="points", first=[3.0, 3.0], second=[3.0, 3.0])

    def test_how_it_lies_is_where_its_curves_are(self):
        """The box and the points that handles hold lie where the curves come to lie."""
        blanks = {"drawing": {"file": self.file, "group": ""}, "size": "40 mm", "by": "points", "place": [5, 7]}
        left, right = farthest_across(outlines_in(self.library, blanks["drawing"]))
        blanks |= {"facing": "mirrored", "turn": "30°", "first": list(left), "second": [right[0], left[1]]}
        sketch = self.put(**{key: value for key, value in blanks.items() if key != "drawing"})
        lies = how_it_lies(new_document(), self.library, kind="drawing", sketch="s1", blanks=blanks)
        np.testing.assert_allclose(np.mean(lies.corners, axis=0), (5, 7), atol=1e-9)
        self.assertAlmostEqual(math.dist(*lies.corners[:2]), 40.0, places=3)
        self.assertTrue(lies.mirrored)
        there = KDTree([lies.placing.of(point) for point in lies.points])
        self.assertLess(there.query(list(sketch.points.values()))[0].max(), 1e-5)
        self.assertIsNone(how_it_lies(new_document(), self.library, kind="offset", sketch="s1", blanks={}))

    def test_one_group_alone_and_what_is_gone(self):
        self.assertEqual([curve.kind for curve in self.put("#c03020").curves.values()], ["circle"])
        with self.assertRaisesRegex(SketchError, "no group 'blue'; choose one of"):
            self.put("blue")
        self.file = self.library.keep(b"{}")
        with self.assertRaisesRegex(InputError, "is no drawing"):
            self.put()


if __name__ == "__main__":
    unittest.main()
