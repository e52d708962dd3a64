"""What the commands print: tables, progress, and the outcome of a study."""

import contextlib
import os
import time
from collections.abc import Iterator
from typing import TYPE_CHECKING

import click
import numpy as np

from zephyrum._core.jit import compilations
from zephyrum.cli.tables import table
from zephyrum.flow.nonlinear.history import COEFFICIENT_TOLERANCES, TimeForecast, residual_decades
from zephyrum.flow.outcome import Outcome
from zephyrum.studies.compilation import expected_kernels, start_helper
from zephyrum.studies.jobs import JOBS
from zephyrum.studies.jobs.sweep import slope_warnings, typical
from zephyrum.studies.observer import Observer

if TYPE_CHECKING:
    from zephyrum.mesh.planning import MeshPlan
    from zephyrum.studies.grid_convergence import Refinement
    from zephyrum.studies.jobs.base import Table
    from zephyrum.studies.observer import Task
    from zephyrum.studies.study import Study


class KernelCounter:
    """Words about the kernels that are compiled: how many of how many, with the time left.

    Parameters
    ----------
    expected : int
        Number of kernels expected; see `expected_kernels`.
    """

    def __init__(self, expected: int):
        self.total = expected
        self.count, self.begin = 0, 0.0

    def words(self) -> str:
        """Sentence after one more kernel."""
        self.count += 1
        if self.count == 1:
            self.begin = time.monotonic()
        text = f"compiling kernels (first run only): {self.count} of about {max(self.total, self.count)}"
        if self.count > 5:
            left = (time.monotonic() - self.begin) / self.count * max(self.total - self.count, 0)
            text += f", about {left:.0f} s left"
        return text


@contextlib.contextmanager
def compilation_progress(expected: int) -> Iterator[None]:
    """Show the kernels that are compiled: on a terminal their number and the time left, elsewhere one line.

    Parameters
    ----------
    expected : int
        Number of kernels expected; see `expected_kernels`.
    """
    from rich.console import Console
    from rich.status import Status

    console = Console(stderr=True)
    status, counter = Status("", console=console), KernelCounter(expected)

    def kernel(_name: str) -> None:
        words = counter.words()
        if console.is_terminal:
            status.update(words)
            status.start()
        elif counter.count == 1:
            click.echo("compiling kernels (first run only)", err=True)

    try:
        with compilations(kernel):
            yield
    finally:
        status.stop()


