"""Making, copying in and writing out whole jobs."""

import secrets

from django.db import transaction

from examples import samples
from examples.parts import SAMPLES
from nomogon_core.errors import InputError
from nomogon_core.exchange.readers import vector
from nomogon_core.job.document import digests_of, new_document
from nomogon_core.job.files import write_job
from store.actions import perform
from store.documents import Shelf, document_of, keep_document
from store.models import Blob, Holding, Job, Member, Release
from work import outside, readers


def new_job(user, title, number=""):
    """An empty job that belongs to a user."""
    title = " ".join(str(title).split())[:120]
    if not title:
        raise InputError("A job needs a title; write what the part is.")
    job = Job.objects.create(title=title, number=" ".join(str(number).split())[:40], changed_by=user)
    Member.objects.create(job=job, user=user, role=Member.OWNER)
    keep_document(job, None, new_document())
    return job


def _number(text, what):
    try:
        return float(str(text).replace(",", "."))
    except ValueError:
        raise InputError(f"{what} {text!r} is no number.") from None


def read_picture(data, name, *, dpi=300, page=1):
    """Bytes of a picture and what is stored of it besides; a drawing (SVG, DXF, PDF) is rendered.

    Args:
        dpi, page: of a drawing.

    Raises:
        InputError: it cannot be read as a picture.
    """
    if not vector.is_drawing(name):
        return data, outside.read(readers.picture, data, name)
    size = _number(dpi, "The resolution"), int(_number(page, "The page"))
    data, facts = outside.read(readers.drawing, data, name, *size)
    return data, facts | {"drawn": True}


def add_picture(job, user, data, facts, **told):
    """Keep a picture that was read and put it into the job.

    Args:
        told: ``taken_from``, ``licence`` and ``stand_in`` of the picture.
    """
    arguments = facts | {"digest": Shelf(job).keep(data, facts["media_type"])} | told
    return perform(job.pk, user, None, "reference.add_picture", arguments)


def job_from_picture(user, title, number, data, name, *, dpi=300, page=1, **told):
    """A new job with its picture; nothing is made when the picture is refused."""
    data, facts = read_picture(data, name, dpi=dpi, page=page)
    with transaction.atomic():
        job = new_job(user, title, number)
        add_picture(job, user, data, facts, **told)
    return job


def job_from_sample(user, part, way, dpi="300", turn="0"):
    """A new job with a picture of a sample part, as taken by a stand-in.

    Raises:
        InputError: there is no such part, way or resolution.
    """
    picture = samples.take(
        part,
        way,
        dpi=int(_number(dpi, "The resolution")),
        turn_degrees=_number(turn, "The turn"),
        seed=secrets.randbelow(2**31),
    )
    return job_from_picture(
        user,
        SAMPLES[part].title,
        SAMPLES[part].number,
        picture.data,
        picture.name,
        taken_from=samples.MADE_FOR,
        licence=samples.LICENCE,
        stand_in={"part": part, "px_from_mm": picture.px_from_mm.ravel().tolist()},
    )


@transaction.atomic
def copy_job(user, job):
    """A job that belongs to a user and begins as another one is."""
    document = document_of(job)
    copy = Job.objects.create(title=f"{job.title} (copy)"[:120], number=job.number, changed_by=user)
    Member.objects.create(job=copy, user=user, role=Member.OWNER)
    Holding.objects.bulk_create(Holding(job=copy, blob_id=digest) for digest in digests_of(document))
    keep_document(copy, None, document)
    Job.objects.filter(pk=copy.pk).update(summary=job.summary)
    return copy


def export_archive(job):
    """Bytes of the job as one open file."""
    releases = [
        {
            "number": one.number,
            "digest": one.blob_id,
            "version": one.version,
            "allowances": one.allowances,
            "made": one.made.isoformat(timespec="seconds"),
        }
        for one in job.releases.order_by("number")
    ]
    return write_job(job.title, job.number, document_of(job), Shelf(job), releases)


def import_archive(user, data, name):
    """A new job from an archive of any version.

    Raises:
        InputError: it cannot be read, or a picture that it names is missing.
    """
    held, kinds = outside.read(readers.archive, data, name)
    with transaction.atomic():
        job = new_job(user, held.title or name, held.number)
        for digest, media_type in (digests_of(held.document) | kinds).items():
            Blob.keep(job, held.library.blob(digest), media_type)
        for one in held.releases:
            Release.restore(job, one, held.library.blob(one["digest"]))
        keep_document(job, None, held.document)
    return job
