"""Lengths as typed and as shown."""

import unittest
from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from nomogon_core.errors import InputError
from nomogon_core.quantity.units import format_length, parse_angle, parse_length, parse_positive_length


class ParseLength(unittest.TestCase):
    def test_what_practitioners_write(self):
        # 1 inch = 25.4 mm exactly: NIST SP 811, international inch of 1959.
        for text, millimetres in (
            ("84", 84),
            ("3 1/2 in", 88.9),
            ('3.48"', 88.392),
            ("91.2 mm", 91.2),
            ('3 5/8"', 92.075),
            ("31,2 mm", 31.2),
            ("1/2", 0.5),
            ('2 * (3/8" + 1.5 mm)', 22.05),
            ("1' - 2 in", 254),
            ("-3", -3),
            ("1.5 cm", 15),
            ("5/64 in", 1.984375),
        ):
            self.assertAlmostEqual(parse_length(text), millimetres, places=9, msg=text)

    def test_bare_numbers_are_in_the_unit_of_the_page(self):
        self.assertAlmostEqual(parse_length("3 1/2", unit="in"), 88.9)
        self.assertAlmostEqual(parse_length("3.5 mm", unit="in"), 3.5)

    def test_fractional_drills(self):
        # Steps of 1/64 in: ASME B94.11M (memory). 3/16 in = 4.7625 mm, 1/4 in = 6.35 mm.
        self.assertAlmostEqual(parse_length("3/16 in"), 4.7625)
        self.assertAlmostEqual(parse_length('1/4"'), 6.35)

    def test_nonsense_is_refused_in_words(self):
        for text, words in (
            ("", "missing"),
            ("abc", "not a length"),
            ("3 furlong", "'furlong'"),
            ("1/0 in", "divides by zero"),
            ("5 mm * 3 mm", "power of 2"),
            ("3 mm + 2", "plain number"),
            ("(3", "closing bracket"),
            ("1e9", "longer than 100 m"),
            ("3 4", "not a length"),
            ("4 / 0", "divides by zero"),
        ):
            with self.assertRaises(InputError, msg=text) as caught:
                parse_length(text)
            self.assertIn(words, str(caught.exception), text)

    def test_positive(self):
        with self.assertRaisesRegex(InputError, "Known length 1 must be longer than zero; '0' came"):
            parse_positive_length("0", "Known length 1")

    @given(st.integers(0, 99), st.integers(1, 63))
    def test_sixty_fourths_are_exact(self, whole, part):
        self.assertAlmostEqual(
            parse_length(f"{whole} {part}/64 in"), float((whole + Fraction(part, 64)) * Fraction(254, 10)), places=9
        )

    @given(st.floats(-9999, 9999, allow_nan=False))
    def test_what_is_shown_reads_back(self, value):
        shown = format_length(value, digits=6).replace("\N{MINUS SIGN}", "-")
        self.assertAlmostEqual(parse_length(shown), value, places=5)


class Angles(unittest.TestCase):
    def test_degrees_and_radians(self):
        self.assertAlmostEqual(parse_angle("180"), parse_angle("3.14159265358979 rad"))
        with self.assertRaisesRegex(InputError, "not an angle"):
            parse_angle("steep")

    def test_no_negative_zero(self):
        self.assertEqual(format_length(-0.0001), "0.00")
        self.assertEqual(format_length(-1.5), "\N{MINUS SIGN}1.50")


if __name__ == "__main__":
    unittest.main()
