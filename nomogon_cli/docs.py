"""``./nomogon docs``: the pages of docs/ that are made from declarations."""

from pathlib import Path

from nomogon_core.job import commands
from nomogon_core.job.commands.described import commands_page

PAGE = Path(__file__).resolve().parent.parent / "docs" / "commands.md"


def run(arguments):
    """Write docs/commands.md anew."""
    PAGE.write_text(commands_page())
    print(f"{len(commands.COMMANDS)} commands described in {PAGE.name}")
    return 0
