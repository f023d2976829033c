"""Runs the Build sheet: one operation after the other, each result kept under the hash of its inputs."""

from collections import OrderedDict

import attrs

from nomogon_core.errors import OperationError
from nomogon_core.sketch.model import ROUND, Sketch
from nomogon_core.sketch.regions import find_findings, find_regions, loop_curves, match_region
from nomogon_core.solid import kernel, naming, planes
from nomogon_core.solid.kernel import ShapeMap
from nomogon_core.solid.operations import Facts, Step, check, fingerprint, to_json

CACHE_ENTRIES = 400
OVERSHOOT_MM = 1.0
FILLET_BISECTIONS = 7


@attrs.frozen
class Body:
    """A named shape with the names of its faces and its facts."""

    name: str
    shape: object = attrs.field(repr=False)
    names: ShapeMap = attrs.field(repr=False)
    facts: Facts

    @property
    def heights(self):
        """Lowest and highest z."""
        (_, _, low), (_, _, high) = self.facts.box
        return low, high


class Cache:
    """Results by the hash of their inputs, least recently used ones dropped."""

    def __init__(self, entries=CACHE_ENTRIES):
        self.entries, self.kept = entries, OrderedDict()

    def get(self, key):
        if key in self.kept:
            self.kept.move_to_end(key)
            return self.kept[key]
        return None

    def put(self, key, value):
        self.kept[key] = value
        while len(self.kept) > self.entries:
            self.kept.popitem(last=False)


def run(sketch, operations, cache=None):
    """All bodies of a Build sheet and what came of each operation.

    A failed operation changes nothing and says why; the following ones go on from what stood before it.

    Args:
        sketch: the solved sketch on the base plane.
        operations: in order.
        cache: results of earlier runs; None keeps none.

    Returns:
        bodies by name, and a Step for each operation.
    """
    cache = cache or Cache()
    bodies, steps = {}, []
    inputs = _Inputs(sketch)
    key = ""
    for operation in operations:
        if operation.suppressed:
            steps.append(Step(operation.name, _facts(bodies), suppressed=True))
            continue
        key = fingerprint(key, to_json(operation) | {"title": ""}, inputs.used_by(operation))
        kept = cache.get(key)
        if kept is None:
            kept = _attempt(operation, bodies, inputs)
            cache.put(key, kept)
        bodies, step = kept
        steps.append(step)
    return bodies, steps


class _Inputs:
    """The sketch as operations see it: its regions by name, found once."""

    def __init__(self, sketch: Sketch):
        self.sketch = sketch
        self._regions = None

    @property
    def regions(self):
        if self._regions is None:
            self._regions = find_regions(self.sketch)
        return self._regions

    def region(self, name):
        region = match_region(self.regions, name, self.sketch.curves)
        if region is None:
            told = find_findings(self.sketch)
            why = f" {told[0].sentence}" if told else ""
            raise OperationError(
                f"A region that this operation used is not closed any more, or has been divided; choose it again.{why}"
            )
        return region

    def loops(self, region):
        return [
            [(name, curve) for (name, _), curve in zip(loop, loop_curves(self.sketch, loop))] for loop in region.loops()
        ]

    def used_by(self, operation):
        """Plain data of all geometry that an operation reads, for its hash."""
        if operation.kind == "extrude":
            found = [match_region(self.regions, name, self.sketch.curves) for name in operation.regions]
            return [
                region and [[[name, str(curve)] for name, curve in loop] for loop in self.loops(region)]
                for region in found
            ]
        return [str(self.center(name)) for name in operation.centers]

    def center(self, name):
        if name in self.sketch.points:
            return self.sketch.points[name]
        curve = self.sketch.curves.get(name)
        return self.sketch.points[curve.points[0]] if curve and curve.kind in ROUND else None


def _facts(bodies):
    return {name: body.facts for name, body in bodies.items()}


def _attempt(operation, bodies, inputs):
    try:
        changed = _BUILD[operation.kind](check(operation), bodies, inputs)
    except _TooLarge as problem:
        return bodies, Step(operation.name, _facts(bodies), str(problem), suggestion=problem.largest)
    except OperationError as problem:
        return bodies, Step(operation.name, _facts(bodies), str(problem))
    except Exception as problem:
        if not kernel.is_failure(problem):
            raise
        return bodies, Step(
            operation.name,
            _facts(bodies),
            f"The geometry kernel could not do this ({type(problem).__name__}); change a number or the outline a "
            "little.",
        )
    return changed, Step(operation.name, _facts(changed))


