import time
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('jobs', '0007_packs'),
    ]

    operations = [
        migrations.AddField(
            model_name='job',
            name='rank',
            field=models.FloatField(db_index=True, default=time.time),
        ),
    ]
