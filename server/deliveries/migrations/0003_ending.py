from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("deliveries", "0002_own_folder")]

    operations = [
        migrations.AddField(
            model_name="delivery",
            name="ending",
            field=models.CharField(default=".mp4", help_text="Of the finished file's name", max_length=8),
        ),
    ]
