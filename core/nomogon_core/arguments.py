"""What a command takes: every argument declared with its kind, and looked at before anything runs.

A kind is a small value that knows how to check what was sent and to say in words what it expects. Whatever comes from
outside is plain JSON;
what passes is a text, a truth value, a finite number, a place, an id, or rows and records of these, and never larger
than somebody would send.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import Any

import attrs

from nomogon_core.errors import InputError
from nomogon_core.tuples import as_tuple

LONGEST_TEXT, LONGEST_ID, LONGEST_SHOWN = 400, 1000, 60
FARTHEST = 1e9
MOST_NESTED, MOST_VALUES = 8, 200_000


class Wrong(Exception):
    """A value is not of its kind; the text says what was expected."""


def shown(value: Any) -> str:
    """A value as it is told back, not too long."""
    text = repr(value)
    return text if len(text) <= LONGEST_SHOWN else f"{text[:LONGEST_SHOWN]} …"


@attrs.frozen
class Text:
    """A text of at most so many characters."""

    most: int = LONGEST_TEXT

    @property
    def words(self) -> str:
        return f"a text of at most {self.most} characters"

    def check(self, value: Any) -> str:
        if not isinstance(value, str) or len(value) > self.most or "\0" in value:
            raise Wrong(self.words)
        return value


@attrs.frozen
class Number:
    """A finite number in a range."""

    low: float = -FARTHEST
    high: float = FARTHEST

    @property
    def words(self) -> str:
        return f"a number between {self.low:g} and {self.high:g}"

    def check(self, value: Any) -> float:
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not self.low <= value <= self.high:
            raise Wrong(self.words)
        return value


@attrs.frozen
class Whole(Number):
    """A whole number in a range."""

    @property
    def words(self) -> str:
        return f"a whole number between {self.low:g} and {self.high:g}"

    def check(self, value: Any) -> int:
        if not isinstance(super().check(value), int):
            raise Wrong(self.words)
        return value


@attrs.frozen
class Switch:
    """True or false."""

    words = "true or false"

    def check(self, value: Any) -> bool:
        if not isinstance(value, bool):
            raise Wrong(self.words)
        return value


@attrs.frozen
class Choice:
    """One of a few texts."""

    options: tuple = attrs.field(converter=as_tuple)

    @property
    def words(self) -> str:
        return f"one of {', '.join(self.options)}"

    def check(self, value: Any) -> str:
        if not isinstance(value, str) or value not in self.options:
            raise Wrong(self.words)
        return value


@attrs.frozen
class Id:
    """The id of something in the job."""

    words = "an id"

    def check(self, value: Any) -> str:
        if not isinstance(value, str) or len(value) > LONGEST_ID or "\0" in value:
            raise Wrong(self.words)
        return value


@attrs.frozen
class Place:
    """Two coordinates."""

    words = "a place of two numbers"

    def check(self, value: Any) -> Sequence[float]:
        if not isinstance(value, (list, tuple)) or len(value) != 2:
            raise Wrong(self.words)
        number = Number()
        for part in value:
            try:
                number.check(part)
            except Wrong:
                raise Wrong(self.words) from None
        return value


@attrs.frozen
class Rows:
    """A row of values of one kind."""

    of: Any
    least: int = 0
    most: int = 5000

    @property
    def words(self) -> str:
        return f"{self.least} to {self.most} times {self.of.words}"

    def check(self, value: Any) -> Sequence[Any]:
        if not isinstance(value, (list, tuple)) or not self.least <= len(value) <= self.most:
            raise Wrong(self.words)
        for item in value:
            self.of.check(item)
        return value


@attrs.frozen
class Either:
    """A value of one of several kinds."""

    kinds: tuple = attrs.field(converter=as_tuple)

    @property
    def words(self) -> str:
        return " or ".join(kind.words for kind in self.kinds)

    def check(self, value: Any) -> Any:
        for kind in self.kinds:
            try:
                return kind.check(value)
            except Wrong:
                continue
        raise Wrong(self.words)


@attrs.frozen
class Nothing:
    """No value."""

    words = "nothing"

    def check(self, value: dict | float | list[float] | None) -> None:
        if value is not None:
            raise Wrong(self.words)
        return value


@attrs.frozen
class Record:
    """Named values of declared kinds, any of which may be missing but for those required; with ``rest`` further ones of
    that kind."""

    fields: dict = attrs.field(factory=dict)
    required: tuple = ()
    rest: Any = None

    @property
    def words(self) -> str:
        names = ", ".join(self.fields) or "names"
        return f"a record of {names}"

    def check(self, value: Any) -> dict[str, Any]:
        if not isinstance(value, dict) or any(name not in value for name in self.required):
            raise Wrong(self.words)
        for name, item in value.items():
            kind = self.fields.get(name, self.rest)
            if kind is None or not isinstance(name, str) or len(name) > LONGEST_ID:
                raise Wrong(self.words)
            try:
                kind.check(item)
            except Wrong as problem:
                raise Wrong(f"{problem} for its {name}") from None
        return value


@attrs.frozen
class Plain:
    """Plain data whose kind the command itself looks at: no number that is not finite, nothing nested deep or very
    large."""

    words = "plain data"

    def check(self, value: Any) -> Any:
        self._look(value, MOST_NESTED, [MOST_VALUES])
        return value

    def _look(self, value, depth, left):
        left[0] -= 1
        if depth < 0 or left[0] < 0:
            raise Wrong("plain data that is neither nested so deep nor so large")
        if isinstance(value, dict):
            for name, item in value.items():
                Text(LONGEST_ID).check(name)
                self._look(item, depth - 1, left)
        elif isinstance(value, (list, tuple)):
            for item in value:
                self._look(item, depth - 1, left)
        elif isinstance(value, str):
            Text(100 * LONGEST_TEXT).check(value)
        elif (
            value is not None
            and not isinstance(value, bool)
            and not (isinstance(value, (int, float)) and math.isfinite(value) and abs(value) < 1e18)
        ):
            raise Wrong(self.words)


TEXT, NUMBER, SWITCH, ID, PLACE, NOTHING, PLAIN = Text(), Number(), Switch(), Id(), Place(), Nothing(), Plain()
# A region is called by all curves around it, an edge by the faces that meet in it.
LONGEST_NAME = 100_000
NAMES = Rows(Text(LONGEST_NAME), most=20_000)
SPOT, UNIT, IDS = Either((ID, PLACE)), Choice(("mm", "in")), Rows(ID, most=20_000)


def checked(name: str, declared: dict[str, Any], optional: Iterable[str], sent: dict[str, Any]) -> dict[str, Any]:
    """The arguments of a command as they may be handed to it.

    Args:
        name: of the command; declared: kind by argument; optional: arguments that may be missing; sent: plain data by
            argument.

    Raises:
        InputError: an argument is missing, unknown, or not of its kind; the sentence names it.
    """
    for argument in sent:
        if argument not in declared:
            raise InputError(
                f"The command {name} takes no {shown(argument)}; it takes {', '.join(declared) or 'nothing'}."
            )
    for argument, kind in declared.items():
        if argument not in sent:
            if argument not in optional:
                raise InputError(f"The command {name} was sent without {argument}: {kind.words} was expected.")
            continue
        try:
            kind.check(sent[argument])
        except Wrong as problem:
            raise InputError(
                f"The command {name} expects {problem} as {argument}; {shown(sent[argument])} came."
            ) from None
    return sent
