"""What an operation may ask while it builds: its blanks, resolved against the sketches and bodies as they are then."""

from __future__ import annotations

import math
from copy import copy
from typing import TYPE_CHECKING, Any, NoReturn

import attrs
import numpy as np
import shapely
from OCP.gp import gp_Trsf
from OCP.TopoDS import TopoDS_Edge, TopoDS_Shape

from nomogon_core.errors import InputError, OperationError, SketchError
from nomogon_core.geometry.curves import outline_points, reverse
from nomogon_core.geometry.fronts import leads
from nomogon_core.sketch.chains import as_run, chains
from nomogon_core.sketch.findings import find_findings
from nomogon_core.sketch.model import ROUND
from nomogon_core.sketch.regions import find_regions, loop_curves, match_region
from nomogon_core.solid import bodies as made
from nomogon_core.solid import (
    developing,
    drafting,
    grafting,
    kernel,
    meshes,
    naming,
    planes,
    rounding,
    ruling,
    selection,
    sweeping,
)
from nomogon_core.solid.kernel import ShapeMap
from nomogon_core.solid.sentence import Edges, Faces

if TYPE_CHECKING:
    from collections.abc import Callable

    from nomogon_core.sentence import Declaration
    from nomogon_core.sketch.model import Sketch
    from nomogon_core.sketch.regions import Region
    from nomogon_core.solid.bodies import Body
    from nomogon_core.solid.facts import Facts
    from nomogon_core.solid.meshes import Mesh
    from nomogon_core.solid.planes import Frame
    from nomogon_core.solid.sheet import Files


FIRST_CHORD_MM, MARK_CHORD_MM = 0.05, 1e-3
JOB_AXES = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}


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

    def picked(self, value: dict[str, Any]) -> list[str]:
        """Ids of the curves or points picked, and of all curves of a trace that is picked."""
        trace = value.get("trace")
        curves = self.sketch.curves.items()
        return [
            *value["names"],
            *(name for name, one in curves if trace and one.origin == trace and not one.construction),
        ]

    def centres(self, value: dict[str, Any]) -> list[tuple[str, tuple[float, float] | None]]:
        """(id, (x, y)) of the centres picked, and of each closed mark of a trace; None where one is not there any
        more."""
        found = [(name, self.centre(name)) for name in value["names"]]
        if value.get("trace"):
            traced = self.picked({**value, "names": []})
            for run, closed in chains(self.sketch, traced, meeting=True):
                if closed:
                    found.append((run[0], self.centre(run[0]) if len(run) == 1 else self._middle(run)))
        return found

    def _middle(self, run):
        """The centroid of what a closed chain encloses."""
        around = outline_points(as_run(self.sketch, run, True), MARK_CHORD_MM)
        middle = shapely.Polygon(around).centroid
        return middle.x, middle.y

    def read_of_region(self, name: str) -> Any:
        """Plain data of everything that building over a region depends on."""
        region = match_region(self.regions, name, self.sketch.curves)
        return region and [[[curve_id, str(curve)] for curve_id, curve in loop] for loop in self._loops(region)]


