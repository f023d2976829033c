"""One way to change a job: a command of the core, in one transaction, that can be undone."""

import attrs
from django.db import transaction

from nomogon_core.errors import CoreError, InputError
from nomogon_core.job.commands import carry_out, declared
from nomogon_core.job.history import changed, changes_of, go_together, taken_back
from store.documents import Shelf, as_built, document_of, keep_document, keep_in_memory
from store.models import Command, Job, Member
from store.refusals import Forbidden, Stale
from store.working import here_of, work_on

MOST_TOLD, MOST_HAPPENED = 300, 3
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


def _locked(job_id, user):
    """The job, locked for this transaction.

    Raises:
        Forbidden: the user may not change it.
    """
    job = Job.objects.select_for_update().get(pk=job_id)
    if role_of(job, user) not in (Member.OWNER, Member.EDITOR):
        raise Forbidden("You may look at this job but not change it; ask its owner to make you an editor.")
    return job


def happened_since(job, version):
    """What was done to a job after a version, the latest first: a sentence each."""
    entries = job.commands.filter(version__gt=version).select_related("user").order_by("-version")[:MOST_HAPPENED]
    return [f"{entry.told} ({entry.user or 'somebody'})" for entry in entries]


def _stale(job, version):
    return Stale(job.version, happened_since(job, version))


def _store(job, user, before, after):
    keep_document(job, before, after)
    job.version += 1
    job.changed_by = user
    job.save(update_fields=["version", "changed", "changed_by"])
    transaction.on_commit(lambda: keep_in_memory(job, after))


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

    One from a page that shows an older version is carried out if it changes exactly what it would have changed there,
    so that what two people do to different things goes together.

    Args:
        version: of the job when the page was drawn; None skips the comparison.

    Raises:
        InputError: there is no such command, its arguments do not fit, or it refuses them.
        Forbidden: the user may not change the job.
        Stale: what it would change has been changed since.
    """
    declared(name)
    with transaction.atomic():
        job = _locked(job_id, user)
        before = document_of(job)
        arguments = _with_what_is_worked_on(job, user, before, name, arguments)
        late = version is not None and version != job.version
        then = document_at(job, version, before) if late else None
        try:
            outcome = carry_out(as_built(job, before), name, arguments, Shelf(job))
        except CoreError:
            if late:
                raise _stale(job, version) from None
            raise
        after = outcome.document
        changes = changes_of(before, after)
        if late and not _goes_together(job, then, name, arguments, before, changes):
            raise _stale(job, version)
        if not changes:
            return Done(job.version, outcome.told, outcome.note, after)
        note = outcome.note
        if late:
            note = f"{note} Meanwhile: {'; '.join(happened_since(job, version))}.".strip()
        job.commands.filter(state=Command.UNDONE).update(state=Command.GONE)
        _keep(job, user, before, after, name, arguments, outcome.told, changes)
        made = {part: sorted(after[part].keys() - before[part].keys()) for part in WORKED_ON}
        for part, new in made.items():
            # A command that works in a sketch or on a picture leaves it open.
            if new and WORKED_ON[part] not in declared(name).optional:
                work_on(job, user, **{WORKED_ON[part]: new[-1]})
    return Done(job.version, outcome.told, note, after, next((new[-1] for new in made.values() if new), ""))


def _keep(job, user, before, after, name, arguments, told, changes, state=Command.DONE):
    """Store a document and a row of the log that tells how it came about."""
    _store(job, user, before, after)
    Command.objects.create(
        job=job,
        version=job.version,
        user=user,
        name=name,
        arguments=arguments,
        told=told[:MOST_TOLD],
        changes=changes,
        state=state,
    )


def document_at(job, version, now=None):
    """The document as it was at a version of a job.

    Raises:
        InputError: there is no such version, or it is of an earlier form of the document.
    """
    document = now or document_of(job)
    entries = list(job.commands.filter(version__gt=version).order_by("-version"))
    if not 0 <= version <= job.version or any(entry.state == Command.OLD for entry in entries):
        raise InputError(f"Version {version} of this job cannot be had any more.")
    for entry in entries:
        document = changed(document, taken_back(entry.changes))
    return document


def _goes_together(job, then, name, arguments, before, changes):
    """Whether a command changes now what it would have changed then."""
    try:
        outcome = carry_out(as_built(job, then), name, arguments, Shelf(job))
    except CoreError:
        return False
    return go_together(then, changes_of(then, outcome.document), before, changes)


def go_back(job_id, user, version, to):
    """Make a job what it was at a version, as a change of its own that can be undone.

    Raises:
        InputError: there is no such version.
        Forbidden, Stale: as :func:`perform`.
    """
    with transaction.atomic():
        job = _locked(job_id, user)
        if version != job.version:
            raise _stale(job, version)
        before = document_of(job)
        # Ids go on from where they are, so that none ever names two things.
        after = document_at(job, to, before) | {"next_number": before["next_number"]}
        changes = changes_of(before, after)
        told = f"Back to version {to}"
        if changes:
            job.commands.filter(state=Command.UNDONE).update(state=Command.GONE)
            _keep(job, user, before, after, "job.back", {"to": to}, told, changes)
    return Done(job.version, told, "", after)


def _step(job_id, user, version, *, back):
    with transaction.atomic():
        job = _locked(job_id, user)
        if version is not None and version != job.version:
            raise _stale(job, version)
        wanted = Command.DONE if back else Command.UNDONE
        order = "-version" if back else "version"
        entry = job.commands.filter(state=wanted).order_by(order).first()
        if entry is None:
            raise InputError("There is nothing to undo." if back else "There is nothing to redo.")
        before = document_of(job)
        changes = taken_back(entry.changes) if back else entry.changes
        after = changed(before, changes)
        entry.state = Command.UNDONE if back else Command.DONE
        entry.save(update_fields=["state"])
        told = f"{'Undone' if back else 'Done again'}: {entry.told}"
        name = "job.undo" if back else "job.redo"
        _keep(job, user, before, after, name, {"of": entry.version}, told, changes, Command.STEP)
    return Done(job.version, entry.told, told, after)


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
