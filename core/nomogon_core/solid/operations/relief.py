"""Areas that lie beside each other, each raised to its own height, as one operation: a medal, a badge, a sign."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import shapely

from nomogon_core.errors import OperationError
from nomogon_core.geometry.fronts import rings_of, volume_of_areas
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
SAME_VOLUME, SAME_VOLUME_LEANING, COVERS_MM, KEEPS_MM = 1e-6, 5e-3, 1e-3, 0.02


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
    """Areas of one height taken together, so that nothing is to be joined where they meet; each goes by the name of the
    first of those in it."""
    levels = {}
    for loops, height, called in areas:
        levels.setdefault(height, []).append((loops, called))
    told = []
    for height, those in levels.items():
        for loops in together([loops for loops, _ in those]):
            around = _curves(loops)
            told.append((loops, height, next(called for area, called in those if around & _curves(area))))
    return told


def _curves(loops):
    """Ids of the curves of an area."""
    return {name for loop in loops for name, _ in loop}


def _standing(areas, slope):
    """What is to be built of areas of several heights: (loops, foot, height, name) of each. A hole that higher areas
    fill is left out, an area that another one of its height covers too, and one that stays on a lower one all the way
    down to it stands there: what comes of it is the same.

    Args:
        slope: by how much sides lean outward for each millimetre down.
    """
    if slope <= 0:  # sides that lean inward going down leave room below
        return [(loops, 0.0, height, called) for loops, height, called in areas]
    told = []
    whole = [(shapely.Polygon(*rings_of(loops)).buffer(COVERS_MM), height) for loops, height, _ in areas]
    for loops, height, called in areas:
        filled = shapely.union_all([shape for shape, other in whole if other >= height])
        kept = [loops[0], *(loop for loop in loops[1:] if not filled.covers(shapely.Polygon(rings_of([loop])[0])))]
        told.append((kept, height, called))
    shapes = [shapely.Polygon(*rings_of(loops)) for loops, *_ in told]
    standing = []
    for index, (loops, height, called) in enumerate(told):
        outline, foot, covered = shapely.Polygon(rings_of(loops[:1])[0]), 0.0, False
        for other, (_, low, _) in enumerate(told):
            if other == index or low > height:
                continue
            if shapes[other].covers(outline.buffer((height - low) * slope + (KEEPS_MM if low < height else 0.0))):
                foot, covered = max(foot, low), covered or low == height
        if not covered:
            standing.append((loops, foot, height, called))
    return standing


def _leaning(ask, frame, areas):
    """Each area as a solid whose sides lean outward going down, put together from the highest."""
    angle, solids, names = ask.number("draft"), [], ask.no_names()
    ask.first_picture(
        ask.choice("result"),
        "body",
        lambda: [ask.frustum(loops, height, height * math.tan(angle), frame) for loops, height, _ in areas],
    )
    standing = sorted(_standing(_levels(areas), math.tan(angle)), key=lambda one: -one[2])
    for loops, foot, height, called in standing:
        roles = "side", "bottom", f"top({called})"
        solid = ask.leaning_prism(loops, foot, height - foot, -angle, names, roles, up=False)
        if solid is None:
            refuse_draft(ask, [(loops, height - foot) for loops, foot, height, _ in standing], -angle)
        solids.append(solid)
    if len(solids) == 1:
        return solids, names
    wanted = volume_of_areas([(loops, height) for loops, height, _ in areas], angle)
    for join in (ask.joined, _one_by_one(ask)):
        whole = join(solids, names)
        facts = ask.kernel.facts_of(whole)
        if facts.valid and abs(facts.volume_mm3 / wanted - 1) <= SAME_VOLUME_LEANING:
            return [whole], names
    raise OperationError("The kernel could not join these areas; change the draft or a height a little.")


def _one_by_one(ask):
    """Joins solids one after another, which at times works where all at once does not."""

    def join(solids, names):
        whole = solids[0]
        for solid in solids[1:]:
            whole = ask.joined([whole, solid], names)
        return whole

    return join


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
