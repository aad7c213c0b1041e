"""Finishing a job becomes a chunk of its own: open jobs and those that can be tried again get theirs."""

from django.db import migrations, models


def add_final(apps, schema_editor):
    Job, Chunk = apps.get_model("jobs", "Job"), apps.get_model("jobs", "Chunk")
    for job in Job.objects.exclude(state="done"):
        Chunk.objects.create(job=job, position=job.chunks.count(), final=True)


class Migration(migrations.Migration):

    dependencies = [
        ("jobs", "0004_layer_jobs"),
    ]

    operations = [
        migrations.AddField(
            model_name="chunk",
            name="final",
            field=models.BooleanField(default=False),
        ),
        migrations.RunPython(add_final, migrations.RunPython.noop),
    ]
