"""All choices of a run, in one readable TOML file."""

from __future__ import annotations

import tomllib
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import tomli_w

from tansy.engine.adjust.adjustment import Adjustment, read_adjustment
from tansy.engine.backtest.choice import MEASURES, ChoiceRule
from tansy.engine.cleaning.rules import Rules
from tansy.engine.entries import misfit
from tansy.engine.errors import AdjustmentError, PlanError, RecipeError, StructureError
from tansy.engine.graph.formula import parse as parse_formula
from tansy.engine.graph.pruning import FEATURES, PruningRule
from tansy.engine.methods.notation import parse
from tansy.engine.plans.kinds import Plan, read_plan
from tansy.engine.reading.options import ReadOptions
from tansy.engine.reconcile.methods import check as check_reconciliation
from tansy.engine.reconcile.methods import middle_of
from tansy.engine.study.kept import KeptMethod, read_kept

ERRORS = ("one-step", "backtest")
"""Of what reconciliation goes by: what fits miss at one step, or what the backtest has missed at each lead."""
MADE = ("calibrated", "paths", "normal")
"""How bands are made: calibrated node by node; read off joint paths; or of normal errors, see `joint_bands`."""
BEST = "best"
"""The reconciliation that a backtest shows to be best, see `reconciling`."""


@dataclass(frozen=True)
class Recipe:
    """What a study does. `data` is where the panel comes from when the study runs from files.

    structure: per key column, its levels from coarse to fine. formula: instead of it, levels that nest, cross or stand
    side by side, see `graph.formula`. edges: instead of both, the file that says which node or series lies below which
    parent; rows: the same drawn by hand, see `graph.by_hand`. pruning: which nodes are worth a forecast of their own;
    pruned_until: the last period that this is judged by, so that nodes do not come and go from month to month; empty
    for all of the history. methods: texts, in any
    order. origins, step, leads: of the backtest; the forecast is as long as the longest lead. anchor: a period that is
    an origin, so that origins stand still while history grows; without one the newest origin has a full window.
    fallback: methods that stand until others have shown to be better, the first that can be fitted; in_season: what
    stands before them where a series is sold in season only. choice: what that takes. reconciliation: one of
    `reconcile.methods.METHODS`, or BEST, by what the backtest shows. reconciliation_errors: one of ERRORS. time_levels:
    longer periods that nodes are forecast at too, see `graph.time_levels`, and that forecasts are made to fit.
    whole_units: round the forecast so that totals still add up. levels: of the bands, in percent; bands: one of MADE.
    ended_after: a series
    without a sale for so many periods is forecast as zero; 0 switches this off. cleaning: rules for suspicious values;
    they change nothing unless they say above which score. plans: what is known beyond history, see `engine.plans`.
    kept: methods that a planner has settled on. adjustments: what planners change in the forecast, in their order.
    """

    name: str
    structure: dict[str, list[str]]
    methods: tuple[str, ...]
    origins: int
    step: int
    leads: int
    anchor: str = ""
    fallback: tuple[str, ...] = ()
    in_season: str = ""
    choice: ChoiceRule = field(default_factory=ChoiceRule)
    reconciliation: str = "variance"
    reconciliation_errors: str = ERRORS[0]
    time_levels: tuple[str, ...] = ()
    nonnegative: bool = True
    whole_units: bool = False
    levels: tuple[float, ...] = (50.0, 80.0, 95.0)
    bands: str = MADE[0]
    ended_after: int = 0
    cleaning: Rules | None = None
    plans: tuple[Plan, ...] = ()
    kept: tuple[KeptMethod, ...] = ()
    adjustments: tuple[Adjustment, ...] = ()
    edges: str = ""
    formula: str = ""
    rows: tuple[tuple[str, ...], ...] = ()
    pruning: PruningRule | None = None
    pruned_until: str = ""
    data: ReadOptions | None = field(default=None, compare=False)

    def __post_init__(self) -> None:
        if not self.methods:
            raise RecipeError("The recipe names no method under [methods] candidates.")
        for text in (*self.methods, *self.stands):
            parse(text)
        for name, value in (("origins", self.origins), ("step", self.step), ("leads", self.leads)):
            if value < 1:
                raise RecipeError(f"[backtest] {name} must be a whole number of at least 1, not {value!r}.")
        if self.choice.measure not in MEASURES:
            raise RecipeError(f"[choice] measure is one of {', '.join(MEASURES)}, not {self.choice.measure!r}.")
        if not 0.0 <= self.choice.margin <= 10.0:
            raise RecipeError("[choice] margin is a number of standard errors from 0 to 10.")
        if not 0.0 <= self.choice.own < 1.0:
            raise RecipeError("[choice] own is a percentage from 0 to below 100.")
        if self.ended_after < 0:
            raise RecipeError("[methods] ended_after is a number of periods, or 0 for never.")
        if self.reconciliation == "none":
            raise RecipeError("[reconciliation] method: what is published adds up; choose bottom-up or another.")
        if self.reconciliation != BEST:
            check_reconciliation(self.reconciliation, "[reconciliation] method", BEST)
        if self.reconciliation_errors not in ERRORS:
            wrong = self.reconciliation_errors
            raise RecipeError(f"[reconciliation] errors is one of {', '.join(ERRORS)}, not {wrong!r}.")
        try:
            if self.formula:
                parse_formula(self.formula)
        except StructureError as error:
            raise RecipeError(f"[structure] formula: {error}") from None
        if self.whole_units and not self.nonnegative:
            raise RecipeError("[reconciliation] whole_units needs nonnegative = true: no unit can be less than none.")
        if not self.levels or not all(0 < level < 100 for level in self.levels):
            raise RecipeError("[intervals] levels are percentages between 0 and 100, such as [50, 80, 95].")
        if self.bands not in MADE:
            raise RecipeError(f"[intervals] made is one of {', '.join(MADE)}, not {self.bands!r}.")
        if self.bands != MADE[0] and (self.reconciliation == "top-down" or middle_of(self.reconciliation)):
            raise RecipeError(
                f"[intervals] made = {self.bands!r} needs a reconciliation that hears the errors of all nodes, and "
                f"{self.reconciliation} hears those of some; choose another one, or calibrated bands."
            )

    def _structure_entries(self) -> dict[str, Any]:
        if self.edges:
            return {"edges": self.edges}
        if self.rows:
            return {"rows": [list(row) for row in self.rows]}
        return {"formula": self.formula} if self.formula else {**self.structure}

    @property
    def stands(self) -> tuple[str, ...]:
        """All methods that stand anywhere before evidence."""
        return (*self.fallback, *((self.in_season,) if self.in_season else ()))

    def to_toml(self) -> str:
        document: dict[str, Any] = {"name": self.name}
        if self.data is not None:
            document["data"] = {k: v for k, v in asdict(self.data).items() if v not in (None, [], ())}
        document["structure"] = self._structure_entries()
        if self.pruning is not None:
            rule = self.pruning
            document["pruning"] = {**rule.limits, "share": 100.0 * rule.share, "by": rule.by, "lump": rule.lump}
            if self.pruned_until:
                document["pruning"]["until"] = self.pruned_until
        if self.plans:
            document["plans"] = [entries_of(plan) for plan in self.plans]
        if self.cleaning is not None:
            document["cleaning"] = self.cleaning.to_mapping()
        document["methods"] = {"candidates": list(self.methods), "ended_after": self.ended_after}
        if self.fallback:
            document["methods"]["fallback"] = list(self.fallback)
        if self.in_season:
            document["methods"]["in_season"] = self.in_season
        if self.kept:
            document["methods"]["kept"] = [entries_of(one) for one in self.kept]
        document["backtest"] = {"origins": self.origins, "step": self.step, "leads": self.leads}
        if self.anchor:
            document["backtest"]["anchor"] = self.anchor
        choice = self.choice
        document["choice"] = {"measure": choice.measure, "margin": choice.margin, "own": round(100.0 * choice.own, 9)}
        document["reconciliation"] = {
            "method": self.reconciliation,
            "errors": self.reconciliation_errors,
            **({"time": list(self.time_levels)} if self.time_levels else {}),
            "nonnegative": self.nonnegative,
            "whole_units": self.whole_units,
        }
        document["intervals"] = {"levels": list(self.levels), "made": self.bands}
        if self.adjustments:
            document["adjustments"] = [one.entries() for one in self.adjustments]
        return tomli_w.dumps(document)


