"""Chooses the command; a refusal of the core is one sentence on standard error and exit code 2."""

import importlib
import sys

from nomogon_core.errors import CoreError

COMMANDS = ("trace", "make", "play", "docs")


def main(arguments):
    """Each command's module is imported only when it is asked for: the geometry kernel alone takes two seconds."""
    if not arguments or arguments[0] not in COMMANDS:
        print(f"nomogon: one of {', '.join(COMMANDS)} was expected.", file=sys.stderr)
        return 2
    try:
        return importlib.import_module(f"nomogon_cli.{arguments[0]}").run(arguments[1:])
    except CoreError as problem:
        print(f"nomogon: {problem}", file=sys.stderr)
        return 2
    except OSError as problem:
        print(f"nomogon: {problem.filename or 'a file'}: {problem.strerror}.", file=sys.stderr)
        return 2


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
