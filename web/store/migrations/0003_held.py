"""Each job holds the blobs that it needs, also those that only its history names; what no job holds can be cleared."""

import json
import re

import django.db.models.deletion
import django.utils.timezone
from django.db import migrations, models

DIGEST = re.compile(r"\b[0-9a-f]{64}\b")


def hold(apps, schema_editor):
    Blob, Command, Document, Holding, Job = (
        apps.get_model("jobs", name) for name in ("Blob", "Command", "Document", "Holding", "Job")
    )
    for job in Job.objects.iterator():
        named = set()
        for data in Document.objects.filter(job=job).values_list("data", flat=True).iterator():
            named |= set(DIGEST.findall(json.dumps(data)))
        for entry in Command.objects.filter(job=job).values_list("changes", "arguments").iterator():
            named |= set(DIGEST.findall(json.dumps(entry)))
        held = Blob.objects.filter(pk__in=named).values_list("pk", flat=True)
        Holding.objects.bulk_create(Holding(job=job, blob_id=digest) for digest in held)


class Migration(migrations.Migration):
    dependencies = [("jobs", "0002_one_document")]

    operations = [
        migrations.AddField("blob", "kept", models.DateTimeField(default=django.utils.timezone.now)),
        migrations.CreateModel(
            name="Holding",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                (
                    "blob",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="holdings", to="jobs.blob"
                    ),
                ),
                (
                    "job",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="holdings", to="jobs.job"
                    ),
                ),
            ],
            options={
                "constraints": [models.UniqueConstraint(fields=("job", "blob"), name="one_holding_a_blob")],
            },
        ),
        migrations.RunPython(hold, migrations.RunPython.noop, elidable=False),
    ]
