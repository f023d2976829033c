"""What the Board of the Sketch stage draws, and of it only what is another than on the page that asks."""

from nomogon_core.job.places import plane_words
from nomogon_core.kept import Kept
from nomogon_core.sketch.drawing import difference, draw, draw_findings, draw_regions
from nomogon_core.solid.planes import BASE
from stages.overviews import view_of
from stages.reference.underlays import laid_pictures, under_the_sketch
from work import services

_boards = Kept(24)


def sketch_board(here, unit, shown=None):
    """Everything that the Sketch Board draws, or the difference from what the page shows.

    Args:
        shown: version of the job that the page drew last, where the difference will do.
    """
    job = here.job
    view, document = view_of(here), here.document
    shapes = {
        **draw(view.sketch, view.freedom, unit),
        "regions": draw_regions(view.sketch, view.regions),
    }
    before = _boards.get((job.pk, shown, here.sketch_id, unit)) if shown is not None else None
    _boards.put((job.pk, job.version, here.sketch_id, unit), shapes)
    return {
        "version": job.version,
        "since": shown if before else None,
        "shapes": difference(before, shapes) if before else shapes,
        "findings": draw_findings(view.findings),
        "degrees": view.freedom.degrees,
        "pictures": under_the_sketch(laid_pictures(job, document), document, here.sketch_id),
        "open": here.sketch_id,
        "sketches": [
            {"id": name, "title": one["title"], "plane": plane_words(document, one["plane"])}
            for name, one in document["sketches"].items()
        ],
        "planes": [[name, plane_words(document, name)] for name in (*BASE, *document["planes"])],
        "solid": behind(here),
    }


def behind(here):
    """The mesh of the solid as it is now and the frame of the open sketch, or None while there is none."""
    task = services.known_rebuild(here.job, here.document) if here.document["operations"] else None
    frame = task and task.digest and task.result.get("frames", {}).get(here.sketch_id)
    steps = here.document["steps"]
    return {"mesh": task.digest, "frame": frame, "before": steps[: steps.index(here.sketch_id)]} if frame else None
