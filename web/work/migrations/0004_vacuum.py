"""Rows that are written anew with every edit, some of them large, are cleared soon after, so that their room is used
again and the database does not grow with the edits."""

from django.db import migrations

OFTEN = "autovacuum_vacuum_threshold = 40, autovacuum_vacuum_scale_factor = 0.0"
TOASTED = "toast.autovacuum_vacuum_threshold = 200, toast.autovacuum_vacuum_scale_factor = 0.0"
TABLES = ("work_task", "work_output", "jobs_document")


class Migration(migrations.Migration):
    dependencies = [("work", "0003_leases"), ("jobs", "0005_history")]

    operations = [
        migrations.RunSQL(f"ALTER TABLE {table} SET ({OFTEN}, {TOASTED})", migrations.RunSQL.noop) for table in TABLES
    ]
