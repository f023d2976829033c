"""``./nomogon make JOB --out DIR``: the files of Release and report.json from a job archive, or of a variant of it."""

import json
from pathlib import Path

from nomogon_cli.arguments import Parser, read_file
from nomogon_cli.process import in_own_process
from nomogon_core.errors import InputError
from nomogon_core.exchange import flat


def run(arguments):
    """Build and write.

    Raises:
        CoreError: the archive cannot be read, a quantity cannot be set, or the part cannot be built.
    """
    parser = Parser(
        prog="make", description="Builds a job archive: STEP, STL, 3MF, DXF, SVG, views as SVG, and report.json."
    )
    parser.add_argument("job")
    parser.add_argument("--out", required=True, metavar="DIR")
    parser.add_argument("--chord", help="chord tolerance of STL and 3MF, 0.05 mm by itself")
    parser.add_argument("--files", help="which files, for example step,stl; all by itself")
    parser.add_argument(
        "--set",
        action="append",
        default=[],
        metavar="NAME=EXPRESSION",
        help="another value for a quantity of the Ledger, which makes a variant; may be repeated",
    )
    options = parser.parse_args(arguments)
    data, name = read_file(options.job), Path(options.job).name
    settings = (data, name, options.set, options.chord, options.files)
    title, files, report = in_own_process("nomogon_cli.building", "build", *settings)
    folder = Path(options.out)
    if folder.exists() and not folder.is_dir():
        raise InputError(f"--out {options.out} is a file; name a folder.")
    folder.mkdir(parents=True, exist_ok=True)
    for kind, content in files.items():
        (folder / flat.file_name(title, kind)).write_bytes(content)
    (folder / "report.json").write_text(json.dumps(report, indent=1))
    return 0