def _pruning(entries: _Table) -> PruningRule:
    usual = PruningRule()
    try:
        return PruningRule(
            {name: float(entries[name]) for name in FEATURES if name in entries},
            float(entries.get("share", 100.0 * usual.share)) / 100.0,
            entries.get("by", usual.by),
            entries.get("lump", usual.lump),
        )
    except StructureError as error:
        raise RecipeError(f"[pruning] {error}") from None


def entries_of(plan: Plan | KeptMethod) -> dict[str, Any]:
    """As a recipe has it."""
    return {name: value for name, value in asdict(plan).items() if value not in (None, {}, (), "")}


_Table = dict[str, Any]
_DOCUMENT: dict[str, Any] = {
    "name": str, "structure": _Table, "pruning": _Table, "data": _Table, "cleaning": _Table,
    "plans": tuple[_Table, ...], "methods": _Table, "backtest": _Table, "choice": _Table, "reconciliation": _Table,
    "intervals": _Table, "adjustments": tuple[_Table, ...],
}  # fmt: skip
_SECTIONS: dict[str, _Table] = {
    "methods": {
        "candidates": tuple[str, ...],
        "fallback": tuple[str, ...],
        "in_season": str,
        "ended_after": int,
        "kept": tuple[_Table, ...],
    },
    "pruning": {
        **dict.fromkeys(FEATURES, float),
        "share": float,
        "by": str,
        "lump": bool,
        "until": str,
    },
    "backtest": {"origins": int, "step": int, "leads": int, "anchor": str},
    "choice": {"measure": str, "margin": float, "own": float},
    "reconciliation": {
        "method": str,
        "errors": str,
        "time": tuple[str, ...],
        "nonnegative": bool,
        "whole_units": bool,
    },
    "intervals": {"levels": tuple[float, ...], "made": str},
}


