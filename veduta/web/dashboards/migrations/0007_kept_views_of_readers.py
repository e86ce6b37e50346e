import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('dashboards', '0006_seen_controls'),
    ]

    operations = [
        migrations.RenameModel(old_name='KeptView', new_name='LongState'),
        migrations.AlterField(
            model_name='longstate',
            name='dashboard',
            field=models.ForeignKey(
                on_delete=django.db.models.deletion.CASCADE, related_name='long_states', to='dashboards.dashboard'
            ),
        ),
    ]
