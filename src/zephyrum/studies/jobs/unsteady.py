"""[time]: one condition followed in time, for flows that are not steady.

Verified by tests/test_files.py.
"""

from typing import TYPE_CHECKING

from pydantic import Field

from zephyrum.errors import InputError
from zephyrum.flow.outcome import Outcome
from zephyrum.results import TimeSeries
from zephyrum.results.time_series import series_of
from zephyrum.solver import TimeRun, run_unsteady
from zephyrum.solver.unsteady import TimeFile, time_unit
from zephyrum.studies.common_tables import Finite, Strict
from zephyrum.studies.jobs.base import Figure, Job, Table
from zephyrum.studies.observer import Task

if TYPE_CHECKING:
    from zephyrum.studies.observer import Observer
    from zephyrum.studies.study import Study


SERIES = {"coefficient": "", "mean": ".5f", "amplitude": ".2g"}
LAST = "time-last"  # point file of the last state


class TimeSpec(Strict):
    """The table of a study file for a run in time.

    Attributes
    ----------
    mach, alpha : float
        Condition; alpha in [deg].
    duration, step : float
        [chords] travelled.

    Examples
    --------
    >>> TimeSpec(mach=0.3, alpha=4.0).duration
    60.0
    """

    mach: Finite
    alpha: Finite
    duration: float = Field(60.0, gt=0, le=1e5)
    step: float = Field(0.05, gt=0)


class TimeJob(Job):
    """A run in time."""

    name = "time"
    order = 3
    Spec = TimeSpec
    kinds = ("section",)
    files = {"time.csv": "coefficients over time of the run in time", "time.npz": "its last states, to go on from"}
    template = {
        "section": """# [time]                  # one condition followed in time, for flows that are not steady
# mach = 0.2
# alpha = 18
# duration = 60           # chords travelled
# step = 0.05
"""
    }

    def check(self, study: "Study", spec: "TimeSpec"):
        if spec.step > spec.duration:
            raise InputError(
                f"time.step = {spec.step:g} is longer than time.duration = {spec.duration:g}; give a shorter step."
            )

    def run(self, study: "Study", spec: "TimeSpec", observer: "Observer") -> TimeSeries:
        case = study.case(spec.mach, spec.alpha, observer)
        total = round(spec.duration / spec.step)
        task = Task(self.name, f"M {spec.mach:g} alpha {spec.alpha:+g} in time", 0, total)
        series = series_of(
            run_unsteady(
                case,
                spec.duration,
                spec.step,
                study.stored_solution(case),
                lambda row: observer.step(task, row),
                self._file(study),
            )
        )
        study.workspace.write_table("time", series.table())
        store = study.workspace.store
        series.last.save(store.state(LAST), store.mesh_file(case.mesh))
        found = {name: mean for name, (mean, _) in series.summary().items()}
        observer.finished(
            Task(self.name, task.label, total, total),
            found | {"outcome": "periodic" if series.periodic else series.last.outcome},
        )
        return series

    def load(self, study: "Study", spec: "TimeSpec") -> TimeSeries | None:
        case = study.stored_case(spec.mach, spec.alpha)
        if case is None:
            return None
        stored = TimeFile.of(self._file(study), case, spec.step).read()
        last = study.stored_solution(case, LAST)
        if stored is None or last is None:
            return None
        rows = stored[0]
        return series_of(TimeRun(rows[:, 0] / time_unit(case), rows[:, 1:4], last))

    @staticmethod
    def _file(study):
        return study.workspace.folder / "time.npz"

    def tables(self, study: "Study", result: TimeSeries):
        rows = [
            {"coefficient": name, "mean": mean, "amplitude": amplitude}
            for name, (mean, amplitude) in result.summary().items()
        ]
        if result.strouhal == result.strouhal:
            state = "periodic" if result.periodic else "not periodic yet: go on for longer"
            line = f"Strouhal number {result.strouhal:.4f}, {state}"
        elif result.last.outcome == Outcome.CONVERGED:
            line = "steady in time: nothing oscillates"
        else:
            line = "fewer than three oscillations so far: raise the duration and run again, it goes on from here"
        title = f"in time at {result.last.air.describe()}, {result.travelled[-1]:g} chords travelled"
        return [Table(rows, SERIES, title, (line,))]

    def figures(self, study: "Study", result: TimeSeries):
        return [Figure("time", "time", (result,), caption="Coefficients in time.", position="convergence")]


JOB = TimeJob()
