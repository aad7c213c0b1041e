"""Outlines are followed by jobs of their own."""

from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ("jobs", "0005_final_chunks"),
    ]

    operations = [
        migrations.AlterField(
            model_name="job",
            name="kind",
            field=models.CharField(choices=[("conform", "Conform"), ("measure", "Measure"), ("deliver", "Deliver"), ("check", "Check"), ("mend", "Mend"), ("ahead", "Ahead"), ("lineup", "Lineup"), ("follow", "Follow")], max_length=12),
        ),
    ]
