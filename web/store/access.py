"""Finding a job for a request, with the right to see or change it."""

from django.http import Http404

from store.models import Job, Member
from store.refusals import Forbidden


def may_change(job, user):
    """Whether a user is an owner or editor of a job."""
    return Member.objects.filter(job=job, user=user, role__in=(Member.OWNER, Member.EDITOR)).exists()


def job_for(request, job_id, *, change=False):
    """The job, if the user is a member.

    Raises:
        Http404: no such job for this user; whether it exists is not told.
        Forbidden: ``change`` is wanted and the user is a viewer.
    """
    job = Job.objects.filter(pk=job_id, members__user=request.user).first()
    if job is None:
        raise Http404("no such job")
    if change and not may_change(job, request.user):
        raise Forbidden("You may look at this job but not change it; ask its owner to make you an editor.")
    return job