class _TooLarge(OperationError):
    def __init__(self, sentence, largest):
        super().__init__(sentence)
        self.largest = largest


def _body(bodies, operation):
    if operation.body not in bodies:
        raise OperationError(f"There is no body {operation.body} yet; extrude a region as a new body first.")
    return bodies[operation.body]


def _accept(name, shape, names, before=None, *, grows=None):
    """A body from a result that has been looked at.

    Raises:
        OperationError: the result is empty, not valid, or its volume went the wrong way.
    """
    if kernel.is_empty(shape):
        raise OperationError("Nothing would be left of the body.")
    facts = kernel.facts_of(shape)
    if facts.solids == 0 or facts.volume_mm3 <= 1e-9:
        raise OperationError("Nothing would be left of the body.")
    if not facts.valid or not kernel.is_finite(facts):
        raise OperationError(
            "The result would not be a closed, valid solid; look for crossing or almost touching curves."
        )
    if before is not None and grows is not None:
        slack = kernel.VOLUME_SLACK * max(before.facts.volume_mm3, 1.0)
        difference = facts.volume_mm3 - before.facts.volume_mm3
        if (grows and difference < -slack) or (not grows and difference > slack):
            raise OperationError(
                "The kernel's result has an impossible volume, so it was not taken; move the operation by a hair and "
                "try again."
            )
    return Body(name, shape, names, facts)


def _extrude(operation, bodies, inputs):
    low, height = operation.start, operation.length
    if operation.through:
        bottom, top = _body(bodies, operation).heights
        low, height = bottom - OVERSHOOT_MM, top - bottom + 2 * OVERSHOOT_MM
    tools, names = [], ShapeMap()
    for region_name in operation.regions:
        face, named = kernel.face_of(inputs.loops(inputs.region(region_name)), low)
        maker = kernel.prism(face, height)
        for edge, curve in named:
            for side in kernel.items(maker.Generated(edge)):
                names.put(side, f"{operation.name}.side({curve})")
        names.put(maker.FirstShape(), f"{operation.name}.bottom")
        names.put(maker.LastShape(), f"{operation.name}.top")
        tools.append(maker.Shape())
    if operation.mode == "new" or (operation.mode == "add" and operation.body not in bodies):
        return _new_body(operation, bodies, tools, names)
    return _combine(operation.mode, _body(bodies, operation), tools, names, bodies)


def _new_body(operation, bodies, tools, names):
    if operation.body in bodies:
        raise OperationError(f"There is a body {operation.body} already; add to it, or name the new one differently.")
    shape = tools[0]
    if len(tools) > 1:
        joined = kernel.boolean("add", tools[0], tools[1:])
        names, shape = naming.carried(tools, names, joined, joined.Shape()), joined.Shape()
    return {**bodies, operation.body: _accept(operation.body, shape, names)}


def _combine(mode, body, tools, tool_names, bodies):
    for face in kernel.faces_of(body.shape):
        name = body.names.get(face)
        if name is not None:
            tool_names.put(face, name)
    combined = kernel.boolean(mode, body.shape, tools)
    shape = combined.Shape()
    names = naming.carried([body.shape, *tools], tool_names, combined, shape)
    accepted = _accept(body.name, shape, names, body, grows=mode == "add")
    if (
        mode == "cut"
        and abs(accepted.facts.volume_mm3 - body.facts.volume_mm3) <= kernel.VOLUME_SLACK * body.facts.volume_mm3
    ):
        raise OperationError(f"The cut does not touch {body.name}; look at its start, its length and its place.")
    return {**bodies, body.name: accepted}


def _hole(operation, bodies, inputs):
    body = _body(bodies, operation)
    bottom, top = body.heights
    low = bottom - OVERSHOOT_MM if operation.through else top - operation.depth
    tools, names = [], ShapeMap()
    for name in operation.centers:
        place = inputs.center(name)
        if place is None:
            raise OperationError(f"The centre {name} of this hole is not in the sketch any more; choose another.")
        maker = kernel.cylinder(*place, low, top + OVERSHOOT_MM - low, operation.diameter / 2)
        for face in kernel.faces_of(maker.Shape()):
            way = kernel.face_normal_z(face)
            role = "wall" if way == 0 else "floor" if way < 0 else "mouth"
            names.put(face, f"{operation.name}.{role}({name})")
        tools.append(maker.Shape())
    return _combine("cut", body, tools, names, bodies)