class State:
    """The sketches and bodies at a step."""

    def __init__(
        self, titles: dict[str, str], files: Files | None = None, shown: Callable[[dict[str, Body]], None] | None = None
    ) -> None:
        self.titles, self.files, self.shown = titles, files, shown
        self.sketches, self.planes, self.bodies = {}, {}, {}
        self.operations: dict[str, tuple[Declaration, dict[str, Any]]] = {}
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

    def frame(self, plane: dict[str, str] | str) -> Frame:
        """The frame of a plane at this step.

        Raises:
            OperationError: the plane or face is not there.
        """
        if isinstance(plane, dict):
            frame = self.body(plane["body"]).flat_faces().get(plane["face"])
            if frame is None:
                raise OperationError(f"The flat face {plane['face']} is not there any more; choose another.")
            return frame
        if plane in planes.BASE:
            return planes.BASE[plane]
        found = self.planes.get(plane)
        if isinstance(found, planes.Frame):
            return found
        raise OperationError(found or "The plane stands later in the Build sheet, or is gone; choose another.")

    def axis(self, picked: dict[str, Any] | str) -> tuple[tuple, tuple]:
        """(point, direction) in space of an axis: one of the job's by name, an edge, or a line of a sketch.

        Raises:
            OperationError: it is not there, or has no direction.
        """
        if isinstance(picked, str):
            return (0.0, 0.0, 0.0), JOB_AXES[picked]
        if "edge" in picked:
            body = self.body(picked["body"])
            edge = {name: edge for edge, name in naming.edge_names(body.shape, body.names)}.get(picked["edge"])
            found = edge and kernel.turning_axis(edge)
            if not found:
                raise OperationError("The edge of the axis is not there any more, or is neither straight nor round.")
            return found
        drawn = self.sketch(picked["sketch"])
        curve = drawn.sketch.curves.get(picked["names"][0])
        if curve is None or curve.kind != "line":
            raise OperationError(f"The axis has to be a line of {drawn.title} that is there; choose one.")
        first, last = (np.array(drawn.frame.in_space(drawn.sketch.points[end])) for end in curve.points)
        return tuple(first.tolist()), tuple(((last - first) / np.linalg.norm(last - first)).tolist())


def _read_picks(value, state, read):
    sketch = state.sketches.get(value["sketch"])
    if not isinstance(sketch, DrawnSketch):
        return None
    return [attrs.astuple(sketch.frame), [read(sketch, name) for name in value["names"]]]


def _read_body(name, state):
    body = state.bodies.get(name)
    return body and body.key


def _read_or_none(read, value):
    """What is read, or None where it is not there: the operation will say so."""
    try:
        return read(value)
    except OperationError:
        return None


def _read_run(value, state):
    sketch = state.sketches.get(value["sketch"])
    names = sketch.picked(value) if isinstance(sketch, DrawnSketch) else value["names"]
    return _read_picks({**value, "names": names}, state, _read_curve)


def _read_curve(sketch, name):
    return [name, str(sketch.sketch.geometry(name))] if name in sketch.sketch.curves else None


def _read_centres(value, state):
    sketch = state.sketches.get(value["sketch"])
    return isinstance(sketch, DrawnSketch) and [attrs.astuple(sketch.frame), str(sketch.centres(value))]


def _read_sections(value, state):
    return [
        _read_picks({"sketch": one["sketch"], "names": [one["name"]]}, state, DrawnSketch.read_of_region)
        for one in value["sections"]
    ]


def _read_operations(value, state):
    told = ((name, state.operations.get(name)) for name in value["operations"])
    return [found and [name, found[0].kind, reads(*found, state)] for name, found in told]


