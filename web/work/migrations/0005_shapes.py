"""Finished shapes, shared by all workers. They can be built again, so that their table is not logged."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("jobs", "0006_documents"), ("work", "0004_vacuum")]

    operations = [
        migrations.CreateModel(
            name="Shape",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False)),
                ("key", models.CharField(max_length=64)),
                ("step", models.CharField(max_length=20)),
                ("data", models.BinaryField()),
                ("made", models.DateTimeField(auto_now_add=True)),
                (
                    "job",
                    models.ForeignKey(
                        db_constraint=False,
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="shapes",
                        to="jobs.job",
                    ),
                ),
            ],
            options={
                "constraints": [models.UniqueConstraint(fields=("job", "key"), name="one_shape_a_key")],
            },
        ),
        migrations.RunSQL(
            "ALTER TABLE work_shape SET UNLOGGED; ALTER TABLE work_shape ALTER COLUMN data SET STORAGE EXTERNAL; "
            "ALTER TABLE work_shape SET (autovacuum_vacuum_scale_factor = 0.05, autovacuum_vacuum_threshold = 100)",
            migrations.RunSQL.noop,
        ),
    ]
