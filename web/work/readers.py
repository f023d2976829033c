"""What reads files from outside, in processes of its own: damaged and hostile ones harm nobody there.

Only plain data crosses into and out of these functions; large arrays go through a file that both sides map.
"""

import os
import shutil
import tempfile
from pathlib import Path

import numpy as np

from nomogon_core.exchange.readers import vector
from nomogon_core.exchange.readers.curves import read_outlines
from nomogon_core.exchange.readers.meshes import read_mesh
from nomogon_core.job.files import read_job
from nomogon_core.job.library import picture_facts
from nomogon_core.job.outlines import outline_bytes
from nomogon_core.picture.decode import colours, decode, inspect
from nomogon_core.sketch.edits.drawing import farthest_across
from nomogon_core.solid.meshes import packed

MEMORY_FOLDER, ROOM_BYTES = Path("/dev/shm"), 2**30
DECODERS = {"light": decode, "colours": colours}


def picture(data, name):
    """What is stored of a picture besides its bytes, all of which are decoded once."""
    return picture_facts(data, name)


def drawing(data, name, dpi, page):
    """A drawing as a picture: PNG bytes and what is stored of it."""
    png = vector.render(data, name, dpi, page).png
    return png, picture_facts(png, name)


def outlines(data, name):
    """The curves of a drawing: the bytes that are kept, and its width, its groups and what was left out."""
    told = read_outlines(data, name)
    groups = [[group, sum(map(len, runs))] for group, runs in told.groups.items()]
    across = farthest_across([run for runs in told.groups.values() for run in runs])
    return outline_bytes(told), {
        "width_mm": told.size[0],
        "groups": groups,
        "left_out": list(told.left_out),
        "across": across,
    }


def mesh(data, name):
    """A mesh that somebody else made: the bytes that are kept, and what is told of it."""
    brought = read_mesh(data, name)
    low, high = brought.mesh.vertices.min(axis=0), brought.mesh.vertices.max(axis=0)
    return packed(brought.mesh), {
        "size": (high - low).tolist(),
        "triangles": len(brought.mesh.triangles),
        "flats": len(brought.mesh.names) - 1,
        "mended": brought.mesh.note,
        "says_unit": brought.says_unit,
    }


def archive(data, name):
    """A job from an archive, and the media types of its pictures by their digests."""
    held = read_job(data, name)
    references = held.document["references"].values()
    kinds = {item["digest"]: inspect(held.library.blob(item["digest"]), item["name"]).media_type for item in references}
    return held, kinds


def pixels(kind, data, name, drawn):
    """Path of a file with the light or the colours of a picture, to be taken over by who asked."""
    roomy = os.access(MEMORY_FOLDER, os.W_OK) and shutil.disk_usage(MEMORY_FOLDER).free > ROOM_BYTES
    handle, path = tempfile.mkstemp(prefix="nomogon-", suffix=".npy", dir=MEMORY_FOLDER if roomy else None)
    try:
        with os.fdopen(handle, "wb") as file:
            np.save(file, DECODERS[kind](data, name, drawn=drawn))
    except BaseException:
        os.unlink(path)
        raise
    return path
