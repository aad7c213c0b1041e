"""Uploads know how they ended."""

from django.db import migrations, models


def tell_ended(apps, schema_editor):
    Upload = apps.get_model("library", "Upload")
    Upload.objects.exclude(asset=None).update(state="done")
    Upload.objects.filter(asset=None, offset=models.F("length")).update(state="complete")


class Migration(migrations.Migration):

    dependencies = [
        ("library", "0004_light_maps"),
    ]

    operations = [
        migrations.AddField(
            model_name="upload",
            name="problem",
            field=models.JSONField(default=dict, help_text="Code and message of why it could not be taken in"),
        ),
        migrations.AddField(
            model_name="upload",
            name="state",
            field=models.CharField(
                choices=[("arriving", "Arriving"), ("complete", "Complete"), ("done", "Done"), ("failed", "Failed")],
                default="arriving", max_length=10,
            ),
        ),
        migrations.RunPython(tell_ended, migrations.RunPython.noop),
    ]
