from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('jobs', '0006_follow_jobs'),
    ]

    operations = [
        migrations.AlterField(
            model_name='job',
            name='kind',
            field=models.CharField(choices=[('conform', 'Conform'), ('measure', 'Measure'), ('deliver', 'Deliver'), ('check', 'Check'), ('mend', 'Mend'), ('ahead', 'Ahead'), ('lineup', 'Lineup'), ('follow', 'Follow'), ('pack', 'Pack'), ('unpack', 'Unpack')], max_length=12),
        ),
    ]
