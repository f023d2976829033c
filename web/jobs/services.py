"""Making, copying in and writing out whole jobs."""

from django.db import transaction

from jobs.actions import documents_of, perform
from jobs.models import Blob, Document, Job, Member
from nomogon_core.errors import InputError
from nomogon_core.exchange import archive
from nomogon_core.overview import checked
from nomogon_core.reference.decode import decode, inspect


def new_job(user, title, number=""):
    """An empty job that belongs to a user."""
    title = " ".join(str(title).split())[:120]
    if not title:
        raise InputError("A job needs a title; write what the part is.")
    job = Job.objects.create(title=title, number=" ".join(str(number).split())[:40], changed_by=user)
    Member.objects.create(job=job, user=user, role=Member.OWNER)
    return job


def add_picture(job, user, data, name):
    """Keep a picture and put it into the job.

    Raises:
        InputError: it cannot be read as a picture; the job stays as it was.
    """
    info = inspect(data, name)
    decode(data, name)
    blob = Blob.keep(data, info.media_type)
    return perform(job.pk, user, None, "reference.add_picture", {
        "name": name, "digest": blob.digest, "media_type": info.media_type, "width": info.width, "height": info.height,
        "dpi": list(info.dpi) if info.dpi else None})


@transaction.atomic
def job_from_picture(user, title, number, data, name):
    """A new job with its picture; nothing is made when the picture is refused."""
    job = new_job(user, title, number)
    add_picture(job, user, data, name)
    return job


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
