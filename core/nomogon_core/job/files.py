"""A job from an archive and into one: older versions are made into today's, and everything is looked at before."""

from __future__ import annotations

import copy
from collections.abc import Sequence
from typing import Any

import attrs

from nomogon_core.errors import ArchiveError
from nomogon_core.exchange import archive
from nomogon_core.job.document import EMPTY, digests_of, meshes_of
from nomogon_core.job.library import Library
from nomogon_core.job.migration import edge_places, from_version_1
from nomogon_core.job.overview import checked
from nomogon_core.job.schema_1 import EMPTY as EMPTY_1
from nomogon_core.job.schema_1 import check_version_1


@attrs.frozen
class JobFile:
    """A job as an archive holds it: its document of today's version, a library with its blobs, and its kept releases
    (see :class:`archive.Archive`)."""

    title: str
    number: str
    document: dict = attrs.field(repr=False)
    library: Library = attrs.field(repr=False)
    releases: list = attrs.field(factory=list)


def whole_version_1(documents: dict[str, dict[str, Any]], name: str = "The file") -> dict[str, dict[str, Any]]:
    """The three documents of version 1 with what is missing filled in.

    Raises:
        ArchiveError: they do not describe a job.
    """
    whole = {part: {**copy.deepcopy(empty), **documents.get(part, {})} for part, empty in EMPTY_1.items()}
    check_version_1(whole, name)
    return whole


def read_job(data: bytes, name: str = "The file") -> JobFile:
    """A job from the bytes of an archive of any version.

    Raises:
        ArchiveError: it is none, is damaged, or something that it names is missing in it.
    """
    held = archive.read(data, name)
    library = Library({**held.pictures, **held.edges, **held.meshes, **held.zips})
    if held.version == 1:
        document = from_version_1(whole_version_1(held.document, name), library.keep)
    else:
        document = {**copy.deepcopy(EMPTY), **held.document}
        unknown = sorted(set(document) - set(EMPTY))
        if unknown:
            raise ArchiveError(f"{name} is damaged: its document holds {unknown[0]!r}, which no job has.")
    checked(document, name)
    for digest in digests_of(document):
        if digest not in library.blobs:
            raise ArchiveError(f"{name} is damaged: a picture, traced edge or mesh is missing in it.")
    for trace in document["traces"].values():
        if trace["edge"]:
            edge_places(library.blob(trace["edge"]))
    return JobFile(held.title, held.number, document, library, held.releases)


def write_job(
    title: str, number: str, document: dict[str, Any], library: Any, releases: Sequence[dict[str, Any]] = ()
) -> bytes:
    """Bytes of an archive of a job; the same job gives the same bytes.

    Args:
        releases: that were kept, see :class:`archive.Archive`.
    """
    pictures = {item["digest"]: library.blob(item["digest"]) for item in document["references"].values()}
    edges = {item["edge"]: library.blob(item["edge"]) for item in document["traces"].values() if item["edge"]}
    meshes = {digest: library.blob(digest) for digest in meshes_of(document)}
    zips = {one["digest"]: library.blob(one["digest"]) for one in releases}
    return archive.write(archive.Archive(title, number, document, pictures, edges, meshes, zips, list(releases)))
