"""Runs the Build sheet: planes, sketches and operations in their order, each result kept under the hash of exactly
what it read.

Steps form a graph: an operation reads regions of a sketch, edges of a body, numbers; an edit makes anew only what hangs
on it, and the names in a result never depend on which worker made it.
"""

from __future__ import annotations

import time
from collections import OrderedDict
from typing import TYPE_CHECKING, Protocol

import attrs

from nomogon_core.errors import InputError, OperationError
from nomogon_core.quantity.expression import Known, evaluate
from nomogon_core.quantity.units import number_of
from nomogon_core.solid import keeping, kernel, naming, planes
from nomogon_core.solid.asking import Ask, DrawnSketch, State, Suggested, reads
from nomogon_core.solid.brought import followed
from nomogon_core.solid.facts import Step, fingerprint
from nomogon_core.solid.measured import DIMENSIONS, WORDS
from nomogon_core.solid.measuring import read_off
from nomogon_core.solid.operations import declaration
from nomogon_core.solid.sheet import PlaneStep, SketchStep

if TYPE_CHECKING:
    from nomogon_core.solid.bodies import Body
    from nomogon_core.solid.planes import Frame
    from nomogon_core.solid.sheet import BuildSheet

CACHE_ENTRIES, WORTH_SHARING_S, SHOWN_EVERY_S = 400, 0.015, 0.5
NO_PLANE = "The plane of {} is lost: {}"


class Onlooker(Protocol):
    """Who is told how far a long run is."""

    def at(self, share: float) -> None:
        """Such a share of the steps is done."""

    def seen(self, bodies: dict[str, Body]) -> None:
        """The bodies as they are so far; some may be meshes that stand for what is still being made."""


@attrs.frozen
class Built:
    """What came of a Build sheet.

    Attributes:
        bodies: by id.
        steps: a :class:`Step` for each step.
        frames: {sketch or plane id: its :class:`planes.Frame`}.
        sketches: by id, those into which edges were brought, as they followed the solid.
    """

    bodies: dict
    steps: tuple
    frames: dict
    sketches: dict = attrs.field(factory=dict, repr=False)


class Cache:
    """Results by the hash of what they read, least recently used ones dropped; those that took their time are shared
    through a store.

    Args:
        store: kept beyond this process, or None.
    """

    def __init__(self, entries: int = CACHE_ENTRIES, store: keeping.Store | None = None) -> None:
        self.entries, self.store, self.kept = entries, store, OrderedDict()

    def sharing(self, store: keeping.Store | None) -> Cache:
        """The same cache, with another store."""
        other = Cache(self.entries, store)
        other.kept = self.kept
        return other

    def get(self, key: str) -> tuple[dict[str, Body | None], Step] | None:
        if key in self.kept:
            self.kept.move_to_end(key)
            return self.kept[key]
        data = self.store.get(keeping.kept_under(key)) if self.store is not None else None
        return self._keep(key, keeping.unpack(data)) if data else None

    def put(self, key: str, value: tuple[dict[str, Body | None], Step], seconds: float = 0.0) -> None:
        """Keep a result that took so long to make."""
        self._keep(key, value)
        if self.store is not None and seconds >= WORTH_SHARING_S:
            self.store.put(keeping.kept_under(key), value[1].name, keeping.pack(*value))

    def _keep(self, key, value):
        self.kept[key] = value
        while len(self.kept) > self.entries:
            self.kept.popitem(last=False)
        return value


