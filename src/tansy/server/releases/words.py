"""What is said of a release in sentences, on its page and in the report alike."""

from __future__ import annotations

from typing import Any

from tansy.engine.study.track import Help

_NOTHING = 0.5  # units


def number(value: float | None, digits: int = 0) -> str:
    return "–" if value is None else f"{value:,.{digits}f}".replace("-", "−")


def signed(value: float | None, digits: int = 0) -> str:
    return "–" if value is None else f"{value:+,.{digits}f}".replace("-", "−")


def shared(value: float | None) -> str:
    """A share, in percent."""
    return number(None if value is None else 100.0 * value, 1)


def brought(one: Help) -> str:
    """What a change brought."""
    if not one.periods:
        return "nothing of it has come yet"
    if abs(one.gained) < _NOTHING:
        return "made no difference"
    share = "" if one.percent is None else f" ({signed(one.percent)} %)"
    if one.gained > 0.0:
        return f"helped: {number(one.gained)} units nearer{share}"
    return f"did harm: {number(-one.gained)} units further off{share}"


def sentence(found: dict[str, Any]) -> str:
    """A release in a few words. found: what the Track page shows of it."""
    periods = found["periods"]
    name = f"R{found['release']} from {found['origin']}, {periods[0]} to {periods[-1]}"
    if not found["n_came"]:
        return (
            f"{name}: none of its periods has come yet. Add later actuals under Intake, and it is held against them "
            "here."
        )
    top, series = found["levels"][0], found["levels"][-1]
    side = "" if not top["bias"] else f" ({number(abs(top['bias']), 1)} % too {'high' if top['bias'] < 0 else 'low'})"
    gain = series["gain"]
    word = "less" if (gain or 0.0) >= 0.0 else "more"
    beside = "" if gain is None else f", {number(abs(gain))} % {word} than the seasonal naive would have"
    held = ", ".join(f"{shared(one['share'])} % in the {one['level']:g} % band" for one in series["held"])
    return (
        f"{name}: {found['n_came']} of {len(periods)} periods have come. The total was missed by "
        f"{number(top['wape'], 1)} % of volume{side}, the {found['n_series']:,} series by {number(series['wape'], 1)} %"
        f"{beside}. Of what came, {held}."
    )
