"""Rows of values kept as tuples, whatever they came as."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any


def as_tuple(values: Iterable[Any]) -> tuple[Any, ...]:
    """A converter for fields that hold several values."""
    return tuple(values)
