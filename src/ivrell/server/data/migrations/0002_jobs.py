from django.db import migrations, models

from ivrell.server.jobs import taken_over

FIELDS = ["state", "message", "created_at", "stop_asked", "finished_at", "progress"]


def give_jobs(apps, schema_editor):
    taken_over.give_jobs(apps, "data", "Making", FIELDS)


class Migration(migrations.Migration):
    # Postgres alters no table that has triggers of this transaction pending.
    atomic = False

    dependencies = [
        ("jobs", "0001_initial"),
        ("data", "0001_initial"),
    ]

    operations = [
        migrations.AddField("making", "job", models.OneToOneField(null=True, **taken_over.FIELD)),
        migrations.RunPython(give_jobs, migrations.RunPython.noop, atomic=True),
        migrations.AlterField("making", "job", models.OneToOneField(**taken_over.FIELD)),
        *(migrations.RemoveField("making", field) for field in FIELDS),
    ]
