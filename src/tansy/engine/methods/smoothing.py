"""Exponential smoothing, ets(E,T,S) and ets(best): its text, its words, and what a planner may change."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import Any

from tansy.engine.methods import fields, smoothing_fit
from tansy.engine.methods.fits import Batch, Fits
from tansy.engine.methods.form import Field, Form, Surroundings
from tansy.engine.methods.method_text import SHARES, Written
from tansy.engine.methods.smoothing_fit import RESTRICTIONS

TUNE_BY = ("MSE", "MAE", "MAPE")
STARTS = ("first", "season")
SPREAD_WORDS = ("resampled", "add-bias")

_ERRORS = {"A": "A, of one size", "M": "M, in proportion"}
_TRENDS = {"N": "N, none", "A": "A, goes on", "Ad": "Ad, dies away"}
_SEASONS = {"N": "N, none", "A": "A, added", "M": "M, multiplies"}
_OUTSIDE = {
    "": "none", "harmonics(best)": "harmonics, number by AICc", "harmonics(2)": "2 harmonics",
    "harmonics(3)": "3 harmonics", "shared-season": "shared with its group",
}  # fmt: skip
_LABELS = {"alpha": "level weight α", "beta": "trend weight β", "gamma": "season weight γ", "phi": "damping φ"}
_TUNED = {"": "likeliest", **{measure: f"least {measure}" for measure in TUNE_BY}}
_TREND_WORDS = {"N": [], "A": ["a trend that goes on"], "Ad": ["a trend that dies away"]}
_SEASON_WORDS = {"N": [], "A": ["a season that is added"], "M": ["a season that multiplies"]}


@dataclass(frozen=True)
class Smoothing(Form):
    family: str = "ets"

    names = ("ets",)
    examples = ("ets(E,T,S)", "ets(best)")
    menu = (("ets(A,N,N)", "smoothing"), ("ets(best)", "smoothing, best by AICc"))
    terms = ("harmonics", "shared-season", "pooled")
    chooses_pairs = True

    @classmethod
    def read(cls, written: Written) -> Smoothing:
        options, around, transformed = written.options, written.around, written.transformed
        if written.entries == ["best"]:
            words = options.take_words(RESTRICTIONS if transformed else (*RESTRICTIONS, *SPREAD_WORDS))
            if "no-trend" in words and "damped-trend" in words:
                raise written.wrong("no-trend and damped-trend exclude each other.")
            options.take_numbers(())
            return cls(words=words, **around)
        error, trend, season = cls._letters(written)
        outside = bool(around["harmonics"]) or around["shared_season"]
        words = options.take_words(SPREAD_WORDS)
        choices = {**options.take_choice("start", STARTS), **options.take_choice("tune", TUNE_BY)}
        if choices and outside:
            raise written.wrong("start and tune are of the recursion done by hand; leave the term after + out.")
        known = [*cls._weights(trend, season), "level", *(["trend"] if trend != "N" else [])]
        given = options.take_numbers((*known, *(["season"] if season != "N" else [])))
        if "start" in choices and any(name not in SHARES for name in given):
            raise written.wrong("start takes the first states from the data; give either it or the states.")
        if choices.get("start") == "season" and season == "N":
            raise written.wrong("start=season needs a form with a season; use start=first.")
        if "tune" in choices and "start" not in choices:
            choices = {"start": "season" if season != "N" else "first", **choices}
        return cls(letters=(error, trend, season), given=given, words=words, choices=choices, **around)

    @classmethod
    def _letters(cls, written: Written) -> tuple[str, str, str]:
        entries, around = written.entries, written.around
        if len(entries) != 3 or entries[0] not in _ERRORS or entries[1] not in _TRENDS or entries[2] not in _SEASONS:
            raise written.wrong("write ets(E,T,S) with E in A, M; T in N, A, Ad; S in N, A, M; or ets(best).")
        error, trend, season = entries
        if written.transformed and "M" in (error, season):
            plain = cls(letters=("A", trend, season.replace("M", "A")), **around)
            raise written.wrong(f"on a transformed scale proportions are sums already; use {plain}.")
        if written.transformed and written.options.words:
            raise written.wrong(f"{written.options.words[0]} is not to be had on a transformed scale.")
        if (around["harmonics"] or around["shared_season"]) and error == "M":
            raise written.wrong(
                "harmonics and shared-season go with additive errors; for errors in proportion, use log."
            )
        if (around["harmonics"] or around["shared_season"]) and season == "M":
            raise written.wrong(f"the season is there twice; use ets(A,{trend},N).")
        return error, trend, season

    @staticmethod
    def _weights(trend: str, season: str) -> list[str]:
        """Weights that a form has, in the order of the notation."""
        has = {"alpha": True, "beta": trend != "N", "gamma": season != "N", "phi": trend == "Ad"}
        return [name for name in SHARES if has[name]]

    def main(self) -> str:
        return ",".join(self.letters) if self.letters else "best"

    @property
    def searched(self) -> bool:
        return self.letters is None or super().searched

    def richness(self) -> tuple[int, int]:
        if not self.letters:
            return 7, 150
        error, trend, season = self.letters
        states = {"N": 1, "A": 2, "Ad": 3}[trend] + (100 if season != "N" else 0)
        return 7, states + 10 * (error == "M") + 20 * (season == "M")

    @property
    def memory(self) -> int:
        return 1 + (self.letters[1] != "N") + (self.letters[2] != "N") if self.letters else 0

    @property
    def has_season(self) -> bool:
        return self.shared_season or bool(self.letters and self.letters[2] != "N")

    def in_words(self) -> str:
        if not self.letters:
            return str(self)
        error, trend, season = self.letters
        parts = ["a level", *_TREND_WORDS[trend], *_SEASON_WORDS[season]]
        parts += ["a smooth yearly season"] if self.harmonics else []
        parts += ["the season of its group, as far as the series follows it"] if self.shared_season else []
        size = "errors of one size" if error == "A" else "errors in proportion to the level"
        return f"Exponential smoothing: {', '.join(parts)}; {size}."

    def simpler(self) -> list[Form]:
        ways: list[Form] = []
        if self.pooled:
            ways.append(replace(self, pooled=()))
        if not self.letters:
            return ways
        error, trend, season = self.letters
        if season != "N" or self.harmonics or self.shared_season:
            ways.append(Smoothing(letters=("A", trend, "N"), log=self.log, power=self.power))
        if trend != "N":
            ways.append(Smoothing(letters=("A", "N", "N"), log=self.log, power=self.power))
        if error == "M" or self.transformed:
            ways.append(Smoothing(letters=("A", "N", "N")))
        return ways

    def fit(self, batch: Batch, horizon: int, bands: str) -> Fits:
        return smoothing_fit.fit(self, batch, horizon, bands)

    # --- what a planner may change

    def fields(self, around: Surroundings) -> list[Field]:
        found: list[Field] = []
        error, trend, season = self.letters or ("A", "N", "N")
        if self.letters:
            found += [
                Field("error", "Errors", "choice", error, tuple(_ERRORS.items())),
                Field("trend", "Trend", "choice", trend, tuple(_TRENDS.items())),
            ]
            if around.season_length > 1 or season != "N":
                found.append(Field("season", "Season", "choice", season, tuple(_SEASONS.items())))
        if season == "N" and error == "A":
            found.append(self._outside())
        if self.pooled:
            found.append(fields.pooled(self, around))
        if self.letters:
            found += self._weight_fields(trend, season)
        if self.letters and not self._outside().value:
            found += self._start_fields(season)
        if error == "A" and season != "M" and not self.words:
            found.append(fields.scale(self))
        return found

    def _outside(self) -> Field:
        own = next((term for term in self.after() if not term.startswith("pooled")), "")
        more = () if own in _OUTSIDE else ((own, f"{self.harmonics} harmonics"),)
        return Field("outside", "Yearly season beside it", "choice", own, (*_OUTSIDE.items(), *more))

    def _weight_fields(self, trend: str, season: str) -> list[Field]:
        alpha = self.given.get("alpha")
        ranges = {
            "alpha": (0.0, 1.0), "beta": (0.0, 1.0 if alpha is None else alpha),
            "gamma": (0.0, 1.0 if alpha is None else round(1.0 - alpha, 3)), "phi": (0.8, 0.98),
        }  # fmt: skip
        return [fields.share(self, name, _LABELS[name], *ranges[name]) for name in self._weights(trend, season)]

    def _start_fields(self, season: str) -> list[Field]:
        start = self.choices.get("start", "level" if "level" in self.given else "estimated")
        options = {"estimated": "estimated", "first": "from the first value"}
        options |= {"season": "from the first season"} if season != "N" else {}
        found = [Field("start", "Start", "choice", start, tuple({**options, "level": "a given level"}.items()))]
        if start == "level":
            found.append(Field("level", "Starting level", "number", self.given["level"], least=-1e15, most=1e15))
        if "start" in self.choices:
            tune = self.choices.get("tune", "")
            found.append(Field("tune", "Constants not given", "choice", tune, tuple(_TUNED.items())))
        return found

    def changed(self, name: str, value: Any, around: Surroundings) -> Smoothing:
        if name in ("error", "trend", "season") and self.letters:
            return self._with_letter(name, str(value))
        if name == "outside":
            return self._with_outside(str(value))
        if name == "pooled":
            return fields.with_pooled(self, value)
        if name == "scale":
            return fields.with_scale(self, value)
        if name in SHARES and self.letters:
            return self._with_weight(name, value)
        if name == "level":
            return fields.with_given(self, "level", value, 6)
        if name == "start":
            return self._with_start(str(value), around)
        if name == "tune":
            rest = {other: own for other, own in self.choices.items() if other != "tune"}
            return replace(self, choices={**rest, **({"tune": str(value)} if value else {})})
        raise KeyError(name)

    def _with_letter(self, name: str, letter: str) -> Smoothing:
        assert self.letters is not None
        letters = dict(zip(("error", "trend", "season"), self.letters, strict=True)) | {name: letter}
        form = replace(self, letters=(letters["error"], letters["trend"], letters["season"]))
        if name == "season" or letter == "M":
            form = replace(form, harmonics=0, shared_season=False)
        if "M" in (letters["error"], letters["season"]):
            form = replace(form, log=False, power=None)
        if name == "season" and form.choices.get("start") == "season":
            form = replace(form, choices={})
        has = {*self._weights(letters["trend"], letters["season"]), "level"}
        has |= {"trend"} if letters["trend"] != "N" else set()
        given = {
            one: own for one, own in form.given.items()
            if one in has or (letters["season"] != "N" and re.fullmatch(r"season\d+", one))
        }  # fmt: skip
        return replace(form, given=given)

    def _with_outside(self, term: str) -> Smoothing:
        if not term:
            return replace(self, harmonics=0, shared_season=False)
        pairs = {f"harmonics({k})": k for k in range(1, 13)} | {"harmonics(best)": -1, "shared-season": 0}
        if term not in pairs:
            raise KeyError(term)
        shared = term == "shared-season"
        given = {one: own for one, own in self.given.items() if one in SHARES}
        form = replace(self, harmonics=pairs[term], shared_season=shared, choices={}, given=given)
        return replace(form, log=False, power=None) if shared else form

    def _with_weight(self, name: str, value: Any) -> Smoothing:
        """What alpha leaves open to the others moves with it."""
        form = fields.with_given(self, name, value)
        alpha = form.given.get("alpha")
        if alpha is None:
            return form
        most = {"beta": alpha, "gamma": round(1.0 - alpha, 3)}
        return replace(form, given={one: min(own, most.get(one, own)) for one, own in form.given.items()})

    def _with_start(self, start: str, around: Surroundings) -> Smoothing:
        given = {one: own for one, own in self.given.items() if one in SHARES}
        if start == "level":
            level = around.estimates.get("level", 0.0)
            return replace(self, choices={}, given={**given, "level": float(f"{level:.4g}")})
        if start == "estimated":
            return replace(self, choices={}, given=given)
        tune = {one: own for one, own in self.choices.items() if one == "tune"}
        return replace(self, choices={"start": start, **tune}, given=given)
