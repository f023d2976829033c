"""The page History: what was done to a job and by whom, any version of it against any other, named revisions."""

from django.contrib.auth import get_user_model
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from nomogon_core.errors import InputError
from nomogon_core.job.compare import compare
from shell.frame import frame, view_box
from stages.overviews import refresh_summary
from stages.requests import unit_of
from store import actions
from store.access import job_for
from store.models import Command, Revision
from store.working import here_for
from work import services

MOST_LISTED = 60
STAGE_OF = {
    "reference": "Reference",
    "sketch": "Sketch",
    "solid": "Solid",
    "plane": "Planes",
    "body": "Bodies",
    "ledger": "Ledger",
    "job": "History",
}
LONGEST_NAME = 80


def _version(text, job, otherwise=None):
    """A version of a job from what a page sent.

    Raises:
        InputError: it is none.
    """
    if text in (None, "") and otherwise is not None:
        return otherwise
    if not (str(text).isascii() and str(text).isdecimal()) or int(text) > job.version:
        raise InputError(f"This job has no version {text!r}; its versions go from 0 to {job.version}.")
    return int(text)


def around(request, here):
    """Context of a page of a job that is none of its stages."""
    context = frame(request, here, "reference")
    for entry in context["stages"]:
        entry["on"] = False
    return context | {"line_end": None, "job": here.job}


@require_GET
def page(request, job_id):
    """What was done, the latest first, by person and stage."""
    here = here_for(request, job_id)
    job, entries = here.job, here.job.commands.select_related("user").order_by("-version")
    who, stage = request.GET.get("who", ""), request.GET.get("stage", "")
    if who:
        entries = entries.filter(user__username=who)
    if stage in STAGE_OF:
        entries = entries.filter(name__startswith=f"{stage}.")
    before = _version(request.GET.get("before"), job, job.version + 1)
    rows = list(entries.filter(version__lt=before)[: MOST_LISTED + 1])
    revisions = list(job.revisions.select_related("user"))
    named = {}
    for revision in revisions:
        named.setdefault(revision.version, []).append(revision.name)
    first = job.commands.filter(state=Command.OLD).order_by("-version").values_list("version", flat=True).first() or 0
    shown = [
        {
            "entry": entry,
            "stage": STAGE_OF.get(entry.name.split(".")[0], ""),
            "names": named.get(entry.version, []),
            "looked": entry.version >= first,
            "undone": entry.state in (Command.UNDONE, Command.GONE),
        }
        for entry in rows[:MOST_LISTED]
    ]
    return render(
        request,
        "history.html",
        around(request, here)
        | {
            "rows": shown,
            "more": rows[MOST_LISTED - 1].version if len(rows) > MOST_LISTED else None,
            "people": get_user_model().objects.filter(pk__in=job.commands.values("user")).order_by("username"),
            "stage_words": STAGE_OF,
            "who": who,
            "which": stage,
            "revisions": revisions,
        },
    )


@require_GET
def differences(request, job_id):
    """What differs between two versions."""
    here = here_for(request, job_id)
    job = here.job
    old, new = sorted(
        (
            _version(request.GET.get("from"), job, max(job.version - 1, 0)),
            _version(request.GET.get("to"), job, job.version),
        )
    )
    documents = [actions.document_at(job, version, here.document) for version in (old, new)]
    built = [services.known_rebuild(job, document) for document in documents]
    told = compare(*documents, unit_of(request), tuple(task.result if task else None for task in built))
    names = {}
    for revision in job.revisions.filter(version__in=(old, new)):
        names.setdefault(revision.version, revision.name)
    return render(
        request,
        "differences.html",
        around(request, here)
        | {
            "old": old,
            "new": new,
            "old_name": names.get(old, ""),
            "new_name": names.get(new, ""),
            "told": told,
            "drawings": [{"one": one, "view": view_box(one.box)} for one in told.drawn],
        },
    )


@require_POST
def back(request, job_id):
    """Make the job what it was at a version."""
    job = job_for(request, job_id, change=True)
    to = _version(request.POST.get("to"), job)
    done = actions.go_back(job.pk, request.user, _version(request.POST.get("version"), job), to)
    job.refresh_from_db()
    refresh_summary(job, done.document)
    return redirect("history", job.pk)


@require_POST
def name_revision(request, job_id):
    """Give a version a name."""
    job = job_for(request, job_id, change=True)
    name = " ".join(request.POST.get("name", "").replace("\0", " ").split())[:LONGEST_NAME]
    if not name:
        raise InputError("A revision needs a name, such as “A, as sent to the printer”.")
    Revision.objects.create(
        job=job, version=_version(request.POST.get("version"), job, job.version), name=name, user=request.user
    )
    return redirect("history", job.pk)