def read_recipe(text: str) -> Recipe:
    """Recipe from TOML. Raises RecipeError that names the section and the entry."""
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise RecipeError(f"The recipe is not valid TOML: {error}.") from None
    wrong = misfit(document, _DOCUMENT)
    if wrong:
        raise RecipeError(f"The recipe {wrong[1]}.")
    for section, entries in _SECTIONS.items():
        wrong = misfit(document.get(section, {}), entries)
        if wrong:
            raise RecipeError(f"[{section}] {wrong[1]}.")
    structure, edges, formula, rows = _structure(document.get("structure", {}))
    try:
        backtest = document["backtest"]
        reconciliation = document.get("reconciliation", {})
        return Recipe(
            name=document.get("name", "Study"),
            structure=structure,
            edges=edges,
            formula=formula,
            rows=rows,
            pruning=_pruning(document["pruning"]) if "pruning" in document else None,
            pruned_until=document.get("pruning", {}).get("until", ""),
            methods=tuple(document["methods"]["candidates"]),
            origins=backtest["origins"],
            step=backtest["step"],
            leads=backtest["leads"],
            anchor=backtest.get("anchor", ""),
            fallback=tuple(document["methods"].get("fallback", ())),
            in_season=document["methods"].get("in_season", ""),
            choice=_choice(document.get("choice", {})),
            reconciliation=reconciliation.get("method", "variance"),
            reconciliation_errors=reconciliation.get("errors", ERRORS[0]),
            time_levels=tuple(reconciliation.get("time", ())),
            nonnegative=reconciliation.get("nonnegative", True),
            whole_units=reconciliation.get("whole_units", False),
            levels=tuple(float(level) for level in document.get("intervals", {}).get("levels", (50.0, 80.0, 95.0))),
            bands=document.get("intervals", {}).get("made", MADE[0]),
            ended_after=document["methods"].get("ended_after", 0),
            cleaning=Rules.from_mapping(document["cleaning"]) if "cleaning" in document else None,
            kept=tuple(read_kept(entries) for entries in document["methods"].get("kept", ())),
            plans=tuple(_plan(number, entries) for number, entries in enumerate(document.get("plans", ()), 1)),
            adjustments=tuple(_adjustment(*one) for one in enumerate(document.get("adjustments", ()), 1)),
            data=ReadOptions.from_mapping(document["data"]) if "data" in document else None,
        )
    except KeyError as error:
        raise RecipeError(f"The recipe lacks the entry {error}.") from None


def _structure(section: _Table) -> tuple[dict[str, list[str]], str, str, tuple[tuple[str, ...], ...]]:
    """Levels by key column, or the name of the file of edges, or a formula, or rows by hand."""
    edges, formula, rows = (section.get(name) for name in ("edges", "formula", "rows"))
    if isinstance(edges, str):
        if len(section) > 1 or not edges:
            raise RecipeError("[structure] edges names a file, and stands there alone.")
        return {}, edges, "", ()
    if isinstance(formula, str):
        if len(section) > 1 or not formula:
            raise RecipeError("[structure] formula is a line of text, and stands there alone.")
        return {}, "", formula, ()
    if isinstance(rows, list) and all(isinstance(row, list) for row in rows):
        if len(section) > 1 or not rows or not all(2 <= len(row) <= 3 for row in rows):
            raise RecipeError("[structure] rows are a total and what lies below it, and stand there alone.")
        if not all(isinstance(part, str) for row in rows for part in row):
            raise RecipeError("[structure] rows are of text.")
        return {}, "", "", tuple(tuple(row) for row in rows)
    wrong = misfit({"structure": section}, {"structure": dict[str, tuple[str, ...]]})
    if wrong:
        raise RecipeError(f"The recipe {wrong[1]}.")
    return {key: list(levels) for key, levels in section.items()}, "", "", ()


def _choice(entries: _Table) -> ChoiceRule:
    usual = ChoiceRule()
    return ChoiceRule(
        entries.get("measure", usual.measure),
        float(entries.get("margin", usual.margin)),
        float(entries.get("own", 100.0 * usual.own)) / 100.0,
    )


def _plan(number: int, entries: dict[str, Any]) -> Plan:
    try:
        return read_plan(entries)
    except PlanError as error:
        raise RecipeError(f"[[plans]] number {number}, {error.field}: {error}") from None


def _adjustment(number: int, entries: dict[str, Any]) -> Adjustment:
    try:
        return read_adjustment(entries)
    except AdjustmentError as error:
        raise RecipeError(f"[[adjustments]] number {number}, {error.entry}: {error}") from None


def read_recipe_file(path: Path) -> Recipe:
    try:
        return read_recipe(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise RecipeError(f"{path}: {error.strerror}.") from None
    except UnicodeDecodeError:
        raise RecipeError(f"{path} is not a text file in UTF-8.") from None
