"""The `tansy` command. Results go to stdout or a file, messages and progress to stderr."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer

from tansy.engine.backtest.intervals import probabilities
from tansy.engine.backtest.score import Forecasts, score
from tansy.engine.cleaning.file import read_corrections
from tansy.engine.errors import FileError, TansyError
from tansy.engine.methods.as_json import fits_json
from tansy.engine.methods.fits import Batch
from tansy.engine.methods.notation import parse
from tansy.engine.methods.regressors import check_known_ahead
from tansy.engine.panel import Panel
from tansy.engine.plans.kinds import read_plan
from tansy.engine.reading.append import read_history
from tansy.engine.reading.attributes import default_levels
from tansy.engine.reading.findings import Finding
from tansy.engine.reading.history import Reading, read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.engine.reading.table import read_table
from tansy.engine.reconcile.files import Files, reconcile_files
from tansy.engine.study import export
from tansy.engine.study.defaults import default_recipe
from tansy.engine.study.paths import write_paths
from tansy.engine.study.prepared import prepare
from tansy.engine.study.recipe import Recipe, read_recipe_file
from tansy.engine.study.run import run_study
from tansy.engine.study.store import USUAL_MB, Store

app = typer.Typer(add_completion=False, no_args_is_help=True, help="Forecast, test, reconcile and publish demand.")

Json = Annotated[Path | None, typer.Option("--json", help="Write the JSON here instead of to stdout.")]
Time = Annotated[str, typer.Option("--time", help="Column of periods.")]
Value = Annotated[str, typer.Option("--value", help="Column of values.")]
Frequency = Annotated[str | None, typer.Option("--freq", help="Add rows up to D, W, 4W, M, Q, Y or N (numbered).")]
By = Annotated[list[str] | None, typer.Option("--by", help="Key column; may be given several times.")]


_LONGEST_HORIZON = 5_000


def main() -> None:
    """Entry point: one clear sentence, and exit status 2, where the input or a file is at fault, 1 where memory is."""
    try:
        app()
    except TansyError as error:
        typer.echo(str(error), err=True)
        sys.exit(2)
    except MemoryError:
        typer.echo("There is not enough memory for this; close other programs, or ask for less at once.", err=True)
        sys.exit(1)
    except OSError as error:
        at = f"{error.filename}: " if error.filename else ""
        typer.echo(f"{at}{error.strerror or error}.", err=True)
        sys.exit(2)


def _print(result: Any, out: Path | None) -> None:
    text = json.dumps(result, indent=2, allow_nan=False)
    if out:
        out.write_text(text + "\n", encoding="utf-8")
    else:
        typer.echo(text)


def _progress() -> Callable[[str, int, int], None]:
    """Progress lines on stderr, about one for every twentieth of a step."""
    last: dict[str, int] = {}

    def say(step: str, done: int, of: int) -> None:
        if of == 0:
            typer.echo(f"{step} ...", err=True)
        elif done * 20 // of != last.get(step):
            last[step] = done * 20 // of
            typer.echo(f"{step}: {done:,} of {of:,}", err=True)

    return say


@app.command()
def check(
    file: Path,
    time: Time = "",
    value: Value = "",
    by: By = None,
    layout: Annotated[str | None, typer.Option(help="long or wide; guessed otherwise.")] = None,
    sheet: Annotated[str | None, typer.Option(help="Sheet of an XLSX file.")] = None,
    gaps: Annotated[str, typer.Option(help="A missing period is zero, unknown or interpolate.")] = "unknown",
    frequency: Frequency = None,
    refused: Annotated[Path | None, typer.Option(help="Write the rows left out here, with the reason.")] = None,
    out: Json = None,
) -> None:
    """Read a file without loading it and say what was understood."""
    options = ReadOptions(
        time=time, value=value, keys=tuple(by or ()), gaps=gaps, sheet=sheet, layout=layout, frequency=frequency
    )
    reading = read_panel(file, options)
    if refused:
        reading.refused.write_csv(refused)
    _print(_understood(reading), out)


def _understood(reading: Reading) -> dict[str, Any]:
    panel, options = reading.panel, reading.options
    roles = {options.time: "time", options.value: "value", **dict.fromkeys(options.keys, "key")}
    roles.update(dict.fromkeys(options.attribute_columns or {}, "attribute"))
    roles.update(dict.fromkeys(options.driver_columns or (), "driver"))
    return {
        "layout": reading.layout,
        "columns": roles,
        "frequency": panel.timeline.frequency,
        "series": panel.n_series,
        "periods": panel.timeline.n_periods,
        "first": panel.timeline.labels[0],
        "last": panel.timeline.labels[-1],
        "total": float(np.nansum(panel.values)),
        "missing": int(np.isnan(panel.values).sum()),
        "rows": reading.n_rows,
        "rows_left_out": reading.n_refused,
        "findings": [finding.to_json() for finding in reading.findings],
    }


def _say(findings: list[Finding], where: str) -> None:
    for finding in findings:
        typer.echo(f"{where}: {finding.kind}: {finding.count:,} ({finding.remedy})", err=True)


Beside = Annotated[
    list[Path] | None,
    typer.Option("--beside", help="A file of attributes, drivers or edges; may be given several times."),
]
Gaps = Annotated[str, typer.Option(help="A missing period is zero, unknown or interpolate.")]
Calendar = Annotated[
    str, typer.Option("--holidays", help="Public holidays of a country or region as a driver: DE, or DE-BY.")
]


def _default(
    file: Path,
    beside: list[Path],
    folder: Path,
    holidays: str,
    frequency: str | None,
    time: str = "",
    value: str = "",
    by: tuple[str, ...] = (),
    gaps: str = "zero",
) -> tuple[Reading, Recipe]:
    """A file as it is understood, and the recipe that it gets unasked, with paths from `folder` on."""

    def named(path: Path) -> str:
        return Path(os.path.relpath(path.resolve(), folder.resolve())).as_posix()

    options = ReadOptions(
        file=named(file), time=time, value=value, keys=by, gaps=gaps, frequency=frequency,
        attribute_files={named(path): "" for path in beside} or None,
    )  # fmt: skip
    reading = read_history(file, options, folder)
    _say(reading.findings, file.name)
    plans = (read_plan({"kind": "holidays", "of": holidays}),) if holidays else ()
    return reading, default_recipe(reading.panel, default_levels(reading.panel), reading.options, plans)


@app.command("recipe")
def recipe_command(
    file: Path,
    beside: Beside = None,
    time: Time = "",
    value: Value = "",
    by: By = None,
    gaps: Gaps = "zero",
    holidays: Calendar = "",
    frequency: Frequency = None,
    out: Annotated[Path | None, typer.Option("--out", help="Write the recipe here instead of to stdout.")] = None,
) -> None:
    """Write the recipe that a file gets without asking, as TOML, to be read, changed and run."""
    folder = out.parent if out else Path()
    _, made = _default(file, beside or [], folder, holidays, frequency, time, value, tuple(by or ()), gaps)
    if out:
        out.write_text(made.to_toml(), encoding="utf-8")
    else:
        typer.echo(made.to_toml(), nl=False)


@app.command()
def run(
    recipe: Annotated[Path, typer.Argument(help="A recipe, or a file of sales, which gets the default recipe.")],
    out: Annotated[Path, typer.Option("--out", help="Folder for forecasts, accuracy and summary.")],
    form: Annotated[str, typer.Option("--format", help="parquet or csv.")] = "parquet",
    data: Annotated[Path | None, typer.Option(help="Read this sales file instead of the recipe's.")] = None,
    beside: Beside = None,
    holidays: Calendar = "",
    frequency: Frequency = None,
    keep: Annotated[
        Path | None, typer.Option(help="Folder in which results are kept, for later runs to use again.")
    ] = None,
    backtest: Annotated[
        bool, typer.Option("--save-backtest", help="Write backtest.parquet too: every forecast from every origin.")
    ] = False,
    corrections: Annotated[
        Path | None, typer.Option(help="Corrections by hand, as a study on the screen hands them out.")
    ] = None,
    paths: Annotated[
        int, typer.Option(help="Write paths.parquet too: so many coherent sample paths of the series, for simulations.")
    ] = 0,
    scheduler: Annotated[
        str,
        typer.Option(envvar="TANSY_SCHEDULER", help="Fit on a Dask cluster: its scheduler, such as tcp://plan-1:8786."),
    ] = "",
) -> None:
    """Run a study and write forecasts, accuracy.csv, corrections.csv, summary.json and, of a file, recipe.toml."""
    if form not in ("parquet", "csv"):
        raise FileError(f"The format is parquet or csv, not {form!r}.")
    if recipe.suffix.lower() == ".toml":
        if beside or holidays or frequency:
            raise FileError(
                "A recipe names such things itself; --beside, --holidays and --freq are for a file of sales."
            )
        chosen = read_recipe_file(recipe)
        if chosen.data is None:
            raise FileError(f"{recipe.name} has no [data] section, so there is no file to read.")
        path = data or recipe.parent / chosen.data.file
        typer.echo(f"reading {path} ...", err=True)
        reading = read_history(path, replace(chosen.data, edges_file=chosen.edges), recipe.parent)
        _say(reading.findings, path.name)
        out.mkdir(parents=True, exist_ok=True)
    else:
        out.mkdir(parents=True, exist_ok=True)
        typer.echo(f"reading {recipe} ...", err=True)
        reading, chosen = _default(recipe, beside or [], out, holidays, frequency)
        (out / "recipe.toml").write_text(chosen.to_toml(), encoding="utf-8")
    by_hand = read_corrections(corrections, reading.panel) if corrections else None
    study = run_study(
        reading.panel,
        chosen,
        corrections=by_hand,
        store=Store(keep, float(os.environ.get("TANSY_STORE_MB", USUAL_MB))) if keep else None,
        backtest=export.save_backtest(out / "backtest.parquet") if backtest else None,
        progress=_progress(),
        scheduler=scheduler,
    )
    summary = export.write(study, reading.panel, out, form)
    if paths:
        write_paths(study.published, prepare(reading.panel, chosen, by_hand).known(), paths, out / "paths.parquet")
    typer.echo(json.dumps(summary, indent=2))


def _levels(written: str) -> list[float]:
    try:
        levels = [float(level) for level in written.split(",")]
    except ValueError:
        levels = []
    if not levels or not all(0.0 < level < 100.0 for level in levels):
        raise FileError(f"Levels are percentages between 0 and 100, separated by commas, not {written!r}.")
    return levels


@app.command("fit")
def fit_command(
    file: Path,
    time: Time,
    value: Value,
    model: Annotated[list[str], typer.Option("--model", help="A method, such as 'ets(A,Ad,N)'.")],
    horizon: Annotated[int, typer.Option(help="Number of leads.")],
    by: By = None,
    freq: Annotated[str | None, typer.Option(help="D, W, 4W, M, Q, Y or N (numbered); guessed otherwise.")] = None,
    season_length: Annotated[int | None, typer.Option(min=1, help="Periods per season.")] = None,
    driver: Annotated[
        list[str] | None, typer.Option("--driver", help="Column of a driver; may be given several times.")
    ] = None,
    levels: Annotated[str, typer.Option(help="Levels of the bands in percent.")] = "50,80,95",
    transform: Annotated[str, typer.Option(help="log: fit to the logarithms.")] = "",
    bands: Annotated[
        str, typer.Option(help="known: parameters taken as known; estimated: their uncertainty added.")
    ] = "estimated",
    out: Json = None,
) -> None:
    """Fit methods to every series of a file and print parameters, fitted values and forecasts as JSON."""
    if not 1 <= horizon <= _LONGEST_HORIZON:
        raise FileError(f"The horizon is from 1 to {_LONGEST_HORIZON:,} periods.")
    if bands not in ("known", "estimated"):
        raise FileError(f"Bands are known or estimated, not {bands!r}.")
    if transform not in ("", "log"):
        raise FileError(f"The transform is log, not {transform!r}.")
    p = probabilities(_levels(levels))
    options = ReadOptions(
        time=time, value=value, keys=tuple(by or ("series",)), gaps="unknown", frequency=freq,
        season_length=season_length, attribute_columns={}, driver_columns=tuple(driver or ()), unfinished="keep",
    )  # fmt: skip
    reading = read_panel(file, options)
    panel = reading.panel
    series = [panel.series_key(i) if panel.key_names != ("series",) else {} for i in range(panel.n_series)]
    fits: list[dict[str, Any]] = []
    for text in model:
        form = parse(f"{transform} {text}" if transform and not text.startswith("log ") else text)
        check_known_ahead(form, panel.drivers, panel.n_series, panel.timeline, horizon)
        fits += fits_json(form, Batch(panel.values, panel.timeline, panel.drivers), series, horizon, p, bands)
    _say(reading.findings, file.name)
    _print({"fits": fits}, out)


@app.command("score")
def score_command(
    forecasts: Path,
    actual: Annotated[Path, typer.Option(help="File with what came.")],
    train: Annotated[Path, typer.Option(help="File with the history that the forecasts were made from.")],
    time: Time,
    value: Value,
    season_length: Annotated[int, typer.Option(min=1, help="Periods per season, for MASE.")],
    by: By = None,
    out: Json = None,
) -> None:
    """Score forecasts (columns mean, q0.025, ...) against actuals with every measure."""
    table = read_table(forecasts)
    quantile_columns = {name: float(name[1:]) for name in table.columns if name.startswith("q0.") or name == "q0.5"}
    keys = tuple(by or ("series",))

    findings: list[tuple[list[Finding], str]] = []

    def load(path: Path, column: str) -> Panel:
        options = ReadOptions(
            time=time, value=column, keys=keys, gaps="unknown", attribute_columns={}, driver_columns=(),
            unfinished="keep",
        )  # fmt: skip
        reading = read_panel(path, options)
        findings.append((reading.findings, f"{path.name}, {column}"))
        return reading.panel

    mean = load(forecasts, "forecast" if "forecast" in table.columns else "mean")
    actuals = _aligned(mean, load(actual, value), actual)
    history = _aligned(mean, load(train, value), train, same_periods=False)
    quantiles = {p: _aligned(mean, load(forecasts, name), forecasts) for name, p in quantile_columns.items()}
    pooled, each = score(Forecasts(actuals, mean.values, quantiles, history), season_length)
    rows = [{"series": mean.series_key(i) if by else {}, **measures} for i, measures in enumerate(each)]
    for found, where in findings:
        _say(found, where)
    _print({"pooled": pooled, "series": rows}, out)


def _aligned(like: Panel, panel: Panel, path: Path, same_periods: bool = True) -> np.ndarray:
    """Values of `panel` in the series order of `like`, and on its periods where asked; NaN where there is none."""
    position = {tuple(panel.series_key(i).values()): i for i in range(panel.n_series)}
    wanted = [tuple(like.series_key(i).values()) for i in range(like.n_series)]
    missing = next((key for key in wanted if key not in position), None)
    if missing is not None:
        raise FileError(f"{path.name} has no rows for the series {' × '.join(missing)} that is forecast.")
    rows = panel.values[[position[key] for key in wanted]]
    if not same_periods:
        return rows
    if panel.timeline.frequency != like.timeline.frequency:
        raise FileError(f"{path.name} is not on the same kind of periods as the forecasts.")
    at = np.arange(like.timeline.first, like.timeline.last + 1) - panel.timeline.first
    inside = (at >= 0) & (at < panel.timeline.n_periods)
    values = np.full((like.n_series, like.timeline.n_periods), np.nan)
    values[:, inside] = rows[:, at[inside]]
    return values


@app.command("reconcile")
def reconcile_command(
    base: Annotated[Path, typer.Option(help="Columns node, lead, value.")],
    structure: Annotated[Path, typer.Option(help="Columns parent, child and, where they count, split and level.")],
    method: Annotated[
        str,
        typer.Option(
            help="bottom-up, top-down, middle-out(LEVEL), ols, structural, variance, shrinkage, sample or combined."
        ),
    ],
    residuals: Annotated[
        Path | None, typer.Option(help="Columns node, period, value; for those that go by errors.")
    ] = None,
    history: Annotated[
        Path | None, typer.Option(help="Columns node, period, value; for top-down and middle-out.")
    ] = None,
    season_length: Annotated[
        int, typer.Option(min=0, help="Periods of the history whose volume is shared by; 0 for all.")
    ] = 0,
    fixed: Annotated[
        Path | None, typer.Option(help="Columns node, lead, value: what stays exactly, the rest moves around it.")
    ] = None,
    nonnegative: Annotated[bool, typer.Option("--nonnegative", help="No finest node below zero.")] = False,
    variances: Annotated[
        bool, typer.Option("--variances", help="A column variance: of each reconciled node's error, if W is true.")
    ] = False,
    levels: Annotated[
        str, typer.Option(help="Levels of bands in percent, of joint paths of the residuals: 50,80,95.")
    ] = "",
    out: Annotated[Path | None, typer.Option("--out", help="CSV or .parquet file; CSV on stdout otherwise.")] = None,
) -> None:
    """Make base forecasts of any structure add up."""
    files = Files(base, structure, residuals, history, fixed)
    quantiles = probabilities(_levels(levels)) if levels else None
    table = reconcile_files(files, method, nonnegative, season_length, variances, quantiles)
    if out is not None and out.suffix == ".parquet":
        table.write_parquet(out)
    elif out is not None:
        table.write_csv(out)
    else:
        typer.echo(table.write_csv(), nl=False)


def _django() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "tansy.server.settings")
    import django
    from django.core.exceptions import ImproperlyConfigured

    try:
        django.setup()
    except ImproperlyConfigured as error:
        raise TansyError(str(error)) from None


@app.command()
def demo(
    reset: Annotated[
        bool, typer.Option("--reset", help="Start afresh; all that was done in the demo is lost.")
    ] = False,
    serve_too: Annotated[bool, typer.Option("--serve/--no-serve", help="Serve it afterwards.")] = True,
    port: Annotated[int, typer.Option(help="Port to serve on.")] = 8321,
) -> None:
    """Make the demo data, run the example study, publish a release and serve it."""
    from tansy.demo.script import prepare

    prepare(reset=reset, port=port)
    if serve_too:
        from tansy.server.serving import serve as start

        start("127.0.0.1", port)


@app.command()
def serve(
    host: Annotated[str, typer.Option(help="Address to bind to.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="Port.")] = 8321,
) -> None:
    """Serve the application and its worker."""
    from tansy.server.backup import check_start
    from tansy.server.data_folder import data_folder, database

    check_start(data_folder(), database(data_folder()))
    _django()
    from tansy.server.serving import migrate
    from tansy.server.serving import serve as start

    migrate()
    start(host, port)


@app.command()
def backup(
    file: Annotated[Path, typer.Argument(help="File to write, such as tansy.zip.")],
    files: Annotated[bool, typer.Option("--files/--no-files", help="With the files that people handed in.")] = True,
    store: Annotated[bool, typer.Option("--store", help="With results that could be computed again.")] = False,
) -> None:
    """Write a backup of all that is kept, while people work; checked before it is named."""
    from tansy.server.backup import back_up
    from tansy.server.data_folder import data_folder, database

    folder = data_folder()
    made = back_up(database(folder), folder, file, files=files, store=store)
    typer.echo(f"{file}: {len(made.sums):,} files, {made.bytes / 1e6:,.1f} MB, {made.releases:,} releases checked")


@app.command()
def verify() -> None:
    """Look whether all that is kept is whole: the database, what its rows name, and every release against its sum."""
    from tansy.server.backup import check_start, checked
    from tansy.server.data_folder import data_folder, database

    kept = database(data_folder())
    check_start(data_folder(), kept)
    if not kept.exists():
        raise TansyError(f"There is no database at {kept}; nothing has been served from this folder yet.")
    typer.echo(f"{kept} is whole: {checked(kept):,} releases are as they were published")


@app.command()
def restore(
    file: Annotated[Path, typer.Argument(help="A file that tansy backup wrote.")],
    into: Annotated[Path | None, typer.Option(help="An empty folder; the data folder without it.")] = None,
) -> None:
    """Put a backup into an empty folder: all of it, checked, or nothing."""
    from tansy.server.backup import restore as put_back
    from tansy.server.data_folder import data_folder

    folder = (into or data_folder()).resolve()
    made = put_back(file, folder)
    typer.echo(f"{folder}: {len(made.sums):,} files as of {made.made_at}, {made.releases:,} releases checked")


@app.command("export")
def export_command(
    file: Annotated[Path, typer.Argument(help="File to write, such as garden.zip.")],
    portfolio: Annotated[str, typer.Option(help="Its name; not needed where there is one alone.")] = "",
) -> None:
    """Write a portfolio as one open archive (Parquet, TOML, JSON), to be read anywhere or taken in by `import`."""
    own = _portfolio(portfolio)
    from tansy.server.archive import export as write

    told = write(own, file)
    typer.echo(f"{file}: {told.name}, {sum(told.rows.values()):,} records, {file.stat().st_size / 1e6:,.1f} MB")


@app.command("import")
def import_command(
    file: Annotated[Path, typer.Argument(help="A file that tansy export wrote.")],
    user: Annotated[str, typer.Option("--as", help="Name of the administrator who takes it in.")],
    name: Annotated[str, typer.Option(help="What the portfolio is called here; its own name without it.")] = "",
) -> None:
    """Take in a portfolio from an archive: all of it, checked, or nothing."""
    _django()
    from django.contrib.auth.models import User

    from tansy.server.archive import take_in
    from tansy.server.serving import migrate

    migrate()
    by = User.objects.filter(username=user, is_staff=True, is_active=True).first()
    if by is None:
        raise TansyError(f"There is no administrator named {user!r} here.")
    made = take_in(file, by, name)
    studies, releases = made.studies.count(), made.releases.count()
    typer.echo(f"{made.name} is taken in (studies: {studies:,}; releases, each as it was published: {releases:,})")


def _portfolio(name: str) -> Any:
    """The one of a name, or the only one there is."""
    _django()
    from tansy.server.portfolios.models import Portfolio
    from tansy.server.serving import migrate

    migrate()
    found = list(Portfolio.objects.filter(name=name) if name else Portfolio.objects.all())
    if len(found) != 1:
        names = ", ".join(repr(one.name) for one in Portfolio.objects.order_by("name")) or "none"
        raise TansyError(f"Say which portfolio, by --portfolio; there are {names}.")
    return found[0]


@app.command()
def report(
    out: Annotated[Path, typer.Option(help="File to write, such as report.html.")],
    portfolio: Annotated[str, typer.Option(help="Its name; not needed where there is one alone.")] = "",
) -> None:
    """Write the monthly report of a portfolio: one or two pages of HTML that stand by themselves."""
    own = _portfolio(portfolio)
    from rest_framework.exceptions import APIException

    from tansy.server.releases.report import as_html

    try:
        out.write_text(as_html(own), encoding="utf-8")
    except APIException as error:
        raise TansyError(str(error.detail)) from None


@app.command(context_settings={"allow_extra_args": True, "ignore_unknown_options": True})
def admin(context: typer.Context) -> None:
    """Run a management command of the server, such as `tansy admin createsuperuser`."""
    _django()
    from django.core.management import execute_from_command_line

    from tansy.server.serving import migrate

    if context.args[:1] == ["createsuperuser"]:
        migrate()  # the first user may be made before anything was served
    execute_from_command_line(["tansy admin", *context.args])


if __name__ == "__main__":
    main()
