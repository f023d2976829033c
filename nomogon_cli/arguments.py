"""Reading command lines so that every mistake is one sentence."""

import argparse
from pathlib import Path

from nomogon_core.errors import InputError


class Parser(argparse.ArgumentParser):
    """An argument parser whose complaints are refusals of the core."""

    def error(self, message):
        raise InputError(f"{message}; ./nomogon {self.prog} --help shows the options.")


def read_file(path):
    """Bytes of a file.

    Raises:
        InputError: there is no such file.
    """
    place = Path(path)
    if not place.is_file():
        raise InputError(f"There is no file {path}.")
    return place.read_bytes()
