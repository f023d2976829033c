"""What every page of a job shares: Ledger, stage line, Next, units; and the Board data of the sketch."""

import threading
from collections import OrderedDict

from django.urls import reverse

from jobs.actions import documents_of, role_of
from jobs.models import Member
from jobs.trays import TRAYS
from nomogon_core.job.advice import STAGES, next_step, state_words, statuses
from nomogon_core.job.ledger import SOURCES, ledger
from nomogon_core.job.overview import overview
from nomogon_core.quantity.units import format_length
from nomogon_core.sketch.drawing import draw, draw_findings, draw_regions
from nomogon_core.solid.operations import DENSITIES, EDGE_RULES
from reference.underlays import under_the_sketch, underlays
from work import services

STAGE_TITLES = {
    "reference": "Reference",
    "sketch": "Sketch",
    "solid": "Solid",
    "inspect": "Inspect",
    "release": "Release",
}
UNITS = ("mm", "in")
MOST_VIEWS = 64
_lock = threading.Lock()
_views = OrderedDict()


def unit_of(request):
    """The unit that this user reads, millimetres unless chosen otherwise."""
    return request.session.get("unit", "mm")


def view_of(job, documents=None):
    """The job worked out, with the finished rebuild of its present state if there is one."""
    documents = documents or documents_of(job)
    task = services.known_rebuild(job, documents) if documents["build"]["order"] else None
    key = (job.pk, job.version, task.pk if task else 0)
    with _lock:
        found = _views.get(key)
    if found is None:
        found = overview(documents, task.result if task else None)
        with _lock:
            _views[key] = found
            while len(_views) > MOST_VIEWS:
                _views.popitem(last=False)
    return found


def panel_context(job, view, stage, unit):
    """Ledger, stage line and Next."""
    told = statuses(view, unit)
    here = STAGES.index(stage)
    return {
        "job": job,
        "stage": stage,
        "unit": unit,
        "groups": ledger(view, stage, unit),
        "count": sum(len(group.rows) for group in ledger(view, stage, unit)),
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


def frame(request, job, stage):
    """Context of a stage's page."""
    unit = unit_of(request)
    view = view_of(job)
    return (
        panel_context(job, view, stage, unit)
        | sheet_context(job, view, unit)
        | {
            "turns": TRAYS.get(stage, ()),
            "view": view,
            "can_change": role_of(job, request.user) in (Member.OWNER, Member.EDITOR),
            "initials": initials(request.user),
        }
    )


def initials(user):
    return user.get_username()[:2].upper()


def _words(operation, view):
    """The operation as a sentence: plain words and numbers that can be typed over."""
    if operation.kind == "extrude":
        count = len(operation.regions)
        what = operation.title or ("the region" if count == 1 else f"{count} regions")
        if operation.through:
            return [
                ("text", "Cut"),
                ("strong", what),
                ("text", "through all of"),
                ("strong", operation.body),
                ("end", "."),
            ]
        words = {
            "new": ("Extrude", f"up, as new body {operation.body}"),
            "add": ("Extrude", f"up, added to {operation.body}"),
            "cut": ("Cut", f"up, out of {operation.body}"),
        }[operation.mode]
        start = [("text", "starting at"), ("number", "start")] if operation.start else []
        return [
            ("text", words[0]),
            ("strong", what),
            ("text", "by"),
            ("number", "length"),
            *start,
            ("text", words[1]),
            ("end", "."),
        ]
    if operation.kind == "hole":
        count = len(operation.centers)
        what = operation.title or ("Hole" if count == 1 else f"{count} holes")
        depth = [("text", "through all")] if operation.through else [("text", "deep"), ("number", "depth")]
        return [
            ("strong", what),
            ("text", "of diameter"),
            ("number", "diameter"),
            ("text", ","),
            *depth,
            ("text", f"in {operation.body}"),
            ("end", "."),
        ]
    rules = [EDGE_RULES.get(edge) for edge in operation.edges]
    what = (
        rules[0]
        if len(rules) == 1 and rules[0]
        else f"{len(operation.edges)} edge{'s' if len(operation.edges) > 1 else ''}"
    )
    return [
        ("text", "Fillet"),
        ("strong", what),
        ("text", f"of {operation.body}, radius"),
        ("number", "radius"),
        ("end", "."),
    ]


def sheet_context(job, view, unit):
    """Build sheet: each operation as a sentence with its state."""
    steps = {step["name"]: step for step in (view.result or {}).get("steps", [])}
    lines = []
    for number, operation in enumerate(view.build.operations, 1):
        step = steps.get(operation.name, {})
        words = [
            {
                "kind": kind,
                "text": text,
                "tight": kind == "end" or text == ",",
                "value": format_length(getattr(operation, text), unit=unit) if kind == "number" else "",
            }
            for kind, text in _words(operation, view)
        ]
        suggestion = step.get("suggestion")
        lines.append(
            {
                "number": number,
                "operation": operation,
                "words": words,
                "problem": step.get("problem", ""),
                "suggestion": f"{suggestion:.2f} mm" if suggestion else "",
                "first": number == 1,
                "last": number == len(view.build.operations),
            }
        )
    built = sum(1 for step in steps.values() if not step["problem"] and not step["suppressed"])
    failed = sum(1 for step in steps.values() if step["problem"])
    left_out = sum(1 for operation in view.build.operations if operation.suppressed)
    return {
        "lines": lines,
        "built": built,
        "failed": failed,
        "left_out": left_out,
        "job": job,
        "unit": unit,
        "materials": list(DENSITIES),
        "material": view.build.material,
    }


def laid_pictures(job, documents):
    """The visible, calibrated pictures of a job, each as it lies in its plane."""

    def address(picture, digest, key):
        return (
            reverse("picture", args=[job.pk, digest])
            if digest
            else reverse("reference-flat", args=[job.pk, picture, key])
        )

    return underlays(documents, address)


def sketch_board(job, documents, unit):
    """Everything that the Sketch Board draws."""
    view = view_of(job, documents)
    return {
        "version": job.version,
        "drawing": draw(view.sketch, view.freedom, unit),
        "regions": draw_regions(view.sketch, view.regions),
        "findings": draw_findings(view.findings),
        "degrees": view.freedom.degrees,
        "pictures": under_the_sketch(laid_pictures(job, documents)),
    }


def refresh_summary(job, documents):
    """Keep what the register shows of a job up to date."""
    view = view_of(job, documents)
    stage, text, tone = state_words(view)
    outline = draw(view.sketch)["curves"]
    bodies = (view.result or {}).get("bodies", {})
    box = next(iter(bodies.values()))["box"] if bodies else None
    size = [high - low for low, high in zip(*box)] if box else []
    job.summary = {
        "stage": stage,
        "state": text,
        "tone": tone,
        "size": size,
        "free": view.freedom.degrees if view.sketch.curves else 0,
        "paths": [curve["d"] for curve in outline if not curve["construction"]][:400],
        "box": _box(view.sketch),
    }
    type(job).objects.filter(pk=job.pk).update(summary=job.summary)


def _box(sketch):
    xs, ys = zip(*sketch.points.values()) if sketch.points else ((0, 1), (0, 1))
    radius = (
        max((curve.radius for curve in sketch.curves.values() if curve.kind == "circle"), default=0)
        if len(sketch.points) < 2
        else 0
    )
    return [min(xs) - radius, min(ys) - radius, max(xs) + radius, max(ys) + radius]
