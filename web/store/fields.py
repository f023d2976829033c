"""Stored values of a kind of their own."""

import orjson
from django.db import models
from psycopg.types.json import Jsonb


class PlainField(models.JSONField):
    """Plain data as JSON, written and read several times as fast as by the standard library, since documents are large;
    it is read and written whole.

    What is no number becomes null here; the row of the log, which holds what changed, refuses it.
    """

    def get_db_prep_value(self, value, connection, prepared=False):
        return Jsonb(value, dumps=orjson.dumps)

    def from_db_value(self, value, expression, connection):
        return None if value is None else orjson.loads(value)
