"""The dimensioned drawing: what it says, where it stands, and that it is read back as it was meant."""

import math
import unittest

import attrs
import numpy as np
import pypdfium2
import shapely

from core.tests.specimens import drawn, number, sheet_of
from core.tests.test_allowing import plate
from core.tests.test_operations import block
from examples.render import hole, rounded_polygon
from nomogon_core.errors import OperationError
from nomogon_core.exchange import release
from nomogon_core.exchange.dimensioned import BLOCK, EDGE, SCALES, SHEETS, laid_out, notes_of, wanted
from nomogon_core.exchange.writers.pdf import TitleBlock
from nomogon_core.sketch.dimensions import new_dimension
from nomogon_core.sketch.edit import add_constraint, add_line
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph
from nomogon_core.solid.sheet import OperationStep


def layout_of(sheet):
    told = graph.run(sheet)
    square = {name: frame for name, frame in release.SHEET.items() if name != "Askew"}
    return laid_out(release.views_of(told.bodies, release.SHEET), wanted(sheet, told, square))


def texts(layout, name):
    return sorted(one.text for placed in layout.views if placed.view.name == name for one in placed.dimensions)


def some_plate(random, size=1.0):
    """A plate with up to six round holes and dimensions of its sketch: lengths, radii, distances."""
    wide, high = size * random.uniform((30, 25), (120, 90))
    outlines = [rounded_polygon([(0, 0), (wide, 0), (wide, high), (0, high)], [float(0.1 * high)] * 4)]
    for index in range(int(random.integers(1, 7))):
        x, y = wide * (0.2 + 0.3 * (index % 3)), high * (0.3 + 0.4 * (index // 3))
        outlines.append(hole(x, y, float(random.uniform(0.06, 0.16) * high)))
    sketch = drawn(*outlines)
    curves = list(sketch.curves.items())
    for name, curve in [curves[at] for at in random.permutation(len(curves))[:6]]:
        kind = {"line": "distance", "arc": "radius", "circle": "diameter"}[curve.kind]
        sketch, _ = add_constraint(sketch, new_dimension(sketch, kind, (name,)))
    return sheet_of(sketch, [block(sketch, float(size * random.uniform(3, 20)))])


class Layout(unittest.TestCase):
    def test_the_sizes_of_a_plate_and_of_its_holes(self):
        layout = layout_of(plate())
        self.assertEqual((layout.sheet, layout.scale_words), ("A4", "1:1"))
        self.assertEqual(texts(layout, "Front"), ["6.00", "60.00"])
        self.assertEqual(texts(layout, "Plan"), ["15.00", "20.00", "40.00", "45.00", "Ø24.00", "Ø5.00"])
        self.assertEqual(texts(layout, "Side"), [])
        front, plan, side, _ = layout.views
        self.assertAlmostEqual(front.origin[0], plan.origin[0], msg="first angle: the view from above stands under")
        self.assertAlmostEqual(front.origin[1], side.origin[1])
        self.assertLess(side.origin[0], front.origin[0])

    def test_rounded_and_cut_edges_are_told_beside_the_title_block(self):
        sheet = plate()
        body = sheet.operations[0].blanks["body"]
        edges = {"body": body, "rule": {"at": "top"}}
        blanks = {"edges": edges, "distance": number(0.8), "how": "angle", "angle": number(math.radians(30))}
        below = {"edges": {"body": body, "rule": {"at": "bottom"}}, "radius": number(1.25)}
        more = OperationStep("op8", "fillet", below), OperationStep("op9", "chamfer", blanks)
        sheet = attrs.evolve(sheet, steps=(*sheet.steps, *more))
        told = notes_of(sheet, graph.run(sheet))
        self.assertEqual(len(told), 2)
        self.assertRegex(told[0], r"^R1\.25: \d+ edges$")
        self.assertRegex(told[1], r"^0\.80 × 30°: \d+ edges$")
        page = pypdfium2.PdfDocument(release.write_file("pdf", sheet, "Plate"))[0].get_textpage()
        for note in told:
            self.assertIn(note, page.get_text_range())

    def test_a_dimension_of_another_stretch_takes_nothing_away(self):
        """A length of 15 mm elsewhere does not say where the hole at 15 mm is."""
        sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [0] * 4), hole(15, 20, 5))
        for places in (((40, 30), (55, 30)), ((0, 30), (15, 30))):
            more, line = add_line(sketch, *places, construction=True)
            more, _ = add_constraint(more, new_dimension(more, "distance", (line,)))
            told = texts(layout_of(sheet_of(more, [block(more, 6.0, regions=[find_regions(sketch)[0].name])])), "Plan")
            self.assertEqual(told.count("15.00"), 2 if places[0][0] else 1)

    def test_no_text_lies_on_another_or_out_of_the_frame(self):
        random = np.random.default_rng(20)
        for _ in range(8):
            layout = layout_of(some_plate(random))
            boxes = [one.box for placed in layout.views for one in placed.dimensions]
            self.assertEqual(len(shapely.STRtree(boxes).query(boxes, predicate="intersects")[0]), len(boxes))
            width, height = layout.size
            inner = shapely.box(EDGE, EDGE + BLOCK - 6, width - EDGE, height - EDGE)
            for box in boxes:
                self.assertTrue(inner.contains(box), layout.scale)

    def test_the_scale_is_one_of_the_standard_and_the_largest_that_fits(self):
        random = np.random.default_rng(3)
        for size in (0.05, 0.3, 1.0, 4.0, 20.0):
            layout = layout_of(some_plate(random, size))
            self.assertIn(layout.scale, SCALES)
            low, high = (np.array(edge) for edge in layout.views[1].view.bounds())
            self.assertLess(((high - low) * layout.scale).max(), max(SHEETS[layout.sheet]))
        with self.assertRaisesRegex(OperationError, "too large for a drawing"):
            layout_of(some_plate(random, 2000.0))

    def test_a_traced_size_comes_with_its_uncertainty(self):
        sheet = plate()
        sketch = sheet.steps[0].sketch
        circle = next(name for name, one in sketch.curves.items() if one.kind == "circle")
        fields = {"source": "traced", "u95": 0.03}
        sketch, _ = add_constraint(sketch, new_dimension(sketch, "diameter", (circle,), **fields))
        self.assertIn("Ø5.00 ±0.03", texts(layout_of(sheet_of(sketch, [block(sketch, 6.0)])), "Plan"))


