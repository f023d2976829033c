"""Cross-sections of a plan: each a sketch of its own on a station, its coordinates still those of the plan."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import closed_area, outline_points
from nomogon_core.job.document import calibration_of, clean_name, keep_sketch, next_id, sketch_of
from nomogon_core.job.migration import edge_bytes, edge_places
from nomogon_core.job.quantities import free_name
from nomogon_core.picture.crosshair import find_crosshair
from nomogon_core.sketch.chains import as_run, chains
from nomogon_core.trace.distances import distances_from

if TYPE_CHECKING:
    from nomogon_core.reference.calibration import Calibration
    from nomogon_core.sketch.arrange import Apart
    from nomogon_core.sketch.model import Sketch

REACH_PX, CHORD_MM = 25.0, 0.01
NO_ANGLE = {"typed": "0°", "value": 0.0}


def picture_under(document: dict[str, Any], sketch: Sketch, names: list[str]) -> str:
    """The picture that one of some curves was traced from; "" where none was."""
    origins = (sketch.curves[name].origin for name in names if name in sketch.curves)
    return next((document["traces"][one]["picture"] for one in origins if one in document["traces"]), "")


def crosshair_near(light: np.ndarray, fit: Calibration, place: tuple[float, float]) -> tuple[float, float] | None:
    """Where the cross-hair of a picture nearest to a place is, both in millimetres; None where none is near."""
    x, y = fit.to_px([place])[0]
    found = find_crosshair(light, float(x), float(y), REACH_PX)
    return None if found is None else tuple(fit.to_mm([found.place])[0].tolist())


def put_apart(
    document: dict[str, Any], library: Any, sketch: str, apart: Apart, numbers: dict[str, dict[str, Any]]
) -> None:
    """Put a section into a sketch of its own, on a new station over the plane of the one that it comes from; its
    traces are divided.

    Args:
        numbers: ``station`` and, where it is turned, ``turn``: {"typed", "value"} in millimetres and radians.

    Raises:
        SketchError: a sketch or a plane is called so already.
    """
    title = clean_name(apart.title, "The section")
    if title in {data["title"] for part in ("sketches", "planes") for data in document[part].values()}:
        raise SketchError(f"There is a sketch or a plane called {title} already; choose a different name.")
    plane, own = next_id(document, "l"), next_id(document, "s")
    fields = {"from": document["sketches"][sketch]["plane"], "at": list(apart.at)}
    for field, number in (("distance", numbers["station"]), ("angle", numbers.get("turn", NO_ANGLE))):
        word = "station" if field == "distance" else "turn"
        fields[field] = {**number, "name": free_name(document, f"{title} {word}")}
    document["planes"][plane] = {"title": f"Station of {title}", "kind": "station", "fields": fields}
    document["sketches"][own] = {"title": title, "plane": plane, "points": {}, "curves": {}, "constraints": {}}
    document["steps"] += [plane, own]
    keep_sketch(document, own, _with_own_traces(document, library, sketch, own, apart.sketch))


def _with_own_traces(document, library, sketch, own, drawing):
    """The section with traces of its own; those of the plan keep what is left there, or go where nothing is."""
    rest, became = sketch_of(document, sketch), {}
    for trace in sorted({curve.origin for curve in drawing.curves.values()} & document["traces"].keys()):
        became[trace] = next_id(document, "t")
        mine, left = (_outlines(part, trace) for part in (drawing, rest))
        item = document["traces"].pop(trace)
        edges = _edges_of(document, library, item, (mine, left))
        for name, there, outlines, edge in ((became[trace], own, mine, edges[0]), (trace, sketch, left, edges[1])):
            if outlines:
                kept = _meaning(document, item, outlines)
                document["traces"][name] = item | {"sketch": there, "edge": edge, "settings": item["settings"] | kept}
    curves = {
        name: attrs.evolve(curve, origin=became.get(curve.origin, curve.origin))
        for name, curve in drawing.curves.items()
    }
    return attrs.evolve(drawing, curves=curves)


def _outlines(drawing, trace):
    """(curves, whether they close) of each run of a trace in a sketch."""
    names = [name for name, curve in drawing.curves.items() if curve.origin == trace and not curve.construction]
    return [(as_run(drawing, run, closed), closed) for run, closed in chains(drawing, names)]


def _edges_of(document, library, item, parts):
    """Digests of the edge that a trace saw, divided among outlines by which lie nearer."""
    fit = calibration_of(document, item["picture"])
    if not item["edge"] or fit is None or not all(parts):
        return item["edge"], item["edge"]
    places = edge_places(library.blob(item["edge"]))
    off = [np.abs(distances_from(fit.to_mm(places), [curve for run, _ in part for curve in run])) for part in parts]
    nearer = off[0] < off[1]
    return tuple(library.keep(edge_bytes(places[chosen])) for chosen in (nearer, ~nearer))


def _meaning(document, item, outlines):
    """Settings by which a trace means only some closed outlines; none where it cannot be told."""
    fit = calibration_of(document, item["picture"])
    if fit is None or not all(closed for _, closed in outlines):
        return {}
    kept = []
    for outline, _ in outlines:
        places = fit.to_px(outline_points(outline, CHORD_MM))
        middle = (places.min(axis=0) + places.max(axis=0)) / 2
        kept.append([*middle.tolist(), abs(closed_area(tuple(outline))) / fit.mm_per_px**2])
    return {"keep": kept}
