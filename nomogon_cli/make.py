"""``./nomogon make JOB --out DIR``: the files of Release and report.json from a job archive, or of a variant of it."""

import json
import multiprocessing
from pathlib import Path

from pebble import ProcessExpired, ProcessPool

from nomogon_cli.arguments import Parser, read_file
from nomogon_core.errors import InputError, OperationError
from nomogon_core.exchange import flat, release
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import build_of, file_stem
from nomogon_core.job.files import read_job
from nomogon_core.job.ledger import command_for
from nomogon_core.job.quantities import environment, quantities
from nomogon_core.quantity.units import parse_positive_length

TIME_LIMIT_S = 600


def run(arguments):
    """Build and write.

    Raises:
        CoreError: the archive cannot be read, a quantity cannot be set, or the part cannot be built.
    """
    parser = Parser(prog="make", description="Builds a job archive: STEP, STL, 3MF, DXF, SVG and report.json.")
    parser.add_argument("job")
    parser.add_argument("--out", required=True, metavar="DIR")
    parser.add_argument("--chord", default=f"{flat.DEFAULT_CHORD_MM}mm", help="chord tolerance of STL and 3MF")
    parser.add_argument(
        "--set",
        action="append",
        default=[],
        metavar="NAME=EXPRESSION",
        help="another value for a quantity of the Ledger, which makes a variant; may be repeated",
    )
    options = parser.parse_args(arguments)
    chord = parse_positive_length(options.chord, "The chord tolerance")
    job = read_job(read_file(options.job), Path(options.job).name)
    document = job.document
    for text in options.set:
        document = with_quantity(document, text, job.library)
    released = in_own_process(release.release_all, build_of(document, environment(document)), job.title, chord)
    folder = folder_for(options.out)
    stem = file_stem(job.title)
    for kind, data in released.files.items():
        (folder / f"{stem}.{kind}").write_bytes(data)
    (folder / "report.json").write_text(json.dumps(released.report, indent=1))
    return 0


def with_quantity(document, text, library):
    """The document with one quantity set: ``Hole diameter=5 mm``.

    Raises:
        InputError: there is no such quantity, or it cannot have that value.
    """
    name, equals, value = text.partition("=")
    found = [item for item in quantities(document) if item.name == name.strip()]
    if not equals or not found:
        names = ", ".join(sorted(item.name for item in quantities(document) if item.name))
        raise InputError(f"--set {text}: NAME=EXPRESSION was expected, with one of {names}.")
    if len(found) > 1:
        raise InputError(f"--set {text}: several quantities are called {name.strip()}; rename one of them.")
    command, arguments = command_for(found[0].id, value, "mm")
    return carry_out(document, command, arguments, library).document


def folder_for(path):
    """The folder to write into, made if it is not there.

    Raises:
        InputError: it is a file.
    """
    folder = Path(path)
    if folder.exists() and not folder.is_dir():
        raise InputError(f"--out {path} is a file; name a folder.")
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def in_own_process(function, *arguments):
    """The kernel can crash or hang, so it works in a process of its own."""
    with ProcessPool(1, context=multiprocessing.get_context("spawn")) as pool:
        try:
            return pool.schedule(function, args=list(arguments), timeout=TIME_LIMIT_S).result()
        except TimeoutError:
            raise OperationError(f"The part was not built within {TIME_LIMIT_S} s.") from None
        except ProcessExpired:
            raise OperationError("The geometry kernel stopped while building the part.") from None
