"""The difference between two JSON documents, and applying it forth and back.

A change is [path, had, old, has, new]; path is a list of keys, ``had`` and ``has`` tell whether there was and
is a value. Objects are compared key by key, everything else as a whole.
"""

import copy


def difference(before, after, path=()):
    """All changes that lead from one document to another."""
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


def apply(document, changes, *, back=False):
    """The document with the changes made, or taken back; the one given stays as it is."""
    result = copy.deepcopy(document)
    for path, had, old, has, new in changes:
        present, value = (had, old) if back else (has, new)
        if not path:
            result = copy.deepcopy(value)
            continue
        place = result
        for key in path[:-1]:
            place = place.setdefault(key, {})
        if present:
            place[path[-1]] = copy.deepcopy(value)
        else:
            place.pop(path[-1], None)
    return result
