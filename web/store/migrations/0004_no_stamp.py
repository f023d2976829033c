from django.db import migrations


class Migration(migrations.Migration):

    dependencies = [
        ("jobs", "0003_held"),
    ]

    operations = [
        migrations.RemoveField(
            model_name="job",
            name="released",
        ),
    ]
