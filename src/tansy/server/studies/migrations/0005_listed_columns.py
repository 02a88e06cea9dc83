"""What lists of studies show, as columns of their own; nodes of kept methods by key and attributes."""

import json

from django.db import migrations, models


def fill(apps, schema_editor):
    Result = apps.get_model("studies", "Result")
    for pk, summary, accuracy in Result.objects.values_list("pk", "summary", "accuracy").iterator():
        published = summary["published"]["finest"]
        levels = [{"name": one["name"], "n_nodes": one["n_nodes"]} for one in accuracy["levels"]]
        for one in ("cells", "shared"):  # studies made before these were counted for each method
            accuracy.setdefault(one, [[level.get("cells", 0)] * len(accuracy["methods"]) for level in accuracy["levels"]])
        at = accuracy["measures"].index("bias")
        for tables in (accuracy["by_method"], accuracy["by_reconciliation"]):
            _turn(tables, at)
        Result.objects.filter(pk=pk).update(
            levels=levels, rmsse=published["RMSSE"], gain=published["gain"], accuracy={**accuracy, "levels": levels}
        )


def _turn(values, at):
    """Bias was forecast minus actual, and is actual minus forecast."""
    for one in values:
        if isinstance(one[0], list):
            _turn(one, at)
        elif one[at] is not None:
            one[at] = 0.0 - one[at]


def name_nodes(apps, schema_editor):
    """"group × store: Herbs × S1" -> {"group": "Herbs", "store": "S1"}, with the attributes above a group before it."""
    for kept in apps.get_model("studies", "KeptMethod").objects.exclude(node="").exclude(node__startswith="{"):
        load = kept.portfolio.loads.order_by("-id").first()
        level, _, codes = kept.node.partition(": ")
        names, values = level.split(" × "), codes.split(" × ")
        if load is None or len(names) != len(values) or len(names) != len(load.key_names):
            continue
        where = {}
        for key, name, value in zip(load.key_names, names, values):
            if name == key:
                where[key] = value
            elif name in load.levels.get(key, []):
                above = load.levels[key][: load.levels[key].index(name)]
                tables = load.attributes.get(key, {})
                member = next((code for code, of in tables.get(name, {}).items() if of == value), None)
                where |= {one: tables.get(one, {}).get(member, "") for one in above}
                where[name] = value
        kept.node = json.dumps(where, ensure_ascii=False)
        kept.save(update_fields=["node"])


class Migration(migrations.Migration):

    dependencies = [
        ('studies', '0004_kept_methods'),
    ]

    operations = [
        migrations.AddField(
            model_name='result',
            name='gain',
            field=models.FloatField(help_text='Over the seasonal naive, in percent.', null=True),
        ),
        migrations.AddField(
            model_name='result',
            name='levels',
            field=models.JSONField(default=list, help_text='Name and number of nodes of each level, and of all.'),
        ),
        migrations.AddField(
            model_name='result',
            name='rmsse',
            field=models.FloatField(help_text='Of what is published, over the series.', null=True),
        ),
        migrations.AlterField(
            model_name='keptmethod',
            name='node',
            field=models.CharField(blank=True, help_text='As `Structure.node_key` names it.', max_length=400),
        ),
        migrations.RunPython(fill, migrations.RunPython.noop),
        migrations.RunPython(name_nodes, migrations.RunPython.noop),
    ]