READS = {
    "run": _read_run,
    "sections": _read_sections,
    "operations": _read_operations,
    "faces": lambda value, state: _read_body(value["body"], state),
    "plane": lambda value, state: (found := _read_or_none(state.frame, value)) and attrs.astuple(found),
    "axis": lambda value, state: _read_or_none(state.axis, value),
    "regions": lambda value, state: _read_picks(value, state, DrawnSketch.read_of_region),
    "centres": _read_centres,
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
        told[name] = [value["value"] if blank.dimension is not None else value, more]
    return told


def _made_of(before, maker, names, into=None):
    """The shape that a maker made of others; its faces take the names that theirs had in ``names``, there or in
    ``into``."""
    shape = maker.Shape()
    told = naming.carried(before, names, maker, shape)
    (names if into is None else into).take(kernel.faces_of(shape), told)
    return shape


def _mesh_of(body):
    return made.as_mesh(body.exact, body.names) if body.mesh is None else body.mesh


class Ask:
    """The blanks of one operation, and ways to put what it builds into bodies."""

    kernel, developing, grafting, rounding, ruling, sweeping = kernel, developing, grafting, rounding, ruling, sweeping

    def __init__(self, step: str, declaration: Declaration, filled: dict[str, Any], state: State) -> None:
        self.step, self.declaration, self.filled, self.state = step, declaration, filled, state

    def file(self, blank: str) -> bytes:
        """Bytes of the file chosen.

        Raises:
            InputError: it is not there any more.
        """
        if self.state.files is None:
            raise InputError("The files of the job are not at hand here; build it where they are.")
        return self.state.files.blob(self.filled[blank]["file"])

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
        places = sketch.centres(picked)
        for name, place in places:
            if place is None:
                raise OperationError(f"The centre {name} of this hole is not in the sketch any more; choose another.")
        if not places:
            raise OperationError(f"There is no closed mark of that trace in {sketch.title}; choose circles one by one.")
        return sketch.frame, places

    def edges(self, blank: str) -> tuple[Body, list[TopoDS_Edge]]:
        """(body, edges) picked one by one or by rule."""
        picked = self.filled[blank]
        body = self.state.body(picked["body"])
        return body, selection.chosen_edges(body, picked.get("names") or (), picked.get("rule"))

    def faces(self, blank: str) -> tuple[Body, list[TopoDS_Shape]]:
        """(body, faces) picked.

        Raises:
            OperationError: one of them is gone.
        """
        picked = self.filled[blank]
        body = self.state.body(picked["body"])
        there = {body.names.get(face): face for face in kernel.faces_of(body.shape)}
        for name in picked["names"]:
            if name not in there:
                raise OperationError(f"The face {name} is not there any more; choose another.")
        return body, [there[name] for name in picked["names"]]

    def plane(self, blank: str) -> Frame:
        return self.state.frame(self.filled[blank])

    def axis(self, blank: str) -> tuple[tuple, tuple]:
        """(point, direction) in space."""
        return self.state.axis(self.filled[blank])

    def sections(self, blank: str) -> list[tuple[Frame, list[list]]]:
        """(frame, loops) of each region picked, in order."""
        picked = self.filled[blank]["sections"]
        drawn = [(self.state.sketch(one["sketch"]), one["name"]) for one in picked]
        return [(sketch.frame, sketch.region(name)) for sketch, name in drawn]

    def runs(self, blank: str, *, meeting: bool = False) -> tuple[Frame, list[tuple[list[Any], bool]]]:
        """(frame, [(curves one after another, whether they close)]) of curves picked.

        Args:
            meeting: runs may meet in a point, in which they end.

        Raises:
            OperationError: one of them is gone, or more than two meet at a point where they may not.
        """
        picked = self.filled[blank]
        drawn = self.state.sketch(picked["sketch"])
        try:
            found = chains(drawn.sketch, drawn.picked(picked), meeting=meeting)
        except SketchError as problem:
            raise OperationError(str(problem)) from None
        if not found:
            raise OperationError(f"There is no curve of that trace in {drawn.title} any more; choose others.")
        return drawn.frame, [(as_run(drawn.sketch, run, closed), closed) for run, closed in found]

    def recorded(self, blank: str) -> list[Recorded]:
        """What the operations picked put into bodies, built anew.

        Raises:
            OperationError: one is not there, is left out or fails, or is of a kind that puts nothing in by itself.
        """
        found = []
        for name in self.filled[blank]["operations"]:
            told = self.state.operations.get(name)
            if told is None:
                raise OperationError("An operation to be repeated stands later, is left out or fails; choose another.")
            if any(isinstance(blank, (Edges, Faces)) for blank in told[0].blanks().values()):
                raise OperationError(f"{told[0].title} works on edges or faces, so it cannot be repeated by itself.")
            recorder = Recorder(name, *told, self.state)
            told[0].build(recorder)
            found += recorder.found
        return found

    def heights(self, body: Body, frame: Frame) -> tuple[float, float]:
        return body.heights(frame)

    def names_of(self, body: Body) -> ShapeMap:
        """The names of a body's faces, to be added to."""
        names = ShapeMap()
        names.take(kernel.faces_of(body.shape), body.names)
        return names

    def name_rest(self, shape: TopoDS_Shape, names: ShapeMap, role: str = "face") -> None:
        """Give the faces that have no name one, by their order."""
        lost = [face for face in kernel.faces_of(shape) if names.get(face) is None]
        for number, face in enumerate(lost, 1):
            names.put(face, self.called(role if len(lost) == 1 else f"{role}({number})"))

    def carried(self, body: Body, maker: Any, shape: TopoDS_Shape) -> ShapeMap:
        """Names of the faces of a body that the kernel changed."""
        return naming.carried([body.shape], body.names, maker, shape)

    def common(self, body: Body, tool: TopoDS_Shape, names: ShapeMap) -> tuple[TopoDS_Shape, ShapeMap]:
        """What a body has in common with a shape, and the names of its faces."""
        together, both = kernel.boolean("overlap", body.shape, [tool]), self.names_of(body)
        both.take(kernel.faces_of(tool), names)
        return together.Shape(), naming.carried([body.shape, tool], both, together, together.Shape())

    def overlapped(
        self, tools: list[TopoDS_Shape], block: TopoDS_Shape, names: ShapeMap
    ) -> tuple[list[TopoDS_Shape], ShapeMap]:
        """What each of some shapes has in common with a block."""
        parts, called = [], ShapeMap()
        for tool in tools:
            maker = kernel.boolean("overlap", tool, [block])
            parts.append(_made_of([tool, block], maker, names, called))
        return parts, called

    def prism(
        self,
        loops: list[list[tuple]],
        low: float,
        height: float,
        names: ShapeMap,
        roles: tuple[str, str, str] = ("side", "bottom", "top"),
    ) -> TopoDS_Shape:
        """A prism over loops of (name, curve) on Plan; its faces are named in ``names`` by their roles: those over the
        curves by these too, that at the beginning, that at the end."""
        beside, first, last = roles
        face, named = kernel.face_of(loops, low)
        maker = kernel.prism(face, height)
        for edge, curve in named:
            for side in kernel.items(maker.Generated(edge)):
                names.put(side, self.called(f"{beside}({curve})"))
        names.put(maker.FirstShape(), self.called(first))
        names.put(maker.LastShape(), self.called(last))
        return maker.Shape()

    def leaning_prism(
        self,
        loops: list[list[tuple]],
        low: float,
        height: float,
        angle: float,
        names: ShapeMap,
        roles: tuple[str, str, str] = ("side", "bottom", "top"),
        *,
        up: bool = True,
    ) -> TopoDS_Shape | None:
        """A prism as :meth:`prism`, whose sides lean into the material by an angle, radians, away from its lower end or
        (not ``up``) its upper one; None where one side would vanish or cross another."""
        stages = leads(loops, height * math.tan(angle))
        if stages is None:
            return None
        at_once = None
        if all(len(one) == 1 for one in stages) and not any(map(kernel.has_corner_of_arcs, loops)):
            at_once = self._leaned(loops, low, height, angle, names, roles, up)
        if at_once is not None:
            return at_once
        solids = []
        for index, loop in enumerate(loops):
            lean = -angle if index else angle
            solid = self._leaned_loop(loop, low, height, lean, names, roles, up, stages[index], inner=index > 0)
            if solid is None:
                return None
            solids.append(solid)
        return self.cut_out(solids, names)

    def _leaned(self, loops, low, height, angle, names, roles, up):
        """By leaning the sides of the upright prism, or None."""
        plain = self.no_names()
        upright = self.prism(loops, low, height, plain, roles)
        maker = kernel.leaning(upright, angle, low if up else low + height, 1.0 if up else -1.0)
        if maker is None:
            return None
        for face in kernel.faces_of(upright):
            names.put(maker.ModifiedShape(face), plain.get(face))
        return maker.Shape()

    def _leaned_loop(self, loop, low, height, angle, names, roles, up, stages, *, inner):
        """The solid inside one loop that leans in some stages; of a hole only its sides have names."""
        (beside, first, last), single = roles, len(stages) == 1
        if single and not kernel.has_corner_of_arcs(loop):
            outward = loop if kernel.runs_around(loop) else [(name, reverse(curve)) for name, curve in reversed(loop)]
            solid = self._leaned([outward], low, height, angle, names, roles, up)
            if solid is not None and kernel.facts_of(solid).valid:
                return solid
        neutral, far = (low, low + height) if up else (low + height, low)
        # The kernel's own draft knows no pieces that vanish.
        for leaned, more in ((drafting.ruled_loop, (stages,)), (kernel.drafted_loop, ()))[: 2 if single else 1]:
            try:
                solid, sides, ends = leaned(loop, neutral, far, angle, *more)
            except Exception as problem:
                if not kernel.is_failure(problem):
                    raise
                continue
            if solid is not None and kernel.facts_of(solid).valid:
                break
        else:
            return None
        for side, curve in sides:
            names.put(side, self.called(f"{beside}({curve})"))
        if not inner:
            for face, role in zip(ends, (first, last) if up else (last, first)):
                names.put(face, self.called(role))
        return solid

    def upright(self, shape: TopoDS_Shape, names: ShapeMap, at: str, roles: tuple[str, str, str]) -> TopoDS_Shape:
        """A round solid upright on Plan; its faces are named in ``names`` by what they are there (its side, its upper
        and its lower end) and by the centre that it stands at."""
        beside, above, below = roles
        for face in kernel.faces_of(shape):
            way = kernel.face_normal_z(face)
            names.put(face, self.called(f"{beside if way == 0 else above if way > 0 else below}({at})"))
        return shape

    def cut_out(self, solids: list[TopoDS_Shape], names: ShapeMap) -> TopoDS_Shape:
        """The first of some solids without the others; its faces are named in ``names``."""
        if len(solids) == 1:
            return solids[0]
        return _made_of(solids, kernel.boolean("cut", solids[0], solids[1:]), names)

    def joined(self, shapes: list[TopoDS_Shape], names: ShapeMap) -> TopoDS_Shape:
        """Shapes as one; its faces are named in ``names``."""
        return _made_of(shapes, kernel.boolean("add", shapes[0], shapes[1:]), names)

    def merged(self, shape: TopoDS_Shape, names: ShapeMap, rest: str) -> TopoDS_Shape:
        """A shape whose faces that lie in one surface are one; those without a name get one by their role."""
        merged = _made_of([shape], kernel.Merged(shape), names)
        self.name_rest(merged, names, rest)
        return merged

    def put_mesh(self, mode: str, blank: str, mesh: Mesh) -> dict[str, Body]:
        """As :meth:`put`, of a mesh; its faces are named by this operation."""
        name = self.filled[blank]
        title = self.state.titles.get(name, name)
        called = attrs.evolve(mesh, names=tuple(self.called(one) for one in mesh.names))
        if mode == "new":
            self._refuse_taken(name, title)
            return {name: made.of_mesh(name, title, called)}
        return {name: self._combined_meshes(mode, self.state.body(name), [called])}

    def made(self, name: str, shape: TopoDS_Shape, names: ShapeMap) -> dict[str, Body]:
        """A body that is new or takes the place of another.

        Raises:
            OperationError: the result cannot be taken.
        """
        return {name: made.accepted(name, self.state.titles.get(name, name), shape, names)}

    def replaced(
        self, body: Body, shape: TopoDS_Shape, names: ShapeMap, *, grows: bool | None = None
    ) -> dict[str, Body]:
        """A body with another shape.

        Raises:
            OperationError: the result cannot be taken.
        """
        return {body.name: made.accepted(body.name, body.title, shape, names, body, grows=grows)}

    def named_alike(self, body: Body, shape: TopoDS_Shape) -> ShapeMap:
        """Names of the faces of a shape that has those of a body in their order, such as after a motion."""
        names = ShapeMap()
        for before, there in zip(kernel.faces_of(body.shape), kernel.faces_of(shape), strict=True):
            names.put(there, body.names.get(before))
        return names

    def elsewhere(self, body: Body, motion: gp_Trsf) -> dict[str, Body]:
        """A body elsewhere; its faces keep their names."""
        if body.mesh is not None:
            return self.remeshed(body, *kernel.matrix_of(motion))
        shape = kernel.transformed(body.shape, motion)
        return self.replaced(body, shape, self.named_alike(body, shape))

    def remeshed(self, body: Body, matrix: Any, offset: Any) -> dict[str, Body]:
        """A body that is a mesh, after a linear map (3, 3) that mirrors nothing, and a move (3,)."""
        return {body.name: made.of_mesh(body.name, body.title, _mesh_of(body).moved(matrix, offset))}

    def after(self, changed: dict[str, Body]) -> Ask:
        """This operation, as bodies are once some have changed."""
        state = copy(self.state)
        state.bodies = self.state.bodies | changed
        return Ask(self.step, self.declaration, self.filled, state)

    def no_names(self) -> ShapeMap:
        return ShapeMap()

    def called(self, role: str) -> str:
        """Name of a face by its role in this operation."""
        return f"{self.step}.{role}"

    def suggest(self, sentence: str, **numbers: Any) -> NoReturn:
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
        return self.put_into(name, mode, tools, names)

    def put_into(self, name: str, mode: str, tools: list[TopoDS_Shape], names: ShapeMap) -> dict[str, Body]:
        """As :meth:`put`, of a body by its id."""
        if mode == "new" or (mode == "add" and name not in self.state.bodies):
            return {name: self._new(name, tools, names)}
        return {name: self._combined(mode, self.state.body(name), tools, names)}

    def first_picture(self, mode: str, blank: str, parts: Callable[[], list[Mesh]]) -> None:
        """Show what some parts, made only for that, will come to as a mesh, before the kernel has taken its time;
        nothing where nobody looks on, or they do not close as meshes."""
        if self.state.shown is None:
            return
        name = self.filled[blank]
        title = self.state.titles.get(name, name)
        try:
            first, *others = parts()
            if mode == "new" or (mode == "add" and name not in self.state.bodies):
                body = made.of_mesh(name, title, meshes.combined("add", first, others, title))
            else:
                body = self._combined_meshes(mode, self.state.body(name), [first, *others])
        except OperationError:
            return
        self.state.shown(self.state.bodies | {name: body})

    def frustum(self, loops: list[list[tuple]], height: float, lean: float, frame: Frame) -> Mesh:
        """A rough solid over loops at a height above a plane, that grows by ``lean`` millimetres down to it."""
        around = [outline_points([curve for _, curve in loop], FIRST_CHORD_MM) for loop in loops]
        columns = np.column_stack([frame.across, frame.up, frame.normal])
        return meshes.frustum(around, height, lean).moved(columns, frame.origin)

    def _refuse_taken(self, name, title):
        if name in self.state.bodies:
            raise OperationError(f"There is a body {title} already; add to it, or name the new one differently.")

    def _new(self, name, tools, names):
        title = self.state.titles.get(name, name)
        self._refuse_taken(name, title)
        shape = tools[0]
        if len(tools) > 1:
            joined = kernel.boolean("add", tools[0], tools[1:])
            names, shape = naming.carried(tools, names, joined, joined.Shape()), joined.Shape()
        return made.accepted(name, title, shape, names)

    def put_together(self, mode: str, body: Body, other: Body) -> dict[str, Body]:
        """A body with another one added, cut out, or only what both have in common; a mesh if one of them is."""
        if body.mesh is None and other.mesh is None:
            return self.put_into(body.name, mode, [other.shape], self.names_of(other))
        return {body.name: self._combined_meshes(mode, body, [_mesh_of(other)])}

    def _combined_meshes(self, mode, body, others):
        mesh = meshes.combined(mode, _mesh_of(body), others, body.title)
        result = made.of_mesh(body.name, body.title, mesh)
        self._refuse_untouched(mode, body, result)
        return result

    @staticmethod
    def _refuse_untouched(mode, body, result):
        moved = abs(result.facts.volume_mm3 - body.facts.volume_mm3)
        if mode == "cut" and moved <= kernel.VOLUME_SLACK * body.facts.volume_mm3:
            raise OperationError(f"The cut does not touch {body.title}; look at its start, its length and its place.")

    def _combined(self, mode, body, tools, tool_names):
        if body.mesh is not None:
            return self._combined_meshes(mode, body, [made.as_mesh(tool, tool_names) for tool in tools])
        tool_names.take(kernel.faces_of(body.shape), body.names)
        combined = kernel.boolean(mode, body.shape, tools)
        shape = combined.Shape()
        names = naming.carried([body.shape, *tools], tool_names, combined, shape)
        result = made.accepted(body.name, body.title, shape, names, body, grows=mode == "add")
        self._refuse_untouched(mode, body, result)
        return result

    def transformed(
        self,
        shapes: list[TopoDS_Shape],
        names: ShapeMap,
        move: gp_Trsf,
        called: str,
        into: ShapeMap | None = None,
    ) -> tuple[list[TopoDS_Shape], ShapeMap]:
        """Copies of shapes under a motion or a mirroring; faces are called ``called(what they were called)``.

        Args:
            into: names to which these are added; None begins new ones.
        """
        there, new_names = [], ShapeMap() if into is None else into
        for shape in shapes:
            copied = kernel.transformed(shape, move)
            for before, after in zip(kernel.faces_of(shape), kernel.faces_of(copied)):
                if names.get(before) is not None:
                    new_names.put(after, self.called(f"{called}({names.get(before)})"))
            there.append(copied)
        return there, new_names

    def rounded(
        self, body: Body, edges: list[TopoDS_Edge], maker: Any, shape: TopoDS_Shape, facts: Facts, role: str = "round"
    ) -> dict[str, Body]:
        """A body whose edges were rounded or cut: new faces are called by their edge, corners by the faces around
        them."""
        names = naming.carried([body.shape], body.names, maker, shape)
        called = ShapeMap()
        for edge, name in naming.edge_names(body.shape, body.names):
            called.put(edge, name)
        for edge in edges:
            for face in kernel.items(maker.Generated(edge)):
                names.put(face, naming.round_name(self.step, called.get(edge, "?"), role))
        meeting = kernel.faces_at_vertices(body.shape)
        for vertex in kernel.vertices_of(body.shape):
            for face in kernel.items(maker.Generated(vertex)):
                around = sorted(body.names.get(one, "?") for one in kernel.items(meeting.FindFromKey(vertex)))
                names.put(face, self.called(f"corner({' & '.join(around)})"))
        self.name_rest(shape, names)
        return {body.name: made.Body(body.name, body.title, shape, names, facts)}

    def rounded_by_sections(self, body: Body, edges: list[TopoDS_Edge], radius: float) -> dict[str, Body] | None:
        """A body whose edges were rounded by :mod:`rounding`; None where that does not do either."""
        told = rounding.rounded(body.shape, edges, radius)
        facts = kernel.facts_of(told.shape) if told else None
        if told is None or facts is None or not facts.valid:
            return None
        names, called = ShapeMap(), ShapeMap()
        for edge, name in naming.edge_names(body.shape, body.names):
            called.put(edge, name)
        for face, was in told.kept:
            names.put(face, body.names.get(was))
        for face, edge in told.sides:
            names.put(face, naming.round_name(self.step, called.get(edge, "?")))
        self.name_rest(told.shape, names)
        return {body.name: made.Body(body.name, body.title, told.shape, names, facts)}


@attrs.frozen
class Recorded:
    """What an operation puts into a body: its id, whether it adds or cuts, the shapes and the names of their faces."""

    body: str
    mode: str
    tools: list = attrs.field(repr=False)
    names: ShapeMap = attrs.field(repr=False)


class Recorder(Ask):
    """Builds an operation without putting anything into a body."""

    def __init__(self, step: str, declaration: Declaration, filled: dict[str, Any], state: State) -> None:
        super().__init__(step, declaration, filled, state)
        self.found: list[Recorded] = []

    def put_into(self, name: str, mode: str, tools: list[TopoDS_Shape], names: ShapeMap) -> dict[str, Body]:
        self.found.append(Recorded(name, "add" if mode == "new" else mode, tools, names))
        return {}
