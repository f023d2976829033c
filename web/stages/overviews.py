"""A job worked out, once a version, for all pages that show it."""

from nomogon_core.geometry.curves import bounds
from nomogon_core.job.advice import state_words
from nomogon_core.job.document import with_followed
from nomogon_core.job.overview import overview
from nomogon_core.kept import Kept
from nomogon_core.sketch.drawing import paths
from store.documents import document_of, edge_of
from store.working import here_in
from work import services

ROUGH_MM = 0.1
MOST_PATHS = 400
_views = Kept(64)


def view_of(here, result=None):
    """A job worked out for one person, with the finished rebuild of its present state if there is one.

    Args:
        result: of the rebuild, where it is at hand.
    """
    job, document = here.job, here.document
    task = None if result else services.known_rebuild(job, document) if document["operations"] else None
    result = result or (task.result if task else None)
    key = (job.pk, job.version, here.picture_id, here.sketch_id, result is not None)
    if found := _views.get(key):
        return found
    document = with_followed(document, (result or {}).get("sketches"))
    return _views.put(key, overview(document, result, picture=here.picture_id, sketch=here.sketch_id, edge=edge_of))


def refresh_summary(job, document=None):
    """Keep what the register shows of a job up to date."""
    here = here_in(job, document or document_of(job))
    view = view_of(here)
    stage, text, tone = state_words(view)
    bodies = (view.result or {}).get("bodies", {})
    box = next(iter(bodies.values()))["box"] if bodies else None
    size = [high - low for low, high in zip(*box)] if box else []
    sketches = (view.sketch, *(one.sketch for one in view.sketches.values()))
    shown = next((one for one in sketches if one.curves), view.sketch)
    job.summary = {
        "stage": stage,
        "state": text,
        "tone": tone,
        "size": size,
        "free": view.degrees,
        "paths": paths(shown, MOST_PATHS),
        "box": _box(shown),
    }
    type(job).objects.filter(pk=job.pk).update(summary=job.summary)


def _box(sketch):
    """The box around what is drawn, the points alone where that is much."""
    shapes = [sketch.geometry(name) for name, curve in sketch.curves.items() if not curve.construction]
    if not shapes or len(shapes) > MOST_PATHS:
        xs, ys = zip(*sketch.points.values()) if sketch.points else ((0, 1), (0, 1))
        return [min(xs), min(ys), max(xs), max(ys)]
    (left, low), (right, high) = bounds(shapes, ROUGH_MM)
    return [left, low, right, high]
