"""How an operation or an edit is said: words, blanks to be filled, and clauses that can be added.

One declaration gives its sentence on the page, the checks of its blanks, its line in the documentation and its
arguments on the command line. What fills a blank is plain data; the kinds that every room knows are

* a number: ``{"typed": text, "value": millimetres or radians}``, with a ``name`` in the Ledger where it is kept;
* a choice: one of its options; * a text: itself.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ClassVar

import attrs

from nomogon_core.arguments import SWITCH, TEXT, Number, Record, Wrong
from nomogon_core.arguments import Choice as OneOf
from nomogon_core.errors import OperationError
from nomogon_core.tuples import as_tuple

LONGEST_MM = 100_000.0
NUMBER = Record(
    {"typed": TEXT, "value": Number(-LONGEST_MM, LONGEST_MM), "name": TEXT, "late": SWITCH}, required=("value",)
)


@attrs.frozen
class Blank:
    """A place in a sentence to be filled.

    Attributes:
        name: of the argument; asks: what the Prompt says while it is to be filled; empty: what stands in it until then.
    """

    name: str
    asks: str = ""
    empty: str = ""

    kind = ""
    #: of the number that fills it, as expressions count it; None for what is no number
    dimension: ClassVar[tuple[int, int] | None] = None

    def is_empty(self, value: Any) -> bool:
        """Whether nothing fills this blank yet."""
        return value is None

    def check(self, value: Any) -> None:
        """Refuse what does not fill this blank.

        Raises:
            Wrong: the text says what was expected.
        """
        raise NotImplementedError


@attrs.frozen
class Length(Blank):
    """A length; with ``positive`` more than zero."""

    usual: str = "1 mm"
    usual_in: str = "1/16 in"
    positive: bool = True
    kind = "length"
    dimension = (1, 0)

    def check(self, value: dict[str, Any]) -> None:
        NUMBER.check(value)


@attrs.frozen
class Angle(Blank):
    """An angle."""

    usual: str = "30°"
    kind = "angle"
    dimension = (0, 1)

    def check(self, value: dict[str, Any]) -> None:
        NUMBER.check(value)


@attrs.frozen
class Count(Blank):
    """How many; a whole number."""

    usual: str = "3"
    least: int = 2
    most: int = 200
    kind = "count"
    dimension = (0, 0)

    def check(self, value: dict[str, Any]) -> None:
        NUMBER.check(value)
        if value["value"] != int(value["value"]) or not self.least <= value["value"] <= self.most:
            raise Wrong(f"a whole number from {self.least} to {self.most}")


@attrs.frozen
class Factor(Blank):
    """A number without a unit, more than zero."""

    usual: str = "2"
    kind = "factor"
    dimension = (0, 0)

    def check(self, value: dict[str, Any]) -> None:
        NUMBER.check(value)


NUMBERS = (Length, Angle, Count, Factor)


@attrs.frozen
class Words(Blank):
    """A text."""

    kind = "text"

    def is_empty(self, value: Any) -> bool:
        return not (isinstance(value, str) and value.strip())

    def check(self, value: str) -> None:
        TEXT.check(value)


@attrs.frozen
class Choice(Blank):
    """One of a few ways, each with its words."""

    options: dict = attrs.field(factory=dict)
    kind = "choice"

    def check(self, value: str) -> None:
        OneOf(tuple(self.options)).check(value)


@attrs.frozen
class When:
    """Parts of a sentence that stand only where a choice has one of some values."""

    choice: str
    values: tuple = attrs.field(converter=as_tuple)
    parts: tuple = attrs.field(converter=as_tuple)


@attrs.frozen
class Clause:
    """Parts that can be added; they stand where the first blank in them is filled.

    Attributes:
        offer: small words at the end of the sentence that add it.
    """

    offer: str
    parts: tuple = attrs.field(converter=as_tuple)

    @property
    def first(self) -> Blank:
        return next(part for part in self.parts if isinstance(part, Blank))


@attrs.frozen
class Declaration:
    """An operation or an edit as its module declares it.

    Attributes:
        kind: its id; title: what it is called; shelf: the group of the Tray; told: what its first click does.
        sentence: words, blanks, :class:`When` and :class:`Clause`, in order.
        build: what carries it out: of an operation a function of an :class:`nomogon_core.solid.asking.Ask`, of an edit
            one of the sketch and the filled blanks.
        lying: of an edit that puts something in, tells from the same how that lies
            (:class:`nomogon_core.sketch.lying.Lying`); None of any other.
        example: blanks of the worked line in the documentation.
    """

    kind: str
    title: str
    shelf: str
    told: str
    sentence: tuple = attrs.field(converter=as_tuple)
    build: Callable[..., Any] = attrs.field(repr=False)
    lying: Callable[..., Any] | None = attrs.field(default=None, repr=False, kw_only=True)
    example: dict = attrs.field(factory=dict, repr=False)
    _blanks: dict = attrs.field(init=False, repr=False, eq=False)

    def __attrs_post_init__(self) -> None:
        object.__setattr__(self, "_blanks", {blank.name: blank for blank in _all_blanks(self.sentence)})

    def blanks(self) -> dict[str, Any]:
        """Every blank by name, whether it stands in the sentence at present or not."""
        return self._blanks

    def standing(self, filled: dict[str, Any]) -> list[Any]:
        """Words and blanks of the sentence as it is with these fillings, in order."""
        return list(_standing(self.sentence, filled))

    def offers(self, filled: dict[str, Any]) -> list[Clause]:
        """Clauses that could be added."""
        return [part for part in _open(self.sentence, filled) if isinstance(part, Clause)]

    def check_kinds(self, filled: dict[str, Any]) -> None:
        """Refuse fillings of which one is of another kind than its blank.

        Raises:
            OperationError: names the blank.
        """
        known = self.blanks()
        for name, value in filled.items():
            if name not in known:
                raise OperationError(f"{self.title} has no {name}; it has {', '.join(known)}.")
            try:
                if value is not None:
                    known[name].check(value)
            except Wrong as problem:
                raise OperationError(f"{self.title} expects {problem} as {name}.") from None

    def check(self, filled: dict[str, Any]) -> dict[str, Any]:
        """The fillings that stand in the sentence, checked; what no part of it asks for is dropped.

        Raises:
            OperationError: a blank is unknown, empty or filled with something else.
        """
        self.check_kinds(filled)
        kept = {}
        for blank in self.standing(filled):
            if not isinstance(blank, Blank):
                continue
            if blank.is_empty(filled.get(blank.name)):
                raise OperationError(f"{self.title} needs {blank.empty or blank.name}. {blank.asks}".strip())
            kept[blank.name] = filled[blank.name]
        self._check_numbers(kept)
        return kept

    def _check_numbers(self, kept):
        for name, value in kept.items():
            blank = self.blanks()[name]
            positive = isinstance(blank, Factor) or (isinstance(blank, Length) and blank.positive)
            if positive and not value["value"] > 0 and not value.get("late"):
                raise OperationError(f"The {name} of {article(self.title)} must be more than zero.")


def article(title: str) -> str:
    """A title in the middle of a sentence, with its article."""
    word = title.lower()
    return f"{'an' if word[0] in 'aeiou' else 'a'} {word}"


def _all_blanks(parts):
    for part in parts:
        if isinstance(part, Blank):
            yield part
        elif isinstance(part, (When, Clause)):
            yield from _all_blanks(part.parts)


def _stands(part, filled):
    if isinstance(part, When):
        return filled.get(part.choice) in part.values
    return filled.get(part.first.name) is not None


def _standing(parts, filled):
    for part in parts:
        if isinstance(part, (When, Clause)):
            if _stands(part, filled):
                yield from _standing(part.parts, filled)
        else:
            yield part


def _open(parts, filled):
    for part in parts:
        if isinstance(part, When) and _stands(part, filled):
            yield from _open(part.parts, filled)
        elif isinstance(part, Clause) and not _stands(part, filled):
            yield part
