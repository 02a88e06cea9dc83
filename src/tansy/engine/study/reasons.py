"""Why each node has its method, as a planner reads it."""

from __future__ import annotations

import math

from tansy.engine.backtest.choice import Choices, Ground
from tansy.engine.graph.graph import Graph
from tansy.engine.methods.notation import parse
from tansy.engine.profile.kinds import Kinds

_MOST = 0.995  # "100 % lower" is not said of an error that is not zero


def reasons(choices: Choices, methods: tuple[str, ...], graph: Graph, kinds: Kinds) -> list[str]:
    """A sentence for each node; empty where it has no method."""
    short = [parse(text).brief for text in methods]
    of_kind = [
        "slow-moving " if slow else "in-season " if season else ""
        for slow, season in zip(kinds.slow.tolist(), kinds.in_season_only.tolist(), strict=True)
    ]
    on_level = [level.n_nodes for level in graph.levels]
    columns = (choices.method, choices.ground, choices.stood, choices.ahead, choices.doubt, choices.windows)
    found = []
    for i, (method, ground, stood, ahead, doubt, windows) in enumerate(
        zip(*(one.tolist() for one in columns), strict=True)
    ):
        n = int(choices.n_group[i])
        level = graph.levels[int(graph.level_of[i])].name
        kind = of_kind[i] if n < on_level[int(graph.level_of[i])] else ""
        group = f"the {n:,} {kind}nodes of {level}" if n > 1 else "this node"
        found.append(_sentence(method, Ground(ground), short[stood], group, ahead, doubt, windows))
    return found


def _sentence(method: int, ground: Ground, stood: str, group: str, ahead: float, doubt: float, windows: int) -> str:
    if method < 0:
        return ""
    tested = f"{windows} window{'' if windows == 1 else 's'}"
    if ground == Ground.UNTESTED:
        return "Too new to be tested at any origin: what the recipe takes until there is evidence."
    if ground == Ground.STANDS:
        return (
            f"The recipe's first choice. Over {group} and {tested}, no other method was better by more than chance "
            "explains."
        )
    percent = f"{100.0 * min(max(ahead, 0.0), _MOST):.0f} %"
    sure = f" (± {100.0 * doubt:.0f})" if math.isfinite(doubt) else ""
    if ground == Ground.OWN:
        return f"Better here than {stood}, which its group has: {percent}{sure} less error, judged by its own {tested}."
    if ground == Ground.GROUP:
        return f"Better than {stood} over {group}: {percent}{sure} less error in {tested}."
    return f"The least error over {group}, in {tested}; the recipe prefers no method."
