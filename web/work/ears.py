"""Hearing what the database announces, on one connection of its own."""

import threading
from collections import defaultdict
from contextlib import contextmanager

import psycopg
from django.db import connection

AGAIN_S = 1.0


class Ears:
    """A thread that listens to a channel and wakes those who wait for a text on it.

    While it does not hear, since the connection was lost, who waits must look for himself.
    """

    def __init__(self, channel):
        self.channel = channel
        self.hearing = False
        self._waiting = defaultdict(set)
        self._lock = threading.Lock()
        self._thread = self._connection = None
        self._closed = threading.Event()

    def start(self):
        with self._lock:
            if self._thread is None:
                self._closed.clear()
                self._thread = threading.Thread(target=self._listen, name=f"ears {self.channel}", daemon=True)
                self._thread.start()

    def stop(self):
        with self._lock:
            thread, self._thread = self._thread, None
            self._closed.set()
            if self._connection is not None:
                self._connection.close()
        if thread is not None:
            thread.join(5)

    def _listen(self):
        told = connection.settings_dict
        while not self._closed.is_set():
            try:
                self._connection = psycopg.connect(
                    host=told["HOST"],
                    port=told["PORT"],
                    dbname=told["NAME"],
                    user=told["USER"],
                    password=told["PASSWORD"],
                    autocommit=True,
                )
                self._connection.execute(f"LISTEN {self.channel}")
                self.hearing = True
                for note in self._connection.notifies():
                    self._wake(note.payload)
            except (psycopg.Error, OSError):
                self.hearing = False
                self._closed.wait(AGAIN_S)

    def _wake(self, text):
        with self._lock:
            for event in self._waiting.get(text, ()):
                event.set()

    @contextmanager
    def waiting(self, text=""):
        """An event that is set whenever the text is told, for a ``with`` block."""
        event = threading.Event()
        with self._lock:
            self._waiting[text].add(event)
        self.start()
        try:
            yield event
        finally:
            with self._lock:
                self._waiting[text].discard(event)
                if not self._waiting[text]:
                    del self._waiting[text]
