"""The Inspect stage: what will go wrong when the part is made, and what to do about it."""

import json

from django.http import JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST

from nomogon_core.inspect.making import BY_KIND, making_of
from nomogon_core.inspect.telling import Finding, told
from nomogon_core.job.sureness import how_sure
from stages.overviews import view_of
from stages.requests import sent_by, shown, unit_of
from store.models import Machine
from store.working import here_for
from work import services
from work.models import Task
from work.views import as_json

MARKS = {"well": "✓", "accepted": "–"}


@require_POST
def findings(request, job_id):
    """The checks of the part as it is now, waiting a moment for the worker; the page asks again while it works."""
    here = here_for(request, job_id)
    document = here.document
    task, checks = None, None
    if document["operations"]:
        task = services.wait(services.submit(here.job, "rebuild", services.rebuild_arguments(document)))
        if task.status == Task.DONE:
            checks = services.wait(services.submit(here.job, "inspect", services.inspect_arguments(document)))
    done = checks is not None and checks.status == Task.DONE
    rows = _rows(checks.result["findings"], document, view_of(here, task.result)) if done else []
    context = _context(document, rows, unit_of(request)) | {"job": here.job, "done": done}
    context["machines"] = _machines(request.user, making_of(document["making"]))
    waited = checks or task
    return JsonResponse(
        {
            "version": here.job.version,
            "work": as_json(waited) if waited else None,
            "mesh": task.digest if task and task.status == Task.DONE else None,
            "sheet": render(request, "inspect.html#findings", context).content.decode(),
            "marks": [
                {
                    "number": row["mark"],
                    "place": row["one"].place,
                    "bad": row["told"].severity == "mend",
                    "body": row["one"].body,
                    "faces": row["one"].faces,
                    "key": row["one"].key,
                }
                for row in rows
                if row["one"].place
            ],
            "bodies": [
                {"id": name, **document["bodies"][name]}
                for name in ((task.result if task else None) or {}).get("bodies", {})
                if name in document["bodies"]
            ],
        }
    )


def _rows(found, document, view):
    """Findings as rows of the page, with a number or a sign each."""
    sure = how_sure(view)
    every = [*(Finding(**one) for one in found), *([sure] if sure else [])]
    rows = told(every, making_of(document["making"]), view.build)
    return [
        {"told": row, "one": row.finding, "mark": MARKS.get(row.severity, str(index)), "arguments": _arguments(row)}
        for index, row in enumerate(rows, 1)
    ]


def _arguments(row):
    return json.dumps((row.finding.remedy or {}).get("arguments", {}))


def _context(document, rows, unit):
    making = making_of(document["making"])
    way = BY_KIND[making.way]
    settings = [
        {
            "name": one.name,
            "words": one.words,
            "value": shown(making.numbers[one.name], one.unit, unit),
            "unit": one.unit,
        }
        for one in way.settings
    ]
    count = {kind: sum(row["told"].severity == kind for row in rows) for kind in ("mend", "know", "accepted")}
    return {"rows": rows, "way": way, "ways": BY_KIND.values(), "settings": settings, "count": count}


def _machines(user, making):
    """Machines of a person for a way of making; the one whose numbers the job has is taken."""
    return [
        {"title": one.title, "numbers": json.dumps(one.numbers), "taken": one.numbers == making.numbers}
        for one in user.machines.filter(way=making.way)
    ]


@require_POST
def machines(request, job_id):
    """Keep the numbers of the job's way of making as a machine of one's own, or forget one."""
    here, sent = here_for(request, job_id), sent_by(request)
    making, title = making_of(here.document["making"]), str(sent.get("title") or "")
    if sent.get("forget"):
        request.user.machines.filter(way=making.way, title=title).delete()
    else:
        Machine.keep(request.user, making.way, title, making.numbers)
    return JsonResponse({"machines": [one["title"] for one in _machines(request.user, making)]})
