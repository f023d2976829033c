"""``./nomogon play [JOB.zip] COMMANDS.json --out NEW.zip``: a list of commands carried out on a job archive or from
nothing, pictures and traces included."""

import json
from pathlib import Path

from nomogon_cli.arguments import Parser, read_file
from nomogon_core.errors import CoreError, InputError
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import new_document
from nomogon_core.job.files import JobFile, read_job, write_job
from nomogon_core.job.library import Library, picture_arguments

MOST_COMMANDS = 100_000


def run(arguments):
    """Play and write.

    Raises:
        CoreError: a file cannot be read, or a command is refused; the sentence names which.
    """
    parser = Parser(
        prog="play",
        description="Carries out commands on a job archive, or from nothing; docs/commands.md lists all of them.",
    )
    parser.add_argument("files", nargs="+", metavar="[JOB.zip] COMMANDS.json")
    parser.add_argument("--out", required=True, metavar="NEW.zip")
    parser.add_argument("--title", default="", help="of a job from nothing")
    options = parser.parse_args(arguments)
    if len(options.files) > 2:
        raise InputError("play takes a job archive, if any, and one list of commands.")
    *jobs, script = options.files
    job = read_job(read_file(jobs[0]), Path(jobs[0]).name) if jobs else empty_job(options.title or Path(script).stem)
    document = play(job, commands_of(read_file(script), script), Path(script).parent)
    Path(options.out).write_bytes(write_job(job.title, job.number, document, job.library))
    return 0


def empty_job(title):
    return JobFile(title, "", new_document(), Library())


def commands_of(data, name):
    """[(command, arguments)] of a JSON list of ``{"command": …, "arguments": {…}}``.

    Raises:
        InputError: the file is no such list.
    """
    try:
        listed = json.loads(data)
    except ValueError as problem:
        raise InputError(f"{name} is no JSON: {problem}.") from None
    if not isinstance(listed, list) or len(listed) > MOST_COMMANDS:
        raise InputError(f"{name} holds no list of commands.")
    for number, entry in enumerate(listed, 1):
        if not isinstance(entry, dict) or not isinstance(entry.get("arguments", {}), dict):
            raise InputError(f'{name}: entry {number} is no {{"command": …, "arguments": {{…}}}}.')
    return [(entry.get("command"), entry.get("arguments", {})) for entry in listed]


def play(job, commands, folder):
    """The document of a job after commands, one after the other.

    Args:
        folder: where files that commands name are looked for.

    Raises:
        InputError: a command is refused; the sentence names its place in the list.
    """
    document = job.document
    for number, (name, arguments) in enumerate(commands, 1):
        try:
            if name == "reference.add_picture" and "file" in arguments:
                arguments = _with_file(job.library, arguments, folder)
            document = carry_out(document, name, arguments, job.library).document
        except CoreError as problem:
            raise InputError(f"Command {number} ({name}): {problem}") from None
    return document


def _with_file(library, arguments, folder):
    """Arguments of a picture in which its file has become what is stored of it."""
    rest = {key: value for key, value in arguments.items() if key != "file"}
    path = folder / str(arguments["file"])
    return picture_arguments(library, read_file(path), path.name) | rest
