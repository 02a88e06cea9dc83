"""The families of methods, and how a form is fitted with all that is held around it."""

from __future__ import annotations

from typing import Any

from tansy.engine.errors import NotationError
from tansy.engine.methods import holders
from tansy.engine.methods.arima import Arima
from tansy.engine.methods.blend import Blend, Blends
from tansy.engine.methods.fits import Batch, Fits
from tansy.engine.methods.form import Field, Form, Surroundings
from tansy.engine.methods.holders import Holder
from tansy.engine.methods.intermittent import Intermittent
from tansy.engine.methods.learner import Learner
from tansy.engine.methods.regression import Regression
from tansy.engine.methods.simple import MovingAverage, SeasonalMedian, Simple
from tansy.engine.methods.smoothing import Smoothing
from tansy.engine.methods.trends import Theta, Trend

FAMILIES: tuple[type[Form], ...] = (
    Simple, MovingAverage, SeasonalMedian, Trend, Theta, Smoothing, Intermittent, Arima, Regression, Learner, Blend,
)  # fmt: skip
"""From simple to rich. A new family is a class and its place here."""

HOLDERS: tuple[Holder, ...] = (Blends(), *holders.HOLDERS)

FAMILY_OF = {name: family for family in FAMILIES for name in family.names}


def fit(form: Form, batch: Batch, horizon: int, bands: str = "none") -> Fits:
    """Fit a form to every series of a batch and forecast.

    Parameters
    ----------
    horizon : number of leads.
    bands : whether to find a distribution of the forecasts, see `fits.BANDS`.

    Raises
    ------
    NotationError where the form cannot be had on this timeline, or names a driver that is not there.
    """
    for holder in HOLDERS:
        if holder.holds(form):
            return holder.fit(form, batch, horizon, bands, fit)
    return form.fit(batch, horizon, bands)


def in_words(form: Form) -> str:
    """What a form assumes, in a planner's words."""
    says = [form.in_words()]
    if form.drivers and form.family not in Regression.names:
        says.append(f"Besides, effects of {', '.join(form.drivers)}.")
    if form.level_shifts:
        says.append(f"The level shifts in {', '.join(form.level_shifts)}.")
    within = sorted((holder for holder in HOLDERS if holder.holds(form)), key=HOLDERS.index, reverse=True)
    return " ".join(filter(None, [*says, *(holder.in_words(form) for holder in within)]))


def method_field(form: Form, around: Surroundings) -> Field:
    """The choice of another method altogether."""
    menu = [entry for family in FAMILIES for entry in family.menu]
    if around.drivers:
        menu.append((f"regression({around.drivers[0]})", "regression on drivers"))
    family = FAMILY_OF[form.family]
    # of several methods of a family, the one that is searched as this one is; else the one of its name
    own = [text for text, _ in menu if text.split("(")[0] == form.family]
    best = [text for text in own if "best" in text]
    plain = [text for text in own if "best" not in text]
    searched = bool(family.menu) and "best" in form.main()
    value = (best if searched and best else plain or [str(form)])[0]
    if value not in dict(menu):  # such as a blend, which is made by its text
        menu.insert(0, (value, form.brief))
    return Field("method", "Method", "choice", value, tuple(menu))


def changed(form: Form, name: str, value: Any, around: Surroundings) -> Form:
    """The form with one of its fields changed. Raises NotationError where that cannot be."""
    try:
        found = form.changed(name, value, around)
    except KeyError:
        raise NotationError(f"{form} has no {name!r} that can be set to {value!r}.") from None
    return found
