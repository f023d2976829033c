"""Spawned processes for native code, under limits of time and memory; one that ends before its work is replaced."""

import importlib
import math
import multiprocessing
import resource
import signal
import threading
import time

from pebble import ProcessExpired, ProcessPool

from nomogon_core.kept import Kept

LOOK_EVERY_S, MOST_WARM = 0.25, 64


CRASHED, TOO_LONG, TOO_LARGE, CANCELLED = "crashed", "too long", "too large", "cancelled"


class Stopped(Exception):
    """The work ended without a result.

    Attributes:
        reason: one of the four above.
    """

    def __init__(self, reason):
        super().__init__(reason)
        self.reason = reason


def _begin(module, memory_bytes):
    """In each process as it starts, those that replace another too: loading takes seconds that no work should wait.

    The limit is of data and not of address space, into which libraries are mapped that take no memory.
    """
    importlib.import_module(module)
    resource.setrlimit(resource.RLIMIT_DATA, (memory_bytes, memory_bytes))


def _within(cpu_seconds, function, arguments):
    """Result of a function; the process is ended when it has computed for too long, however busy the machine is."""
    spent, (_, hard) = math.ceil(time.process_time()), resource.getrlimit(resource.RLIMIT_CPU)
    resource.setrlimit(resource.RLIMIT_CPU, (spent + cpu_seconds, hard))
    return function(*arguments)


class Pool:
    """Processes that load a module and call its functions.

    Args:
        module: its name; processes: how many; memory_bytes: that each may take.
    """

    def __init__(self, module, processes, memory_bytes):
        self.module, self.processes, self.memory_bytes = module, processes, memory_bytes
        self._lock = threading.Lock()
        self._held = None

    def start(self):
        """The processes, started at first use."""
        with self._lock:
            if self._held is None:
                self._held = ProcessPool(
                    self.processes,
                    initializer=_begin,
                    initargs=(self.module, self.memory_bytes),
                    context=multiprocessing.get_context("spawn"),
                )
                self._held.schedule(len, args=[()])  # they start now, not with the first work
            return self._held

    def close(self):
        with self._lock:
            if self._held is not None:
                self._held.stop()
                self._held.join()
                self._held = None

    def run(self, function, arguments, seconds, watch=None, cpu_seconds=None):
        """Result of a function run in one of the processes.

        Args:
            seconds: how long it may take; cpu_seconds: and how long it may compute, on all processors together.
            watch: called now and then; when it answers True the process is ended.

        Raises:
            Stopped: crashed, over time or memory, or cancelled.
        """
        if cpu_seconds is not None:
            function, arguments = _within, [cpu_seconds, function, arguments]
        held = self.start()
        try:
            return self._outcome(held.schedule(function, args=arguments, timeout=seconds), watch)
        except RuntimeError:
            if held.active:
                raise
        # It broke as a whole, as it can when a process is killed while it hands something over.
        with self._lock:
            if self._held is held:
                self._held = None
        held.stop()
        return self._outcome(self.start().schedule(function, args=arguments, timeout=seconds), watch)

    @staticmethod
    def _outcome(future, watch):
        while True:
            try:
                return future.result(timeout=LOOK_EVERY_S)
            except TimeoutError:
                if future.done():
                    raise Stopped(TOO_LONG) from None
                if watch is not None and watch():
                    future.cancel()
                    raise Stopped(CANCELLED) from None
            except MemoryError:
                raise Stopped(TOO_LARGE) from None
            except ProcessExpired as ended:
                raise Stopped(TOO_LONG if ended.exitcode == -signal.SIGXCPU else CRASHED) from None


class Lanes:
    """Processes of which each does one thing at a time; what belongs together goes where it went last, if that one has
    nothing else to do, since much of it is at hand there.

    Args:
        module, memory_bytes: as :class:`Pool`; count: how many processes.
    """

    def __init__(self, module, count, memory_bytes):
        self._free = threading.Condition()
        self._lanes = {Pool(module, 1, memory_bytes): Kept(MOST_WARM) for _ in range(count)}
        self._idle = list(self._lanes)

    def start(self):
        for pool in self._lanes:
            pool.start()

    def close(self):
        for pool in self._lanes:
            pool.close()

    def run(self, whose, *arguments):
        """As :meth:`Pool.run`, in a process that has done something of the same owner lately, else in that which has
        been idle longest."""
        with self._free:
            self._free.wait_for(lambda: self._idle)
            pool = next((one for one in self._idle if self._lanes[one].get(whose)), self._idle[0])
            self._idle.remove(pool)
            self._lanes[pool].put(whose, True)
        try:
            return pool.run(*arguments)
        finally:
            with self._free:
                self._idle.append(pool)
                self._free.notify()
