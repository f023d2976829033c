"""A job seen as a whole: everything that the Ledger, the stage line and Next are made from, worked out once."""

import copy

import attrs

from nomogon_core.errors import ArchiveError, CoreError
from nomogon_core.job import document as job
from nomogon_core.job.schema import check_documents
from nomogon_core.reference.calibration import Calibration
from nomogon_core.sketch import model
from nomogon_core.sketch.regions import find_findings, find_regions
from nomogon_core.sketch.solve import Freedom, freedom


@attrs.frozen
class Overview:
    """A job worked out.

    Attributes:
        documents: plain data.
        picture: plain data of the picture, or None.
        calibration: or None.
        sketch, freedom, regions, findings: of the sketch.
        build: operations and material.
        result: plain data of the last rebuild of exactly these operations, or None.
    """

    documents: dict = attrs.field(repr=False)
    picture: dict | None
    calibration: Calibration | None
    sketch: model.Sketch = attrs.field(repr=False)
    freedom: Freedom = attrs.field(repr=False)
    regions: tuple = attrs.field(repr=False)
    findings: tuple
    build: job.Build = attrs.field(repr=False)
    result: dict | None = attrs.field(default=None, repr=False)

    @property
    def problems(self):
        """(operation id, problem, suggestion) of every operation that fails."""
        return [
            (step["name"], step["problem"], step.get("suggestion"))
            for step in (self.result or {}).get("steps", [])
            if step["problem"]
        ]


def checked(documents, name="The file"):
    """Documents from outside with what is missing filled in, worked out once so that damage shows now and not later.

    Raises:
        ArchiveError: they do not describe a job.
    """
    for part in job.EMPTY:
        if not isinstance(documents.get(part, {}), dict):
            raise ArchiveError(f"{name} is damaged: its {part} is no record.")
    whole = {part: {**copy.deepcopy(empty), **documents.get(part, {})} for part, empty in job.EMPTY.items()}
    check_documents(whole, name)
    try:
        overview(whole)
    except CoreError as problem:
        raise ArchiveError(f"{name} is damaged: {problem}") from None
    except (KeyError, TypeError, ValueError, AttributeError, IndexError) as problem:
        raise ArchiveError(
            f"{name} is damaged: its documents do not describe a job ({type(problem).__name__}: {problem})."
        ) from None
    return whole


def overview(documents, result=None):
    """Work out a job.

    Args:
        documents: plain data of all documents.
        result: of the rebuild, see :class:`Overview`.
    """
    build = job.build_of(documents)
    return Overview(
        documents,
        job.picture_of(documents)[1],
        job.calibration_of(documents),
        build.sketch,
        freedom(build.sketch),
        find_regions(build.sketch),
        find_findings(build.sketch),
        build,
        result,
    )
