"""The files of a job archive, or of a variant of it; runs in the process that may load the geometry kernel."""

from nomogon_core.errors import InputError
from nomogon_core.exchange import flat, release
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import build_of
from nomogon_core.job.files import read_job
from nomogon_core.job.ledger import command_for
from nomogon_core.job.quantities import environment, quantities
from nomogon_core.quantity.units import parse_positive_length


def build(data, name, settings, chord, kinds):
    """(title, {kind: bytes}, report) of the job in an archive's bytes.

    Args:
        settings: ``NAME=EXPRESSION`` for each quantity to be set; chord: as typed, or None; kinds: comma-separated, or
            None for all.

    Raises:
        CoreError: the archive cannot be read, a quantity cannot be set, or the part cannot be built.
    """
    wanted = kinds.split(",") if kinds else flat.FILES
    for kind in wanted:
        if kind not in flat.FILES:
            raise InputError(f"--files {kinds}: {kind!r} is none of {', '.join(flat.FILES)}.")
    tolerance = parse_positive_length(chord, "The chord tolerance") if chord else flat.DEFAULT_CHORD_MM
    job = read_job(data, name)
    document = job.document
    for text in settings:
        document = with_quantity(document, text, job.library)
    sheet = build_of(document, environment(document), files=job.library)
    released = release.release_all(sheet, job.title, tolerance, wanted)
    return job.title, released.files, released.report


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
