"""One way to change a job: a command of the core, in one transaction, that can be undone."""

import attrs
from django.db import transaction

from jobs.changes import apply, difference
from jobs.models import Command, Job, Member
from jobs.problems import Forbidden, Stale
from jobs.store import Shelf, as_built, document_of, keep_document
from jobs.working import here_of, work_on
from nomogon_core.errors import InputError
from nomogon_core.job.commands import carry_out, declared

MOST_TOLD = 300
WORKED_ON = {"references": "picture", "sketches": "sketch"}


@attrs.frozen
class Done:
    """What a command did.

    Attributes:
        version: of the job now; told: sentence for the history; note: something to show to the user, or "".
        document: of the job now.
        made: id of a picture or sketch that came in, or "".
    """

    version: int
    told: str
    note: str
    document: dict = attrs.field(repr=False)
    made: str = ""


def role_of(job, user):
    member = Member.objects.filter(job=job, user=user).first()
    return member.role if member else None


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
    keep_document(job, before, after)
    job.version += 1
    job.changed_by = user
    job.save(update_fields=["version", "changed", "changed_by"])


def _with_what_is_worked_on(job, user, document, name, arguments):
    """Arguments with the picture and the sketch that the user works on, where the command takes such and none was
    sent."""
    found = declared(name)
    if not isinstance(arguments, dict) or not {"picture", "sketch"} & found.optional:
        return arguments
    here = here_of(job, user, document)
    usual = {"picture": here.picture_id, "sketch": here.sketch_id}
    filled = {key: usual[key] for key in ("picture", "sketch") if key in found.optional and usual[key]}
    return filled | {key: value for key, value in arguments.items() if value or key not in usual}


def perform(job_id, user, version, name, arguments):
    """Carry out a command.

    Args:
        version: of the job when the page was drawn; None skips the comparison.

    Raises:
        InputError: there is no such command, its arguments do not fit, or it refuses them.
        Forbidden, Stale: as :func:`_locked`.
    """
    declared(name)
    with transaction.atomic():
        job = _locked(job_id, user, version)
        before = document_of(job)
        arguments = _with_what_is_worked_on(job, user, before, name, arguments)
        outcome = carry_out(as_built(job, before), name, arguments, Shelf(job))
        after = outcome.document
        changes = {part: difference(before[part], after[part]) for part in after if before[part] != after[part]}
        if not changes:
            return Done(job.version, outcome.told, outcome.note, after)
        job.commands.filter(state=Command.UNDONE).delete()
        _store(job, user, before, after)
        made = {part: sorted(after[part].keys() - before[part].keys()) for part in WORKED_ON}
        for part, new in made.items():
            if new:
                work_on(job, user, **{WORKED_ON[part]: new[-1]})
        Command.objects.create(
            job=job,
            version=job.version,
            user=user,
            name=name,
            arguments=arguments,
            told=outcome.told[:MOST_TOLD],
            changes=changes,
        )
    return Done(job.version, outcome.told, outcome.note, after, next((new[-1] for new in made.values() if new), ""))


def _step(job_id, user, version, *, back):
    with transaction.atomic():
        job = _locked(job_id, user, version)
        wanted = Command.DONE if back else Command.UNDONE
        order = "-version" if back else "version"
        entry = job.commands.filter(state=wanted).order_by(order).first()
        if entry is None:
            raise InputError("There is nothing to undo." if back else "There is nothing to redo.")
        before = document_of(job)
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
