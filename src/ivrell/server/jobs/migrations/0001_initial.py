import django.utils.timezone
from django.db import migrations, models

from ivrell.server.jobs.states import State


class Migration(migrations.Migration):
    initial = True

    dependencies = []

    operations = [
        migrations.CreateModel(
            name="Job",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("kind", models.CharField(max_length=20)),
                ("asked", models.JSONField(default=dict)),
                (
                    "state",
                    models.CharField(choices=State.choices, default=State.WAITING, max_length=10),
                ),
                ("priority", models.IntegerField(default=0)),
                ("not_before", models.DateTimeField(null=True)),
                ("now", models.BooleanField(default=False)),
                ("stop_asked", models.BooleanField(default=False)),
                ("pause_asked", models.BooleanField(default=False)),
                ("progress", models.JSONField(null=True)),
                ("message", models.JSONField(null=True)),
                ("queued", models.BigIntegerField(null=True)),
                ("created_at", models.DateTimeField(default=django.utils.timezone.now)),
                ("started_at", models.DateTimeField(null=True)),
                ("finished_at", models.DateTimeField(null=True)),
            ],
            options={"ordering": ["-id"]},
        ),
    ]
