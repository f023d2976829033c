"""Documents in the database, part by part, and the library that commands are handed: blobs, cleaned pictures, work that
the workers have finished."""

import copy

from nomogon_core.errors import InputError
from nomogon_core.job.document import EMPTY, with_followed
from nomogon_core.job.library import Library
from nomogon_core.job.migration import edge_places
from nomogon_core.kept import Kept
from store import pictures
from store.models import Blob, Document
from work import services

_documents = Kept(32)


def document_of(job):
    """The document of a job as plain data, which nobody changes: a command takes a copy."""
    kept = _documents.get((job.pk, job.version))
    if kept:
        return kept
    rows = list(Document.objects.filter(job=job).values_list("name", "data", "job__version"))
    found = {name: data for name, data, _ in rows}
    document = {name: found[name] if name in found else copy.deepcopy(empty) for name, empty in EMPTY.items()}
    # The job may have been changed since its row was read.
    return _documents.put((job.pk, rows[0][2] if rows else job.version), document)


def keep_in_memory(job, document):
    """A document that was stored just now need not be read again."""
    _documents.put((job.pk, job.version), document)


def as_built(job, document):
    """The document with its sketches as they followed the solid, where the last rebuild was of exactly this."""
    if not any(sketch.get("brought") for sketch in document["sketches"].values()):
        return document
    task = services.known_rebuild(job, document)
    return with_followed(document, task.result.get("sketches")) if task else document


def keep_document(job, before, after):
    """Store the parts of a document that have changed; all of it without one before."""
    _documents.drop((job.pk, job.version))
    for name, data in after.items():
        if before is None or data != before[name]:
            if not Document.objects.filter(job=job, name=name).update(data=data):
                Document.objects.create(job=job, name=name, data=data)


def edge_of(digest):
    """Places (n, 2) of a traced edge, kept for a while; none where they are not in the store."""
    return pictures.remembered(("edge", digest), lambda: _edge(digest))


def _edge(digest):
    found = Blob.objects.filter(pk=digest).first()
    return edge_places(bytes(found.data) if found else b"")


class Shelf(Library):
    """Blobs in the database, and traces that the workers have finished."""

    def __init__(self, job):
        super().__init__()
        self.job = job

    def blob(self, digest):
        found = Blob.objects.filter(pk=digest, holdings__job=self.job).first()
        if found is None:
            raise InputError("The file that belongs to this is not there any more.")
        return bytes(found.data)

    def keep(self, data, media_type="application/octet-stream"):
        return Blob.keep(self.job, data, media_type).digest

    def light(self, document, picture):
        return pictures.light_of(document, picture)

    def records(self, document, picture, settings):
        found = services.finished_trace(self.job, document, picture, settings)
        if found is None:
            raise InputError("That trace is not there any more; find the outlines again.")
        return found

    def edge(self, document, sketch, body, edge):
        found = services.finished_edge(self.job, document, sketch, body, edge)
        if found is None:
            raise InputError("The solid has changed since that edge was pointed at; click it again.")
        return found
