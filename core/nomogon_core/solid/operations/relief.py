"""Areas that lie beside each other, each raised to its own height, as one operation: a medal, a badge, a sign."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.geometry.fronts import volume_of_areas
from nomogon_core.sentence import Angle, Clause, Declaration, Length
from nomogon_core.solid.areas import together
from nomogon_core.solid.phrases import RESULT
from nomogon_core.solid.sentence import Regions
from nomogon_core.solid.trying import refuse_draft

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 1.5
MORE = ("second", "third", "fourth", "fifth", "sixth")
SAME_VOLUME, SAME_VOLUME_LEANING = 1e-6, 5e-3


def build(ask: Ask) -> dict[str, Body]:
    frame, areas = _areas(ask)
    if ask.choice("draft"):
        tools, names = _leaning(ask, frame, areas)
    else:
        tools, names = [], ask.no_names()
        shape = ask.kernel.stepped([(loops, height) for loops, height, _ in areas])
        wanted = sum(ask.kernel.area_of(loops) * height for loops, height, _ in areas)
        if shape is None or abs(ask.kernel.volume_properties(shape.solid).Mass() / wanted - 1) > SAME_VOLUME:
            raise OperationError("These areas do not close to one solid; look for gaps between them in the sketch.")
        for face, curve in shape.walls:
            names.put(face, ask.called(f"side({curve})"))
        for number, face in shape.tops:
            names.put(face, ask.called(f"top({areas[number][2]})"))
        tools = [ask.merged(shape.solid, names, "bottom")]
    tools, names = ask.placed(tools, names, frame)
    return ask.put(ask.choice("result"), "body", tools, names)


def _areas(ask):
    """(frame, [(loops, height, name)]) of all areas, each once.

    Raises:
        OperationError: they lie in several sketches, or one has two heights.
    """
    frame, areas, seen = None, [], {}
    for word in ("", *MORE):
        picked, height = f"regions_{word}" if word else "regions", f"height_{word}" if word else "height"
        if not ask.choice(picked):
            continue
        here, regions = ask.regions(picked)
        if frame is not None and here != frame:
            raise OperationError("The areas of a relief lie in one sketch; choose all of them there.")
        frame = here
        for name, loops in zip(ask.choice(picked)["names"], regions):
            if name in seen:
                raise OperationError(
                    f"One area is given two heights, the {seen[name]} and the {word} one; leave it out of one."
                )
            seen[name] = word or "first"
            areas.append((loops, ask.number(height), f"{word or 'first'}{len(areas) + 1}"))
    return frame, areas


def _levels(areas):
    """Areas of one height taken together, so that nothing is to be joined where they meet; each goes by the name of one
    of them."""
    levels = {}
    for loops, height, called in areas:
        levels.setdefault(height, []).append((loops, called))
    told = []
    for height, those in levels.items():
        for place, loops in enumerate(together([loops for loops, _ in those])):
            told.append((loops, height, those[place][1]))
    return told


def _leaning(ask, frame, areas):
    """Each area as a solid whose sides lean outward going down, put together from the highest."""
    angle, solids, names = ask.number("draft"), [], ask.no_names()
    ask.first_picture(
        ask.choice("result"),
        "body",
        lambda: [ask.frustum(loops, height, height * math.tan(angle), frame) for loops, height, _ in areas],
    )
    for loops, height, called in sorted(_levels(areas), key=lambda area: -area[1]):
        solid = ask.leaning_prism(loops, 0.0, height, -angle, names, ("side", "bottom", f"top({called})"), up=False)
        if solid is None:
            refuse_draft(ask, [(loops, height) for loops, height, _ in areas], -angle)
        solids.append(solid)
    if len(solids) == 1:
        return solids, names
    whole = ask.joined(solids, names)
    wanted = volume_of_areas([(loops, height) for loops, height, _ in areas], angle)
    if abs(ask.kernel.volume_properties(whole).Mass() / wanted - 1) > SAME_VOLUME_LEANING:
        raise OperationError("The kernel could not join these areas; change the draft or a height a little.")
    return [whole], names


def _level(word):
    more = f"_{word}" if word else ""
    return (
        Regions(f"regions{more}", asks="Click the areas of this height.", empty="areas"),
        "to",
        Length(f"height{more}", asks="Type how high they reach.", empty="a height", usual="2 mm", usual_in="1/16 in"),
    )


def _further(words):
    """A clause for the next height, that holds the one after it."""
    first, *rest = words
    inner = (_further(rest),) if rest else ()
    return Clause(f"a {first} height", (",", *_level(first), *inner))


DECLARATION = Declaration(
    kind="relief",
    title="Relief",
    shelf="Shape",
    told="Click the areas of the first height.",
    sentence=(
        "Relief of",
        *_level(""),
        _further(MORE),
        Clause("draft", (", sides leaning", Angle("draft", asks="Type the draft.", empty="an angle", usual="3°"))),
        *RESULT,
    ),
    build=build,
    example={
        "regions": {"sketch": "s1", "names": ["region c3"]},
        "height": "3 mm",
        "regions_second": {"sketch": "s1", "names": ["region c5 c7"]},
        "height_second": "2 mm",
        "result": "new",
        "body": "Medal",
    },
)
