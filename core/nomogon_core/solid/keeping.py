"""Results of steps as bytes, so that one process can take over what another has built.

A shape is written in the kernel's own binary form without its triangles; its faces come back in the same order, so that
their names are a list. What was written by other program text is never read: see :data:`FORM`.
"""

from __future__ import annotations

import hashlib
import io
import json
import struct
import zlib
from functools import cache
from pathlib import Path
from typing import Any, Protocol

import attrs
import OCP
from OCP.BinTools import BinTools, BinTools_FormatVersion
from OCP.Message import Message_ProgressRange
from OCP.TopoDS import TopoDS_Shape

from nomogon_core.solid import kernel, meshes
from nomogon_core.solid.bodies import Body
from nomogon_core.solid.facts import Facts, Step, fingerprint
from nomogon_core.solid.kernel import ShapeMap

ROOMS = ("geometry", "sketch", "solid")
FAST = 1


class Store(Protocol):
    """Where results of steps are kept beyond one process; losing them costs time only."""

    def get(self, key: str) -> bytes | None:
        """What was kept under a key, or None."""

    def put(self, key: str, step: str, data: bytes) -> None:
        """Keep what came of a step."""


@cache
def form() -> str:
    """Changes with the kernel and with the text of every module that a result depends on."""
    digest = hashlib.sha256(OCP.__version__.encode())
    for room in ROOMS:
        for path in sorted((Path(__file__).parent.parent / room).rglob("*.py")):
            digest.update(path.read_bytes())
    return digest.hexdigest()


def kept_under(key: str) -> str:
    """The key of a result in a store."""
    return fingerprint(form(), key)


def pack(bodies: dict[str, Body | None], step: Step) -> bytes:
    """Bytes of what came of a step."""
    told: list[dict[str, Any]] = []
    shapes = []
    for body in filter(None, bodies.values()):
        mesh = body.mesh
        names = [body.names.get(face) for face in kernel.faces_of(body.shape)] if mesh is None else None
        fields = {name: getattr(body, name) for name in ("name", "title", "key", "colour")}
        told.append(fields | {"facts": attrs.asdict(body.facts), "names": names})
        shapes.append(_written(body.shape) if mesh is None else meshes.packed(mesh))
    gone = [name for name, body in bodies.items() if body is None]
    sizes = [len(one) for one in shapes]
    head = json.dumps({"step": attrs.asdict(step), "bodies": told, "sizes": sizes, "gone": gone}).encode()
    return zlib.compress(struct.pack("<I", len(head)) + head + b"".join(shapes), FAST)


def unpack(data: bytes) -> tuple[dict[str, Body | None], Step]:
    """What :func:`pack` was given."""
    data = zlib.decompress(data)
    at = 4 + struct.unpack("<I", data[:4])[0]
    head = json.loads(data[4:at])
    bodies: dict[str, Body | None] = dict.fromkeys(head["gone"])
    for fields, size in zip(head["bodies"], head["sizes"]):
        part, called = data[at : at + size], fields.pop("names")
        at += size
        facts = Facts(**fields.pop("facts"))
        facts = attrs.evolve(facts, box=tuple(map(tuple, facts.box)), center=tuple(facts.center))
        if called is None:
            mesh = meshes.unpacked(part)
            bodies[fields["name"]] = Body(exact=None, names=ShapeMap(), facts=facts, mesh=mesh, **fields)
            continue
        shape, names = _read(part), ShapeMap()
        for face, name in zip(kernel.faces_of(shape), called):
            if name is not None:
                names.put(face, name)
        bodies[fields["name"]] = Body(exact=shape, names=names, facts=facts, **fields)
    return bodies, Step(**head["step"])


def _written(shape):
    stream = io.BytesIO()
    BinTools.Write_s(
        shape, stream, False, False, BinTools_FormatVersion.BinTools_FormatVersion_CURRENT, Message_ProgressRange()
    )
    return stream.getvalue()


def _read(data):
    shape = TopoDS_Shape()
    BinTools.Read_s(shape, io.BytesIO(data), Message_ProgressRange())
    return shape
