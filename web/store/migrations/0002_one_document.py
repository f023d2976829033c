"""Documents of version 1 (reference, sketch, build) become the parts of one document of version 2."""

import hashlib

from django.db import migrations, models

from nomogon_core.job.document import PARTS
from nomogon_core.job.files import whole_version_1
from nomogon_core.job.migration import from_version_1


def convert(apps, schema_editor):
    Blob, Document, Job, Member = (apps.get_model("jobs", name) for name in ("Blob", "Document", "Job", "Member"))

    def keep(data):
        digest = hashlib.sha256(data).hexdigest()
        Blob.objects.get_or_create(
            digest=digest, defaults={"media_type": "application/octet-stream", "data": data}
        )
        return digest

    for job in Job.objects.iterator():
        parts = {part.name: part.data for part in Document.objects.filter(job=job)}
        if set(parts) & set(PARTS):
            continue
        whole = whole_version_1(parts, job.title)
        document = from_version_1(whole, keep)
        Document.objects.filter(job=job).delete()
        Document.objects.bulk_create(Document(job=job, name=name, data=data) for name, data in document.items())
        active = whole["reference"].get("active")
        if active:
            Member.objects.filter(job=job).update(working={"picture": active})
    apps.get_model("jobs", "Command").objects.update(state="old")


class Migration(migrations.Migration):
    dependencies = [("jobs", "0001_initial")]

    operations = [
        migrations.AddField("member", "working", models.JSONField(default=dict)),
        migrations.RunPython(convert, migrations.RunPython.noop, elidable=False),
    ]
