"""Writes the demo users and jobs once."""

from django.core.management.base import BaseCommand

from shell.demo import users, write_demo


class Command(BaseCommand):
    help = "Write the demo jobs unless they are there."

    def add_arguments(self, parser):
        parser.add_argument("--people", action="store_true", help="only those who can sign in")

    def handle(self, **options):
        if options["people"]:
            users()
            return
        self.stdout.write(f"{write_demo()} demo jobs written")
