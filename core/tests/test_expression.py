"""Expressions against Python's own arithmetic, their slopes against differences, their ± against drawn samples."""

import math
import unittest

import numpy as np
from hypothesis import assume, given
from hypothesis import strategies as st

from nomogon_core.errors import InputError
from nomogon_core.quantity.expression import ANGLE, LENGTH, PLAIN, Known, evaluate, names_in, renamed, uncertainty
from nomogon_core.quantity.units import parse_angle, parse_length

KNOWN = {
    "rim": Known(4.0, LENGTH, {"gauge": 0.02}),
    "Hole diameter": Known(5.5, LENGTH, {"gauge": 0.01, "photo": 0.03}),
    "lean": Known(0.3, ANGLE, {"photo": 0.002}),
    "share": Known(0.25, PLAIN),
    "Face area": Known(20.0, (2, 0)),
}
NAMES = ("rim", "Hole diameter")


@st.composite
def lengths(draw, depth=3):
    """(text, the same in Python) of something that is a length."""
    if depth == 0 or draw(st.booleans()):
        kind = draw(st.integers(0, 2))
        if kind == 0:
            name = draw(st.sampled_from(NAMES))
            return name, repr(KNOWN[name].number)
        if kind == 1:
            number = draw(st.integers(1, 999)) / 10
            return f"{number} mm", repr(number)
        return (
            f"{(whole := draw(st.integers(0, 5)))} {(part := draw(st.integers(1, 63)))}/64 in",
            f"(({whole} + {part} / 64) * 25.4)",
        )
    way = draw(st.sampled_from(("+", "-", "*", "/", "()", "-x", "max", "sqrt")))
    one, same = draw(lengths(depth=depth - 1))
    if way in "+-":
        other, too = draw(lengths(depth=depth - 1))
        return f"({one} {way} {other})", f"({same} {way} {too})"
    if way in "*/":
        number = draw(st.integers(1, 40)) / 4
        return f"({one} {way} {number})", f"({same} {way} {number})"
    if way == "()":
        return f"({one})", f"({same})"
    if way == "-x":
        return f"(−{one})", f"(-{same})"
    if way == "max":
        other, too = draw(lengths(depth=depth - 1))
        return f"max({one}; {other})", f"max({same}, {too})"
    return f"sqrt(({one})^2)", f"abs({same})"


class Arithmetic(unittest.TestCase):
    @given(lengths())
    def test_as_python_reckons(self, pair):
        text, same = pair
        truth = eval(same, {"max": max, "abs": abs})
        assume(abs(truth) < 1e6)
        value = evaluate(text, KNOWN)
        self.assertEqual(value.dimension, LENGTH)
        self.assertAlmostEqual(value.number, truth, delta=1e-9 * max(1, abs(truth)))

    @given(lengths())
    def test_slopes_are_those_of_differences(self, pair):
        value = evaluate(pair[0], KNOWN)
        for name in NAMES:
            step, sides = 1e-5, []
            for sign in (1, -1):
                moved = KNOWN | {name: Known(KNOWN[name].number + sign * step)}
                sides.append(evaluate(pair[0], moved).number)
            slope = (sides[0] - sides[1]) / (2 * step)
            # At a kink of max or abs the two sides differ; no slope is right there.
            middle = (sides[0] + sides[1]) / 2
            if abs(middle - value.number) < 1e-7:
                self.assertAlmostEqual(value.slopes.get(name, 0.0), slope, delta=1e-3 * max(1, abs(slope)))

    def test_mixed_units_functions_and_powers(self):
        for text, number, dimension in (
            ("rim / 2 + 1/16 in", 3.5875, LENGTH),
            ("rim/4 in", 4 / 101.6, PLAIN),
            ("3-1/2 in + rim", 92.9, LENGTH),
            ("rim^2 * 3", 48.0, (2, 0)),
            ("sqrt(Face area) + rim", 4 + math.sqrt(20), LENGTH),
            ("sin(30°) * Hole diameter", 2.75, LENGTH),
            ("tan(lean) * rim", 4 * math.tan(0.3), LENGTH),
            ("lean + 10", 0.3 + math.radians(10), ANGLE),
            ("-2^2", -4.0, PLAIN),
            ("2 * pi", 2 * math.pi, PLAIN),
            ("abs(rim - Hole diameter)", 1.5, LENGTH),
            ("rim × 2 − 1", 7.0, LENGTH),
            ("share * rim", 1.0, LENGTH),
        ):
            value = evaluate(text, KNOWN)
            self.assertAlmostEqual(value.number, number, msg=text)
            self.assertEqual(value.dimension, dimension, text)
        self.assertAlmostEqual(parse_angle("lean * 2", KNOWN), 0.6)
        self.assertAlmostEqual(parse_length("rim + 1", KNOWN, unit="in"), 29.4)

    def test_refusals_say_what_does_not_go_together(self):
        for text, words in (
            ("rim + Face area", "adds a length and an area"),
            ('3 - 1/8"', "give both a unit"),
            ("rimm", "no quantity called 'rimm'; did you mean rim"),
            ("sqrt(rim)", "root of a length"),
            ("sin(30)", "needs an angle"),
            ("2^rim", "a power is a plain number"),
            ("rim / (2 - 2)", "divides by zero"),
            ("min(rim, Face area)", "compares a length and an area"),
            ("(" * 60 + "1" + ")" * 60, "too many brackets"),
            ("9^9^9^9", "power"),
            ("rim rim", "the end"),
            ("max(rim", "closing bracket"),
            ("rim; drop", "the end"),
        ):
            with self.assertRaises(InputError, msg=text) as caught:
                evaluate(text, KNOWN)
            self.assertIn(words, str(caught.exception), text)
        with self.assertRaisesRegex(InputError, "comes to an area|power of 2"):
            parse_length("rim * rim", KNOWN)
        with self.assertRaisesRegex(InputError, "comes to a plain number"):
            parse_length("share", KNOWN)

    def test_names_are_found_and_renamed_whole(self):
        known = [*KNOWN, "rim 2"]
        self.assertEqual(names_in("rim 2 + rim*Hole diameter", known), ["rim 2", "rim", "Hole diameter"])
        self.assertEqual(renamed("rim*2 + rim 2 + rim", "rim", "edge", known), "edge*2 + rim 2 + edge")

    def test_uncertainty_of_first_order_covers_drawn_samples(self):
        text = "Hole diameter / 2 + rim * cos(lean)"
        shares = uncertainty(evaluate(text, KNOWN), KNOWN)
        random, found = np.random.default_rng(4), []
        for _ in range(4000):
            errors = {source: random.normal() for source in ("gauge", "photo")}
            moved = {
                name: Known(
                    one.number + sum(share * errors[source] for source, share in one.shares.items()), one.dimension
                )
                for name, one in KNOWN.items()
            }
            found.append(evaluate(text, moved).number)
        # A source that two quantities share adds up before it is squared.
        self.assertAlmostEqual(math.hypot(*shares.values()), np.std(found), delta=0.05 * np.std(found))


if __name__ == "__main__":
    unittest.main()
