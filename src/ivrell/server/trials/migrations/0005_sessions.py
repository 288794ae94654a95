from django.db import migrations, models


def from_machine(apps, schema_editor):
    """A trial had one machine for all its sessions."""
    trials = apps.get_model("trials", "Trial")
    for trial in trials.objects.exclude(machine={}).iterator():
        trial.sessions = [{"number": 1, "plan": trial.plan, "machine": trial.machine}]
        trial.save(update_fields=["sessions"])


class Migration(migrations.Migration):
    dependencies = [
        ("trials", "0004_reply"),
    ]

    operations = [
        migrations.AddField("trial", "sessions", models.JSONField(default=list)),
        migrations.RunPython(from_machine, migrations.RunPython.noop),
        migrations.RemoveField("trial", "machine"),
    ]
