from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("trials", "0005_sessions"),
    ]

    operations = [
        migrations.AddField("try", "now", models.BooleanField(default=False)),
    ]
