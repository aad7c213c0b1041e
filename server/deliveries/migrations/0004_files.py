import django.db.models.deletion
from django.db import migrations, models


def told_by_endings(apps, _schema):
    """MOV files were always ProRes 4444."""
    apps.get_model("deliveries", "Delivery").objects.filter(ending=".mov").update(kind="prores4444")


class Migration(migrations.Migration):

    dependencies = [
        ('deliveries', '0003_ending'),
        ('jobs', '0006_follow_jobs'),
        ('shots', '0005_version'),
    ]

    operations = [
        migrations.CreateModel(
            name='SavedFiles',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('name', models.CharField(max_length=80, unique=True)),
                ('outputs', models.JSONField()),
                ('created', models.DateTimeField(auto_now_add=True)),
            ],
            options={
                'ordering': ['name'],
            },
        ),
        migrations.AddField(
            model_name='delivery',
            name='kind',
            field=models.CharField(default='h264', help_text='What kind of file it is', max_length=24),
        ),
        migrations.AddField(
            model_name='delivery',
            name='stem',
            field=models.CharField(default='finished', help_text="Of the finished file's name there", max_length=40),
        ),
        migrations.AlterField(
            model_name='delivery',
            name='folder',
            field=models.CharField(help_text="Its folder's name in the store; all that came of one job share it", max_length=64),
        ),
        migrations.AlterField(
            model_name='delivery',
            name='job',
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, to='jobs.job'),
        ),
        migrations.AddConstraint(
            model_name='delivery',
            constraint=models.UniqueConstraint(fields=('folder', 'stem'), name='one_delivery_per_file'),
        ),
        migrations.RunPython(told_by_endings, migrations.RunPython.noop),
    ]
