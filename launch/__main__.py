"""``./nomogon COMMAND``: reads the command and runs it."""

import os
import sys

from launch import serve
from launch.places import CLUSTER, ROOT, VENV_PYTHON, SetupError, environment, say
from launch.setup import prepare

USAGE = """usage: ./nomogon COMMAND

  start [--port N]     set everything up, start the application, print its address
  web, work            a web server or a worker alone, on one of several machines  (docs/running.md)
  test [LABEL …]       set everything up and run the tests
  trace PICTURE …      outlines of a calibrated picture as DXF, SVG or JSON  (--help for more)
  make JOB --out DIR   build a job archive, or with --set a variant: the files of Release and report.json
  play [JOB] LIST …    carry out a list of commands on a job archive, or from nothing  (--help for more)
  docs                 write docs/commands.md anew
  bench NAME           run a benchmark of benchmarks/  [--json FILE]
  shots                take the pictures of docs/screenshots/ anew
"""


def replace_by(*command):
    os.execve(str(VENV_PYTHON), [str(VENV_PYTHON), *map(str, command)], environment())


def main(arguments):
    if not arguments or arguments[0] in ("help", "--help", "-h"):
        print(USAGE, end="")
        return 0 if arguments else 2
    name, rest = arguments[0], arguments[1:]
    if name in ("start", "web", "work"):
        return getattr(serve, name)(rest)
    if name in ("test", "bench", "shots"):
        os.environ[CLUSTER] = "checks"  # never the database of an application that runs
    if name == "test":
        prepare(web=True, browser=True)
        replace_by(ROOT / "web" / "manage.py", "test", "--noinput", *rest)
    if name in ("trace", "make", "play", "docs"):
        prepare()
        replace_by("-m", "nomogon_cli", name, *rest)
    if name == "bench":
        prepare(web=True, browser=True)
        replace_by("-m", "benchmarks", *rest)
    if name == "shots":
        prepare(web=True, browser=True, demo=True)
        replace_by("-m", "benchmarks.shots", *rest)
    print(f"nomogon: there is no command {name!r}.\n{USAGE}", file=sys.stderr, end="")
    return 2


if __name__ == "__main__":
    try:
        sys.exit(main(sys.argv[1:]))
    except SetupError as problem:
        say(str(problem))
        sys.exit(1)
    except KeyboardInterrupt:
        sys.exit(130)
