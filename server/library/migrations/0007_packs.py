from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('library', '0006_sounds'),
    ]

    operations = [
        migrations.AddField(
            model_name='upload',
            name='job',
            field=models.UUIDField(help_text='What goes on with it, where that is not an asset', null=True),
        ),
        migrations.AddField(
            model_name='upload',
            name='project',
            field=models.UUIDField(help_text='Where the shots of a pack are to go; none: to one of their own', null=True),
        ),
    ]
