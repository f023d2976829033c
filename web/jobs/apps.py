"""Registers the commands of every stage."""

from importlib import import_module

from django.apps import AppConfig

STAGES_WITH_COMMANDS = ("reference", "sketch", "solid")


class JobsConfig(AppConfig):
    name = "jobs"

    def ready(self):
        for stage in STAGES_WITH_COMMANDS:
            import_module(f"{stage}.commands")
