"""A job seen as a whole: everything that the Ledger, the stage line and Next are made from, worked out once."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import attrs
import orjson

from nomogon_core.errors import ArchiveError, CoreError
from nomogon_core.job import document as job
from nomogon_core.job.groups import settle_groups
from nomogon_core.job.quantities import settle
from nomogon_core.job.schema import MAY_BE_MISSING, check_document
from nomogon_core.job.tracing import departures
from nomogon_core.kept import Kept
from nomogon_core.reference.calibration import Calibration
from nomogon_core.sketch import model
from nomogon_core.sketch.findings import find_both
from nomogon_core.sketch.solve import Freedom, freedom
from nomogon_core.solid.operations import declaration
from nomogon_core.solid.sentence import Run
from nomogon_core.solid.sheet import BuildSheet

if TYPE_CHECKING:
    from nomogon_core.sketch.findings import Finding
    from nomogon_core.sketch.model import Sketch
    from nomogon_core.sketch.regions import Region


@attrs.frozen
class SketchView:
    """A sketch worked out: what is free in it, its regions, what keeps them from closing."""

    sketch: model.Sketch = attrs.field(repr=False)
    freedom: Freedom = attrs.field(repr=False)
    regions: tuple = attrs.field(repr=False)
    findings: tuple


_views, _views_by_contents = Kept(64), Kept(64)


def sketch_view(data: dict[str, Any]) -> SketchView:
    """A sketch's plain data worked out, kept by what it is and by what it holds."""
    parts = tuple(data[part] for part in job.SKETCH_PARTS)
    kept = _views.get(tuple(id(part) for part in parts))
    if kept:
        return kept[0]
    contents = orjson.dumps(parts)
    view = _views_by_contents.get(contents)
    if view is None:
        sketch = job.parsed(data)
        view = _views_by_contents.put(contents, SketchView(sketch, freedom(sketch), *find_both(sketch)))
    return job.keep_by_identity(_views, data, view)


@attrs.frozen
class Overview:
    """A job worked out.

    Attributes:
        document: plain data.
        picture_id, picture: of the picture worked on, or None; calibration: of it, or None.
        sketch_id: of the sketch that is open; sketches: every sketch worked out, by id.
        build: the Build sheet.
        result: plain data of the last rebuild of exactly these steps, or None.
        departures: of the traces in the open sketch.
    """

    document: dict = attrs.field(repr=False)
    picture_id: str | None
    picture: Any
    calibration: Calibration | None
    sketch_id: str
    sketches: dict = attrs.field(repr=False)
    build: BuildSheet = attrs.field(repr=False)
    result: dict | None = attrs.field(default=None, repr=False)
    departures: dict = attrs.field(factory=dict, repr=False)

    @property
    def sketch(self) -> Sketch:
        return self.sketches[self.sketch_id].sketch

    @property
    def freedom(self) -> Freedom:
        return self.sketches[self.sketch_id].freedom

    @property
    def regions(self) -> tuple[Region, ...]:
        return self.sketches[self.sketch_id].regions

    @property
    def findings(self) -> tuple[Finding, ...]:
        return self.sketches[self.sketch_id].findings

    @property
    def drawn(self) -> bool:
        """Whether anything is drawn yet."""
        return any(one.sketch.curves for one in self.sketches.values())

    @property
    def degrees(self) -> int:
        """Degrees of freedom of all sketches."""
        return sum(one.freedom.degrees for one in self.sketches.values() if one.sketch.curves)

    @property
    def problems(self) -> list:
        """(step id, problem, suggestion) of every step that fails."""
        return [
            (step["name"], step["problem"], step.get("suggestion"))
            for step in (self.result or {}).get("steps", [])
            if step["problem"]
        ]


def checked(document: dict[str, Any], name: str = "The file") -> dict[str, Any]:
    """A document from outside, worked out once so that damage shows now and not later.

    Raises:
        ArchiveError: it does not describe a job.
    """
    check_document(document, name)
    for part in MAY_BE_MISSING:
        document.setdefault(part, {})
    settle_groups(document)
    try:
        overview(document)
        settle(document)
    except CoreError as problem:
        raise ArchiveError(f"{name} is damaged: {problem}") from None
    except (KeyError, TypeError, ValueError, AttributeError, IndexError) as problem:
        raise ArchiveError(
            f"{name} is damaged: its document does not describe a job ({type(problem).__name__}: {problem})."
        ) from None
    return document


def _paths(document):
    """{sketch: ids of its curves that operations run along}: these need not close anything."""
    found = {}
    for operation in document["operations"].values():
        for name, blank in declaration(operation["kind"]).blanks().items():
            if isinstance(blank, Run) and operation["blanks"].get(name):
                picked = operation["blanks"][name]
                curves = document["sketches"].get(picked["sketch"], {}).get("curves", {})
                traced = {name for name, one in curves.items() if one.get("origin") == picked.get("trace", "")}
                found.setdefault(picked["sketch"], set()).update(picked["names"], traced)
    return found


def _without_ends_of(view, paths):
    """A sketch worked out, without the loose ends of curves that are meant to be open."""
    if not paths or not view.findings:
        return view
    ends = {point for name in paths & view.sketch.curves.keys() for point in view.sketch.curves[name].end_points()}
    kept = tuple(one for one in view.findings if one.code not in ("gap", "loose end") or not ends.issuperset(one.of))
    return attrs.evolve(view, findings=kept)


def overview(
    document: dict[str, Any],
    result: dict[str, Any] | None = None,
    *,
    picture: str | None = None,
    sketch: str = "",
    edge: Callable | None = None,
) -> Overview:
    """Work out a job.

    Args:
        document: plain data; result: of the rebuild, see :class:`Overview`.
        picture, sketch: ids of the picture worked on and the sketch that is open.
        edge: function of a digest that gives the places of a traced edge; None leaves the departures out.
    """
    picture_id, data = job.picture_of(document, picture)
    opened = sketch if sketch in document["sketches"] else job.sketch_id(document)
    paths = _paths(document)
    views = {
        name: _without_ends_of(sketch_view(one), paths.get(name, set())) for name, one in document["sketches"].items()
    }
    drawings = {name: view.sketch for name, view in views.items()}
    return Overview(
        document,
        picture_id,
        data,
        job.calibration_of(document, picture_id),
        opened,
        views,
        job.build_of(document, sketches=drawings),
        result,
        departures(document, opened, edge, drawings[opened]) if edge else {},
    )
