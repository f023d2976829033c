"""Reading what a page sent, so that nonsense becomes a sentence."""

import json
import math

from nomogon_core.errors import InputError
from nomogon_core.quantity.units import format_short

UNITS = ("mm", "in")
UNREADABLE = "The page sent something that cannot be read; load it again."


def sent_by(request):
    """The JSON object in a request's body.

    Raises:
        InputError: there is none.
    """
    try:
        sent = json.loads(request.body)
    except (json.JSONDecodeError, UnicodeDecodeError):
        raise InputError(UNREADABLE) from None
    if not isinstance(sent, dict):
        raise InputError(UNREADABLE)
    return sent


def whole_from(sent, name):
    """A whole number by name, or None where none was sent."""
    value = sent.get(name)
    return value if isinstance(value, int) else None


def number_from(sent, name, otherwise=None):
    """A finite number by name.

    Raises:
        InputError: it is missing or is none.
    """
    value = sent.get(name, otherwise)
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not math.isfinite(value):
        raise InputError(f"The page sent no number for {name}; load it again.")
    return float(value)


def unit_of(request):
    """The unit that this user reads, millimetres unless chosen otherwise."""
    return request.session.get("unit", "mm")


def shown(value, own_unit, unit):
    """A number of a setting, of millimetres in the unit that is read, without zeros at its end."""
    return format_short(value, unit=unit if own_unit == "mm" else "mm")


def uploaded(request, name):
    """The file that a page sent under a name.

    Raises:
        InputError: none came.
    """
    upload = request.FILES.get(name)
    if upload is None:
        raise InputError("No file came; choose it again.")
    return upload