class Written(unittest.TestCase):
    def test_another_reader_finds_its_texts_its_size_and_its_lines(self):
        block_ = TitleBlock("Hive latch plate", "FLA-014", "35", "2026-11-27", "ro")
        data = release.write_file("pdf", plate(), "Plate", block=block_)
        self.assertEqual(data, release.write_file("pdf", plate(), "Plate", block=block_))
        page = pypdfium2.PdfDocument(data)[0]
        np.testing.assert_allclose(np.array(page.get_size()) * 25.4 / 72, SHEETS["A4"], atol=1e-3)
        text = page.get_textpage().get_text_range()
        for words in ("Hive latch plate", "FLA-014", "2026-11-27", "1:1", "Ø24.00", "60.00", "aluminium"):
            self.assertIn(words, text)
        # At 1:1 the plate is 60 mm wide on the paper: from its dark left edge to its dark right one.
        shown = np.asarray(page.render(scale=10 * 25.4 / 72, grayscale=True).to_pil())
        (plan,) = [one for one in layout_of(plate()).views if one.view.name == "Plan"]
        row = shown[round(10 * (210 - plan.origin[1] - 30.0))]
        dark = np.flatnonzero(row < 100) / 10
        left, right = (dark[np.abs(dark - plan.origin[0] - at).argmin()] for at in (0.0, 60.0))
        self.assertAlmostEqual(right - left, 60.0, delta=0.5)

    def test_it_is_of_the_design_whatever_the_files_allow_for(self):
        making = release.making_of({"allowances": {"holes": 0.4, "shrinkage": 2.0}})
        told, plain = (release.write_file("pdf", plate(), "Plate", **more) for more in ({"making": making}, {}))
        self.assertEqual(told, plain)
