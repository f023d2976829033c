"""How a job came about: the difference between two documents, making it and taking it back, and whether a command would
have done the same on an earlier document.

A change is [path, had, old, has, new]; path is a list of keys, ``had`` and ``has`` tell whether there was and
is a value. Objects are compared key by key, everything else as a whole. The changes of a document are {part: changes}.
"""

from __future__ import annotations

import re
from typing import Any

from nomogon_core.job.document import plain_copy

# Ids are one letter or "op" and a number; "u95" is the name of a field.
_ID = re.compile(r"(op|[a-tv-z])([0-9]{1,9})")


def difference(before: Any, after: Any, path: tuple[str, ...] = ()) -> list[list[Any]]:
    """All changes that lead from one plain value to another."""
    if before == after:
        return []
    if not (isinstance(before, dict) and isinstance(after, dict)):
        return [[list(path), True, before, True, after]]
    found = []
    for key in sorted(before.keys() | after.keys()):
        if key not in after:
            found.append([[*path, key], True, before[key], False, None])
        elif key not in before:
            found.append([[*path, key], False, None, True, after[key]])
        else:
            found += difference(before[key], after[key], (*path, key))
    return found


def apply(value: Any, changes: list[list[Any]]) -> Any:
    """The value with the changes made; the one given stays as it is."""
    result = plain_copy(value)
    for path, _, _, has, new in changes:
        if not path:
            result = plain_copy(new)
            continue
        place = result
        for key in path[:-1]:
            place = place.setdefault(key, {})
        if has:
            place[path[-1]] = plain_copy(new)
        else:
            place.pop(path[-1], None)
    return result


def changes_of(before: dict[str, Any], after: dict[str, Any]) -> dict[str, list]:
    """The changes that lead from one document to another, by part; parts that stay are left out."""
    return {part: difference(before[part], after[part]) for part in after if before[part] != after[part]}


def taken_back(changes: dict[str, list]) -> dict[str, list]:
    """The changes of a document that take back others."""
    return {
        part: [[path, has, new, had, old] for path, had, old, has, new in reversed(listed)]
        for part, listed in changes.items()
    }


def changed(document: dict[str, Any], changes: dict[str, list]) -> dict[str, Any]:
    """A document with changes made."""
    return {part: apply(data, changes.get(part, [])) for part, data in document.items()}


def go_together(then: dict[str, Any], would: dict[str, list], now: dict[str, Any], does: dict[str, list]) -> bool:
    """Whether what a command does to a document is what it would have done to an earlier one, but for the numbers of
    the ids that it makes.

    Args:
        then, now: the earlier document and today's; would, does: the changes that the command makes to each.
    """
    return _by_own_ids(would, then["next_number"]) == _by_own_ids(does, now["next_number"])


def _by_own_ids(changes, first):
    """Changes with the ids from a number on counted from there, and without that count."""

    def put(value):
        if isinstance(value, dict):
            return {put(key): put(item) for key, item in value.items()}
        if isinstance(value, (list, tuple)):
            return [put(item) for item in value]
        if isinstance(value, str) and (found := _ID.fullmatch(value)) and int(found[2]) >= first:
            return f"{found[1]}+{int(found[2]) - first}"
        return value

    return {
        part: [_what_came(put(change)) for change in listed]
        for part, listed in changes.items()
        if part != "next_number"
    }


def _what_came(change):
    """A change; of lists of ids such as the order of the steps, what came into them and what went."""
    path, _, old, _, new = change
    if isinstance(old, list) and isinstance(new, list) and all(isinstance(item, str) for item in old + new):
        return [path, [item for item in old if item not in new], [item for item in new if item not in old]]
    return change