def flat_faces(bodies):
    """The drawing plane of every flat face: (body, face name, :class:`planes.Frame`), in the order of the bodies."""
    found = {}
    for body in bodies.values():
        for face in kernel.faces_of(body.shape):
            name, plane = body.names.get(face), kernel.plane_of(face)
            if name and plane:
                found.setdefault((body.name, name), planes.frame_of(*plane))
    return [(*key, frame) for key, frame in found.items()]


def edges_by_rule(body, rule):
    """Edges of a body by a rule of EDGE_RULES: top and bottom edges bound the outermost flat faces."""
    if rule == "upright":
        return [edge for edge, _ in naming.edge_names(body.shape, body.names) if _is_upright(edge)]
    bottom, top = body.heights
    level = top if rule == "top" else bottom
    chosen = []
    for edge, _ in kernel.edges_with_faces(body.shape):
        points = kernel.edge_points(edge, chord=1.0)
        if abs(points[:, 2] - level).max() < 1e-6:
            chosen.append(edge)
    return chosen


def _is_upright(edge):
    points = kernel.edge_points(edge, chord=1.0)
    run = abs(points[-1] - points[0])
    return run[2] > 1e-6 and run[:2].max() < 1e-6


def _fillet(operation, bodies, inputs):
    body = _body(bodies, operation)
    edges = _chosen_edges(operation, body)
    result = _try_fillet(body, edges, operation.radius)
    if result is None:
        largest = _largest_radius(body, edges, operation.radius)
        if largest is None:
            raise OperationError("These edges cannot be rounded; choose fewer of them.")
        raise _TooLarge(
            f"Radius {operation.radius:.2f} mm is too large for these edges: at most {largest:.2f} mm works.", largest
        )
    maker, shape, facts = result
    names = naming.carried([body.shape], body.names, maker, shape)
    called = kernel.ShapeMap()
    for edge, name in naming.edge_names(body.shape, body.names):
        called.put(edge, name)
    for edge in edges:
        for face in kernel.items(maker.Generated(edge)):
            names.put(face, naming.round_name(operation.name, called.get(edge, "?")))
    meeting = kernel.faces_at_vertices(body.shape)
    for vertex in kernel.vertices_of(body.shape):
        for face in kernel.items(maker.Generated(vertex)):
            around = sorted(body.names.get(one, "?") for one in kernel.items(meeting.FindFromKey(vertex)))
            names.put(face, f"{operation.name}.corner({' & '.join(around)})")
    lost = [face for face in kernel.faces_of(shape) if names.get(face) is None]
    for number, face in enumerate(lost, 1):
        names.put(face, f"{operation.name}.face({number})")
    return {**bodies, body.name: Body(body.name, shape, names, facts)}


def _chosen_edges(operation, body):
    chosen = []
    lost = []
    named = None
    for wanted in operation.edges:
        if wanted in ("top", "bottom", "upright"):
            chosen += edges_by_rule(body, wanted)
            continue
        called = naming.old_edge_names if naming.is_old(operation.edges) else naming.edge_names
        named = named or {name: edge for edge, name in called(body.shape, body.names)}
        if wanted in named:
            chosen.append(named[wanted])
        else:
            lost.append(wanted)
    if lost:
        raise OperationError(
            f"{len(lost)} of the chosen edges {'is' if len(lost) == 1 else 'are'} not there any more "
            f"({lost[0]}); click the edges again."
        )
    if not chosen:
        raise OperationError("There is no such edge on the body; choose edges by clicking them.")
    return chosen


def _try_fillet(body, edges, radius):
    try:
        maker = kernel.fillet(body.shape, edges, radius)
    except OperationError:
        return None
    if not maker.IsDone():
        return None
    shape = maker.Shape()
    if kernel.is_empty(shape):
        return None
    facts = kernel.facts_of(shape)
    return (maker, shape, facts) if facts.valid and 0 < facts.volume_mm3 < 2 * body.facts.volume_mm3 else None


def _largest_radius(body, edges, too_large):
    """Largest radius that works, rounded down to 0.05 mm, by bisection; None when none does."""
    low, high = 0.0, min(too_large, max(body.facts.size))
    for _ in range(FILLET_BISECTIONS):
        middle = (low + high) / 2
        if _try_fillet(body, edges, middle):
            low = middle
        else:
            high = middle
    largest = int(low * 20) / 20
    return largest if largest > 0 else None


_BUILD = {"extrude": _extrude, "hole": _hole, "fillet": _fillet}
