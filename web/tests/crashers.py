"""Functions that misbehave as a geometry kernel can, for the pool's tests."""

import os
import time


def crash():
    """Ends the process as a segmentation fault would."""
    os._exit(11)


def hang():
    time.sleep(60)


def swallow():
    """Takes a gigabyte."""
    return len(bytearray(2**30))


def fail():
    raise RuntimeError("of the work")


def answer(value):
    return value


def rebuild_that_crashes(document, shared, count=None, files=None, progress=None):
    """Like a rebuild whose third operation stops the kernel."""
    steps = document["steps"][:count]
    if len([step for step in steps if step in document["operations"]]) >= 3:
        os._exit(11)
    told = [
        {"name": name, "problem": "", "facts": {}, "suggestion": {}, "numbers": {}, "suppressed": False}
        for name in steps
    ]
    return {"steps": told, "bodies": {}, "faces": [], "frames": {}}, None
