"""``./nomogon make JOB --out DIR``: the files of Release and report.json from a job archive."""

import json
import multiprocessing
from pathlib import Path

from pebble import ProcessExpired, ProcessPool

from nomogon_cli.arguments import Parser, read_file
from nomogon_core.errors import InputError, OperationError
from nomogon_core.exchange import archive, flat, release
from nomogon_core.job.document import build_of, file_stem
from nomogon_core.job.overview import checked
from nomogon_core.quantity.units import parse_positive_length

TIME_LIMIT_S = 600


def run(arguments):
    """Build and write.

    Raises:
        CoreError: the archive cannot be read or its part cannot be built.
    """
    parser = Parser(prog="make", description="Builds a job archive: STEP, STL, 3MF, DXF, SVG and report.json.")
    parser.add_argument("job")
    parser.add_argument("--out", required=True, metavar="DIR")
    parser.add_argument("--chord", default=f"{flat.DEFAULT_CHORD_MM}mm", help="chord tolerance of STL and 3MF")
    options = parser.parse_args(arguments)
    chord = parse_positive_length(options.chord, "The chord tolerance")
    contents = archive.read(read_file(options.job), Path(options.job).name)
    build = build_of(checked(contents.documents, Path(options.job).name))
    released = _in_own_process(build.sketch, build.operations, contents.title, build.material, chord)
    folder = Path(options.out)
    if folder.exists() and not folder.is_dir():
        raise InputError(f"--out {options.out} is a file; name a folder.")
    folder.mkdir(parents=True, exist_ok=True)
    stem = file_stem(contents.title)
    for kind, data in released.files.items():
        (folder / f"{stem}.{kind}").write_bytes(data)
    (folder / "report.json").write_text(json.dumps(released.report, indent=1))
    return 0


def _in_own_process(*arguments):
    """The kernel can crash or hang, so it works in a process of its own."""
    with ProcessPool(1, context=multiprocessing.get_context("spawn")) as pool:
        try:
            return pool.schedule(release.release_all, args=list(arguments), timeout=TIME_LIMIT_S).result()
        except TimeoutError:
            raise OperationError(f"The part was not built within {TIME_LIMIT_S} s.") from None
        except ProcessExpired:
            raise OperationError("The geometry kernel stopped while building the part.") from None
