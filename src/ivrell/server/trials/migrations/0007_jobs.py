from django.db import migrations, models

from ivrell.server.jobs import taken_over

SHARED = ["state", "message", "created_at"]
OF_TRIALS = [*SHARED, "stop_asked", "started_at", "finished_at"]
OF_TRIES = [*SHARED, "now"]


def give_jobs(apps, schema_editor):
    taken_over.give_jobs(apps, "trials", "Trial", OF_TRIALS)
    taken_over.give_jobs(apps, "trials", "Try", OF_TRIES)


class Migration(migrations.Migration):
    # Postgres alters no table that has triggers of this transaction pending.
    atomic = False

    dependencies = [
        ("jobs", "0001_initial"),
        ("trials", "0006_try_now"),
    ]

    operations = [
        migrations.AddField("trial", "job", models.OneToOneField(null=True, **taken_over.FIELD)),
        migrations.AddField("try", "job", models.OneToOneField(null=True, **taken_over.FIELD)),
        migrations.RunPython(give_jobs, migrations.RunPython.noop, atomic=True),
        migrations.AlterField("trial", "job", models.OneToOneField(**taken_over.FIELD)),
        migrations.AlterField("try", "job", models.OneToOneField(**taken_over.FIELD)),
        *(migrations.RemoveField("trial", field) for field in OF_TRIALS),
        *(migrations.RemoveField("try", field) for field in OF_TRIES),
    ]