def run(
    sheet: BuildSheet, cache: Cache | None = None, until: int | None = None, onlooker: Onlooker | None = None
) -> Built:
    """All bodies of a Build sheet and what came of each step.

    A failed step changes nothing and says why; the following ones go on from what stood before it.

    Args:
        cache: results of earlier runs; None keeps none.
        until: how many steps to run; None runs all.
        onlooker: is told how far it is, and sees the bodies now and then while it takes its time.
    """
    cache = cache if cache is not None else Cache()
    titles = {name: item["name"] for name, item in sheet.bodies.items()}
    state, told, frames = State(titles, sheet.files, onlooker.seen if onlooker else None), [], {}
    steps, seen = sheet.steps[:until], time.monotonic()
    for number, step in enumerate(steps):
        if onlooker is not None and number:
            onlooker.at(number / len(steps))
            if state.bodies and time.monotonic() - seen > SHOWN_EVERY_S:
                onlooker.seen(state.bodies)
                seen = time.monotonic()
        if isinstance(step, PlaneStep):
            told.append(_plane(step, state, frames))
        elif isinstance(step, SketchStep):
            told.append(_sketch(step, state, frames))
        else:
            told.append(_operation(step, state, sheet, cache))
    followers = {
        step.name: state.sketches[step.name].sketch
        for step in steps
        if isinstance(step, SketchStep) and step.brought and isinstance(state.sketches.get(step.name), DrawnSketch)
    }
    return Built(state.bodies, tuple(told), frames, followers)


def _facts(state):
    return {name: body.facts for name, body in state.bodies.items()}


def _plane(step, state, frames):
    try:
        frames[step.name] = state.planes[step.name] = _made_plane(step, state)
    except OperationError as problem:
        state.planes[step.name] = str(problem)
        return Step(step.name, _facts(state), str(problem))
    return Step(step.name, _facts(state))


def _made_plane(step, state):
    fields = step.fields
    if step.kind == "offset":
        return planes.offset(state.frame(fields["from"]), fields["distance"]["value"])
    if step.kind == "turned":
        frame = state.frame(fields["from"])
        axis = fields["axis"]
        if axis in ("across", "up"):
            return planes.turned(frame, frame.origin, getattr(frame, axis), fields["angle"]["value"])
        body = state.body(axis["body"])
        edge = {name: edge for edge, name in naming.edge_names(body.shape, body.names)}.get(axis["edge"])
        line = kernel.axis_of(edge) if edge is not None else None
        if line is None:
            raise OperationError(
                "The edge that the plane turns about is not straight, or not there any more; choose another."
            )
        return planes.turned(frame, *line, fields["angle"]["value"])
    if step.kind == "station":
        frame, numbers = state.frame(fields["from"]), (fields[field]["value"] for field in ("distance", "angle"))
        return planes.station(frame, fields["at"], *numbers)
    if step.kind == "midway":
        return planes.midway(state.frame(fields["first"]), state.frame(fields["second"]))
    return planes.through([_corner(point, state) for point in fields["points"]])


def _corner(point, state):
    """(x, y, z) of a point in space, or of a corner of a body.

    Raises:
        OperationError: the corner is lost.
    """
    if not isinstance(point, dict):
        return point
    body = state.body(point["body"])
    for place, name in naming.corner_names(body.shape, body.names):
        if name == point["corner"]:
            return place
    raise OperationError("A corner that the plane goes through is not there any more; choose three others.")


def _sketch(step, state, frames):
    try:
        frame = state.frame(step.plane)
    except OperationError as problem:
        why = NO_PLANE.format(step.title, problem)
        state.sketches[step.name] = why
        return Step(step.name, _facts(state), why)
    frames[step.name] = frame
    try:
        sketch = followed(step.sketch, step.brought, frame, state.bodies)
    except OperationError as problem:
        why = f"{step.title}: {problem}"
        state.sketches[step.name] = why
        return Step(step.name, _facts(state), why)
    state.sketches[step.name] = DrawnSketch(step.name, step.title, sketch, frame)
    return Step(step.name, _facts(state))


def _operation(step, state, sheet, cache):
    if step.suppressed:
        return Step(step.name, _facts(state), suppressed=True)
    try:
        declared = declaration(step.kind)
        filled, numbers = _late(step, declared, state, sheet)
    except InputError as problem:
        return Step(step.name, _facts(state), str(problem))
    key = fingerprint(step.name, step.kind, reads(declared, filled, state))
    kept = cache.get(key)
    if kept is None:
        begin = time.perf_counter()
        kept = _attempt(step, declared, filled, state, key)
        cache.put(key, kept, time.perf_counter() - begin)
    changed, told = kept
    if not told.problem:
        state.operations[step.name] = (declared, filled)
    if told.problem and filled.get("result") == "new":
        state.not_made.add(filled["body"])
    bodies = state.bodies | changed
    state.bodies = {name: _looking(body, sheet.bodies.get(name, {})) for name, body in bodies.items() if body}
    return attrs.evolve(told, facts=_facts(state), numbers=numbers)


