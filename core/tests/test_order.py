"""The order of the code: a room imports only from rooms above it."""

import ast
from pathlib import Path
from unittest import TestCase

import nomogon_core

CORE = Path(nomogon_core.__file__).parent
ABOVE_ALL = {"errors", "arguments"}
ROOMS = (
    "geometry",
    "quantity",
    "picture",
    "reference",
    "trace",
    "sketch",
    "solid",
    "exchange",
    "inspect",
    "devices",
    "job",
)
FROM_NOTHING = ("geometry", "quantity")


def imported(path):
    """Rooms of the core that a module imports from."""
    for node in ast.walk(ast.parse(path.read_text())):
        names = [node.module or ""] if isinstance(node, ast.ImportFrom) else []
        if isinstance(node, ast.ImportFrom) and node.module == "nomogon_core":
            names = [f"nomogon_core.{alias.name}" for alias in node.names]
        if isinstance(node, ast.Import):
            names = [alias.name for alias in node.names]
        yield from (name.split(".")[1] for name in names if name.startswith("nomogon_core."))


class Order(TestCase):
    def test_rooms_import_from_rooms_above(self):
        for path in CORE.rglob("*.py"):
            room = path.relative_to(CORE).parts[0]
            if room not in ROOMS:
                continue
            allowed = ABOVE_ALL | {room} | (set() if room in FROM_NOTHING else set(ROOMS[: ROOMS.index(room)]))
            self.assertLessEqual(set(imported(path)), allowed, str(path))

    def test_every_module_is_in_a_room(self):
        loose = {path.stem for path in CORE.glob("*.py")} - {"__init__"}
        self.assertEqual(loose, ABOVE_ALL)
        self.assertLessEqual({path.name for path in CORE.iterdir() if path.is_dir()} - {"__pycache__"}, set(ROOMS))

    def test_the_core_knows_no_web(self):
        for path in CORE.rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                names = [node.module or ""] if isinstance(node, ast.ImportFrom) else []
                names += [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
                self.assertFalse([name for name in names if name.split(".")[0] in ("django", "web", "jobs")], str(path))
