"""Finished shapes in the database, so that any worker on any machine goes on from what another has built; and the files
that a job brings in.

Used within the pool's processes, over a connection of their own; without it work only takes longer.
"""

import logging
import time

import psycopg
from django.db import connection

from nomogon_core.errors import InputError

log = logging.getLogger(__name__)
MOST_OF_A_STEP = 3
PAUSE_S = 10.0
READ = "SELECT data FROM work_shape WHERE job_id = %s AND key = %s"
WRITE = (
    "INSERT INTO work_shape (job_id, key, step, data, made) VALUES (%s, %s, %s, %s, now()) "
    "ON CONFLICT (job_id, key) DO UPDATE SET made = now()"
)
LET_GO = (
    "DELETE FROM work_shape WHERE job_id = %(job)s AND step = %(step)s AND id NOT IN "
    "(SELECT id FROM work_shape WHERE job_id = %(job)s AND step = %(step)s ORDER BY made DESC, id DESC LIMIT %(most)s)"
)
SWEEP = (
    "DELETE FROM work_shape WHERE id IN (SELECT id FROM (SELECT id, sum(length(data)) OVER newest AS total "
    "FROM work_shape WINDOW newest AS (ORDER BY made DESC, id DESC)) AS summed WHERE total > %s)"
)
FILE = "SELECT data FROM jobs_blob JOIN jobs_holding ON blob_id = digest WHERE digest = %s AND job_id = %s"
MOST_BYTES = 2**30


def shared_by(job):
    """What a process of the pool needs to share the shapes of a job: (how to reach the database, the job's id)."""
    wanted = connection.get_connection_params()
    return {name: wanted[name] for name in ("host", "port", "dbname", "user", "password") if wanted.get(name)}, str(job)


def sweep():
    """Keep the newest shapes of all jobs within so many bytes."""
    with connection.cursor() as cursor:
        cursor.execute(SWEEP, [MOST_BYTES])


class Shapes:
    """The shapes of one job.

    Args:
        database, job: as :func:`shared_by` tells.
    """

    _connection, _lost_until = None, 0.0

    def __init__(self, database, job):
        self.database, self.job = database, job

    def get(self, key):
        """What was kept under a key, or None."""
        found = self._ask(READ, [self.job, key], True)
        return bytes(found[0]) if found else None

    def put(self, key, step, data):
        """Keep what came of a step, and of earlier results of the step the newest."""
        self._ask(WRITE, [self.job, key, step, data])
        self._ask(LET_GO, {"job": self.job, "step": step, "most": MOST_OF_A_STEP})

    def _ask(self, statement, values, rows=False):
        held = Shapes
        if time.monotonic() < held._lost_until:
            return None
        try:
            if held._connection is None or held._connection.closed:
                held._connection = psycopg.connect(**self.database, autocommit=True, connect_timeout=2)
            with held._connection.cursor(binary=True) as cursor:
                cursor.execute(statement, values)
                return cursor.fetchone() if rows else None
        except psycopg.Error as problem:
            log.warning("finished shapes are not shared for now: %s", problem)
            held._connection, held._lost_until = None, time.monotonic() + PAUSE_S
            return None


class Files:
    """The files of one job.

    Args:
        database, job: as :func:`shared_by` tells.
    """

    def __init__(self, database, job):
        self.database, self.job = database, job

    def blob(self, digest):
        """Bytes under a digest.

        Raises:
            InputError: the job has none. psycopg.Error: the database cannot be reached.
        """
        with psycopg.connect(**self.database, connect_timeout=5) as held, held.cursor(binary=True) as cursor:
            found = cursor.execute(FILE, [digest, self.job]).fetchone()
        if found is None:
            raise InputError("The file that this brings in is not in the job any more; choose it again.")
        return bytes(found[0])
