"""Declared sentences as a page writes them."""

from nomogon_core.sentence import Angle, Blank, Choice, Clause, Count, Factor, Length, When
from nomogon_core.solid.sentence import BodyBlank, PlaneBlank


def part_of(part, unit):
    """A part of a sentence as plain data: words, a blank, or parts that stand only at times."""
    if isinstance(part, When):
        return {"when": part.choice, "values": list(part.values), "parts": [part_of(one, unit) for one in part.parts]}
    if isinstance(part, Clause):
        return {"clause": part.offer, "first": part.first.name, "parts": [part_of(one, unit) for one in part.parts]}
    if not isinstance(part, Blank):
        return {"text": part}
    told = {"blank": part.name, "kind": part.kind, "asks": part.asks, "empty": part.empty}
    if isinstance(part, Length):
        told["usual"] = part.usual_in if unit == "in" else part.usual
    if isinstance(part, (Angle, Count, Factor)):
        told["usual"] = part.usual
    if isinstance(part, Choice):
        told["options"] = [[value, words] for value, words in part.options.items()]
    if isinstance(part, PlaneBlank):
        told["face"] = part.of_face
    if isinstance(part, BodyBlank):
        told |= {"when": part.when, "makes": part.makes}
    return told
