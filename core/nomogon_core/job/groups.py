"""Steps of the Build sheet that belong together under one heading: a run of neighbours, which moves, is left out and
folds as one."""

from __future__ import annotations

from itertools import groupby
from typing import Any


def group_of(document: dict[str, Any], step: str) -> str | None:
    """The id of the group that a step is in."""
    return next((name for name, group in document["groups"].items() if step in group["steps"]), None)


def take_out(document: dict[str, Any], step: str) -> None:
    """A step is in no group."""
    for group in document["groups"].values():
        group["steps"] = [one for one in group["steps"] if one != step]


def settle_moved(document: dict[str, Any], step: str) -> None:
    """A step that has moved is in the group of its neighbours, stays beside one of its own, or leaves it."""
    steps, own = document["steps"], group_of(document, step)
    place = steps.index(step)
    beside = [group_of(document, steps[at]) if 0 <= at < len(steps) else None for at in (place - 1, place + 1)]
    if beside[0] is not None and beside[0] == beside[1] != own:
        take_out(document, step)
        document["groups"][beside[0]]["steps"].append(step)
    elif own not in beside:
        take_out(document, step)


def settle_groups(document: dict[str, Any]) -> None:
    """Hold the groups to runs of neighbours, in the order of the Build sheet.

    A step between two of a group is in it; one that has come away from the others is not any more; a group of which
    nothing is left is gone.
    """
    if not document["groups"]:
        return
    steps = document["steps"]
    inside = {step: name for name, group in document["groups"].items() for step in group["steps"]}
    mine = [inside.get(step) for step in steps]
    for place in range(1, len(steps) - 1):
        before, after = mine[place - 1], next((one for one in mine[place + 1 :] if one != mine[place]), None)
        if mine[place] != before and before is not None and before == after:
            mine[place] = before
    runs: dict[str, list[str]] = {}
    for name, run in groupby(zip(mine, steps), key=lambda pair: pair[0]):
        found = [step for _, step in run]
        if name is not None and len(found) > len(runs.get(name, ())):
            runs[name] = found
    document["groups"] = {
        name: {**group, "steps": runs[name]} for name, group in document["groups"].items() if name in runs
    }
