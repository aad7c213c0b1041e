from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("shots", "0004_turn")]

    operations = [migrations.RenameField(model_name="shot", old_name="turn", new_name="version")]
