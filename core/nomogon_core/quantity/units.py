"""Lengths and angles as people type and read them.

A length is a number with an optional unit; a whole number may be followed by a fraction (``3 1/2 in``),
an inch may be written ``in``, ``inch`` or ``"``, a foot ``ft`` or ``'``. What is typed may be an expression
(:mod:`nomogon_core.quantity.expression`). Nothing is guessed: a bare number is in the unit that the caller names.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from nomogon_core.errors import InputError
from nomogon_core.quantity.expression import ANGLE, LENGTH, LENGTH_UNITS, MM_PER_INCH, PLAIN, evaluate, words_of

if TYPE_CHECKING:
    from nomogon_core.quantity.expression import Known, Value

LONGEST_MM = 100_000.0


def length_of(value: Value, text: str, *, unit: str = "mm") -> float:
    """Millimetres of what an expression came to.

    Args:
        value: a :class:`nomogon_core.quantity.expression.Value`; ``unit`` applies when it has none at all.

    Raises:
        InputError: it is no length, or absurdly long.
    """
    if value.dimension not in (LENGTH, PLAIN) or (value.dimension == PLAIN and not value.bare):
        if value.dimension[1] == 0 and value.dimension[0] not in (0, 1):
            raise InputError(f"{text!r} is not a length: its units multiply to a power of {value.dimension[0]}.")
        raise InputError(f"{text!r} comes to {words_of(value.dimension)}, and a length was expected.")
    millimetres = value.number * (1.0 if value.dimension == LENGTH else LENGTH_UNITS[unit])
    if not math.isfinite(millimetres) or abs(millimetres) > LONGEST_MM:
        raise InputError(f"{text!r} is longer than {LONGEST_MM / 1000:g} m, more than any part here can be.")
    return millimetres


def angle_of(value: Value, text: str) -> float:
    """Radians of what an expression came to, degrees where it has no unit.

    Raises:
        InputError: it is no angle.
    """
    if value.dimension == PLAIN and value.bare:
        return math.radians(value.number)
    if value.dimension != ANGLE:
        raise InputError(f"{text!r} is not an angle: it comes to {words_of(value.dimension)}.")
    return value.number


def parse_length(text: float | str, known: dict[str, Known] | None = None, *, unit: str = "mm") -> float:
    """Millimetres of a length as typed.

    Args:
        text: what was typed; ``unit`` applies when no unit is written at all.
        known: quantities that it may use, see :mod:`nomogon_core.quantity.expression`.
        unit: ``"mm"`` or ``"in"``.

    Raises:
        InputError: the text is no length, is not finite, or is absurdly long.
    """
    text = str(text).strip()
    if not text:
        raise InputError('A length is missing; write for example 84, 3 1/2 in, 3.48" or 91.2 mm.')
    return length_of(evaluate(text, known, unit=unit), text, unit=unit)


def parse_positive_length(text: float | str, what: str, *, unit: str = "mm") -> float:
    """Like :func:`parse_length`, for a length that must be more than zero.

    Raises:
        InputError: also when the length is zero or negative; the sentence names ``what``.
    """
    millimetres = parse_length(text, unit=unit)
    if millimetres <= 0:
        raise InputError(f"{what} must be longer than zero; {str(text).strip()!r} came.")
    return millimetres


def parse_angle(text: str, known: dict[str, Known] | None = None) -> float:
    """Radians of an angle as typed, degrees when no unit is written.

    Raises:
        InputError: the text is no angle.
    """
    text = str(text).strip()
    try:
        value = evaluate(text, known)
    except InputError as problem:
        if known:
            raise
        raise InputError(f"{text!r} is not an angle; write for example 45 or 45°.") from problem
    return angle_of(value, text)


def format_length(millimetres: float, *, unit: str = "mm", digits: int | None = None) -> str:
    """A length as shown: two decimals in millimetres, four in inches, a true minus sign."""
    value = millimetres if unit == "mm" else millimetres / MM_PER_INCH
    if digits is None:
        digits = 2 if unit == "mm" else 4
    return f"{round(value, digits) + 0.0:.{digits}f}".replace("-", "\N{MINUS SIGN}")


def format_short(millimetres: float, *, unit: str = "mm") -> str:
    """A length as a setting is typed: to four decimals, without zeros at its end."""
    text = format_length(millimetres, unit=unit, digits=4).replace("\N{MINUS SIGN}", "-")
    return text.rstrip("0").rstrip(".")


def format_angle(radians: float, digits: int = 1) -> str:
    return f"{round(math.degrees(radians), digits) + 0.0:.{digits}f}°".replace("-", "\N{MINUS SIGN}")


def number_of(value: Value, text: str, dimension: tuple[int, int]) -> float:
    """A number of a dimension from what an expression came to: millimetres, radians, or a plain number.

    Raises:
        InputError: it is of another dimension.
    """
    if dimension == ANGLE:
        return angle_of(value, text)
    if dimension == LENGTH:
        return length_of(value, text)
    if value.dimension != PLAIN:
        raise InputError(f"A plain number is wanted here, for example 3; {text!r} came.")
    return value.number
