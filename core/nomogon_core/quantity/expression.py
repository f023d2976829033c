"""Expressions over numbers with units and over named quantities, with sensitivities: ``rim / 2 + 1/16 in``.

Numbers may be decimal (``31.2``, ``31,2``), fractions (``5/64 in``) or mixed (``3 1/2 in``, ``3-1/2"``); units are
those of :data:`LENGTH_UNITS` and :data:`ANGLE_UNITS`; operators + - * / ^ with × ÷ − too, parentheses, and the
functions of :data:`FUNCTIONS`. A quantity is written by its name, also where that has spaces: the longest one that
fits is taken. Nothing is guessed: a bare number beside a length is refused where a unit is written anywhere else.

Precedence climbing after Pratt (1973); derivatives are carried along forward (Wengert 1964).
"""

from __future__ import annotations

import difflib
import math
import re
from fractions import Fraction
from typing import NoReturn

import attrs

from nomogon_core.errors import InputError

MM_PER_INCH = 25.4
LENGTH_UNITS = {
    '"': 25.4,
    "″": 25.4,
    "in": 25.4,
    "inch": 25.4,
    "inches": 25.4,
    "'": 304.8,
    "′": 304.8,
    "ft": 304.8,
    "mm": 1.0,
    "cm": 10.0,
    "m": 1000.0,
    "um": 0.001,
    "µm": 0.001,
    "thou": 0.0254,
}
ANGLE_UNITS = {"°": math.pi / 180, "deg": math.pi / 180, "rad": 1.0}
PLAIN, LENGTH, ANGLE = (0, 0), (1, 0), (0, 1)
DIMENSION_WORDS = {
    PLAIN: "a plain number",
    LENGTH: "a length",
    (2, 0): "an area",
    (3, 0): "a volume",
    ANGLE: "an angle",
}
FUNCTIONS = ("min", "max", "abs", "sqrt", "sin", "cos", "tan")
CONSTANTS = {"pi": math.pi, "π": math.pi}
MOST_CHARACTERS, MOST_DEPTH, MOST_POWER = 400, 40, 12
_NUMBER = re.compile(r"(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][-+]?\d+)?")
_COMMA_NUMBER = re.compile(r"\d*,\d+")
_MIXED = re.compile(r"(\d+)\s+(\d+)\s*/\s*(\d+)(?=\s*(?:[a-zA-Zµ°\"″'′]|$|[-+*/,;)^]))")
_HYPHENED = re.compile(r"\s*(\d+)-(\d+)/(\d+)(?=\s*[a-zA-Zµ\"″'′]|\s*$)")
_RATIO = re.compile(r"(\d+)\s*/\s*(\d+)(?=\s*[a-zA-Zµ°\"″'′])")
_WORD = re.compile(r"[^\W\d]\w*|[°\"″'′]")
_SPELLED = str.maketrans({"×": "*", "·": "*", "÷": "/", "−": "-", "–": "-", "²": "^2 ", "³": "^3 "})


@attrs.frozen
class Known:
    """A quantity that expressions can use.

    Attributes:
        number: millimetres, radians, or plain; dimension: its powers of length and angle.
        shares: {source: standard uncertainty that comes from it, signed}.
    """

    number: float
    dimension: tuple = LENGTH
    shares: dict = attrs.field(factory=dict)


@attrs.frozen
class Value:
    """What an expression comes to.

    Attributes:
        slopes: {name: derivative by that quantity}.
        bare: only numbers without a unit are in it.
    """

    number: float
    dimension: tuple
    slopes: dict = attrs.field(factory=dict)
    bare: bool = False


def words_of(dimension: tuple[int, int]) -> str:
    """A dimension in words."""
    return DIMENSION_WORDS.get(dimension) or f"something in mm^{dimension[0]}" + (" rad" if dimension[1] else "")


def names_in(text: str, known: list[str]) -> list[str]:
    """Names of quantities that an expression uses, each once, in order.

    Args:
        known: names that there are.

    Raises:
        InputError: the text is no expression.
    """
    reader = _Reader(text, dict.fromkeys(known, Known(1.0)), "mm", measures=False)
    reader.whole()
    return list(dict.fromkeys(reader.used))


