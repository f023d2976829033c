"""Files from outside, read at arm's length."""

import os

import numpy as np

from nomogon_core.errors import PictureError
from work import readers
from work.pool import CRASHED, TOO_LARGE, TOO_LONG, Pool, Stopped

CPU_SECONDS, SECONDS = 12, 30
MEMORY_BYTES = 1400 * 2**20
pool = Pool("work.readers", processes=2, memory_bytes=MEMORY_BYTES)
WORDS = {
    CRASHED: "{name} stopped the program that reads it, as damaged files do. Save it anew and drop it again.",
    TOO_LONG: f"{{name}} took more than {CPU_SECONDS} s of computing to read and was stopped. Save it simpler and drop "
    "it again.",
    TOO_LARGE: "{name} needs more memory to read than one file may take. Save it smaller and drop it again.",
}


def read(function, data, name, *arguments):
    """Result of one of the functions of :mod:`work.readers`.

    Raises:
        PictureError: it crashed, or took too long or too much memory. And what the function raises.
    """
    try:
        return pool.run(function, [data, name, *arguments], SECONDS, cpu_seconds=CPU_SECONDS)
    except Stopped as stopped:
        raise PictureError(WORDS[stopped.reason].format(name=name)) from None


def pixels(kind, data, name, drawn):
    """Light (h, w) or colours (h, w, 3) of a picture, decoded elsewhere.

    Raises:
        PictureError: as :func:`read`.
    """
    path = read(readers.pixels, kind, data, name, drawn)
    try:
        return np.asarray(np.load(path, mmap_mode="c"))
    finally:
        os.unlink(path)
