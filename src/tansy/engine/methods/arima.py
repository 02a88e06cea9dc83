"""ARIMA, arima(p,d,q)(P,D,Q)m and arima(best): its text, its words, and what a planner may change."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from tansy.engine.methods import arima_fit, fields
from tansy.engine.methods.arima_fit import BOUNDS
from tansy.engine.methods.fits import Batch, Fits
from tansy.engine.methods.form import Field, Form, Surroundings, whole
from tansy.engine.methods.method_text import WHOLE, Written
from tansy.engine.methods.smoothing import Smoothing

_MOST = {"p": 8, "d": 2, "q": 8, "P": 3, "D": 1, "Q": 3}
_LABELS = {
    "p": "p, past values", "d": "d, differences", "q": "q, past errors", "P": "P, past seasons",
    "D": "D, season differences", "Q": "Q, errors of past seasons",
}  # fmt: skip


@dataclass(frozen=True)
class Arima(Form):
    family: str = "arima"

    names = ("arima",)
    examples = ("arima(p,d,q)", "arima(best)")
    menu = (("arima(1,0,1)", "ARIMA"), ("arima(best)", "ARIMA, searched by AICc"))
    terms = ("harmonics", "x", "level-shift", "slope-changes", "pooled")

    @classmethod
    def read(cls, written: Written) -> Arima:
        if written.entries == ["best"]:
            return cls._best(written)
        p, d, q = _orders(written, written.main, "arima(p,d,q) or arima(best)")
        if p > _MOST["p"] or q > _MOST["q"] or d > _MOST["d"]:
            raise written.wrong("p and q go up to 8 and d up to 2.")
        sp, sd, sq, m = 0, 0, 0, 0
        if written.seasonal is not None:
            sp, sd, sq = _orders(written, written.seasonal, "the seasonal part (P,D,Q)m")
            if not written.period or int(written.period) < 2:
                raise written.wrong("the season length follows the seasonal part, as in arima(0,1,1)(0,1,1)12.")
            if sp > _MOST["P"] or sq > _MOST["Q"] or sd > _MOST["D"]:
                raise written.wrong("P and Q go up to 3 and D up to 1.")
            m = int(written.period) if sp + sd + sq else 0
        if written.around["slope_changes"] and d + sd:
            raise written.wrong("slope-changes is a trend already; leave the differences out.")
        words = written.options.take_words(("constant", "drift"))
        if len(words) > 1 or (words and d + sd == 0):
            raise written.wrong("one of constant and drift can be asked for where something is differenced.")
        coefficients = _coefficients(p, q, sp, sq)
        given = written.options.take_numbers((*coefficients, *(("mean",) if d + sd == 0 else ())))
        if given.get("mean", 0.0) != 0.0:
            raise written.wrong("a mean can be left out with mean=0; another number is not to be had.")
        return cls(orders=(p, d, q), seasonal=(sp, sd, sq), period=m, words=words, given=given, **written.around)

    @classmethod
    def _best(cls, written: Written) -> Arima:
        """d and D in the options are given; the other numbers are the most that is tried."""
        if written.seasonal is not None:
            raise written.wrong("arima(best) looks for the seasonal part itself; leave it out.")
        words = written.options.take_words(("exhaustive", "no-season"))
        given = written.options.take_numbers(tuple(BOUNDS))
        if written.around["slope_changes"]:
            if given.get("d", 0) or given.get("D", 0):
                raise written.wrong("slope-changes is a trend already; leave the differences out.")
            given = {**given, "d": 0.0, "D": 0.0}
        for name, value in given.items():
            if value != int(value) or not 0 <= value <= BOUNDS[name][1]:
                raise written.wrong(f"{name} is a whole number up to {BOUNDS[name][1]}, not {value:g}.")
        return cls(words=words, given=given, **written.around)

    def main(self) -> str:
        return ",".join(map(str, self.orders)) if self.orders else "best"

    def head(self) -> str:
        return super().head() + (f"({','.join(map(str, self.seasonal))}){self.period}" if self.period else "")

    @property
    def basis(self) -> str:
        return f"{super().basis} {self.orders[1] if self.orders else '?'} {self.seasonal[1]}"

    @property
    def searched(self) -> bool:
        return self.orders is None or super().searched

    def richness(self) -> tuple[int, int]:
        p, _, q = self.orders or (5, 0, 0)
        return 11, p + q + self.seasonal[0] + self.seasonal[2]

    def dynamics(self) -> int:
        return self.memory + 10 * (not self.orders)

    @property
    def memory(self) -> int:
        p, _, q = self.orders or (0, 0, 0)
        return p + q + self.seasonal[0] + self.seasonal[2]

    @property
    def has_season(self) -> bool:
        return any(self.seasonal)

    def in_words(self) -> str:
        if not self.orders:
            return str(self)
        p, d, q = self.orders
        sp, sd, sq = self.seasonal
        difference = {0: "values", 1: "steps from period to period", 2: "changes of these steps"}[d]
        difference += f", each less that of {self.period} periods before" if sd else ""
        parts = [_counted(p, "past one"), _counted(q, "past error")]
        parts += [f"{_counted(sp, 'past one')} whole seasons back"] if sp else []
        parts += [f"{_counted(sq, 'past error')} whole seasons back"] if sq else []
        parts += ["a smooth yearly season"] if self.harmonics else []
        parts += ["a steady drift"] if self.words else []
        return f"ARIMA of {difference}: from {', '.join(parts)}."

    def simpler(self) -> list[Form]:
        ways: list[Form] = []
        if self.drivers or self.pooled or self.slope_changes:
            ways.append(replace(self, drivers=(), level_shifts=(), pooled=(), slope_changes=False))
        return [*ways, Smoothing(letters=("A", "N", "N"))]

    def while_pairs_are_chosen(self, batch: Batch) -> Form:
        """Where orders are searched, arima(1,d,1) stands for what will be found: the search follows with the pairs it
        chose."""
        if self.orders is not None:
            return self
        week = batch.timeline.frequency == "D" and "no-season" not in self.words
        return replace(
            self, orders=(1, int(self.given.get("d", 0)), 1), words=(), given={},
            seasonal=(1, 0, 1) if week else (0, 0, 0), period=batch.timeline.season_length if week else 0,
        )  # fmt: skip

    def fit(self, batch: Batch, horizon: int, bands: str) -> Fits:
        return arima_fit.fit(self, batch, horizon, bands)

    # --- what a planner may change

    def fields(self, around: Surroundings) -> list[Field]:
        found: list[Field] = []
        m = around.season_length
        if self.orders:
            own = self._numbers()
            found += [Field(name, _LABELS[name], "count", own[name], most=_MOST[name]) for name in "pdq"]
            if m > 1:
                group = f"Whole seasons of {m} back"
                found += [
                    Field(name, _LABELS[name], "count", own[name], most=_MOST[name], group=group if name == "P" else "")
                    for name in "PDQ"
                ]
            differenced = own["d"] + own["D"] > 0
            has = bool(self.words) if differenced else "mean" not in self.given
            found.append(Field("constant", "Drift" if differenced else "Mean", "flag", has, group=" "))
        else:
            found.append(Field("exhaustive", "Try every order", "flag", "exhaustive" in self.words))
        if m > 1:
            found.append(fields.harmonics(self))
        found.append(fields.scale(self))
        if around.drivers:
            found.append(fields.drivers(self, around))
        if self.pooled:
            found.append(fields.pooled(self, around))
        return found

    def _numbers(self) -> dict[str, int]:
        assert self.orders is not None
        return dict(zip("pdqPDQ", (*self.orders, *self.seasonal), strict=True))

    def changed(self, name: str, value: Any, around: Surroundings) -> Arima:
        shared = {
            "harmonics": fields.with_harmonics, "scale": fields.with_scale, "drivers": fields.with_drivers,
            "pooled": fields.with_pooled,
        }  # fmt: skip
        if name in shared:
            found: Arima = shared[name](self, value)
            return found
        if name == "exhaustive" and not self.orders:
            words = (*(["exhaustive"] if value else []), *(word for word in self.words if word != "exhaustive"))
            return replace(self, words=words)
        if not self.orders:
            raise KeyError(name)
        own = self._numbers()
        differenced = own["d"] + own["D"] > 0
        constant = bool(self.words) if differenced else "mean" not in self.given
        if name == "constant":
            constant = bool(value)
        elif name in own:
            own[name] = whole(value)
        else:
            raise KeyError(name)
        known = _coefficients(own["p"], own["q"], own["P"], own["Q"])
        given = {one: number for one, number in self.given.items() if one in known}
        options: tuple[str, ...] = ()
        if own["d"] + own["D"] > 0:
            options = (self.words or ("drift",)) if constant else ()
        elif not constant:
            given = {**given, "mean": 0.0}
        p, d, q, sp, sd, sq = own.values()
        period = (self.period or around.season_length) if sp + sd + sq else 0
        return replace(self, orders=(p, d, q), seasonal=(sp, sd, sq), period=period, words=options, given=given)


def _orders(written: Written, listed: str, what: str) -> tuple[int, int, int]:
    entries = [entry.strip() for entry in listed.split(",")]
    if len(entries) != 3 or not all(WHOLE.fullmatch(entry) for entry in entries):
        raise written.wrong(f"write {what} with three whole numbers.")
    p, d, q = (int(entry) for entry in entries)
    return p, d, q


def _coefficients(p: int, q: int, sp: int, sq: int) -> list[str]:
    """Names of what may be given."""
    sizes = {"ar": p, "ma": q, "sar": sp, "sma": sq}
    return [f"{name}{i}" for name, size in sizes.items() for i in range(1, size + 1)]


def _counted(n: int, what: str) -> str:
    return f"{n or 'no'} {what}{'s' if n != 1 else ''}"
