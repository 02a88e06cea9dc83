"""Nodes by ids that last from study to study, where they were found by their number; forecasts as base and layers."""

import gzip
import json
import tomllib
from hashlib import blake2b

from django.db import migrations, models

_BATCH = 500


def node_id(trail, key_names, structure):
    where = {}
    for way, key in zip(trail, key_names):
        attributes, codes = structure.get(key, []), [step.get("code") or step["name"] for step in way]
        if len(codes) == len(attributes) + 2:
            where[key] = codes[-1]
        else:
            where.update(zip(attributes, codes[1:]))
    return json.dumps(dict(sorted(where.items())), ensure_ascii=False)


def fill(apps, schema_editor):
    Result, Node = apps.get_model("studies", "Result"), apps.get_model("studies", "Node")
    for result in Result.objects.select_related("study__load").iterator(chunk_size=1):
        structure = tomllib.loads(result.study.recipe_text).get("structure", {})
        nodes = list(Node.objects.filter(study=result.study).only("position", "trail").order_by("position"))
        for node in nodes:
            node.key = node_id(node.trail, result.study.load.key_names, structure)
            node.ref = blake2b(node.key.encode(), digest_size=8).hexdigest()
        for node in nodes:
            node.trail = [[{**step, "node": nodes[step["node"]].ref} for step in way] for way in node.trail]
        Node.objects.bulk_update(nodes, ["key", "ref", "trail"], batch_size=_BATCH)
        sheet = json.loads(gzip.decompress(bytes(result.sheet)))
        sheet["node"] = [nodes[i].ref for i in sheet["node"]]
        for levels in (result.levels, result.accuracy["levels"]):
            for level in levels:
                level["labels"] = level["name"].split(" × ")
        page = gzip.compress(json.dumps(sheet, separators=(",", ":")).encode(), 6)
        Result.objects.filter(pk=result.pk).update(sheet=page, levels=result.levels, accuracy=result.accuracy)


def sort_kept(apps, schema_editor):
    for kept in apps.get_model("studies", "KeptMethod").objects.filter(node__startswith="{"):
        kept.node = json.dumps(dict(sorted(json.loads(kept.node).items())), ensure_ascii=False)
        kept.save(update_fields=["node"])


class Migration(migrations.Migration):

    dependencies = [
        ("studies", "0006_tasks"),
    ]

    operations = [
        migrations.RenameField(model_name="node", old_name="forecast", new_name="layers"),
        migrations.AlterField(
            model_name="node",
            name="layers",
            field=models.BinaryField(help_text="Means that each of the result's layers left, [layers, H]."),
        ),
        migrations.RemoveField(model_name="result", name="forecasts"),
        migrations.AddField(
            model_name="result",
            name="layers",
            field=models.JSONField(
                default=["reconciliation"].copy,
                help_text="Names of the layers over the base of a forecast, one upon the other.",
            ),
            preserve_default=False,
        ),
        migrations.AlterField(
            model_name="keptmethod",
            name="node",
            field=models.CharField(blank=True, help_text="As `Graph.ids` has it.", max_length=400),
        ),
        migrations.AddField(
            model_name="node",
            name="key",
            field=models.CharField(default="", help_text="As `Graph.ids` has it.", max_length=1000),
            preserve_default=False,
        ),
        migrations.AddField(
            model_name="node",
            name="ref",
            field=models.CharField(default="", help_text="As `Graph.refs` has it, for addresses.", max_length=16),
            preserve_default=False,
        ),
        migrations.RunPython(fill, migrations.RunPython.noop),
        migrations.RunPython(sort_kept, migrations.RunPython.noop),
        migrations.AddConstraint(
            model_name="node",
            constraint=models.UniqueConstraint(fields=("study", "ref"), name="node_ref"),
        ),
    ]