def _looking(body, look):
    """A body with its name and colour as they are now; these are no part of what it is built from."""
    title, colour = look.get("name", body.name), look.get("colour", body.colour)
    return body if (title, colour) == (body.title, body.colour) else attrs.evolve(body, title=title, colour=colour)


def _late(step, declared, state, sheet):
    """The blanks with numbers worked out that only the solid tells, and those numbers."""
    filled, numbers = dict(step.blanks), {}
    for name, blank in declared.blanks().items():
        value = filled.get(name)
        if blank.dimension is None or not value or not value.get("late"):
            continue
        told = evaluate(value["typed"], sheet.known | sizes_of(state) | _measures_in(value["typed"], state, sheet))
        numbers[name] = number_of(told, value["typed"], blank.dimension)
        filled[name] = {**value, "value": numbers[name], "late": False}
    return (declared.check(filled) if numbers else filled), numbers


def sizes_of(state: State) -> dict[str, Known]:
    """Sizes of all bodies as quantities that an expression can use: ``Plate width``, ``Plate volume`` …"""
    found = {}
    for name, body in state.bodies.items():
        title = state.titles.get(name, name)
        for word, size in zip(("width", "depth", "height"), body.facts.size):
            found[f"{title} {word}"] = Known(size, (1, 0))
        found[f"{title} area"] = Known(body.facts.area_mm2, (2, 0))
        found[f"{title} volume"] = Known(body.facts.volume_mm3, (3, 0))
    return found


def _measures_in(text, state, sheet):
    """The sizes read off the solid that an expression names, as the solid is before its operation.

    Raises:
        OperationError: one is of what is not there yet.
    """
    found = {}
    for name, kept in sheet.measures.items():
        if name in text:
            try:
                found[name] = Known(read_off(state.bodies, kept), DIMENSIONS[WORDS[kept["word"]]])
            except OperationError as problem:
                raise OperationError(f"{name} cannot be read off before this operation. {problem}") from None
    return found


def measures_of(built: Built, sheet: BuildSheet) -> dict[str, float | None]:
    """What the sizes read off the solid are now, by name; None where what they were taken from is lost."""
    told: dict[str, float | None] = {}
    for name, kept in sheet.measures.items():
        try:
            told[name] = read_off(built.bodies, kept)
        except OperationError:
            told[name] = None
    return told


def extremes_of(body: Body) -> list[list[list[str]]]:
    """Names of the faces that reach lowest and highest along x, y and z, first those that run least along it: three
    pairs of lists; none of a mesh."""
    if body.mesh is not None:
        return []
    return [
        [[body.names.get(face) or "" for face in side] for side in pair] for pair in kernel.extreme_faces(body.shape)
    ]


def _attempt(step, declared, filled, state, key):
    try:
        changed = declared.build(Ask(step.name, declared, declared.check(filled), state))
    except Suggested as problem:
        return {}, Step(step.name, problem=str(problem), suggestion=problem.numbers)
    except InputError as problem:
        return {}, Step(step.name, problem=str(problem))
    except Exception as problem:
        if not kernel.is_failure(problem):
            raise
        return {}, Step(
            step.name,
            problem=f"The geometry kernel could not do this ({type(problem).__name__}); change a number or the outline "
            "a little.",
        )
    made = {name: body and attrs.evolve(body, key=fingerprint(key, name)) for name, body in changed.items()}
    return made, Step(step.name)


def flat_faces(bodies: dict[str, Body]) -> list[tuple[str, str, Frame]]:
    """The drawing plane of every flat face: (body id, face name, :class:`planes.Frame`), in the order of the bodies."""
    return [(body.name, name, frame) for body in bodies.values() for name, frame in body.flat_faces().items()]
