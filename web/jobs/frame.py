"""What every page of a job shares: Ledger, stage line, Next, units; and the Board data of the sketch."""

from jobs.actions import role_of
from jobs.models import Member
from jobs.store import document_of, edge_of
from jobs.trays import TRAYS
from jobs.working import here_in
from nomogon_core.job.advice import STAGES, next_step, state_words, statuses
from nomogon_core.job.document import with_followed
from nomogon_core.job.ledger import SOURCES, ledger
from nomogon_core.job.overview import overview
from nomogon_core.job.places import plane_words
from nomogon_core.sketch.drawing import paths
from nomogon_core.solid.facts import DENSITIES
from solid import sentences
from work import services
from work.kept import Kept

STAGE_TITLES = {
    "reference": "Reference",
    "sketch": "Sketch",
    "solid": "Solid",
    "inspect": "Inspect",
    "release": "Release",
}
UNITS = ("mm", "in")
MOST_PATHS = 400
_views = Kept(64)


def unit_of(request):
    """The unit that this user reads, millimetres unless chosen otherwise."""
    return request.session.get("unit", "mm")


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


def panel_context(job, view, stage, unit, can_change=True):
    """Ledger, stage line and Next."""
    told, groups = statuses(view, unit), ledger(view, stage, unit)
    here = STAGES.index(stage)
    return {
        "job": job,
        "can_change": can_change,
        "stage": stage,
        "unit": unit,
        "groups": groups,
        "count": sum(len(group.rows) for group in groups),
        "advice": next_step(view, stage),
        "stages": [
            {
                "name": name,
                "title": STAGE_TITLES[name],
                "status": told[name],
                "on": name == stage,
                "x": 84 + 150 * index,
            }
            for index, name in enumerate(STAGES)
        ],
        "sources": SOURCES,
        "line_end": 84 + 150 * here,
        "ticks": [54 + 15 * index for index in range(45)],
    }


def frame(request, here, stage):
    """Context of a stage's page."""
    unit = unit_of(request)
    view = view_of(here)
    may_change = role_of(here.job, request.user) in (Member.OWNER, Member.EDITOR)
    return (
        panel_context(here.job, view, stage, unit, may_change)
        | sheet_context(here, view, unit)
        | {
            "turns": TRAYS.get(stage, ()),
            "view": view,
            "initials": initials(request.user),
        }
    )


def initials(user):
    return user.get_username()[:2].upper()


def sheet_context(here, view, unit):
    """Build sheet: each step as a line with its state, and the bodies at its foot."""
    document = here.document
    steps = {step["name"]: step for step in (view.result or {}).get("steps", [])}
    operations = {operation.name: operation for operation in view.build.operations}
    lines, number = [], 0
    for place, name in enumerate(document["steps"]):
        step = steps.get(name, {})
        line = {
            "id": name,
            "problem": step.get("problem", ""),
            "first": place == 0,
            "last": place == len(document["steps"]) - 1,
        }
        if name in operations:
            number += 1
            operation = operations[name]
            words, offers = sentences.words(document, operation, unit, step.get("numbers", {}))
            suggestion = {blank: f"{value:.2f} mm" for blank, value in (step.get("suggestion") or {}).items()}
            line |= {
                "number": number,
                "operation": operation,
                "words": words,
                "offers": offers,
                "suggestion": suggestion,
            }
        elif name in document["sketches"]:
            sketch = document["sketches"][name]
            line |= {"sketch": sketch, "on": plane_words(document, sketch["plane"]), "open": name == here.sketch_id}
        else:
            line |= {"plane": sentences.plane_sentence(document, document["planes"][name], unit)}
        lines.append(line)
    return {
        "lines": lines,
        "built": sum(
            1 for name in operations if steps.get(name) and not steps[name]["problem"] and not steps[name]["suppressed"]
        ),
        "failed": sum(1 for step in steps.values() if step["problem"]),
        "left_out": sum(1 for operation in operations.values() if operation.suppressed),
        "job": here.job,
        "unit": unit,
        "materials": list(DENSITIES),
        "bodies": _bodies(document, view.result),
    }


def _bodies(document, result):
    built = (result or {}).get("bodies", {})
    return [
        {"id": name, **body, "volume": f"{built[name]['volume_mm3'] / 1000:.3f} cm³" if name in built else "not built"}
        for name, body in document["bodies"].items()
    ]


def refresh_summary(job, document=None):
    """Keep what the register shows of a job up to date."""
    here = here_in(job, document or document_of(job))
    view = view_of(here)
    stage, text, tone = state_words(view)
    bodies = (view.result or {}).get("bodies", {})
    box = next(iter(bodies.values()))["box"] if bodies else None
    size = [high - low for low, high in zip(*box)] if box else []
    job.summary = {
        "stage": stage,
        "state": text,
        "tone": tone,
        "size": size,
        "free": view.degrees,
        "paths": paths(view.sketch, MOST_PATHS),
        "box": _box(view.sketch),
    }
    type(job).objects.filter(pk=job.pk).update(summary=job.summary)


def view_box(box):
    """The view of a small drawing, y up, with a little room around the part."""
    left, low, right, high = box or (0, 0, 1, 1)
    room = 0.06 * max(right - left, high - low, 1e-6)
    return f"{left - room:.3f} {-high - room:.3f} {right - left + 2 * room:.3f} {high - low + 2 * room:.3f}"


def _box(sketch):
    xs, ys = zip(*sketch.points.values()) if sketch.points else ((0, 1), (0, 1))
    radius = (
        max((curve.radius for curve in sketch.curves.values() if curve.kind == "circle"), default=0)
        if len(sketch.points) < 2
        else 0
    )
    return [min(xs) - radius, min(ys) - radius, max(xs) + radius, max(ys) + radius]
