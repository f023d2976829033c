"""Chooses the command; a refusal of the core is one sentence on standard error and exit code 2."""

import sys

from nomogon_cli import make, play, trace
from nomogon_core.errors import CoreError

COMMANDS = {"trace": trace.run, "make": make.run, "play": play.run}


def main(arguments):
    try:
        return COMMANDS[arguments[0]](arguments[1:])
    except CoreError as problem:
        print(f"nomogon: {problem}", file=sys.stderr)
        return 2
    except OSError as problem:
        print(f"nomogon: {problem.filename or 'a file'}: {problem.strerror}.", file=sys.stderr)
        return 2


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
