from django.conf import settings
from django.db import migrations, models


def related_to_user(name):
    return models.ForeignKey(on_delete=models.deletion.CASCADE, related_name=name, to=settings.AUTH_USER_MODEL)


def related_to_dashboard(name):
    return models.ForeignKey(on_delete=models.deletion.CASCADE, related_name=name, to="dashboards.dashboard")


class Migration(migrations.Migration):
    """Models are called what they hold; their rows stay."""

    dependencies = [("dashboards", "0001_squashed")]

    operations = [
        migrations.AlterModelTable("keptview", None),
        migrations.RenameModel("KeptView", "SavedView"),
        migrations.RenameModel("Looked", "SeenFigures"),
        migrations.RenameModel("Seen", "LastVisit"),
        migrations.AlterField("savedview", "dashboard", related_to_dashboard("saved_views")),
        migrations.AlterField("savedview", "owner", related_to_user("saved_views")),
        migrations.AlterField("seenfigures", "dashboard", related_to_dashboard("seen_figures")),
        migrations.AlterField("seenfigures", "user", related_to_user("seen_figures")),
        migrations.AlterField("lastvisit", "dashboard", related_to_dashboard("last_visits")),
        migrations.AlterField("lastvisit", "user", related_to_user("last_visits")),
    ]
