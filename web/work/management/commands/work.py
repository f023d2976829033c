"""The worker: serves the queue, with the kernel in processes of its own."""

from django.core.management.base import BaseCommand
from procrastinate.contrib.django import app

from work import pool

THREADS = 4


class Command(BaseCommand):
    help = "Serve the queue of long work until stopped."

    def handle(self, **options):
        pool.pool().schedule(len, args=[()])  # the processes start now, not with the first work
        try:
            with app.replace_connector(app.connector.get_worker_connector()) as worker_app:
                worker_app.run_worker(
                    concurrency=THREADS, wait=True, fetch_job_polling_interval=2.0, delete_jobs="always"
                )
        finally:
            pool.close()
