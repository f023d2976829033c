"""Making, copying in and writing out whole jobs."""

import secrets

from django.db import transaction

from examples import samples
from examples.parts import SAMPLES
from jobs.actions import documents_of, perform
from jobs.models import Blob, Document, Job, Member
from nomogon_core.errors import InputError
from nomogon_core.exchange import archive
from nomogon_core.exchange.readers import vector
from nomogon_core.job.overview import checked
from nomogon_core.picture.decode import decode, inspect, looks_drawn


def new_job(user, title, number=""):
    """An empty job that belongs to a user."""
    title = " ".join(str(title).split())[:120]
    if not title:
        raise InputError("A job needs a title; write what the part is.")
    job = Job.objects.create(title=title, number=" ".join(str(number).split())[:40], changed_by=user)
    Member.objects.create(job=job, user=user, role=Member.OWNER)
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
    info = inspect(data, name)
    decode(data, name)
    drawn = drawn or looks_drawn(data, name)
    blob = Blob.keep(data, info.media_type)
    return perform(
        job.pk,
        user,
        None,
        "reference.add_picture",
        {
            "name": name,
            "digest": blob.digest,
            "media_type": info.media_type,
            "width": info.width,
            "height": info.height,
            "dpi": list(info.dpi) if info.dpi else None,
            "drawn": drawn,
            "camera": info.camera,
            "focal": info.focal,
            **told,
        },
    )


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
    documents = documents_of(job)
    digests = [picture["digest"] for picture in documents["reference"]["pictures"].values()]
    pictures = {blob.digest: bytes(blob.data) for blob in Blob.objects.filter(pk__in=digests)}
    return archive.write(archive.Archive(job.title, job.number, documents, pictures))


@transaction.atomic
def import_archive(user, data, name):
    """A new job from an archive.

    Raises:
        InputError: it cannot be read, or a picture that it names is missing.
    """
    contents = archive.read(data, name)
    documents = checked(contents.documents, name)
    job = new_job(user, contents.title or name, contents.number)
    for picture in documents["reference"]["pictures"].values():
        held = contents.pictures.get(picture.get("digest"))
        if held is None:
            raise InputError(f"{name} is damaged: a picture is missing in it.")
        Blob.keep(held, inspect(held, picture.get("name", name)).media_type)
    for part, content in documents.items():
        Document.objects.create(job=job, name=part, data=content)
    return job
