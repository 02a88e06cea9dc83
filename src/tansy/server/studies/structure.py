"""What the Structure screen tells of a study before anything is asked of it; kept with the result."""

from __future__ import annotations

from typing import Any

from tansy.engine.graph.by_hand import values_of
from tansy.engine.graph.pruning import PruningRule
from tansy.engine.graph.time_levels import LEVELS
from tansy.engine.study.prepared import Prepared
from tansy.engine.study.structures import formula_of, levels_held


def structure_json(prepared: Prepared) -> dict[str, Any]:
    panel, recipe, pruned = prepared.planned.panel, prepared.recipe, prepared.pruned
    attributes = [name for key in panel.key_names for name in panel.attributes.get(key, {}) if name != "name"]
    return {
        "formula": formula_of(prepared),
        "edges": panel.edges.name if panel.edges else "",
        "rows": [dict(zip(("total", "below", "level"), row, strict=False)) for row in recipe.rows],
        "values": values_of(panel),
        "pruning": _pruning(recipe.pruning),
        "pruned_until": recipe.pruned_until,
        "names": [*panel.key_names, *dict.fromkeys(attributes)],
        "levels": [
            {
                "name": level.name,
                "labels": list(level.labels),
                "n_nodes": level.n_nodes,
                "volume": round(level.volume, 2),
                "above": level.above,
            }
            for level in levels_held(prepared)
        ],
        "top": prepared.graph.refs[0],
        "time_levels": [
            {"name": one.name, "periods": one.periods, "used": one in prepared.time_levels}
            for one in LEVELS.get(panel.timeline.frequency, ())
            if one.periods <= recipe.leads
        ],
        "n_shared": int((~pruned.own).sum()) if pruned else 0,
        "n_longer": int((pruned.own & (pruned.finest > 0)).sum()) if pruned else 0,
    }


def _pruning(rule: PruningRule | None) -> dict[str, Any] | None:
    if rule is None:
        return None
    limits = [{"feature": name, "limit": limit} for name, limit in rule.limits.items()]
    return {"limits": limits, "share": 100.0 * rule.share, "by": rule.by, "lump": rule.lump}
