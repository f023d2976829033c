"""How sure the part is by its picture, as a finding: its least sure size, and the known length that helps that most."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.inspect.telling import Finding
from nomogon_core.job.measuring import suggest
from nomogon_core.job.sizes import least_sure

if TYPE_CHECKING:
    from nomogon_core.job.overview import Overview
    from nomogon_core.reference.models import Suggestion

WORDS = ("width", "depth", "height")


def how_sure(view: Overview) -> Finding | None:
    """The finding; None where no size of the part comes of a picture.

    Args:
        view: with the result of its rebuild, and the picture that the size came of as the one worked on, if a length
            is to be proposed.
    """
    told = least_sure(view)
    if told is None:
        return None
    found = _suggested(view, told)
    title = view.document["bodies"][told.body]["name"]
    what = f"The {WORDS[told.axis]} of {title}, {told.size:.2f} mm"
    sentence = f"{what}, is its least sure size: by picture and gauge, 95 %."
    remedy = None
    if found is not None:
        share = 1 - found.after_u95_mm / found.before_u95_mm
        sentence += (
            f" A caliper reading of about {found.about_mm:.1f} mm, where Reference shows it, would take "
            f"{100 * share:.0f} % off what is unsure about the scale there."
        )
        remedy = {"words": "Measure that in Reference", "stage": "reference", "tool": "sure"}
    severity = "know" if remedy else "well"
    return Finding(f"sure {told.body}", told.body, severity, "Sure to", f"±{told.u95:.3f} mm", sentence, remedy=remedy)


def length_for_size(view: Overview) -> Suggestion | None:
    """The known length that would help the least sure size of the part most, where that came of the picture worked
    on."""
    told = least_sure(view)
    return _suggested(view, told) if told is not None else None


def _suggested(view, told):
    return suggest(view, told.ends) if told.picture == view.picture_id else None
