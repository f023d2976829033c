"""Functions that misbehave as a geometry kernel can, for the pool's tests."""

import os
import time


def crash():
    """Ends the process as a segmentation fault would."""
    os._exit(11)


def hang():
    time.sleep(60)


def answer(value):
    return value


def rebuild_that_crashes(documents, count=None):
    """Like a rebuild whose third operation stops the kernel."""
    order = documents["build"]["order"][:count]
    if "op3" in order:
        os._exit(11)
    return {
        "steps": [
            {"name": name, "problem": "", "facts": {}, "suggestion": None, "suppressed": False} for name in order
        ],
        "bodies": {},
    }, None
