"""The page People: who may see and change a job; and copying it, putting it away, deleting it."""

import time
from threading import Lock

from django.contrib.auth import get_user_model
from django.db import transaction
from django.http import JsonResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from nomogon_core.errors import InputError
from shell.history import around
from store import making
from store.access import job_for
from store.actions import happened_since, role_of
from store.models import Job, Member
from store.refusals import Forbidden
from store.working import here_for

ROLES = {
    Member.OWNER: "owner: changes it and says who else may",
    Member.EDITOR: "editor: changes it",
    Member.VIEWER: "viewer: looks and takes the files",
}
HERE_FOR_S = 12.0
_here = {}
_lock = Lock()


def _owned(request, job_id):
    """The job, of which the user is an owner.

    Raises:
        Http404, Forbidden: it is not there for him, or he is no owner.
    """
    job = job_for(request, job_id)
    if role_of(job, request.user) != Member.OWNER:
        raise Forbidden("Only an owner of this job may do that; ask one of them.")
    return job


@require_GET
def page(request, job_id):
    here = here_for(request, job_id)
    owner = role_of(here.job, request.user) == Member.OWNER
    members = here.job.members.select_related("user").order_by("role", "user__username")
    return render(
        request,
        "people.html",
        around(request, here) | {"members": members, "roles": ROLES, "owner": owner},
    )


@require_POST
@transaction.atomic
def add(request, job_id):
    """Let somebody in, or give a member another role."""
    job = _owned(request, job_id)
    name, role = " ".join(request.POST.get("who", "").replace("\0", " ").split()), request.POST.get("role", "")
    if role not in ROLES:
        raise InputError("Choose what that person may do: owner, editor or viewer.")
    user = get_user_model().objects.filter(username=name).first()
    if user is None:
        raise InputError(f"There is nobody called {name!r} here. Names are written as at sign-in.")
    if role != Member.OWNER:
        _keep_an_owner(job, user)
    Member.objects.update_or_create(job=job, user=user, defaults={"role": role})
    return redirect("people", job.pk)


@require_POST
@transaction.atomic
def remove(request, job_id):
    """Let a member go; every member may go himself."""
    job = job_for(request, job_id)
    name = request.POST.get("who", "")
    if name != request.user.get_username():
        job = _owned(request, job_id)
    member = Member.objects.filter(job=job, user__username=name).first() if "\0" not in name else None
    if member is None:
        raise InputError(f"{name!r} is no member of this job.")
    _keep_an_owner(job, member.user)
    member.delete()
    return redirect("register") if member.user == request.user else redirect("people", job.pk)


def _keep_an_owner(job, leaving):
    others = job.members.select_for_update().filter(role=Member.OWNER).exclude(user=leaving)
    if role_of(job, leaving) == Member.OWNER and not others:
        raise InputError("A job needs an owner. Make somebody else one first.")


@require_POST
def copy(request, job_id):
    """A job of one's own that begins as this one is."""
    job = job_for(request, job_id)
    return redirect("job", making.copy_job(request.user, job).pk)


@require_POST
def put_away(request, job_id):
    """Take a job out of the register, or back into it."""
    job = job_for(request, job_id, change=True)
    Job.objects.filter(pk=job.pk).update(put_away=request.POST.get("away") == "1")
    return redirect("people", job.pk)


@require_POST
def delete(request, job_id):
    """Delete a job with all that hangs on it; its title must be typed."""
    job = _owned(request, job_id)
    if " ".join(request.POST.get("title", "").split()) != job.title:
        raise InputError(f"Nothing was deleted. To delete this job, type its title as it is: {job.title}")
    job.delete()
    return redirect("register")


@require_GET
def news(request, job_id):
    """What others did since the version that a page shows, and who else has the job open."""
    job = job_for(request, job_id)
    since = request.GET.get("version", "")
    since = int(since) if since.isascii() and since.isdecimal() else job.version
    now, me = time.monotonic(), request.user.get_username()
    with _lock:
        seen = _here.setdefault(job.pk, {})
        seen[me] = now
        for name in [name for name, when in seen.items() if now - when > HERE_FOR_S]:
            del seen[name]
        others = sorted(seen.keys() - {me})
    told = happened_since(job, since) if since < job.version else []
    return JsonResponse({"version": job.version, "happened": told, "others": [name.upper() for name in others]})
