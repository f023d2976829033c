"""Tasks are claimed for a while from their own table, and hold what came of them; older ones, whose results can be
worked out again, go, and so does the queue that stood beside them."""

import django.db.models.deletion
from django.db import migrations, models

OPEN = ("waiting", "running")
OLDER_QUEUE = """
DO $$
DECLARE thing record;
BEGIN
  FOR thing IN SELECT format('DROP TABLE IF EXISTS %s CASCADE', oid::regclass) AS change FROM pg_class
      WHERE relname LIKE 'procrastinate\\_%' AND relkind = 'r' AND relnamespace = current_schema()::regnamespace
  LOOP EXECUTE thing.change; END LOOP;
  FOR thing IN SELECT format('DROP ROUTINE IF EXISTS %s CASCADE', oid::regprocedure) AS change FROM pg_proc
      WHERE proname LIKE 'procrastinate\\_%' AND pronamespace = current_schema()::regnamespace
  LOOP EXECUTE thing.change; END LOOP;
  FOR thing IN SELECT format('DROP TYPE IF EXISTS %s CASCADE', oid::regtype) AS change FROM pg_type
      WHERE typname LIKE 'procrastinate\\_%' AND typtype IN ('e', 'c') AND typnamespace = current_schema()::regnamespace
  LOOP EXECUTE thing.change; END LOOP;
  DELETE FROM django_migrations WHERE app = 'procrastinate';
END $$;
"""


class Migration(migrations.Migration):
    dependencies = [("jobs", "0003_held"), ("work", "0002_task_progress")]

    operations = [
        migrations.RunSQL("DELETE FROM work_task", migrations.RunSQL.noop),
        migrations.RunSQL(OLDER_QUEUE, migrations.RunSQL.noop),
        migrations.CreateModel(
            name="Output",
            fields=[
                (
                    "task",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.CASCADE,
                        primary_key=True,
                        serialize=False,
                        to="work.task",
                    ),
                ),
                ("data", models.BinaryField()),
            ],
        ),
        # Meshes do not pack well; packing them takes longer than storing them.
        migrations.RunSQL("ALTER TABLE work_output ALTER COLUMN data SET STORAGE EXTERNAL", migrations.RunSQL.noop),
        migrations.RemoveField("task", "blob"),
        migrations.AddField("task", "attempt", models.PositiveSmallIntegerField(default=0)),
        migrations.AddField("task", "digest", models.CharField(blank=True, max_length=64)),
        migrations.AddField("task", "held_until", models.DateTimeField(null=True)),
        migrations.AddField("task", "holder", models.CharField(blank=True, max_length=80)),
        migrations.AddIndex(
            "task", models.Index(condition=models.Q(("status__in", OPEN)), fields=["status"], name="open_tasks")
        ),
        migrations.AddConstraint(
            "task",
            models.UniqueConstraint(
                condition=models.Q(("status__in", (*OPEN, "done"))),
                fields=("job", "kind", "key"),
                name="one_task_a_key",
            ),
        ),
    ]
