"""A chart had a name beside its title; what it is called in lists is its title now."""

from django.db import migrations


def take_titles(apps, schema_editor):
    for kind in ("Chart", "Draft", "Revision"):
        for each in apps.get_model("charts", kind).objects.exclude(name=""):
            title = each.definition.get("title") or each.name
            each.name, each.definition = title, each.definition | {"title": title}
            each.save(update_fields=["name", "definition"])


class Migration(migrations.Migration):
    dependencies = [("charts", "0001_initial")]

    operations = [migrations.RunPython(take_titles, migrations.RunPython.noop)]
