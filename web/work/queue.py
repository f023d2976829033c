"""The queue in the database: tasks are claimed for a while, and what a worker left undone is taken up by another.

A claim skips the rows that others hold (``SKIP LOCKED``) and is a lease: a worker that dies stops to renew it.
Finishing names the holder and the attempt, so that a worker that slept through its lease cannot finish what another
has taken up.
"""

from django.db import connection, transaction
from django.db.models import F
from django.db.models.functions import Now
from django.utils import timezone

from work.models import Output, Task

LEASE_S, BEAT_S = 6, 2
MOST_ATTEMPTS = 3
ASKED, ENDED = "nomogon_asked", "nomogon_ended"
GIVEN_UP = (
    f"This was begun {MOST_ATTEMPTS} times and never ended, since the program that does it was stopped each time. "
    "Nothing was lost; make the shape simpler and try again."
)
CLAIM = """
UPDATE work_task SET status = 'running', holder = %(holder)s, attempt = attempt + 1,
    held_until = now() + make_interval(secs => %(lease)s)
WHERE id = (
    SELECT id FROM work_task
    WHERE status = 'waiting' OR (status = 'running' AND held_until < now() AND attempt < %(most)s)
    ORDER BY id FOR UPDATE SKIP LOCKED LIMIT 1
) RETURNING id
"""


def announce(channel, text=""):
    """Tell all who listen, once the transaction is through."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [channel, text])


def claim(holder):
    """The next task that nobody does, held for this worker; or None."""
    with connection.cursor() as cursor:
        cursor.execute(CLAIM, {"holder": holder, "lease": LEASE_S, "most": MOST_ATTEMPTS})
        found = cursor.fetchone()
    return Task.objects.get(pk=found[0]) if found else None


def beat(holder):
    """Renew all leases of a worker, and give up what was begun too often."""
    with connection.cursor() as cursor:
        cursor.execute(
            "UPDATE work_task SET held_until = now() + make_interval(secs => %s) "
            "WHERE status = 'running' AND holder = %s",
            [LEASE_S, holder],
        )
    lost = Task.objects.filter(status=Task.RUNNING, held_until__lt=Now(), attempt__gte=MOST_ATTEMPTS)
    for pk in list(lost.values_list("pk", flat=True)):
        if lost.filter(pk=pk).update(status=Task.FAILED, problem=GIVEN_UP, finished=timezone.now(), arguments={}):
            announce(ENDED, str(pk))


def give_back(holder):
    """Let others take up at once what this worker was doing."""
    held = Task.objects.filter(status=Task.RUNNING, holder=holder)
    if held.update(status=Task.WAITING, holder="", attempt=F("attempt") - 1):
        announce(ASKED)


def _held(task):
    """The row of a task, while this worker has it."""
    return Task.objects.filter(pk=task.pk, status=Task.RUNNING, holder=task.holder, attempt=task.attempt)


@transaction.atomic
def show(task, data, digest):
    """A first picture of what a task is still making, for those who wait for it."""
    if _held(task).update(digest=digest):
        Output.objects.update_or_create(task_id=task.pk, defaults={"data": data})


@transaction.atomic
def finish(task, data=None, **outcome):
    """Write down what came of a task, unless it was cancelled or another worker has it by now; whether it was."""
    if not _held(task).update(finished=timezone.now(), arguments={}, **outcome):
        return False
    if data is not None:
        Output.objects.update_or_create(task_id=task.pk, defaults={"data": data})
    announce(ENDED, str(task.pk))
    return True
