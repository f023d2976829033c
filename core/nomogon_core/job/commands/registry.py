"""A change to a job is a command: a function of the document and its declared arguments that refuses in words.

Each module of commands registers its functions with :func:`command`; :func:`carry_out` is the one way in, for pages and
for the command line alike. A command changes the document it is given; :func:`carry_out` hands it a copy.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import attrs

from nomogon_core.arguments import checked, shown
from nomogon_core.errors import InputError
from nomogon_core.job.document import working_copy
from nomogon_core.job.groups import settle_groups
from nomogon_core.job.quantities import settle

if TYPE_CHECKING:
    pass

COMMANDS = {}


@attrs.frozen
class Declared:
    """A command.

    Attributes:
        name: stage and verb; function: what carries it out; arguments: the kind of each.
        optional: arguments that may be missing; asked_for: whether a page may send it.
        wants_library: whether its function is handed the library.
        example: arguments of the worked line in the documentation.
    """

    name: str
    function: Callable[..., Any]
    arguments: dict
    optional: frozenset
    asked_for: bool
    wants_library: bool
    example: dict = attrs.field(factory=dict)

    @property
    def told(self) -> str:
        """What it does, from its docstring."""
        return " ".join((inspect.getdoc(self.function) or "").split("\n\n")[0].split())


def command(name: str, /, *, asked_for: bool = True, **arguments: Any) -> Callable:
    """Register a function ``(document, **arguments) -> sentence`` as a command.

    The function may take ``library`` as a second positional argument, may give ``(sentence, note)``, and its keyword
    arguments with a default may be missing.

    Args:
        asked_for: whether a page may send it; else only the application itself carries it out.
        arguments: the kind of each, see :mod:`nomogon_core.arguments`.
    """

    def keep(function):
        signature = inspect.signature(function).parameters
        parameters = {key: item for key, item in signature.items() if item.kind is item.KEYWORD_ONLY}
        if parameters.keys() != arguments.keys():
            raise TypeError(f"{name} declares {sorted(arguments)} and takes {sorted(parameters)}")
        optional = frozenset(key for key, item in parameters.items() if item.default is not item.empty)
        COMMANDS[name] = Declared(name, function, arguments, optional, asked_for, "library" in signature)
        return function

    return keep


@attrs.frozen
class Outcome:
    """What a command came to.

    Attributes:
        document: as it is now; told: sentence for the history; note: something to show, or "".
    """

    document: dict = attrs.field(repr=False)
    told: str
    note: str = ""


def declared(name: str) -> Declared:
    """The declaration of a command.

    Raises:
        InputError: there is none of that name.
    """
    found = COMMANDS.get(name) if isinstance(name, str) else None
    if found is None:
        raise InputError(f"There is no command {shown(name)}.")
    return found


def carry_out(document: dict[str, Any], name: str, arguments: dict[str, Any], library: Any) -> Outcome:
    """Carry out a command on a copy of a document; expressions are worked out anew after it.

    Args:
        library: blobs and finished work, see :class:`nomogon_core.job.library.Library`.

    Raises:
        InputError: there is no such command, its arguments do not fit, or it refuses them.
    """
    found = declared(name)
    arguments = checked(name, found.arguments, found.optional, arguments)
    after = working_copy(document)
    outcome = found.function(after, library, **arguments) if found.wants_library else found.function(after, **arguments)
    told, note = outcome if isinstance(outcome, tuple) else (outcome, "")
    settle_groups(after)
    settle(after)
    return Outcome(after, told, note)
