"""Keys of series as JSON lists instead of texts joined by " × ", which could belong to two series."""

import json

from django.db import migrations, models


def as_lists(apps, schema_editor):
    models_with_keys = [apps.get_model("portfolios", name) for name in ("Correction", "Dismissal", "MovedSeries")]
    for portfolio in apps.get_model("portfolios", "Portfolio").objects.all():
        rows = [(model, row) for model in models_with_keys for row in model.objects.filter(portfolio=portfolio)]
        if not rows:
            continue
        series = apps.get_model("portfolios", "Series").objects.filter(load__portfolio=portfolio)
        written = {" × ".join(keys): json.dumps(keys, ensure_ascii=False, separators=(",", ":"))
                   for keys in series.order_by("load_id").values_list("keys", flat=True)}
        for model, row in rows:
            if row.key in written:
                model.objects.filter(pk=row.pk).update(key=written[row.key])
            elif not row.key.startswith("["):
                parts = row.key.split(" × ")
                model.objects.filter(pk=row.pk).update(key=json.dumps(parts, ensure_ascii=False, separators=(",", ":")))


class Migration(migrations.Migration):

    dependencies = [
        ('portfolios', '0004_whole_units'),
    ]

    operations = [
        migrations.RunPython(as_lists, migrations.RunPython.noop),
        migrations.AlterField(
            model_name='correction',
            name='key',
            field=models.CharField(help_text='Key values of the series, as `panels.key_id` writes them.', max_length=300),
        ),
        migrations.AlterField(
            model_name='series',
            name='drivers',
            field=models.BinaryField(default=b'', help_text='float64 [drivers, periods and those ahead]; float32 in loads of earlier versions.'),
        ),
    ]
