"""Commands for groups of steps of the Build sheet."""

from __future__ import annotations

from typing import Any

from nomogon_core.arguments import ID, SWITCH, TEXT, Whole
from nomogon_core.errors import OperationError
from nomogon_core.job.commands.registry import command
from nomogon_core.job.commands.solid import MOST_STEPS, check_order
from nomogon_core.job.document import clean_name, next_id
from nomogon_core.job.groups import group_of, take_out


def _group(document, name):
    found = document["groups"].get(name)
    if found is None:
        raise OperationError("That group is not in the Build sheet any more.")
    return found


@command("group.join", step=ID, title=TEXT)
def join(document: dict[str, Any], *, step: str, title: str = "") -> str:
    """Put a step into the group that the step above it is in; where that is in none, or in the same, begin a new
    one with it."""
    steps = document["steps"]
    if step not in steps:
        raise OperationError("That step is not in the Build sheet any more.")
    own, place = group_of(document, step), steps.index(step)
    above = group_of(document, steps[place - 1]) if place else None
    if above is not None and above != own:
        take_out(document, step)
        document["groups"][above]["steps"].append(step)
        return f"A step put into the group {document['groups'][above]['title']}"
    if own is not None:
        raise OperationError("That step is in a group already; take it out first.")
    name = next_id(document, "g")
    called = clean_name(title or f"Group {len(document['groups']) + 1}", "The group", 60)
    document["groups"][name] = {"title": called, "steps": [step]}
    return f"Group {called} begun"


@command("group.leave", step=ID)
def leave(document: dict[str, Any], *, step: str) -> str:
    """Take the first or last step of a group out of it."""
    name = group_of(document, step)
    if name is None:
        raise OperationError("That step is in no group.")
    group = document["groups"][name]
    if step not in (group["steps"][0], group["steps"][-1]):
        raise OperationError("Only the first or the last step of a group can leave it; move it there first.")
    take_out(document, step)
    return f"A step taken out of the group {group['title']}"


@command("group.title", name=ID, text=TEXT)
def title(document: dict[str, Any], *, name: str, text: str) -> str:
    """Another name for a group."""
    group = _group(document, name)
    group["title"] = clean_name(text, "The group", 60)
    return f"A group is called {group['title']} now"


@command("group.part", name=ID)
def part(document: dict[str, Any], *, name: str) -> str:
    """Take a group apart; its steps stay where they are."""
    told = _group(document, name)["title"]
    del document["groups"][name]
    return f"Group {told} taken apart"


@command("group.suppress", name=ID, suppressed=SWITCH)
def suppress(document: dict[str, Any], *, name: str, suppressed: bool) -> str:
    """Leave all operations of a group out, or take them in again."""
    group = _group(document, name)
    found = [step for step in group["steps"] if step in document["operations"]]
    if not found:
        raise OperationError("There is no operation in that group.")
    for step in found:
        document["operations"][step]["suppressed"] = suppressed
    return f"Group {group['title']} {'left out' if suppressed else 'taken in again'}"


@command("group.move", name=ID, by=Whole(-MOST_STEPS, MOST_STEPS))
def move(document: dict[str, Any], *, name: str, by: int) -> str:
    """Move a group as one so many places up or down, past steps and whole groups.

    An order in which something would come before what it uses is refused.
    """
    group, blocks = _group(document, name), _blocks(document)
    place = next(index for index, block in enumerate(blocks) if block == group["steps"])
    target = min(max(place + by, 0), len(blocks) - 1)
    if target == place:
        raise OperationError("The group is at that end of the Build sheet already.")
    blocks.insert(target, blocks.pop(place))
    document["steps"] = [step for block in blocks for step in block]
    check_order(document)
    return f"Group {group['title']} moved {'up' if target < place else 'down'}"


def _blocks(document):
    """The steps as lists: those of a group in one, any other by itself."""
    blocks: list[list[str]] = []
    for step in document["steps"]:
        if blocks and (own := group_of(document, step)) and own == group_of(document, blocks[-1][0]):
            blocks[-1].append(step)
        else:
            blocks.append([step])
    return blocks
