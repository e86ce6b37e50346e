from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("datasets", "0005_held_by_workers")]

    operations = [migrations.RenameField("upload", "places", "positions")]
