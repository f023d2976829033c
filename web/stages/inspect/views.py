"""The Inspect stage: what is known of the part so far."""

from nomogon_core.quantity.units import format_length
from nomogon_core.solid.facts import is_sound
from stages.overviews import view_of


def page_context(here):
    """What the page of this stage holds besides its frame."""
    view = view_of(here)
    bodies = (view.result or {}).get("bodies", {})
    return {"checks": [_check(view, name, facts) for name, facts in bodies.items()]}


def _check(view, name, facts):
    low, high = facts["box"]
    return {
        "name": view.document["bodies"][name]["name"],
        "sound": is_sound(facts, apart=name in view.build.apart),
        "volume": f"{facts['volume_mm3'] / 1000:.3f}",
        "size": " × ".join(format_length(b - a) for a, b in zip(low, high)),
    }
