"""What a planner may change about a method: every change gives a form that reads back, and puts right what it must."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tansy.engine.errors import NotationError
from tansy.engine.methods.form import Field, Form, Surroundings
from tansy.engine.methods.notation import parse
from tansy.engine.methods.registry import changed, in_words, method_field

WEEKS = Surroundings(52, "week", ("price", "promotion"), {"level": 123.456})
PLAIN = Surroundings(1)


def after(text: str, *changes: tuple[str, Any], around: Surroundings = WEEKS) -> str:
    form = parse(text)
    for name, value in changes:
        form = parse(str(changed(form, name, value, around)))
    return str(form)


def names(text: str, around: Surroundings = WEEKS) -> list[str]:
    return [field.name for field in parse(text).fields(around)]


def field(text: str, name: str) -> Field:
    return next(one for one in parse(text).fields(WEEKS) if one.name == name)


@pytest.mark.parametrize(
    ("text", "changes", "expected"),
    [
        ("ets(A,N,N)", [("trend", "Ad"), ("season", "M"), ("error", "M")], "ets(M,Ad,M)"),
        ("ets(M,Ad,M)", [("alpha", 0.4), ("phi", 0.9)], "ets(M,Ad,M; alpha=0.4, phi=0.9)"),
        ("ets(M,Ad,M; alpha=0.4, phi=0.9)", [("trend", "A"), ("alpha", None)], "ets(M,A,M)"),
        # what alpha leaves open to the others moves with it
        ("ets(A,A,A; alpha=0.5, beta=0.4, gamma=0.5)", [("alpha", 0.2)], "ets(A,A,A; alpha=0.2, beta=0.2, gamma=0.5)"),
        ("ets(A,A,A; alpha=0.2, beta=0.2, gamma=0.5)", [("alpha", 0.9)], "ets(A,A,A; alpha=0.9, beta=0.2, gamma=0.1)"),
        ("ets(A,N,A)", [("start", "season"), ("tune", "MAE")], "ets(A,N,A; start=season, tune=MAE)"),
        ("ets(A,N,A; start=season, tune=MAE)", [("season", "N")], "ets(A,N,N)"),  # no first season any more
        ("ets(A,N,N)", [("start", "level")], "ets(A,N,N; level=123.5)"),
        ("ets(A,N,N; level=5)", [("level", 90)], "ets(A,N,N; level=90)"),
        ("ets(A,N,N; level=5, alpha=0.1)", [("start", "estimated")], "ets(A,N,N; alpha=0.1)"),
        ("ets(A,N,N; start=first)", [("outside", "shared-season")], "ets(A,N,N) + shared-season"),
        ("ets(A,N,N) + shared-season", [("season", "A")], "ets(A,N,A)"),
        ("log ets(A,N,N)", [("outside", "shared-season")], "ets(A,N,N) + shared-season"),
        ("log ets(A,N,A)", [("season", "M")], "ets(A,N,M)"),
        ("ets(best)", [("outside", "harmonics(best)")], "ets(best) + harmonics(best)"),
        (
            "ets(A,N,N) + shared-season + pooled(log price, promotion)", [("trend", "A"), ("pooled", "log price")],
            "ets(A,A,N) + shared-season + pooled(log price)",
        ),
        ("moving-average(4)", [("window", None)], "moving-average(best)"),
        ("moving-average(3; weights=1/2/3)", [("window", 5)], "moving-average(5)"),
        ("trend(linear)", [("shape", "quadratic"), ("indices", True)], "trend(quadratic; indices)"),
        ("tsb", [("alpha", 0.1)], "tsb(alpha=0.1)"),
        ("arima(1,0,1)", [("d", 1)], "arima(1,1,1; drift)"),  # a mean goes on as a drift
        ("arima(1,0,1; mean=0)", [("d", 1)], "arima(1,1,1)"),
        ("arima(1,1,1; drift)", [("d", 0), ("constant", False)], "arima(1,0,1; mean=0)"),
        ("arima(1,0,1; ar1=0.5)", [("p", 0)], "arima(0,0,1)"),
        ("arima(1,0,1)", [("D", 1), ("Q", 1)], "arima(1,0,1; drift)(0,1,1)52"),
        ("arima(1,0,0)(1,0,0)4", [("P", 0)], "arima(1,0,0)"),
        (
            "arima(1,0,1) + x(log price)", [("drivers", "log price, promotion")],
            "arima(1,0,1) + x(log price, promotion)",
        ),
        ("arima(1,0,1) + level-shift(2025-W10)", [("p", 2)], "arima(2,0,1) + level-shift(2025-W10)"),
        ("arima(best)", [("exhaustive", True), ("harmonics", 2)], "arima(best; exhaustive) + harmonics(2)"),
        ("regression(price)", [("drivers", "price, promotion"), ("scale", "log")], "log regression(price, promotion)"),
    ],
)  # fmt: skip
def test_a_change_gives_the_text_that_says_it(text: str, changes: list[tuple[str, Any]], expected: str) -> None:
    assert after(text, *changes) == str(parse(expected))


def test_only_what_can_stand_there_is_offered() -> None:
    assert "season" not in names("ets(A,N,N)", PLAIN) and "P" not in names("arima(1,0,1)", PLAIN)
    assert "outside" not in names("ets(A,N,A)") and "start" not in names("ets(A,N,N) + harmonics(2)")
    assert "scale" not in names("ets(M,N,N)") and "tune" not in names("ets(A,N,N)")
    assert names("seasonal-naive") == []
    assert field("ets(A,A,A; alpha=0.3)", "beta").most == 0.3 and field("ets(A,A,A; alpha=0.3)", "gamma").most == 0.7
    assert [one.name for one in parse("ets(A,Ad,A)").fields(WEEKS) if one.kind == "share"] == [
        "alpha", "beta", "gamma", "phi"
    ]  # fmt: skip
    drivers = field("arima(1,0,1) + x(log price)", "drivers")
    assert drivers.value == "log price" and drivers.options == (("log price",) * 2, ("promotion",) * 2)
    assert dict(field("boxcox(0.3) arima(1,0,1)", "scale").options)["boxcox(0.3)"] == "power 0.3"
    assert dict(field("ets(A,N,N) + harmonics(5)", "outside").options)["harmonics(5)"] == "5 harmonics"


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("ets(A,Ad,M)", "ets(A,N,N)"), ("ets(best; no-trend)", "ets(best)"), ("arima(2,1,0)(0,1,1)52", "arima(1,0,1)"),
        ("log arima(best)", "arima(best)"), ("regression(log price)", "regression(price)"), ("drift", "drift"),
        ("moving-average(best)", "moving-average(4)"),
    ],
)  # fmt: skip
def test_the_menu_shows_which_method_it_is(text: str, value: str) -> None:
    menu = method_field(parse(text), WEEKS)
    assert menu.value == value and value in dict(menu.options)
    for other in dict(menu.options):
        assert method_field(parse(other), WEEKS).value == other


@pytest.mark.parametrize(
    ("text", "name", "value", "says"),
    [
        ("arima(1,0,1)", "p", 9, "up to 8"), ("arima(1,0,1)", "p", 0.5, "no whole number"),
        ("arima(1,0,1)", "scale", "root", "no scale"), ("ets(A,N,N)", "trend", "X", "write ets"),
        ("ets(A,N,N)", "alpha", 7, "between 0 and 1"), ("ets(A,N,N)", "alpha", "a", "not a number"),
        ("mean", "window", 3, "has no 'window'"), ("regression(price)", "drivers", "", "is not a driver"),
        ("moving-average(4)", "window", -3, "number of periods"), ("trend(linear)", "shape", "x", "trend"),
        ("ets(A,N,N)", "outside", "x", "has no 'outside'"),
    ],
)  # fmt: skip
def test_a_change_that_cannot_be_is_refused_in_words(text: str, name: str, value: Any, says: str) -> None:
    with pytest.raises(NotationError, match=says):
        parse(str(changed(parse(text), name, value, WEEKS)))


@given(st.data())
@settings(max_examples=200, deadline=None)
def test_any_walk_through_the_fields_stays_readable(data: st.DataObject) -> None:
    """Whatever is offered can be chosen, and what it says is then what was chosen."""
    form: Form = parse(data.draw(st.sampled_from([text for text, _ in method_field(parse("mean"), WEEKS).options])))
    for _ in range(6):
        offered = form.fields(WEEKS)
        if not offered:
            return
        one = data.draw(st.sampled_from(offered))
        value: Any = None
        if one.kind == "choice":
            value = data.draw(st.sampled_from([choice for choice, _ in one.options]))
        elif one.kind == "count":
            value = data.draw(st.integers(int(one.least), int(one.most)))
        elif one.kind == "flag":
            value = data.draw(st.booleans())
        elif one.kind == "names":
            least = 1 if form.family == "regression" else 0
            ticked = data.draw(st.lists(st.sampled_from([c for c, _ in one.options]), unique=True, min_size=least))
            value = ", ".join(ticked)
        elif one.kind == "share":
            value = data.draw(st.none() | st.floats(one.least, one.most).map(lambda v: round(v, 3)))
        elif one.name == "window":
            value = data.draw(st.none() | st.integers(1, 30))
        elif one.kind == "number":
            value = data.draw(st.integers(1, 500))
        form = parse(str(changed(form, one.name, value, WEEKS)))
        assert parse(str(form)) == form and in_words(form)
        now = next((other for other in form.fields(WEEKS) if other.name == one.name), None)
        if now is not None and one.kind != "names":
            assert now.value == value, (str(form), one.name)
