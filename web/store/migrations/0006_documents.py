"""Documents are packed by the faster of the database's two ways."""

from django.db import migrations

import store.fields


class Migration(migrations.Migration):
    dependencies = [("jobs", "0005_history")]
    operations = [
        migrations.AlterField("document", "data", store.fields.PlainField(default=dict)),
        migrations.RunSQL(
            "ALTER TABLE jobs_document ALTER COLUMN data SET COMPRESSION lz4",
            "ALTER TABLE jobs_document ALTER COLUMN data SET COMPRESSION default",
        ),
    ]
