"""Finished videos outlive their shots: they know their own folder."""

import django.db.models.deletion
from django.db import migrations, models


def name_folders(apps, schema_editor):
    for one in apps.get_model("deliveries", "Delivery").objects.all():
        one.folder = str(one.job_id)
        one.save(update_fields=["folder"])


class Migration(migrations.Migration):

    dependencies = [
        ("deliveries", "0001_initial"),
        ("jobs", "0005_final_chunks"),
    ]

    operations = [
        migrations.AddField(
            model_name="delivery",
            name="folder",
            field=models.CharField(default="", help_text="Its folder's name in the store", max_length=64),
            preserve_default=False,
        ),
        migrations.RunPython(name_folders, migrations.RunPython.noop),
        migrations.AlterField(
            model_name="delivery",
            name="folder",
            field=models.CharField(help_text="Its folder's name in the store", max_length=64, unique=True),
        ),
        migrations.AlterField(
            model_name="delivery",
            name="job",
            field=models.OneToOneField(null=True, on_delete=django.db.models.deletion.SET_NULL, to="jobs.job"),
        ),
    ]
