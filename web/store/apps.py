"""The application of what is stored; its tables keep the name that they were made under."""

from django.apps import AppConfig


class StoreConfig(AppConfig):
    name = "store"
    label = "jobs"
