"""The traced pictures of a job held against its built solid; loads the geometry kernel."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import attrs

from nomogon_core.inspect import against
from nomogon_core.job.document import calibration_of
from nomogon_core.job.migration import edge_places

if TYPE_CHECKING:
    from nomogon_core.inspect.telling import Finding
    from nomogon_core.solid.graph import Built
    from nomogon_core.solid.sheet import Files


def found_against(document: dict[str, Any], built: Built, files: Files) -> list[Finding]:
    """A finding for each traced picture with a scale, whose sketch lies where the solid was built.

    Args:
        document: plain data; its pictures, what is known of them, and its traces.
    """
    found, bodies = [], list(built.bodies.values())
    for name, item in document["traces"].items():
        picture, frame = document["references"].get(item["picture"]), built.frames.get(item["sketch"])
        if picture is None or frame is None or not item["edge"] or not bodies:
            continue
        fit = calibration_of(document, item["picture"])
        if fit is None:
            continue
        edge = fit.to_mm(edge_places(files.blob(item["edge"])))
        if not len(edge):
            continue
        told = against.against(against.seen(bodies, frame), edge)
        u95 = None if fit.is_set else fit.u95_at_reach()
        title = document["sketches"][item["sketch"]]["title"]
        one = against.finding(name, picture["name"], title, told, frame, u95, bodies[0].name)
        found.append(one if len(bodies) == 1 else attrs.evolve(one, body=_nearest(bodies, one.place)))
    return found


def _nearest(bodies, place):
    """The body whose box is nearest to a place."""

    def away(body):
        return sum(max(low - at, 0.0, at - high) ** 2 for at, low, high in zip(place, *body.facts.box))

    return min(bodies, key=away).name
