"""One way to change a job: a named command, in one transaction, that can be undone.

Each stage registers its commands with :func:`command`. A command is a function of the job's documents (plain
JSON, changed in place) and its arguments; it returns the sentence for the history.
"""

import copy
import inspect

import attrs
from django.db import transaction

from jobs.changes import apply, difference
from jobs.models import Command, Document, Job, Member
from jobs.problems import Forbidden, Stale
from nomogon_core.arguments import checked, shown
from nomogon_core.errors import InputError
from nomogon_core.job.document import EMPTY

COMMANDS = {}
MOST_TOLD = 300


@attrs.frozen
class Declared:
    """A command: its function, the kind of each argument, those that may be missing, and whether a page may ask for
    it."""

    function: object
    arguments: dict
    optional: frozenset
    asked_for: bool


def command(name, /, *, asked_for=True, **arguments):
    """Register a function ``(documents, **arguments) -> sentence`` as a command.

    Args:
        asked_for: whether a page may send it; else only the application itself carries it out.
        arguments: the kind of each, see :mod:`nomogon_core.arguments`; those with a default may be missing.
    """

    def keep(function):
        parameters = {
            key: item for key, item in inspect.signature(function).parameters.items() if item.kind is item.KEYWORD_ONLY
        }
        if parameters.keys() != arguments.keys():
            raise TypeError(f"{name} declares {sorted(arguments)} and takes {sorted(parameters)}")
        optional = frozenset(key for key, item in parameters.items() if item.default is not item.empty)
        COMMANDS[name] = Declared(function, arguments, optional, asked_for)
        return function

    return keep


@attrs.frozen
class Done:
    """What a command did.

    Attributes:
        version: of the job now.
        told: sentence for the history.
        note: something to show to the user, or "".
        documents: of the job now.
    """

    version: int
    told: str
    note: str
    documents: dict = attrs.field(repr=False)


def role_of(job, user):
    member = Member.objects.filter(job=job, user=user).first()
    return member.role if member else None


def documents_of(job):
    """All documents of a job as plain data, empty ones filled in."""
    found = {document.name: document.data for document in Document.objects.filter(job=job)}
    return {name: found.get(name) or copy.deepcopy(empty) for name, empty in EMPTY.items()}


def _locked(job_id, user, version):
    """The job, locked for this transaction.

    Raises:
        Forbidden: the user may not change it.
        Stale: it has another version than the page had.
    """
    job = Job.objects.select_for_update().get(pk=job_id)
    if role_of(job, user) not in (Member.OWNER, Member.EDITOR):
        raise Forbidden("You may look at this job but not change it; ask its owner to make you an editor.")
    if version is not None and version != job.version:
        happened = [
            f"{entry.told} ({entry.user or 'somebody'})"
            for entry in job.commands.filter(version__gt=version).select_related("user").order_by("-version")[:3]
        ]
        raise Stale(job.version, happened)
    return job


def _store(job, user, before, after):
    for name, data in after.items():
        if data != before[name]:
            Document.objects.update_or_create(job=job, name=name, defaults={"data": data})
    job.version += 1
    job.changed_by = user
    job.save(update_fields=["version", "changed", "changed_by"])


def perform(job_id, user, version, name, arguments):
    """Carry out a command.

    Args:
        version: of the job when the page was drawn; None skips the comparison.

    Raises:
        InputError: there is no such command, its arguments do not fit, or it refuses them.
        Forbidden, Stale: as :func:`_locked`.
    """
    declared = COMMANDS.get(name)
    if declared is None:
        raise InputError(f"There is no command {shown(name)}.")
    arguments = checked(name, declared.arguments, declared.optional, arguments)
    with transaction.atomic():
        job = _locked(job_id, user, version)
        before = documents_of(job)
        after = copy.deepcopy(before)
        outcome = declared.function(after, **arguments)
        told, note = outcome if isinstance(outcome, tuple) else (outcome, "")
        changes = {part: difference(before[part], after[part]) for part in after if before[part] != after[part]}
        if not changes:
            return Done(job.version, told, note, after)
        job.commands.filter(state=Command.UNDONE).delete()
        _store(job, user, before, after)
        Command.objects.create(
            job=job,
            version=job.version,
            user=user,
            name=name,
            arguments=arguments,
            told=told[:MOST_TOLD],
            changes=changes,
        )
    return Done(job.version, told, note, after)


def _step(job_id, user, version, *, back):
    with transaction.atomic():
        job = _locked(job_id, user, version)
        wanted = Command.DONE if back else Command.UNDONE
        order = "-version" if back else "version"
        entry = job.commands.filter(state=wanted).order_by(order).first()
        if entry is None:
            raise InputError("There is nothing to undo." if back else "There is nothing to redo.")
        before = documents_of(job)
        after = {name: apply(data, entry.changes.get(name, []), back=back) for name, data in before.items()}
        entry.state = Command.UNDONE if back else Command.DONE
        entry.save(update_fields=["state"])
        _store(job, user, before, after)
    return Done(job.version, entry.told, f"{'Undone' if back else 'Done again'}: {entry.told}", after)


def undo(job_id, user, version):
    """Take back the last command that stands.

    Raises:
        InputError: there is none.
        Forbidden, Stale: as :func:`perform`.
    """
    return _step(job_id, user, version, back=True)


def redo(job_id, user, version):
    """Do again what was undone last.

    Raises:
        InputError: there is none.
        Forbidden, Stale: as :func:`perform`.
    """
    return _step(job_id, user, version, back=False)
