from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ("portfolios", "0006_numbered_periods"),
    ]

    operations = [
        migrations.AddField(
            model_name="load",
            name="edges",
            field=models.JSONField(
                help_text="Which node or series lies below which parent, where a file says so.", null=True
            ),
        ),
    ]