class Progress(Observer):
    """A bar with time left on a terminal; elsewhere a line for every finished task and one a minute."""

    def __init__(
        self,
        total: int,
        what: str,
        residual_drop: float = 8.0,
        kinds: tuple[str, ...] = ("section",),
        helper_model: str | None = None,  # whose kernels a second process helps to compile
    ):
        from rich.console import Console
        from rich.progress import BarColumn, MofNCompleteColumn, Progress as Bar, TextColumn, TimeElapsedColumn

        console = Console(stderr=True)
        self.live = console.is_terminal
        self.bar = Bar(
            TextColumn("{task.description}"),
            BarColumn(),
            MofNCompleteColumn(),
            TimeElapsedColumn(),
            console=console,
            disable=not self.live,
        )
        self.task = self.bar.add_task(what, total=total)
        self.done, self.begin, self.spoken = 0, time.monotonic(), time.monotonic()
        self.residual_drop = residual_drop
        self.paces: dict[str, float] = {}
        self.kernels, self._listening = KernelCounter(expected_kernels(kinds)), compilations(self._kernel)
        self.kinds, self.helper_model, self._helper = kinds, helper_model, None

    def __enter__(self):
        self.bar.start()
        self._listening.__enter__()
        return self

    def __exit__(self, *cause):
        self._listening.__exit__(*cause)
        self.bar.stop()
        if self._helper is not None:
            self._helper.kill()

    def _kernel(self, _name: str) -> None:
        words = self.kernels.words()
        if self.kernels.count == 1 and self.helper_model is not None and (os.cpu_count() or 1) > 1:
            self._helper = start_helper(self.kinds, (self.helper_model,))  # type: ignore[assignment]
        if self.live:
            self.bar.update(self.task, description=words)
        elif self.kernels.count == 1:
            self._say("", "compiling kernels (first run only)")

    def planned(self, plan: "MeshPlan") -> None:
        """A mesh is about to be made.

        Parameters
        ----------
        plan : MeshPlan
            Its forecast.
        """
        click.echo(f"mesh: {plan}\n")

    def finished(self, task: "Task", row: dict) -> None:
        """A task is finished.

        Parameters
        ----------
        task : Task
            The task.
        row : dict
            Its row in the table of the job.
        """
        self.done += 1
        far = row.get("CD_far", float("nan"))
        drag = f"CD {row['CD']:.5f}" if far != far else f"far-field CD {far:.5f}"
        text = f"{task.job}, {task.label}: {row['outcome']}, CL {row['CL']:.4f}, {drag}"
        count = f"{task.index} of {task.total}" if task.total else f"{task.index}"
        self._say(text, f"{count}, {text}", completed=self.done)

    def step(self, task: "Task", row: dict) -> None:
        """A step of a run is done.

        Parameters
        ----------
        task : Task
            The task.
        row : dict
            Columns of its history.
        """
        if "level" not in row:  # in time
            text = f"{task.label}: {row['travelled']:.1f} chords, CL {row['CL']:.4f}"
        else:
            text = (
                f"{task.label}: step {row['step']:.0f}, {residual_decades(row):.1f} orders down, CL {row['CL']:.4f}, "
                f"{self._wait(task, row)}"
            )
        if self.live or time.monotonic() - self.spoken > 60.0:
            self._say(text, text)

    def _wait(self, task, row: dict) -> str:
        """How long a run will still take, or what it waits for."""
        if row["level"] != 0:
            return f"start on coarser level {row['level']:.0f}"
        left = self.paces.setdefault(task.label, TimeForecast(self.residual_drop)).left(row)  # type: ignore[call-overload]
        if residual_decades(row) >= self.residual_drop:
            limits = ", ".join(f"{name} {limit:g}" for name, limit in COEFFICIENT_TOLERANCES.items())
            return f"residuals are down; waits for the coefficients to drift by less than {limits} over 3 steps"
        if np.isnan(left):
            return f"waits for {self.residual_drop:g} orders"
        return f"about {left / 60.0:.0f} min left" if left > 90.0 else f"about {max(left, 1.0):.0f} s left"

    def _say(self, text: str, line: str, **update) -> None:
        self.bar.update(self.task, description=text, **update)
        if not self.live:
            self.spoken = time.monotonic()
            click.echo(f"[{self.spoken - self.begin:.0f} s] {line}", err=True)


def print_outcome(study: "Study") -> None:
    """Print what is implausible, the tables of a study and the checks of the point that stands for it.

    Parameters
    ----------
    study : Study
        The study.
    """
    rows = [] if study.polar is None else study.polar.table.to_dict("records")
    for row in rows:
        if row["outcome"] == Outcome.IMPLAUSIBLE:
            click.echo(f"IMPLAUSIBLE: M {row['mach']:g}, alpha {row['alpha']:g} deg: {row['reason']}")
    for made in study.tables():
        print_table(made)
    if missing := study.missing():
        click.echo(f"not finished: {', '.join(missing)}; run the study again to go on")
    if study.polar is None or study.mesh.planar:
        return
    for check in typical(study).checks():
        click.echo(f"check: {check}")
    for check in slope_warnings(study.derived):
        click.echo(f"check: {check}")


def print_table(made: "Table") -> None:
    """Print a table of a job with its sentences.

    Parameters
    ----------
    made : Table
        The table.
    """
    if made.rows:
        table(made.rows, made.columns, made.title)
    elif made.title:
        click.echo(made.title)
    for line in made.lines:
        click.echo(line)
    click.echo()


def print_refinement(refinement: "Refinement") -> None:
    """Print levels and estimates of a mesh study.

    Parameters
    ----------
    refinement : Refinement
        The mesh study.
    """
    for made in JOBS["refine"].tables(None, refinement):
        print_table(made)
