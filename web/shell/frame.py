"""What every page of a job shares: Ledger, stage line, Next, units."""

from django.shortcuts import render
from django.views.decorators.http import require_GET

from nomogon_core.job.advice import STAGES, next_step, statuses
from nomogon_core.job.ledger import SOURCES, ledger
from shell.trays import TRAYS
from stages.overviews import view_of
from stages.requests import unit_of
from stages.solid.sheet import sheet_context
from store.actions import role_of
from store.models import Member
from store.working import here_for

STAGE_TITLES = {
    "reference": "Reference",
    "sketch": "Sketch",
    "solid": "Solid",
    "inspect": "Inspect",
    "release": "Release",
}


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


def stage_page(stage, own=None):
    """The view that shows the page of a stage.

    Args:
        own: called with the job as this person works on it and the unit: what the page holds besides the frame.
    """

    @require_GET
    def page(request, job_id):
        here = here_for(request, job_id)
        held = own(here, unit_of(request)) if own else {}
        return render(request, f"{stage}.html", frame(request, here, stage) | held)

    return page


def initials(user):
    return user.get_username()[:2].upper()


def view_box(box):
    """The view of a small drawing, y up, with a little room around the part."""
    left, low, right, high = box or (0, 0, 1, 1)
    room = 0.06 * max(right - left, high - low, 1e-6)
    return f"{left - room:.3f} {-high - room:.3f} {right - left + 2 * room:.3f} {high - low + 2 * room:.3f}"
