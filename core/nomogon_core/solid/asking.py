"""What an operation may ask while it builds: its blanks, resolved against the sketches and bodies as they are then."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import attrs
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.TopoDS import TopoDS_Edge, TopoDS_Shape

from nomogon_core.errors import OperationError
from nomogon_core.sketch.model import ROUND
from nomogon_core.sketch.regions import find_findings, find_regions, loop_curves, match_region
from nomogon_core.solid import bodies as made
from nomogon_core.solid import kernel, naming, selection
from nomogon_core.solid.kernel import ShapeMap

if TYPE_CHECKING:
    from nomogon_core.sentence import Declaration
    from nomogon_core.sketch.model import Sketch
    from nomogon_core.sketch.regions import Region
    from nomogon_core.solid.bodies import Body
    from nomogon_core.solid.facts import Facts
    from nomogon_core.solid.planes import Frame


class Suggested(OperationError):
    """An operation that would work with another number."""

    def __init__(self, sentence: str, numbers: dict[str, float]) -> None:
        super().__init__(sentence)
        self.numbers = numbers


class DrawnSketch:
    """A sketch where it lies at its step: its frame in space, and its regions by name, found once."""

    def __init__(self, name: str, title: str, sketch: Sketch, frame: Frame) -> None:
        self.name, self.title, self.sketch, self.frame = name, title, sketch, frame
        self._regions: tuple[Region, ...] | None = None

    @property
    def regions(self) -> tuple[Region, ...]:
        if self._regions is None:
            self._regions = find_regions(self.sketch)
        return self._regions

    def region(self, name: str) -> list[list[tuple]]:
        """Loops of (curve id, curve) around a region.

        Raises:
            OperationError: it is not there any more.
        """
        region = match_region(self.regions, name, self.sketch.curves)
        if region is None:
            told = find_findings(self.sketch)
            why = f" {told[0].sentence}" if told else ""
            raise OperationError(
                f"A region of {self.title} that this operation used is not closed any more, or has been divided; "
                f"choose it again.{why}"
            )
        return self._loops(region)

    def _loops(self, region):
        return [
            [(name, curve) for (name, _), curve in zip(loop, loop_curves(self.sketch, loop))] for loop in region.loops()
        ]

    def centre(self, name: str) -> tuple[float, float] | None:
        """(x, y) of a point, or of the centre of a round curve; None where it is not there any more."""
        if name in self.sketch.points:
            return self.sketch.points[name]
        curve = self.sketch.curves.get(name)
        return self.sketch.points[curve.points[0]] if curve and curve.kind in ROUND else None

    def read_of_region(self, name: str) -> Any:
        """Plain data of everything that building over a region depends on."""
        region = match_region(self.regions, name, self.sketch.curves)
        return region and [[[curve_id, str(curve)] for curve_id, curve in loop] for loop in self._loops(region)]


class State:
    """The sketches and bodies at a step."""

    def __init__(self, titles: dict[str, str]) -> None:
        self.titles = titles
        self.sketches, self.planes, self.bodies = {}, {}, {}
        self.not_made = set()

    def sketch(self, name: str) -> DrawnSketch:
        """Raises: OperationError: there is no such sketch before this step, or it has lost its plane."""
        found = self.sketches.get(name)
        if found is None:
            raise OperationError("The sketch that this operation used stands later in the Build sheet, or is gone.")
        if isinstance(found, str):
            raise OperationError(found)
        return found

    def body(self, name: str) -> Body:
        """Raises: OperationError: there is no such body yet."""
        if name not in self.bodies:
            called = self.titles.get(name, name)
            if name in self.not_made:
                raise OperationError(f"{called} is not built, because the operation that makes it fails.")
            raise OperationError(f"There is no body {called} yet; extrude a region as a new body first.")
        return self.bodies[name]


def _read_picks(value, state, read):
    sketch = state.sketches.get(value["sketch"])
    if not isinstance(sketch, DrawnSketch):
        return None
    return [attrs.astuple(sketch.frame), [read(sketch, name) for name in value["names"]]]


def _read_body(name, state):
    body = state.bodies.get(name)
    return body and body.key


READS = {
    "regions": lambda value, state: _read_picks(value, state, DrawnSketch.read_of_region),
    "centres": lambda value, state: _read_picks(value, state, lambda sketch, name: str(sketch.centre(name))),
    "edges": lambda value, state: [_read_body(value["body"], state), value.get("names"), value.get("rule")],
    "body": _read_body,
}


def reads(declaration: Declaration, filled: dict[str, Any], state: State) -> dict[str, list[Any]]:
    """Plain data of everything that an operation reads, for the hash of its result: numbers, geometry with the ids
    that its names will hold, and the hashes of bodies."""
    told = {}
    for name, blank in declaration.blanks().items():
        value = filled.get(name)
        if value is None:
            continue
        more = READS[blank.kind](value, state) if blank.kind in READS else None
        told[name] = [value["value"] if blank.kind in ("length", "angle") else value, more]
    return told


class Ask:
    """The blanks of one operation, and ways to put what it builds into bodies."""

    kernel = kernel

    def __init__(self, step: str, declaration: Declaration, filled: dict[str, Any], state: State) -> None:
        self.step, self.declaration, self.filled, self.state = step, declaration, filled, state

    def number(self, blank: str) -> float:
        """A number in millimetres or radians; 0 where its clause does not stand."""
        return self.filled[blank]["value"] if self.filled.get(blank) else 0.0

    def choice(self, blank: str) -> Any:
        return self.filled.get(blank)

    def body(self, blank: str) -> Body:
        return self.state.body(self.filled[blank])

    def regions(self, blank: str) -> tuple[Frame, list[list]]:
        """(frame, loops of each region) of the regions picked."""
        picked = self.filled[blank]
        sketch = self.state.sketch(picked["sketch"])
        return sketch.frame, [sketch.region(name) for name in picked["names"]]

    def centres(self, blank: str) -> tuple[Frame, list[tuple]]:
        """(frame, [(id, (x, y))]) of the centres picked.

        Raises:
            OperationError: one of them is gone.
        """
        picked = self.filled[blank]
        sketch = self.state.sketch(picked["sketch"])
        places = [(name, sketch.centre(name)) for name in picked["names"]]
        for name, place in places:
            if place is None:
                raise OperationError(f"The centre {name} of this hole is not in the sketch any more; choose another.")
        return sketch.frame, places

    def edges(self, blank: str) -> tuple[Body, list[TopoDS_Edge]]:
        """(body, edges) picked one by one or by rule."""
        picked = self.filled[blank]
        body = self.state.body(picked["body"])
        return body, selection.chosen_edges(body, picked.get("names") or (), picked.get("rule"))

    def heights(self, body: Body, frame: Frame) -> tuple[float, float]:
        return body.heights(frame)

    def no_names(self) -> ShapeMap:
        return ShapeMap()

    def called(self, role: str) -> str:
        """Name of a face by its role in this operation."""
        return f"{self.step}.{role}"

    def suggest(self, sentence: str, **numbers: Any) -> None:
        """Fail with numbers that would work."""
        raise Suggested(sentence, numbers)

    def placed(self, shapes: list[TopoDS_Shape], names: ShapeMap, frame: Frame) -> tuple[list[TopoDS_Shape], ShapeMap]:
        """Shapes built on Plan moved to a frame, their faces' names with them."""
        moved, moved_names = [], ShapeMap()
        for shape in shapes:
            there = kernel.placed(shape, frame)
            for before, after in zip(kernel.faces_of(shape), kernel.faces_of(there)):
                if names.get(before) is not None:
                    moved_names.put(after, names.get(before))
            moved.append(there)
        return moved, moved_names

    def put(self, mode: str, blank: str, tools: list[TopoDS_Shape], names: ShapeMap) -> dict[str, Body]:
        """Bodies changed by tools: a new one, or one that is added to or cut.

        Raises:
            OperationError: the result cannot be taken, or a cut touches nothing.
        """
        name = self.filled[blank]
        if mode == "new" or (mode == "add" and name not in self.state.bodies):
            return {name: self._new(name, tools, names)}
        return {name: self._combined(mode, self.state.body(name), tools, names)}

    def _new(self, name, tools, names):
        title = self.state.titles.get(name, name)
        if name in self.state.bodies:
            raise OperationError(f"There is a body {title} already; add to it, or name the new one differently.")
        shape = tools[0]
        if len(tools) > 1:
            joined = kernel.boolean("add", tools[0], tools[1:])
            names, shape = naming.carried(tools, names, joined, joined.Shape()), joined.Shape()
        return made.accepted(name, title, shape, names)

    def _combined(self, mode, body, tools, tool_names):
        for face in kernel.faces_of(body.shape):
            name = body.names.get(face)
            if name is not None:
                tool_names.put(face, name)
        combined = kernel.boolean(mode, body.shape, tools)
        shape = combined.Shape()
        names = naming.carried([body.shape, *tools], tool_names, combined, shape)
        result = made.accepted(body.name, body.title, shape, names, body, grows=mode == "add")
        moved = abs(result.facts.volume_mm3 - body.facts.volume_mm3)
        if mode == "cut" and moved <= kernel.VOLUME_SLACK * body.facts.volume_mm3:
            raise OperationError(f"The cut does not touch {body.title}; look at its start, its length and its place.")
        return result

    def rounded(
        self, body: Body, edges: list[TopoDS_Edge], maker: BRepFilletAPI_MakeFillet, shape: TopoDS_Shape, facts: Facts
    ) -> dict[str, Body]:
        """A body whose edges were rounded: round faces are called by their edge, corners by the faces around them."""
        names = naming.carried([body.shape], body.names, maker, shape)
        called = ShapeMap()
        for edge, name in naming.edge_names(body.shape, body.names):
            called.put(edge, name)
        for edge in edges:
            for face in kernel.items(maker.Generated(edge)):
                names.put(face, naming.round_name(self.step, called.get(edge, "?")))
        meeting = kernel.faces_at_vertices(body.shape)
        for vertex in kernel.vertices_of(body.shape):
            for face in kernel.items(maker.Generated(vertex)):
                around = sorted(body.names.get(one, "?") for one in kernel.items(meeting.FindFromKey(vertex)))
                names.put(face, self.called(f"corner({' & '.join(around)})"))
        lost = [face for face in kernel.faces_of(shape) if names.get(face) is None]
        for number, face in enumerate(lost, 1):
            names.put(face, self.called(f"face({number})"))
        return {body.name: made.Body(body.name, body.title, shape, names, facts)}
