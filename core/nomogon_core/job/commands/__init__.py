"""Everything that changes a job, by stage; importing this room registers all of it."""

from nomogon_core.job.commands import drawing, edits, groups, inspect, quantities, reference, sketch, solid
from nomogon_core.job.commands.registry import COMMANDS, Declared, Outcome, carry_out, declared

__all__ = [
    "COMMANDS",
    "Declared",
    "Outcome",
    "carry_out",
    "declared",
    "drawing",
    "edits",
    "groups",
    "inspect",
    "quantities",
    "reference",
    "sketch",
    "solid",
]
