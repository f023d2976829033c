"""Writes the demo users and jobs once."""

from django.core.management.base import BaseCommand

from jobs.demo import write_demo


class Command(BaseCommand):
    help = "Write the demo jobs unless they are there."

    def handle(self, **options):
        self.stdout.write(f"{write_demo()} demo jobs written")
