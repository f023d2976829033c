"""Operations as sentences on the page: words, blanks and what stands in them."""

from nomogon_core.job.document import numbers_of
from nomogon_core.job.ledger import number_text
from nomogon_core.job.places import plane_words
from nomogon_core.quantity.units import format_angle, format_length
from nomogon_core.sentence import NUMBERS, Choice
from nomogon_core.sketch.dimensions import listed
from nomogon_core.solid.operations import DECLARATIONS, declaration
from nomogon_core.solid.phrases import words_of_rule
from nomogon_core.solid.places import PLACES, Place
from nomogon_core.solid.sentence import BodyBlank
from stages.declared import part_of

NO_SPACE_BEFORE = (",", ".", ";")


def declared(unit):
    """Every operation, plane and sketch as the page writes a new one: its parts with what usually stands in their
    blanks."""
    told = {}
    for kind, one in (DECLARATIONS | PLACES).items():
        told[kind] = {"title": one.title, "told": one.told, "parts": [part_of(part, unit) for part in one.sentence]}
        if isinstance(one, Place):
            told[kind] |= {"command": one.command} | ({"fixed": one.fixed} if one.fixed else {})
    return told


def filled(document, operation, unit):
    """What stands in the blanks of an operation, as its sentence is opened again: numbers as text, a body that it makes
    by its name."""
    told, blanks = {}, declaration(operation.kind).blanks()
    for name, value in operation.blanks.items():
        blank = blanks[name]
        if isinstance(blank, BodyBlank) and blank.when and operation.blanks.get(blank.when) == blank.makes:
            value = document["bodies"].get(value, {}).get("name", value)
        is_number = isinstance(value, dict) and "value" in value
        told[name] = value["typed"] or _written(blank, value, unit) if is_number else value
    return {"kind": operation.kind, "filled": told}


def words(document, operation, unit, numbers_told):
    """An operation's sentence as parts: plain words, and blanks with what stands in them.

    Args:
        numbers_told: {blank: value} that only the solid tells.
    """
    told = []
    found, title = declaration(operation.kind), operation.title
    for part in found.standing(operation.blanks):
        if isinstance(part, str):
            told.append({"kind": "text", "text": part, "tight": part.startswith(NO_SPACE_BEFORE)})
            continue
        value = operation.blanks.get(part.name)
        if part.is_empty(value):
            told.append({"kind": part.kind, "blank": part.name, "value": "", "asks": part.asks, "empty": part.empty})
            continue
        entry = {"kind": part.kind, "blank": part.name, "tight": False, "asks": part.asks}
        if isinstance(part, NUMBERS):
            late = value.get("late")
            number = numbers_told.get(part.name, value["value"])
            entry |= {
                "kind": "number",
                "value": value["typed"] if late and not numbers_told else number_text(number, part.dimension, unit),
                "typed": value["typed"],
                "name": value.get("name", ""),
            }
        elif isinstance(part, Choice) and isinstance(value, str):
            entry |= {"kind": "choice", "value": value, "options": list(part.options.items())}
        else:
            # The first blank that is picked in a sketch says the operation's own name, if it has one.
            entry["value"] = picked_words(document, part.kind, value, title)
            title = "" if isinstance(value, dict) and "sketch" in value else title
        told.append(entry)
    return told, [clause.offer for clause in found.offers(operation.blanks)]


def _written(blank, value, unit):
    """A number as it can be typed again."""
    if blank.dimension == (1, 0):
        return f"{format_length(value['value'], unit=unit)} {unit}"
    return number_text(value["value"], blank.dimension, unit)


def _several(count, word):
    return f"{count} {word}{'s' if count > 1 else ''}"


def picked_words(document, kind, value, title=""):
    """What was picked, in words."""
    if kind == "plane":
        return plane_words(document, value)
    if kind == "axis":
        of = value.get("sketch") and document["sketches"].get(value["sketch"], {}).get("title", "a lost sketch")
        return f"a line of {of}" if of else "an edge"
    if kind == "mesh":
        return value["name"]
    if kind == "operations":
        told = [str(numbers_of(document).get(one, "?")) for one in value["operations"]]
        return f"operation{'s' if len(told) > 1 else ''} {listed(told)}"
    if kind == "sections":
        return _several(len(value["sections"]), "section")
    if kind == "faces":
        body = document["bodies"].get(value["body"], {}).get("name", "a lost body")
        return f"{_several(len(value['names']), 'face')} of {body}"
    if kind == "body":
        return document["bodies"].get(value, {}).get("name", "a lost body")
    if kind == "edges":
        body = document["bodies"].get(value["body"], {}).get("name", "a lost body")
        if value.get("rule"):
            return words_of_rule(value["rule"], body, numbers_of(document))
        return f"{_several(len(value['names']), 'edge')} of {body}"
    count = len(value["names"])
    if value.get("trace"):
        return title or trace_words(document, kind, value["trace"])
    sketch = document["sketches"].get(value["sketch"], {}).get("title", "a lost sketch")
    if title:
        return title
    if kind == "regions":
        return f"{'the region' if count == 1 else f'{count} regions'} of {sketch}"
    return f"{_several(count, 'circle' if kind == 'centres' else 'curve')} of {sketch}"


def trace_words(document, kind, trace):
    """What all curves, or closed marks, of a trace are called: by its picture, with a number where it has several."""
    told = document["traces"].get(trace)
    if told is None:
        return "a lost trace"
    same = [name for name, one in document["traces"].items() if one["picture"] == told["picture"]]
    which = f" (trace {same.index(trace) + 1})" if len(same) > 1 else ""
    picture = document["references"].get(told["picture"], {}).get("name", "a lost picture")
    return f"all {'marks' if kind == 'centres' else 'lines'} of {picture}{which}"


def plane_sentence(document, plane, unit):
    """A made plane as a line of the Build sheet: parts that are ``{"text"}`` or ``{"field", "value", "typed"}``."""
    fields, kind, title = plane["fields"], plane["kind"], plane["title"]

    def called(field):
        return plane_words(document, fields[field])

    def number(field, shown):
        return {"field": field, "value": shown, "typed": fields[field].get("typed", "")}

    if kind == "offset":
        shown = format_length(fields["distance"]["value"], unit=unit)
        return [{"text": f"{title}, offset from {called('from')} by"}, number("distance", shown)]
    if kind == "turned":
        about = {"across": "its level axis", "up": "its upright axis"}
        axis = about[fields["axis"]] if isinstance(fields["axis"], str) else "an edge"
        shown = format_angle(fields["angle"]["value"])
        return [{"text": f"{title}, {called('from')} turned about {axis} by"}, number("angle", shown)]
    if kind == "station":
        far, turn = format_length(fields["distance"]["value"], unit=unit), format_angle(fields["angle"]["value"])
        over = {"text": f"{title}, over {called('from')} by"}
        return [over, number("distance", far), {"text": "turned by"}, number("angle", turn)]
    if kind == "midway":
        return [{"text": f"{title}, midway between {called('first')} and {called('second')}"}]
    return [{"text": f"{title}, through three points"}]
