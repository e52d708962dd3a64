"""One run of a case in time, kept on disk so that it can be continued.

Verified by tests/test_unsteady.py and validation/ (vortex street behind a circle).
"""

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from zephyrum._core.atomic_files import atomic_write, errors_as_warnings
from zephyrum._core.npz_reader import DamagedArrays, read_arrays
from zephyrum._core.validation import number
from zephyrum.errors import FileError, FlowError, InputError
from zephyrum.flow import TimeIntegration, TimeReports, TimeSteps, integrate_in_time
from zephyrum.flow.outcome import Outcome
from zephyrum.solver.case import Case
from zephyrum.solver.steady import Run

SAVE_INTERVAL = 10.0  # seconds between two writings of a kept run in time


@dataclass(frozen=True, eq=False)
class TimeRun:
    """Result of a run in time.

    Attributes
    ----------
    travelled : (n,) array
        Distance [chords].
    coefficients : (n, 3) array
        CL, CD, CM.
    last : Run
        Last state.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> case = Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3))
    >>> run_unsteady(case, duration=1.0, step=0.5).coefficients.shape
    (3, 3)
    """

    travelled: np.ndarray
    coefficients: np.ndarray
    last: Run


@dataclass
class TimeFile:
    """File of a run in time: its rows, the last two states, the fingerprint of case and step.

    Attributes
    ----------
    path : path
        File.
    key : str
        Fingerprint.
    written : float
        Clock of the last writing [s].
    """

    path: Path
    key: str
    written: float = 0.0

    @classmethod
    def of(cls, path: str | Path, case: Case, step: float) -> "TimeFile":
        """File of a case run in time.

        Parameters
        ----------
        path : path
            File (.npz).
        case : Case
            The case.
        step : float
            Time step [chords].
        """
        return cls(Path(path), f"{case.fingerprint} {step!r}")

    def read(self, count: int | None = None):
        """Read the steps of a run.

        Parameters
        ----------
        count : int, optional
            Largest number of steps.

        Returns
        -------
        tuple or None
            Rows, states, and states a step earlier; None if there is no file.

        Raises
        ------
        FileError
            The file belongs to another run.
        """
        if not self.path.exists():
            return None
        try:
            data = read_arrays(self.path, ("key", "rows", "now", "before"))
        except DamagedArrays as cause:
            raise FileError(f"run {str(self.path)!r} can't be read ({cause}); remove it and run again.") from None
        key, rows, now, before = str(data["key"]), data["rows"], data["now"], data["before"]
        if key != self.key or (count is not None and len(rows) > count + 1):
            why = "it is longer" if key == self.key else "mesh, condition, step or numerics differ"
            raise FileError(f"run {str(self.path)!r} is another one ({why}); remove it or choose another file.")
        return rows, now, before

    def write(self, rows: np.ndarray, now: np.ndarray, before: np.ndarray, last: bool = False) -> None:
        """Write the file atomically, at most every `SAVE_INTERVAL` seconds.

        Parameters
        ----------
        rows : array
            Rows of the steps.
        now, before : array
            States of the last step and of the step before.
        last : bool, optional
            Whether to write in any case.
        """
        if last or time.monotonic() - self.written > SAVE_INTERVAL:
            self.written = time.monotonic()
            with (
                errors_as_warnings("the run goes on, but is not kept"),
                atomic_write(self.path) as part,
                part.open("wb") as file,
            ):
                np.savez(file, key=self.key, rows=rows, now=now, before=before)


def run_unsteady(
    case: Case,
    duration: float,
    step: float,
    start: Run | None = None,
    on_step: Callable[[dict], None] | None = None,
    keep: str | Path | None = None,
) -> TimeRun:
    """March a case in time, to second order; `duration` and `step` in chords travelled.

    Parameters
    ----------
    start : Run, optional
        On the same mesh with the same model; without it the body is set in motion at once.
    keep : path, optional
        An .npz file that holds the run, renewed every few seconds. A run that was broken off, or that is now wanted
        longer, goes on from it.

    Raises
    ------
    InputError, FlowError, FileError
        For bad input, a step that fails, a `keep` of another run.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> case = Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3))
    >>> run = run_unsteady(case, duration=1.0, step=0.5)
    >>> run.travelled.round(6)
    array([0. , 0.5, 1. ])
    """
    number("duration", duration, 0.0, 1e5, open_low=True)
    number("step", step, 0.0, duration, open_low=True)
    state = None
    if start is not None:
        if start.case.mesh.fingerprint != case.mesh.fingerprint or start.case.model != case.model:
            raise InputError("start belongs to another mesh or model; give a solution on this mesh with this model.")
        state = start.flow.q
    unit = time_unit(case)
    count = int(np.ceil(duration / step - 1e-9))
    stored = None if keep is None else TimeFile.of(keep, case, step)
    in_chords = None if on_step is None else lambda row: on_step(row | {"travelled": row.pop("time") / unit})
    made = integrate_in_time(
        case.problem(),
        TimeSteps(step * unit, count),
        state,
        reports=TimeReports(in_chords, stored and stored.write),  # type: ignore[arg-type]
        resume=stored and stored.read(count),  # type: ignore[arg-type]
    )
    if stored is not None:
        stored.write(made.rows, made.flow.q, made.before, True)
    if made.flow.outcome == Outcome.FAILED:
        raise FlowError(f"{made.flow.reason} than {step:g} chords.")
    return _finished(case, made)


def time_unit(case: Case) -> float:
    """One chord of travel in scaled time.

    Parameters
    ----------
    case : Case
        The case.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> case = Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.5))
    >>> round(time_unit(case), 6)  # one chord at Mach 0.5
    2.0
    """
    return case.reference.chord / case.computed.mach


def _finished(case: Case, made: TimeIntegration) -> TimeRun:
    return TimeRun(made.rows[:, 0] / time_unit(case), made.rows[:, 1:4], Run(case, made.flow, case.notes))


def steady_in_time(run: Run) -> Run:
    """The last state of a run in which nothing oscillates, called converged.

    Parameters
    ----------
    run : Run
        The run.
    """
    return replace(run, flow=replace(run.flow, outcome=Outcome.CONVERGED, reason="steady in time"))
