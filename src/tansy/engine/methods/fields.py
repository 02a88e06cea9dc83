"""Fields that several families have: harmonics, drivers, effects that are shared, the scale."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, TypeVar

from tansy.engine.errors import NotationError
from tansy.engine.methods.form import CHOSEN_POWER, MOST_HARMONICS, Field, Form, Surroundings, whole
from tansy.engine.methods.method_text import driver_of, read_drivers

F = TypeVar("F", bound=Form)

SCALES = (
    ("", "as they are"),
    ("log", "logarithms"),
    ("boxcox(0.5)", "square roots"),
    ("boxcox(best)", "a power from the data"),
)
_POWERS = {"": None, "log": None, "boxcox(0.5)": 0.5, "boxcox(best)": CHOSEN_POWER}


def scale(form: Form) -> Field:
    own = form.scale
    more = () if own in dict(SCALES) else ((own, f"power {form.power:g}"),)
    return Field("scale", "Values", "choice", own, (*SCALES, *more))


def harmonics(form: Form) -> Field:
    return Field("harmonics", "Harmonics of the year", "count", max(form.harmonics, 0), most=MOST_HARMONICS)


def drivers(form: Form, around: Surroundings) -> Field:
    return _names("drivers", "Drivers", form.drivers, around)


def pooled(form: Form, around: Surroundings) -> Field:
    return _names("pooled", "Effects shared by its group", form.pooled, around)


def _names(name: str, label: str, entries: tuple[str, ...], around: Surroundings) -> Field:
    """One option for each driver; how one enters, as its logarithm or with the periods around, stays as it is."""
    used = {driver_of(entry)[0]: entry for entry in entries}
    own = [used.get(driver, driver) for driver in around.drivers]
    options = [*own, *(entry for entry in entries if entry not in own)]
    return Field(name, label, "names", ", ".join(entries), tuple((entry, entry) for entry in options))


def share(form: Form, name: str, label: str, least: float = 0.0, most: float = 1.0) -> Field:
    return Field(name, label, "share", form.given.get(name), least=least, most=most)


def with_scale(form: F, value: Any) -> F:
    if value not in _POWERS:
        raise NotationError(f"There is no scale {value!r}.")
    # a season that a group shares is to be had on the scale of the values only
    return replace(form, log=value == "log", power=_POWERS[value], shared_season=form.shared_season and not value)


def with_harmonics(form: F, value: Any) -> F:
    return replace(form, harmonics=whole(value))


def with_drivers(form: F, value: Any) -> F:
    return replace(form, drivers=_entries(form, value))


def with_pooled(form: F, value: Any) -> F:
    return replace(form, pooled=_entries(form, value))


def _entries(form: Form, value: Any) -> tuple[str, ...]:
    return read_drivers(str(form), str(value), "x(price, promotion)") if value else ()


def with_given(form: F, name: str, value: Any, digits: int = 3) -> F:
    """With a constant given, or with None estimated."""
    if value is None:
        return replace(form, given={other: own for other, own in form.given.items() if other != name})
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise NotationError(f"{name} is set to {value!r}, which is not a number.")
    return replace(form, given={**form.given, name: round(float(value), digits)})
