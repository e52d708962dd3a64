"""What the commands print: tables, progress, and the outcome of a study."""

import sys

import click
import numpy as np

from zephyrum.report.columns import DERIVED, FORCES, HEADS, LEVELS, POLAR, REFINED, SERIES, SLOPES, cell


def table(rows: list[dict], columns: dict[str, str], title: str = "") -> None:
    """Print rows as a short table; `columns` maps key to format."""
    from rich import box
    from rich.console import Console
    from rich.table import Table

    made = Table(title=title or None, box=box.SIMPLE_HEAD, title_justify="left", pad_edge=False)
    for name in columns:
        words = columns[name] == ""
        made.add_column(
            HEADS.get(name, name),
            justify="left" if words else "right",
            no_wrap=not words,
            min_width=7 if words else None,
        )
    for row in rows:
        made.add_row(*[cell(row.get(name), form) for name, form in columns.items()])
    Console(width=None if sys.stdout.isatty() else 150).print(made)


class Progress:
    """A bar with time left on a terminal; in a pipe nothing until the end."""

    def __init__(self, total: int, what: str, orders: float = 8.0):
        from rich.console import Console
        from rich.progress import BarColumn, MofNCompleteColumn, TextColumn, TimeElapsedColumn, TimeRemainingColumn
        from rich.progress import Progress as Bar

        console = Console(stderr=True)
        self.bar = Bar(TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeElapsedColumn(), TextColumn("left"),
                       TimeRemainingColumn(), console=console, disable=not console.is_terminal)  # fmt: skip
        self.task = self.bar.add_task(what, total=total)
        self.orders, self.paces = orders, {}

    def __enter__(self):
        self.bar.start()
        return self

    def __exit__(self, *_):
        self.bar.stop()

    def point(self, row: dict, done: int, total: int) -> None:
        """A point of a sweep is finished."""
        text = f"M {row['mach']:g} alpha {row['alpha']:+g}: {row['verdict']}, CL {row['CL']:.4f}"
        self.bar.update(self.task, completed=done, total=total, description=text)

    def step(self, at, row: dict) -> None:
        """A step of the march of a point is done."""
        from zephyrum.flow.history import Pace, orders_down

        left = self.paces.setdefault(at.name, Pace(self.orders)).left(row)
        mesh = f", mesh {at.coarser + 1} of the refinement" if at.coarser else ""
        mesh += "" if row["level"] == 0 else f" (coarser start {row['level']:.0f})"
        wait = f", about {left / 60.0:.0f} min left" if left > 90.0 else f", about {left:.0f} s left"
        if np.isnan(left):
            wait = ""
        text = f"M {at.mach:g} alpha {at.alpha:+g}{mesh}: step {row['step']:.0f}, {orders_down(row):.1f} orders down, CL {row['CL']:.4f}{wait}"
        self.bar.update(self.task, description=text)

    def moment(self, row: dict) -> None:
        """A step in time is done."""
        self.bar.update(self.task, description=f"in time: {row['travelled']:.1f} chords, CL {row['CL']:.4f}")

    def level(self, row: dict) -> None:
        """A mesh of a refinement is finished."""
        self.bar.update(self.task, description=f"refinement: {row['cells']} cells {row['verdict']}")


def print_outcome(outcome) -> None:
    """The tables of a study."""
    if outcome.polar is not None:
        held = outcome.polar.table
        table(
            held.to_dict("records"),
            {name: form for name, form in POLAR.items() if name in held},
            f"{outcome.study.title}: polar on {outcome.mesh.n_cells} cells",
        )
        for mach in sorted(held["mach"].unique()):
            if (peak := outcome.polar.lift_maximum(mach)) is not None:
                doubt = "" if peak["settled"] else "; not all points there settled"
                click.echo(
                    f"CLmax {peak['CL']:.4f} at alpha {peak['alpha']:.2f} +- {peak['alpha +-']:.2f} deg, M {mach:g}{doubt}"
                )
        rest = outcome.polar.table[outcome.polar.table["verdict"] != "settled"]
        for row in rest.itertuples():
            click.echo(f"not settled: M {row.mach:g}, alpha {row.alpha:g} deg: {row.verdict}, {row.reason}")
        if outcome.refinement is None:
            click.echo("mesh error unknown: add a [refine] table to the study")
    if outcome.refinement is not None:
        print_refinement(outcome.refinement)
    if outcome.series is not None:
        print_series(outcome.series)
    if hasattr(outcome, "derived"):
        print_aircraft(outcome)


def print_aircraft(outcome) -> None:
    """Forces by part and induced drag of one point of an aircraft study, what follows from the sweep, trim and derivatives."""
    if outcome.trim is not None:
        click.echo(f"trim at {outcome.trim['text']}\n")
    if outcome.derivatives is not None:
        own = outcome.study.derivatives
        table(
            outcome.derivatives.to_dict("records"),
            SLOPES,
            f"derivatives [1/rad] at M {own.mach:g}, alpha {own.alpha:g} deg",
        )
    if outcome.polar is None:
        return
    rows = outcome.polar.table
    row = rows.iloc[(rows["alpha"] - 4.0).abs().argmin()]
    solution = outcome.solution(float(row["mach"]), float(row["alpha"]))
    table(solution.forces.table().to_dict("records"), FORCES, f"forces at {solution.air.describe()}, both halves")
    click.echo(f"span loading: {solution.span_loading()}")
    if solution.air.mach < 1.0:
        wake = solution.wake_drag().iloc[1]
        made = "made by friction and the mesh" if solution.viscous else "made by the mesh, and shocks if any"
        click.echo(
            f"wake at x = {wake['x']:.4g} m: induced CD {wake['induced CD']:.5f}, entropy CD {wake['entropy CD']:.5f} ({made})\n"
        )
    if outcome.derived:
        table([one.row() for one in outcome.derived], DERIVED, "from the sweep, about the reference point")
    for check in dict.fromkeys(solution.checks()):
        click.echo(f"check: {check}")


def print_series(series) -> None:
    """Means, amplitudes and frequency of a march in time."""
    rows = [{"coefficient": name, "mean": mean, "amplitude": swing} for name, (mean, swing) in series.summary().items()]
    click.echo(f"in time at {series.last.air.describe()}, {series.travelled[-1]:g} chords travelled")
    table(rows, SERIES)
    if series.strouhal == series.strouhal:
        state = "periodic" if series.periodic else "not periodic yet: go on for longer"
        click.echo(f"Strouhal number {series.strouhal:.4f}, {state}\n")
    elif series.last.verdict == "settled":
        click.echo("steady in time: nothing swings\n")
    else:
        click.echo("fewer than three swings so far: raise the duration and run again, it goes on from here\n")


def print_refinement(refinement) -> None:
    """Levels and estimates."""
    table(refinement.table.to_dict("records"), LEVELS, f"refinement at {refinement.air.describe()}")
    table(refinement.rows(), REFINED)
    click.echo(f"verdict: {refinement.verdict}\n")
