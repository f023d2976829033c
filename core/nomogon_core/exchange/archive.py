"""A job as one open file: a zip with ``job.json``, pictures under ``pictures/``, traced edges under ``edges/``, meshes
under ``meshes/`` and kept releases under ``releases/``.

``job.json`` holds ``format`` ("nomogon job"), ``version``, ``title``, ``number`` and the ``document``;
docs/archive.md describes every field. Version 1 held three documents in its place:
``reference``, ``sketch``, ``build``.
"""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
import zlib
from datetime import datetime

import attrs

from nomogon_core.arguments import Record, Rows, Text, Whole, Wrong
from nomogon_core.errors import ArchiveError

FORMAT, VERSION = "nomogon job", 2
OLD_DOCUMENTS = ("reference", "sketch", "build")
FOLDERS = ("pictures/", "edges/", "meshes/", "releases/")
MOST_RELEASES, LONGEST = 500, 300
PACKED = ("pictures/", "releases/")
LARGEST_JSON, MOST_VALUES = 64 * 1024 * 1024, 4_000_000
LARGEST_TOTAL = 512 * 1024 * 1024
RELEASES = Rows(
    Record(
        {
            "number": Whole(1, 10**6),
            "digest": Text(64),
            "version": Whole(0, 10**9),
            "allowances": Text(LONGEST),
            "made": Text(40),
        },
        required=("number", "digest", "version", "allowances", "made"),
    ),
    0,
    MOST_RELEASES,
)


@attrs.frozen
class Archive:
    """Contents of a job.

    Attributes:
        title, number: of the job.
        document: plain data; of version 1 the three documents by name.
        pictures, edges, meshes, zips: bytes by their SHA-256; the last are those of kept releases.
        releases: of each its ``number``, ``digest``, ``version`` (of the job when it was made), ``allowances`` in
            words, and when it was ``made`` (ISO 8601).
        version: of the document.
    """

    title: str
    number: str
    document: dict
    pictures: dict = attrs.field(factory=dict, repr=False)
    edges: dict = attrs.field(factory=dict, repr=False)
    meshes: dict = attrs.field(factory=dict, repr=False)
    zips: dict = attrs.field(factory=dict, repr=False)
    releases: list = attrs.field(factory=list)
    version: int = VERSION


def write(archive: Archive) -> bytes:
    """Bytes of the archive; the same contents give the same bytes."""
    stream = io.BytesIO()
    head = {"format": FORMAT, "version": VERSION, "title": archive.title, "number": archive.number}
    head |= {"releases": archive.releases} if archive.releases else {}
    text = json.dumps(head | {"document": archive.document}, indent=1, ensure_ascii=False)
    parts = archive.pictures, archive.edges, archive.meshes, archive.zips
    blobs = [
        (f"{folder}{digest}", data) for folder, part in zip(FOLDERS, parts) for digest, data in sorted(part.items())
    ]
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as bundle:
        for path, data in (("job.json", text.encode()), *blobs):
            entry = zipfile.ZipInfo(path, (2020, 1, 1, 0, 0, 0))
            entry.compress_type = zipfile.ZIP_STORED if path.startswith(PACKED) else zipfile.ZIP_DEFLATED
            bundle.writestr(entry, data)
    return stream.getvalue()


def _read_json(data):
    """Plain data from JSON without numbers that are none.

    Raises:
        ValueError: it is no JSON, or has more values than any job.
    """
    if data.count(b",") > MOST_VALUES or data.count(b"[") + data.count(b"{") > MOST_VALUES:
        raise ValueError(f"job.json holds more than {MOST_VALUES} values")

    def refuse(word):
        raise ValueError(f"job.json holds {word}, which is no number")

    return json.loads(data, parse_constant=refuse)


def read(data: bytes, name: str = "The file") -> Archive:
    """Contents of an archive.

    Raises:
        ArchiveError: not an archive of a job, damaged, or unreasonably large.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as bundle:
            sizes = {entry.filename: entry.file_size for entry in bundle.infolist()}
            if "job.json" not in sizes:
                raise ArchiveError(f"{name} is not a job archive: it holds no job.json.")
            if sizes["job.json"] > LARGEST_JSON or sum(sizes.values()) > LARGEST_TOTAL:
                raise ArchiveError(f"{name} unpacks to more than {LARGEST_TOTAL // 2**20} MB, so it is not taken.")
            head = _read_json(bundle.read("job.json"))
            blobs = {path: bundle.read(path) for path in sizes if path.startswith(FOLDERS) and not path.endswith("/")}
    except ArchiveError:
        raise
    except (zipfile.BadZipFile, zlib.error, RuntimeError, ValueError, EOFError, OSError) as problem:
        raise ArchiveError(f"{name} is not a job archive or is damaged: {problem}.") from None
    if not isinstance(head, dict) or head.get("format") != FORMAT:
        raise ArchiveError(f'{name} is not a job archive: job.json does not say "{FORMAT}".')
    version = head.get("version")
    if version not in (1, VERSION) or isinstance(version, bool):
        raise ArchiveError(
            f"{name} is a job archive of version {version!r}; this program reads versions 1 and {VERSION}."
        )
    for path, data in blobs.items():
        if hashlib.sha256(data).hexdigest() != path.split("/", 1)[1]:
            raise ArchiveError(f"{name} is damaged: a picture in it has changed.")
    document = {part: head.get(part, {}) for part in OLD_DOCUMENTS} if version == 1 else head.get("document")
    if not isinstance(document, dict) or (
        version == 1 and not all(isinstance(part, dict) for part in document.values())
    ):
        raise ArchiveError(f"{name} is damaged: its document is no record.")
    pictures, edges, meshes, zips = (
        {path.removeprefix(folder): data for path, data in blobs.items() if path.startswith(folder)}
        for folder in FOLDERS
    )
    releases = head.get("releases", [])
    try:
        RELEASES.check(releases)
        for one in releases:
            datetime.fromisoformat(one["made"])
    except (Wrong, ValueError):
        raise ArchiveError(f"{name} is damaged: its list of releases cannot be read.") from None
    if any(one["digest"] not in zips for one in releases):
        raise ArchiveError(f"{name} is damaged: a release is missing in it.")
    title, number = (str(head.get(part, "")) for part in ("title", "number"))
    return Archive(title, number, document, pictures, edges, meshes, zips, releases, version)
