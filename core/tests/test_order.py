"""The order of the code: a room imports only from rooms above it, and what is public says its types."""

import ast
import subprocess
import sys
from pathlib import Path
from unittest import TestCase

import nomogon_core

CORE = Path(nomogon_core.__file__).parent
ABOVE_ALL = {"errors", "arguments", "tuples", "kept", "sentence"}
ROOMS = (
    "geometry",
    "quantity",
    "picture",
    "reference",
    "trace",
    "sketch",
    "solid",
    "inspect",
    "exchange",
    "devices",
    "job",
)
FROM_NOTHING = ("geometry", "quantity")
OF_THE_WEB = ("django", "web", "store", "work", "stages", "shell")
WEB = CORE.parent.parent / "web"
STAGES = ("reference", "sketch", "solid", "inspect", "release")


def names_imported(path):
    """Dotted names that a module imports."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom):
            yield from (f"{node.module}.{alias.name}" for alias in node.names)
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


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

    def test_what_is_stored_and_worked_knows_no_stage_and_no_stage_the_shell(self):
        higher = {"store": ("stages", "shell"), "work": ("stages", "shell"), "stages": ("shell",)}
        for room, above in higher.items():
            for path in (WEB / room).rglob("*.py"):
                wrong = [name for name in names_imported(path) if name.split(".")[0] in above]
                self.assertFalse(wrong, str(path))

    def test_a_stage_knows_only_stages_before_it(self):
        for index, stage in enumerate(STAGES):
            for path in (WEB / "stages" / stage).rglob("*.py"):
                named = {parts[1] for name in names_imported(path) if (parts := name.split("."))[0] == "stages"}
                self.assertLessEqual(named & set(STAGES), set(STAGES[: index + 1]), str(path))

    def test_pages_need_no_geometry_kernel(self):
        """It takes seconds and 250 MB to load; only workers build."""
        read = "nomogon_core.solid.operations", "nomogon_core.job.overview", "nomogon_core.job.commands"
        script = f"import sys, {', '.join(read)}; sys.exit(any(name.startswith('OCP') for name in sys.modules))"
        self.assertEqual(subprocess.run([sys.executable, "-c", script], cwd=CORE.parent, check=False).returncode, 0)

    def test_the_core_knows_no_web(self):
        for path in CORE.rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                names = [node.module or ""] if isinstance(node, ast.ImportFrom) else []
                names += [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
                self.assertFalse(
                    [
                        name
                        for name in names
                        if name.split(".")[0] in ("django", "web", "store", "work", "stages", "shell")
                    ],
                    str(path),
                )


class Types(TestCase):
    def test_public_functions_say_their_types(self):
        for path in CORE.rglob("*.py"):
            tree = ast.parse(path.read_text())
            classes = [node for node in tree.body if isinstance(node, ast.ClassDef)]
            bare = [self.bare(node, 0) for node in tree.body] + [
                self.bare(node, 1) for one in classes for node in one.body
            ]
            self.assertEqual([name for name in bare if name], [], str(path))

    @staticmethod
    def bare(node, bound):
        """The name of a public function without all its types; the first ``bound`` argument needs none."""
        if not isinstance(node, ast.FunctionDef) or node.name.startswith("_"):
            return ""
        if any(isinstance(one, ast.Name) and one.id == "staticmethod" for one in node.decorator_list):
            bound = 0
        taken = [*node.args.posonlyargs, *node.args.args][bound:] + node.args.kwonlyargs
        return "" if node.returns and all(one.annotation for one in taken) else node.name

    def test_the_types_hold(self):
        told = subprocess.run(
            [sys.executable, "-m", "mypy"], cwd=CORE.parents[1], capture_output=True, text=True, check=False
        )
        self.assertEqual(told.returncode, 0, told.stdout)
