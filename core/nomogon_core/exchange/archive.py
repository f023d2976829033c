"""A job as one open file: a zip with ``job.json`` and the pictures under ``pictures/``.

``job.json`` holds ``format`` ("nomogon job"), ``version``, ``title``, ``number`` and the documents
``reference``, ``sketch`` and ``build``; docs/archive.md describes every field.
"""

import hashlib
import io
import json
import zipfile
import zlib

import attrs

from nomogon_core.errors import ArchiveError

FORMAT, VERSION = "nomogon job", 1
DOCUMENTS = ("reference", "sketch", "build")
LARGEST_JSON, MOST_VALUES = 64 * 1024 * 1024, 4_000_000
LARGEST_TOTAL = 512 * 1024 * 1024


@attrs.frozen
class Archive:
    """Contents of a job: title, part number, documents by name, pictures by their SHA-256."""

    title: str
    number: str
    documents: dict
    pictures: dict = attrs.field(factory=dict, repr=False)


def write(archive):
    """Bytes of the archive; the same contents give the same bytes."""
    stream = io.BytesIO()
    head = {"format": FORMAT, "version": VERSION, "title": archive.title, "number": archive.number}
    head |= {name: archive.documents.get(name, {}) for name in DOCUMENTS}
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as bundle:
        for path, data in (
            ("job.json", json.dumps(head, indent=1, ensure_ascii=False).encode()),
            *((f"pictures/{digest}", data) for digest, data in sorted(archive.pictures.items())),
        ):
            entry = zipfile.ZipInfo(path, (2020, 1, 1, 0, 0, 0))
            entry.compress_type = zipfile.ZIP_STORED if path.startswith("pictures/") else zipfile.ZIP_DEFLATED
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


def read(data, name="The file"):
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
            pictures = {
                path.split("/", 1)[1]: bundle.read(path)
                for path in sizes
                if path.startswith("pictures/") and not path.endswith("/")
            }
    except ArchiveError:
        raise
    except (zipfile.BadZipFile, zlib.error, RuntimeError, ValueError, EOFError, OSError) as problem:
        raise ArchiveError(f"{name} is not a job archive or is damaged: {problem}.") from None
    if not isinstance(head, dict) or head.get("format") != FORMAT:
        raise ArchiveError(f'{name} is not a job archive: job.json does not say "{FORMAT}".')
    if head.get("version") != VERSION:
        raise ArchiveError(
            f"{name} is a job archive of version {head.get('version')}; this program reads version {VERSION}."
        )
    for digest, picture in pictures.items():
        if hashlib.sha256(picture).hexdigest() != digest:
            raise ArchiveError(f"{name} is damaged: a picture in it has changed.")
    documents = {part: head.get(part, {}) for part in DOCUMENTS}
    if not all(isinstance(part, dict) for part in documents.values()):
        raise ArchiveError(f"{name} is damaged: one of its documents is not an object.")
    return Archive(str(head.get("title", "")), str(head.get("number", "")), documents, pictures)
