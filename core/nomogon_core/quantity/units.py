"""Lengths and angles as people type and read them.

A length is a number with an optional unit; a whole number may be followed by a fraction (``3 1/2 in``),
an inch may be written ``in``, ``inch`` or ``"``, a foot ``ft`` or ``'``. Lengths may be added, taken away,
multiplied and divided by plain numbers, with brackets: ``2 * (3/8" + 1.5 mm)``. Nothing is guessed: a bare
number is in the unit that the caller names.
"""

import math
import re

import attrs
import pint

from nomogon_core.errors import InputError

MM_PER_INCH = 25.4
LONGEST_MM = 100_000.0
ANGLE_NAMES = {"°": "degree", "deg": "degree", "rad": "radian"}
LENGTH_NAMES = {
    '"': "inch",
    "″": "inch",
    "in": "inch",
    "inch": "inch",
    "inches": "inch",
    "'": "foot",
    "′": "foot",
    "ft": "foot",
    "mm": "millimeter",
    "cm": "centimeter",
    "m": "meter",
    "um": "micrometer",
    "µm": "micrometer",
    "thou": "thou",
}
_NUMBER = r"(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][-+]?\d+)?"
_TERM = re.compile(
    rf"\s*(?:(?P<whole>\d+)[\s-]+(?P<mixed>\d+\s*/\s*\d+)|(?P<ratio>\d+\s*/\s*\d+)(?=\s*(?:[a-zµ\"″'′]|$))"
    rf"|(?P<number>{_NUMBER}))\s*(?P<unit>[a-zA-Zµ°\"″'′]+)?"
)
_OPERATOR = re.compile(r"\s*([-+*/()])")
_REGISTRY = pint.UnitRegistry(cache_folder=None)
_FACTORS = {
    name: round(_REGISTRY.Quantity(1, unit).to("millimeter").magnitude, 9) for name, unit in LENGTH_NAMES.items()
}


@attrs.frozen
class _Value:
    """A number and its power of length (0 or 1)."""

    number: float
    power: int


def _fraction(text):
    upper, lower = (int(part) for part in text.split("/"))
    if lower == 0:
        raise InputError(f"{text.strip()!r} divides by zero.")
    return upper / lower


class _Reader:
    """Recursive descent over sums, products and single terms."""

    def __init__(self, text, bare_unit):
        self.text, self.at, self.bare = text, 0, bare_unit

    def fail(self, wanted):
        rest = self.text[self.at :].strip()
        came = f"at {rest!r}" if rest else "at the end"
        raise InputError(
            f"{self.text!r} is not a length: {wanted} was expected {came}. "
            'Write for example 84, 3 1/2 in, 3.48" or 91.2 mm.'
        )

    def operator(self, allowed):
        match = _OPERATOR.match(self.text, self.at)
        if match and match[1] in allowed:
            self.at = match.end()
            return match[1]
        return None

    def sum(self):
        value = self.product()
        while sign := self.operator("+-"):
            other = self.product()
            if other.power != value.power:
                raise InputError(f"{self.text!r} adds a length and a plain number; give both a unit.")
            value = _Value(value.number + (other.number if sign == "+" else -other.number), value.power)
        return value

    def product(self):
        value = self.factor()
        while sign := self.operator("*/"):
            other = self.factor()
            if sign == "/" and other.number == 0:
                raise InputError(f"{self.text!r} divides by zero.")
            power = value.power + other.power if sign == "*" else value.power - other.power
            number = value.number * other.number if sign == "*" else value.number / other.number
            value = _Value(number, power)
        return value

    def factor(self):
        sign = self.operator("+-")
        if sign:
            inner = self.factor()
            return _Value(-inner.number if sign == "-" else inner.number, inner.power)
        if self.operator("("):
            inner = self.sum()
            if not self.operator(")"):
                self.fail("a closing bracket")
            return inner
        return self.term()

    def term(self):
        match = _TERM.match(self.text, self.at)
        if not match:
            self.fail("a number")
        unit = match["unit"]
        if unit is not None and unit not in _FACTORS:
            raise InputError(f"{unit!r} in {self.text!r} is not a unit of length; use mm, cm, m, in, ft, \" or '.")
        self.at = match.end()
        if match["whole"]:
            number = int(match["whole"]) + _fraction(match["mixed"])
        elif match["ratio"]:
            number = _fraction(match["ratio"])
        else:
            number = float(match["number"].replace(",", "."))
        return _Value(number * _FACTORS[unit], 1) if unit else _Value(number, 0)


def parse_length(text, *, unit="mm"):
    """Millimetres of a length as typed.

    Args:
        text: what was typed; ``unit`` applies when no unit is written at all.
        unit: ``"mm"`` or ``"in"``.

    Raises:
        InputError: the text is no length, is not finite, or is absurdly long.
    """
    text = str(text).strip()
    if not text:
        raise InputError('A length is missing; write for example 84, 3 1/2 in, 3.48" or 91.2 mm.')
    reader = _Reader(text, unit)
    value = reader.sum()
    if reader.text[reader.at :].strip():
        reader.fail("the end, or + - * /")
    if value.power not in (0, 1):
        raise InputError(f"{text!r} is not a length: its units multiply to a power of {value.power}.")
    millimetres = value.number * (1.0 if value.power else _FACTORS[unit])
    if not math.isfinite(millimetres) or abs(millimetres) > LONGEST_MM:
        raise InputError(f"{text!r} is longer than {LONGEST_MM / 1000:g} m, more than any part here can be.")
    return millimetres


def parse_positive_length(text, what, *, unit="mm"):
    """Like :func:`parse_length`, for a length that must be more than zero.

    Raises:
        InputError: also when the length is zero or negative; the sentence names ``what``.
    """
    millimetres = parse_length(text, unit=unit)
    if millimetres <= 0:
        raise InputError(f"{what} must be longer than zero; {str(text).strip()!r} came.")
    return millimetres


def parse_angle(text):
    """Radians of an angle as typed, degrees when no unit is written.

    Raises:
        InputError: the text is no angle.
    """
    match = re.fullmatch(rf"\s*([-+]?{_NUMBER})\s*(°|deg|rad)?\s*", str(text))
    if not match:
        raise InputError(f"{text!r} is not an angle; write for example 45 or 45°.")
    number = float(match[1].replace(",", "."))
    return number if ANGLE_NAMES.get(match[2]) == "radian" else math.radians(number)


def format_length(millimetres, *, unit="mm", digits=None):
    """A length as shown: two decimals in millimetres, four in inches, a true minus sign."""
    value = millimetres if unit == "mm" else millimetres / MM_PER_INCH
    if digits is None:
        digits = 2 if unit == "mm" else 4
    return f"{round(value, digits) + 0.0:.{digits}f}".replace("-", "\N{MINUS SIGN}")


def format_angle(radians, digits=1):
    return f"{round(math.degrees(radians), digits) + 0.0:.{digits}f}°".replace("-", "\N{MINUS SIGN}")


def _check_table():
    """The unit library and the definition of the inch agree."""
    if not math.isclose(_FACTORS["in"], MM_PER_INCH, rel_tol=1e-12):
        raise InputError("the unit table does not hold the international inch")


_check_table()
