"""The Inspect stage: what will go wrong when the part is made, and what to do about it."""

import json

from django.http import JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST

from nomogon_core.inspect.making import BY_KIND, making_of
from nomogon_core.quantity.units import format_length
from stages.overviews import view_of
from stages.requests import unit_of
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
    rows = _rows(document, checks.result["findings"], view_of(here, task.result)) if done else []
    context = _context(document, rows, unit_of(request)) | {"job": here.job, "done": done}
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
                    "place": row["place"],
                    "bad": row["severity"] == "mend",
                    "body": row["body"],
                    "faces": row["faces"],
                    "key": row["key"],
                }
                for row in rows
                if row["place"]
            ],
            "bodies": [
                {"id": name, **document["bodies"][name]}
                for name in ((task.result if task else None) or {}).get("bodies", {})
                if name in document["bodies"]
            ],
        }
    )


def _rows(document, found, view):
    """Findings with their numbers and in words; those that are accepted, with the number that they had, come last but
    for what is well."""
    accepted = making_of(document["making"]).accepted
    numbers = view.build.numbers()
    told = []
    for one in found:
        names = [_called(view, numbers, name) for name in one["operations"]]
        arguments = json.dumps((one["remedy"] or {}).get("arguments", {}))
        row = one | {
            "arguments": arguments,
            "sentence": one["sentence"].format(*names),
            "body_name": document["bodies"][one["body"]]["name"],
        }
        why, number = accepted.get(one["key"], ("", ""))
        if why and number == one["number"] and one["severity"] != "well":
            row |= {"severity": "accepted", "why": why}
        elif why and one["severity"] != "well":
            row["sentence"] += f" It was accepted at {number}: {why}."
        told.append(row)
    rank = {"mend": 0, "know": 1, "accepted": 2, "well": 3}
    told.sort(key=lambda row: rank[row["severity"]])
    for index, row in enumerate(told, 1):
        row["mark"] = MARKS.get(row["severity"], str(index))
    return told


def _called(view, numbers, name):
    """An operation as the Build sheet calls it."""
    if name not in numbers:
        return "?"
    operation = next((one for one in view.build.operations if one.name == name), None)
    title = operation.title if operation and operation.title else ""
    return f"{numbers[name]} {title}".strip()


def _context(document, rows, unit):
    making = making_of(document["making"])
    way = BY_KIND[making.way]
    settings = [
        {
            "name": one.name,
            "words": one.words,
            "value": _shown(making.numbers[one.name], one.unit, unit),
            "unit": one.unit,
        }
        for one in way.settings
    ]
    count = {kind: sum(row["severity"] == kind for row in rows) for kind in ("mend", "know", "accepted")}
    told = {"rows": rows, "way": way, "ways": BY_KIND.values(), "settings": settings, "count": count}
    return told | {"several": len(document["bodies"]) > 1}


def _shown(value, own_unit, unit):
    """A number of a way of making, without zeros at its end."""
    text = f"{value:.4f}" if own_unit == "°" or unit == "mm" else format_length(value, unit=unit)
    return text.rstrip("0").rstrip(".") if "." in text else text
