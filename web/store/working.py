"""What one person works on in a job, which is kept apart from the job: the picture, the sketch that is open."""

import attrs

from nomogon_core.job.document import calibration_of, picture_of, sketch_id
from store.access import job_for
from store.documents import document_of
from store.models import Job, Member


@attrs.frozen
class Here:
    """A job as one person works on it.

    Attributes:
        job: its row; document: plain data.
        picture_id: of the picture worked on, or None; sketch_id: of the sketch that is open.
    """

    job: Job
    document: dict = attrs.field(repr=False)
    picture_id: str | None
    sketch_id: str

    @property
    def where(self):
        """(document, id of the picture worked on)."""
        return self.document, self.picture_id

    @property
    def picture(self):
        """Plain data of the picture worked on, or None."""
        return self.document["references"].get(self.picture_id)

    @property
    def fit(self):
        """Calibration of the picture worked on, or None."""
        return calibration_of(self.document, self.picture_id)


def here_in(job, document, picture=None, sketch=""):
    """A job with a picture and a sketch in it, without ids the last picture and the first sketch."""
    opened = sketch if sketch in document["sketches"] else sketch_id(document)
    return Here(job, document, picture_of(document, picture)[0], opened)


def here_for(request, job_id, *, change=False):
    """A job as the user of a request works on it.

    Raises:
        Http404, Forbidden: as :func:`store.access.job_for`.
    """
    job = job_for(request, job_id, change=change)
    return here_of(job, request.user)


def here_of(job, user, document=None):
    """A job as a user works on it."""
    member = Member.objects.filter(job=job, user=user).first()
    kept = member.working if member else {}
    return here_in(job, document or document_of(job), kept.get("picture"), kept.get("sketch", ""))


def work_on(job, user, **what):
    """Keep which picture or sketch a user works on."""
    member = Member.objects.get(job=job, user=user)
    member.working = member.working | what
    member.save(update_fields=["working"])
