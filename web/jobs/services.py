"""Making, copying in and writing out whole jobs."""

import secrets

from django.db import transaction

from examples import samples
from examples.parts import SAMPLES
from jobs.actions import perform
from jobs.models import Blob, Job, Member
from jobs.store import Shelf, document_of, keep_document
from nomogon_core.errors import InputError
from nomogon_core.exchange.readers import vector
from nomogon_core.job.document import new_document
from nomogon_core.job.files import read_job, write_job
from nomogon_core.job.library import picture_arguments
from nomogon_core.picture.decode import inspect


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


def add_picture(job, user, data, name, *, dpi=300, page=1, **told):
    """Keep a picture and put it into the job; a drawing (SVG, DXF, PDF) is rendered first.

    Args:
        dpi, page: of a drawing.
        told: ``taken_from``, ``licence`` and ``stand_in`` of the picture.

    Raises:
        InputError: it cannot be read as a picture; the job stays as it was.
    """
    drawn = vector.is_drawing(name)
    if drawn:
        data = vector.render(data, name, _number(dpi, "The resolution"), int(_number(page, "The page"))).png
    arguments = picture_arguments(Shelf(job), data, name)
    arguments["drawn"] = drawn or arguments["drawn"]
    return perform(job.pk, user, None, "reference.add_picture", arguments | told)


@transaction.atomic
def job_from_picture(user, title, number, data, name, **told):
    """A new job with its picture; nothing is made when the picture is refused."""
    job = new_job(user, title, number)
    add_picture(job, user, data, name, **told)
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


def export_archive(job):
    """Bytes of the job as one open file."""
    return write_job(job.title, job.number, document_of(job), Shelf(job))


@transaction.atomic
def import_archive(user, data, name):
    """A new job from an archive of any version.

    Raises:
        InputError: it cannot be read, or a picture that it names is missing.
    """
    held = read_job(data, name)
    job = new_job(user, held.title or name, held.number)
    for picture in held.document["references"].values():
        content = held.library.blob(picture["digest"])
        Blob.keep(content, inspect(content, picture["name"]).media_type)
    for trace in held.document["traces"].values():
        if trace["edge"]:
            Blob.keep(held.library.blob(trace["edge"]), "application/octet-stream")
    keep_document(job, None, held.document)
    return job