def renamed(text: str, old: str, new: str, known: list[str]) -> str:
    """An expression with a quantity called otherwise.

    Args:
        known: names that there are, the old one among them.
    """
    reader = _Reader(text, dict.fromkeys(known, Known(1.0)), "mm", measures=False)
    reader.whole()
    text = reader.text
    for start, end in sorted((at for name, at in reader.places if name == old), reverse=True):
        text = text[:start] + new + text[end:]
    return text


def evaluate(text: str, known: dict[str, Known] | None = None, *, unit: str = "mm") -> Value:
    """What an expression comes to.

    Args:
        known: {name: :class:`Known`}.
        unit: of bare numbers beside lengths where no unit is written: "mm" or "in".

    Raises:
        InputError: it cannot be read, names what is not there, adds what does not go together, or is not finite.
    """
    return _Reader(str(text), known or {}, unit).whole()


def uncertainty(value: Value, known: dict[str, Known]) -> dict:
    """{source: signed standard uncertainty} of a value, to first order."""
    shares = {}
    for name, slope in value.slopes.items():
        for source, share in known[name].shares.items():
            shares[source] = shares.get(source, 0.0) + slope * share
    return {source: share for source, share in shares.items() if share}


class _Reader:
    """Reads one text from left to right."""

    def __init__(self, text: str, known: dict[str, Known], unit: str, *, measures: bool = True) -> None:
        if len(text) > MOST_CHARACTERS:
            raise InputError(f"The expression is longer than {MOST_CHARACTERS} characters.")
        self.told = text
        self.text, self.at, self.depth = text.translate(_SPELLED), 0, 0
        self.known, self.unit, self.measures = known, unit, measures
        self.names = sorted(known, key=len, reverse=True)
        self.used, self.places, self.commas = [], [], 0
        self.explicit = False

    def fail(self, wanted: str) -> NoReturn:
        rest = self.text[self.at :].strip()
        came = f"at {rest!r}" if rest else "at the end"
        raise InputError(
            f"{self.told!r} is not a length: {wanted} was expected {came}. "
            'Write for example 84, 3 1/2 in, 3.48" or 91.2 mm.'
        )

    def whole(self) -> Value:
        value = self.sum()
        if self.text[self.at :].strip():
            self.fail("the end, or + - * /")
        if not math.isfinite(value.number):
            raise InputError(f"{self.told!r} does not come to a finite number.")
        return value

    def skip(self) -> None:
        while self.at < len(self.text) and self.text[self.at].isspace():
            self.at += 1

    def operator(self, allowed: tuple[str, ...]) -> str | None:
        self.skip()
        for one in allowed:
            if self.text.startswith(one, self.at):
                self.at += len(one)
                return one
        return None

    def sum(self) -> Value:
        self.depth += 1
        if self.depth > MOST_DEPTH:
            raise InputError(f"{self.told[:40]!r} … has too many brackets in one another.")
        value = self.product()
        while sign := self.operator(("+", "-")):
            value = self.added(value, self.product(), 1.0 if sign == "+" else -1.0)
        self.depth -= 1
        return value

    def added(self, one: Value, other: Value, sign: float) -> Value:
        one, other = self.alike(one, other, "adds")
        return _combined(one.number + sign * other.number, one.dimension, (one, 1.0), (other, sign))

    def alike(self, one: Value, other: Value, verb: str) -> tuple[Value, Value]:
        """Two values of one dimension; a bare number takes the page's unit where no unit is written."""
        if one.dimension == other.dimension or not self.measures:
            return one, other
        if not self.explicit:
            if one.bare and other.dimension in (LENGTH, ANGLE):
                return self.with_unit(one, other.dimension), other
            if other.bare and one.dimension in (LENGTH, ANGLE):
                return one, self.with_unit(other, one.dimension)
        words = [words_of(part.dimension) for part in (one, other)]
        if PLAIN in (one.dimension, other.dimension):
            there = next(word for word in words if word != DIMENSION_WORDS[PLAIN])
            raise InputError(f"{self.told!r} {verb} {there} and a plain number; give both a unit.")
        raise InputError(f"{self.told!r} {verb} {words[0]} and {words[1]}, which do not go together.")

    def with_unit(self, value: Value, dimension: tuple[int, int]) -> Value:
        factor = LENGTH_UNITS[self.unit] if dimension == LENGTH else ANGLE_UNITS["°"]
        return Value(value.number * factor, dimension, value.slopes)

    def product(self) -> Value:
        value = self.factor()
        while sign := self.operator(("*", "/")):
            if sign == "*" and self.text.startswith("*", self.at):
                self.at -= 1
                return value
            other = self.factor()
            value = self.multiplied(value, other) if sign == "*" else self.divided(value, other)
        return value

    def multiplied(self, one: Value, other: Value) -> Value:
        dimension = tuple(a + b for a, b in zip(one.dimension, other.dimension))
        return _combined(one.number * other.number, dimension, (one, other.number), (other, one.number))

    def divided(self, one: Value, other: Value) -> Value:
        if other.number == 0:
            raise InputError(f"{self.told!r} divides by zero.")
        dimension = tuple(a - b for a, b in zip(one.dimension, other.dimension))
        return _combined(
            one.number / other.number,
            dimension,
            (one, 1 / other.number),
            (other, -one.number / other.number**2),
        )

    def factor(self) -> Value:
        self.depth += 1
        if self.depth > MOST_DEPTH:
            raise InputError(f"{self.told[:40]!r} … has too many signs and brackets in one another.")
        sign = self.operator(("+", "-"))
        if sign:
            inner = self.factor()
            value = _combined(-inner.number, inner.dimension, (inner, -1.0)) if sign == "-" else inner
        else:
            value = self.power()
        self.depth -= 1
        return value

    def power(self) -> Value:
        base = self.operand()
        if not self.operator(("^", "**")):
            return base
        exponent = self.factor()
        if self.measures and exponent.dimension != PLAIN:
            raise InputError(
                f"{self.told!r} takes a power of {words_of(exponent.dimension)}; a power is a plain number."
            )
        return self.raised(base, exponent.number, exponent)

    def raised(self, base: Value, exponent: float, told: Value) -> Value:
        if abs(exponent) > MOST_POWER and base.dimension != PLAIN:
            raise InputError(f"{self.told!r} takes a power of {exponent:g}; at most {MOST_POWER} makes sense.")
        if not self.measures:
            return Value(1.0, PLAIN)
        dimension = tuple(Fraction(power) * Fraction(exponent).limit_denominator(64) for power in base.dimension)
        if any(power.denominator != 1 for power in dimension):
            raise InputError(f"{self.told!r} takes a root of {words_of(base.dimension)} that has no meaning.")
        try:
            number = float(base.number**exponent)
            slope = exponent * float(base.number ** (exponent - 1)) if exponent else 0.0
        except (ArithmeticError, TypeError):
            raise InputError(f"{self.told!r} takes a power that does not come to a number.") from None
        if told.slopes and base.number > 0:
            return _combined(number, PLAIN, (base, slope), (told, number * math.log(base.number)))
        return _combined(number, tuple(int(power) for power in dimension), (base, slope))

    def operand(self) -> Value:
        if self.operator(("(",)):
            within, self.commas = self.commas, 0
            inner = self.sum()
            self.commas = within
            if not self.operator((")",)):
                self.fail("a closing bracket")
            return inner
        self.skip()
        for name in self.names:
            end = self.at + len(name)
            if self.text.startswith(name, self.at) and not (end < len(self.text) and _is_word(self.text[end])):
                self.used.append(name)
                self.places.append((name, (self.at, end)))
                self.at = end
                known = self.known[name]
                return Value(known.number, known.dimension, {name: 1.0})
        return self.number() or self.word()

    def number(self) -> Value | None:
        value = self.literal()
        if value is None:
            return None
        self.skip()
        unit = _WORD.match(self.text, self.at)
        if not unit or any(self.text.startswith(name, self.at) for name in self.names):
            return Value(value, PLAIN, bare=True)
        if unit[0] in LENGTH_UNITS:
            factor, dimension = LENGTH_UNITS[unit[0]], LENGTH
        elif unit[0] in ANGLE_UNITS:
            factor, dimension = ANGLE_UNITS[unit[0]], ANGLE
        else:
            raise InputError(
                f"{unit[0]!r} in {self.told!r} is not a unit of length; use mm, cm, m, in, ft, \" or ', "
                "or ° for angles."
            )
        self.at, self.explicit = unit.end(), True
        return Value(value * factor, dimension)

    def literal(self) -> float | None:
        beginning = not self.text[: self.at].strip()
        for pattern in (_HYPHENED, _MIXED, _RATIO) if beginning else (_MIXED, _RATIO):
            match = pattern.match(self.text, self.at)
            if match:
                self.at = match.end()
                *whole, upper, lower = map(int, match.groups())
                if lower == 0:
                    raise InputError(f"{match[0].strip()!r} divides by zero.")
                return sum(whole) + upper / lower
        match = None if self.commas else _COMMA_NUMBER.match(self.text, self.at)
        match = match or _NUMBER.match(self.text, self.at)
        if not match:
            return None
        self.at = match.end()
        return float(match[0].replace(",", "."))

    def word(self) -> Value:
        match = _WORD.match(self.text, self.at)
        if match is None:
            return self.fail("a number")
        word = match[0]
        if word in FUNCTIONS and self.text[match.end() :].lstrip().startswith("("):
            self.at = match.end()
            return self.function(word)
        if word in CONSTANTS:
            self.at = match.end()
            return Value(CONSTANTS[word], PLAIN)
        near = difflib.get_close_matches(word, [*self.names, *FUNCTIONS], 1)
        hint = f"; did you mean {near[0]}?" if near else "."
        raise InputError(
            f"{self.told!r} is not a length: there is no quantity called {word!r}{hint}"
            + ("" if near else ' Write for example 84, 3 1/2 in or 3.48".')
        )

    def function(self, name: str) -> Value:
        self.operator(("(",))
        self.commas += 1
        values = [self.sum()]
        while self.operator((",", ";")):
            values.append(self.sum())
        self.commas -= 1
        if not self.operator((")",)):
            self.fail("a closing bracket")
        if name not in ("min", "max") and len(values) != 1:
            raise InputError(f"{self.told!r}: {name} takes one value; {len(values)} came.")
        return self.of_several(name, values) if name in ("min", "max") else self.of_one(name, values[0])

    def of_several(self, name: str, values: list[Value]) -> Value:
        chosen = values[0]
        for other in values[1:]:
            chosen, other = self.alike(chosen, other, "compares")
            if (other.number < chosen.number) == (name == "min") and other.number != chosen.number:
                chosen = other
        return chosen

    def of_one(self, name: str, value: Value) -> Value:
        if name == "abs":
            sign = -1.0 if value.number < 0 else 1.0
            return _combined(abs(value.number), value.dimension, (value, sign))
        if name == "sqrt":
            if value.number < 0:
                raise InputError(f"{self.told!r} takes the square root of a negative number.")
            if not value.number:
                return _combined(0.0, _half(value, self))
            return self.raised(value, 0.5, Value(0.5, PLAIN))
        if self.measures and value.dimension != ANGLE:
            raise InputError(
                f"{self.told!r}: {name} needs an angle; {words_of(value.dimension)} came. Write for example 30°."
            )
        x = value.number
        number = getattr(math, name)(x)
        slope = {"sin": math.cos(x), "cos": -math.sin(x), "tan": 1 + math.tan(x) ** 2}[name]
        return _combined(number, PLAIN, (value, slope))


def _half(value, reader):
    if any(power % 2 for power in value.dimension):
        raise InputError(f"{reader.told!r} takes a root of {words_of(value.dimension)} that has no meaning.")
    return tuple(power // 2 for power in value.dimension)


def _is_word(character):
    return character.isalnum() or character == "_"


def _combined(number, dimension, *parts):
    """A value made from others, with the derivative by each."""
    slopes = {}
    for value, slope in parts:
        for name, own in value.slopes.items():
            slopes[name] = slopes.get(name, 0.0) + slope * own
    return Value(number, dimension, slopes, bare=bool(parts) and all(value.bare for value, _ in parts))
