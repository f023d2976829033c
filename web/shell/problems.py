"""Refusals on their way to the user: one sentence, the right status, in the form that the page expects."""

import logging

from django.conf import settings
from django.db import InterfaceError, OperationalError
from django.http import Http404, JsonResponse
from django.shortcuts import render
from django.utils.http import url_has_allowed_host_and_scheme

from nomogon_core.errors import CoreError
from nomogon_core.sketch.conflicts import ConflictError
from store.refusals import Forbidden, Stale

log = logging.getLogger(__name__)
NO_DATABASE = "The database does not answer just now. What was stored is safe; try again in a moment."


def locked_out(request, credentials, *_, **__):
    """The sign-in page after too many wrong passwords."""
    minutes = round(settings.AXES_COOLOFF_TIME.total_seconds() / 60)
    told = f"Too many wrong passwords for this name. Try again in {minutes} minutes."
    return render(request, "sign_in.html", {"locked_out": told}, status=429)


class ProblemMiddleware:
    """Turns refusals of the core into answers; anything unforeseen is logged and answered without a traceback."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        return self.get_response(request)

    def process_exception(self, request, exception):
        if isinstance(exception, Http404):
            return None
        if isinstance(exception, Stale):
            return answer(request, str(exception), 409, version=exception.version, happened=exception.happened)
        if isinstance(exception, Forbidden):
            return answer(request, str(exception), 403)
        if isinstance(exception, CoreError):
            told = isinstance(exception, ConflictError) and exception.conflict.among
            more = {"choices": exception.choices} if told else {}
            return answer(request, str(exception), 400, **more)
        if isinstance(exception, (OperationalError, InterfaceError)):
            log.error("the database does not answer: %s", exception)
            return answer(request, NO_DATABASE, 503)
        log.error("unforeseen: %s %s", request.method, request.path, exc_info=exception)
        return answer(
            request,
            "Something went wrong that was not foreseen. It has been noted in the log; load the page again to see how "
            "the job stands now.",
            500,
        )


def answer(request, problem, status, **more):
    wants_page = "text/html" in request.headers.get("Accept", "") and not request.headers.get("HX-Request")
    if wants_page:
        back = request.headers.get("Referer", "")
        safe = request.method == "POST" and url_has_allowed_host_and_scheme(back, {request.get_host()})
        return render(request, "problem.html", {"problem": problem, "back": back if safe else ""}, status=status)
    return JsonResponse({"problem": problem, **more}, status=status)
