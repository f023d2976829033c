"""What was traced on a picture follows when the picture's calibration or place changes."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.errors import CalibrationError
from nomogon_core.geometry.curves import moved, polar
from nomogon_core.job.document import calibration_of, keep_sketch, sketch_of
from nomogon_core.quantity.units import format_length
from nomogon_core.sketch.dimensions import measure, refreshed, traced_u95
from nomogon_core.sketch.solve import solve
from nomogon_core.trace.outlines import scale_u95

if TYPE_CHECKING:
    from nomogon_core.reference.calibration import Calibration
    from nomogon_core.sketch.model import Constraint, Sketch

PLACING = ("model", "parameters", "origin_px", "angle", "at_mm", "flipped", "raised", "height_mm", "facing")
LEAST_MOVE_MM = 5e-7
MOST_NAMED = 3


@attrs.frozen
class Followed:
    """The sketch after its picture changed.

    Attributes:
        sketch: with what was traced moved, and solved again.
        points: how many points moved; farthest_mm: how far the farthest one.
        dimensions: (name, before, after) of each dimension whose value changed, in millimetres.
    """

    sketch: Sketch = attrs.field(repr=False)
    points: int = 0
    farthest_mm: float = 0.0
    dimensions: tuple = ()

    def sentence(self, unit: str = "mm") -> str:
        """What moved and by how much, in words; "" when nothing did."""
        if not self.points:
            return ""
        farthest = format_length(self.farthest_mm, unit=unit)
        told = (
            f"{self.points} point{'s' if self.points > 1 else ''} of the sketch followed, at most by {farthest} {unit}"
        )
        named = [
            f"{name} {format_length(old, unit=unit)} → {format_length(new, unit=unit)}"
            for name, old, new in self.dimensions[:MOST_NAMED]
        ]
        more = len(self.dimensions) - len(named)
        return told + (": " + ", ".join(named) if named else "") + (f" and {more} more" if more > 0 else "") + "."


def follow(sketch: Sketch, traces: set[str], before: Calibration, after: Calibration) -> Followed:
    """Move what was traced from where one calibration puts it to where another does.

    Dimensions that were traced are measured anew; those that were set by hand stay, and the sketch is solved again.

    Args:
        sketch: the sketch.
        traces: ids of the traces on the picture.
        before, after: its calibrations.

    Returns:
        :class:`Followed`.

    Raises:
        CalibrationError: the dimensions that were set by hand cannot be kept with the new places.
    """
    traced = {name: curve for name, curve in sketch.curves.items() if curve.origin in traces}
    if not traced:
        return Followed(sketch)
    moved = _moved(sketch, traced, before, after)
    constraints = {
        name: _remeasured(moved, item, after)
        if item.is_dimension and item.driving and item.source == "traced"
        else item
        for name, item in moved.constraints.items()
    }
    solution = solve(attrs.evolve(moved, constraints=constraints))
    if not solution.solved:
        raise CalibrationError(
            "The sketch cannot follow: its constraints and the dimensions set by hand do not go together with the new "
            "sizes. "
            "Make one of these dimensions a traced or reference one first."
        )
    result = refreshed(solution.sketch)
    steps = [math.dist(place, sketch.points[name]) for name, place in result.points.items()]
    changed = [
        (item.name, sketch.constraints[name].value, item.value)
        for name, item in result.constraints.items()
        if item.is_dimension
        and item.kind != "angle"
        and abs(item.value - sketch.constraints[name].value) > LEAST_MOVE_MM
    ]
    return Followed(result, sum(step > LEAST_MOVE_MM for step in steps), max(steps, default=0.0), tuple(changed))


def _moved(sketch, traced, before, after):
    def shift(places):
        return [tuple(place) for place in after.to_mm(before.to_px(places)).tolist()]

    (origin, right, up), mirrored = shift([(0, 0), (1, 0), (0, 1)]), False
    mirrored = (right[0] - origin[0]) * (up[1] - origin[1]) - (right[1] - origin[1]) * (up[0] - origin[0]) < 0
    names = sorted({point for curve in traced.values() for point in curve.points})
    points = {**sketch.points, **dict(zip(names, shift([sketch.points[name] for name in names])))}
    curves = dict(sketch.curves)
    for name, curve in traced.items():
        if curve.u95 is not None and curve.radius:
            shape = sketch.geometry(name)
            own = max(curve.u95**2 - (scale_u95(before, shape) * curve.radius) ** 2, 0.0)
            curve = attrs.evolve(
                curve,
                u95=math.hypot(
                    math.sqrt(own), scale_u95(after, moved(shape, lambda place: shift([place])[0])) * curve.radius
                ),
            )
        if curve.kind in ("arc", "circle"):
            curve = _round(sketch, name, curve, points, shift, mirrored)
        elif curve.kind == "elliptical arc" and mirrored:
            curve = attrs.evolve(curve, points=(*curve.points[:3], *curve.points[:-3:-1]))
        curves[name] = curve
    return attrs.evolve(sketch, points=points, curves=curves)


def _round(sketch, name, curve, points, shift, mirrored):
    """A circle or arc through its places after the move; the centre goes along."""
    whole = sketch.geometry(name)
    start, sweep = (0.0, 2 * math.pi * 0.75) if curve.kind == "circle" else (whole.start_angle, whole.sweep)
    rim = np.array(shift([polar(whole.center, whole.radius, start + share * sweep) for share in (0, 1 / 3, 2 / 3, 1)]))
    rows = np.column_stack([2 * rim, np.ones(len(rim))])
    x, y, rest = np.linalg.lstsq(rows, (rim**2).sum(axis=1), rcond=None)[0]
    points[curve.points[0]] = (float(x), float(y))
    curve = attrs.evolve(curve, radius=math.sqrt(rest + x * x + y * y))
    return (
        attrs.evolve(curve, points=(curve.points[0], curve.points[2], curve.points[1]))
        if mirrored and curve.kind == "arc"
        else curve
    )


def _remeasured(sketch, item, fit):
    item = attrs.evolve(item, value=measure(sketch, item.kind, item.of))
    return attrs.evolve(item, u95=dimension_u95(sketch, item, fit))


def dimension_u95(sketch: Sketch, item: Constraint, fit: Calibration) -> float | None:
    """95 % uncertainty of a dimension on traced curves, with the calibration's where these lie; None as
    :func:`traced_u95` says."""
    if fit.is_set:
        return None
    if item.kind == "angle":
        first, second = (sketch.geometry(name) for name in item.of)
        elbow = [first.start, first.end, np.add(first.start, np.subtract(second.end, second.start))]
        corner, along, across = fit.to_px(elbow)
        return traced_u95(sketch, item, fit.angle_between(corner, along, across, 0.0)[1])
    curves = [name for name in item.of if name in sketch.curves] or [
        name for name, curve in sketch.curves.items() if set(item.of) & set(curve.points)
    ]
    shares = [scale_u95(fit, sketch.geometry(name)) for name in curves]
    return traced_u95(sketch, item, max(shares, default=0.0) * (item.value or 0.0))


def _move_station(document, plane, before, after):
    """The origin of a section goes along with its outlines."""
    made = None if isinstance(plane, dict) else document["planes"].get(plane)
    if made and made["kind"] == "station":
        at = after.to_mm(before.to_px([made["fields"]["at"]]))[0].tolist()
        document["planes"][plane] = made | {"fields": made["fields"] | {"at": at}}


def follow_picture(document: dict[str, Any], picture: str, before: Calibration | None) -> str:
    """Let the sketches of a job follow a picture whose calibration was another before; changes the document.

    Returns:
        what moved, in words; "" when nothing did.

    Raises:
        CalibrationError: as :func:`follow`.
    """
    after = calibration_of(document, picture)
    if before is None or after is None or all(getattr(before, name) == getattr(after, name) for name in PLACING):
        return ""
    told = []
    for sketch in document["sketches"]:
        traces = {
            name for name, item in document["traces"].items() if item["picture"] == picture and item["sketch"] == sketch
        }
        if traces:
            followed = follow(sketch_of(document, sketch), traces, before, after)
            keep_sketch(document, sketch, followed.sketch)
            _move_station(document, document["sketches"][sketch]["plane"], before, after)
            told.append(followed.sentence())
    return " ".join(filter(None, told))
