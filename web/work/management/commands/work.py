"""The worker: serves the queue, with the kernel in processes of its own."""

import logging
import os
import secrets
import signal
import socket
import threading

from django.core.management.base import BaseCommand, CommandError
from django.db import InterfaceError, OperationalError, close_old_connections, connection

from store.models import Blob
from work import queue, shapes, tasks
from work.ears import Ears

log = logging.getLogger(__name__)
MOST_PROCESSES = 256
LOOK_EVERY_S, LOST_PAUSE_S, SWEEP_EVERY_S = 1.0, 1.0, 3600.0


class Worker:
    """A thread for each process that claims tasks and does them, and one that renews their leases."""

    def __init__(self, processes):
        self.processes = processes
        self.name = f"{socket.gethostname()[:50]} {os.getpid()} {secrets.token_hex(4)}"
        self.leaving = threading.Event()
        self.asked = Ears(queue.ASKED)
        self.lost = False

    def serve(self):
        """Until told to leave."""
        jobs = [(self.work, 0.0)] * self.processes + [(self.beat, queue.BEAT_S), (self.sweep, SWEEP_EVERY_S)]
        threads = [threading.Thread(target=self._again, args=job, daemon=True) for job in jobs]
        for thread in threads:
            thread.start()
        self.leaving.wait()
        self.asked.stop()
        queue.give_back(self.name)

    def _again(self, job, pause):
        """Do something time and again, over times in which the database is lost."""
        while not self.leaving.is_set():
            try:
                job()
                self.lost = False
            except (OperationalError, InterfaceError) as problem:
                if not self.lost:
                    log.error("the database does not answer: %s", problem)
                self.lost = True
                self.leaving.wait(LOST_PAUSE_S)
            finally:
                close_old_connections()
            if pause:
                self.leaving.wait(pause)

    def work(self):
        """Do the next task, or wait for one."""
        with self.asked.waiting() as event:
            task = queue.claim(self.name)
            if task is None:
                connection.close()
                event.wait(LOOK_EVERY_S)
                return
        tasks.run(task)

    def beat(self):
        queue.beat(self.name)

    def sweep(self):
        Blob.sweep()
        shapes.sweep()


class Command(BaseCommand):
    help = "Serve the queue of long work until stopped."

    def add_arguments(self, parser):
        parser.add_argument("--processes", type=int, default=tasks.PROCESSES, help="how many things are done at a time")

    def handle(self, **options):
        processes = options["processes"]
        if not 1 <= processes <= MOST_PROCESSES:
            raise CommandError(f"A worker has 1 to {MOST_PROCESSES} processes, not {processes}.")
        worker = Worker(processes)
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: worker.leaving.set())
        tasks.serve_with(processes)
        try:
            worker.serve()
        finally:
            tasks.pool.close()
