"""A few spawned processes for the kernel; one that dies or runs over its time is replaced."""

import importlib
import multiprocessing
import threading

from pebble import ProcessExpired, ProcessPool

PROCESSES = 2
TIME_LIMITS_S = {"rebuild": 60, "trace": 90, "clean": 60, "release": 120, "edge": 60}
CRASHED = (
    "The geometry kernel stopped while working on this, which it does on some shapes. "
    "Nothing was lost; change the last operation and try again."
)
TOO_LONG = "This took longer than {seconds} s and was stopped. Nothing was lost; make the shape simpler and try again."

_lock = threading.Lock()
_pool = None


def _load_kernel():
    """In each process as it starts, those that replace another too: loading takes seconds that no work should wait."""
    importlib.import_module("work.kernels")


def pool():
    """The process pool, started at first use."""
    global _pool
    with _lock:
        if _pool is None:
            _pool = ProcessPool(PROCESSES, initializer=_load_kernel, context=multiprocessing.get_context("spawn"))
        return _pool


def close():
    global _pool
    with _lock:
        if _pool is not None:
            _pool.stop()
            _pool.join()
            _pool = None


class Stopped(Exception):
    """The work ended without a result; the message is for the user."""


def run(function, arguments, kind, watch):
    """Result of a function run in a process of the pool.

    Args:
        watch: called now and then; when it answers True the process is ended.

    Raises:
        Stopped: crashed, over time, or cancelled (then with an empty message).
    """
    seconds = TIME_LIMITS_S[kind]
    future = pool().schedule(function, args=arguments, timeout=seconds)
    while True:
        try:
            return future.result(timeout=0.25)
        except TimeoutError:
            if future.done():
                raise Stopped(TOO_LONG.format(seconds=seconds)) from None
            if watch():
                future.cancel()
                raise Stopped("") from None
        except ProcessExpired:
            raise Stopped(CRASHED) from None
