"""A flow integrated in time: its record, means, amplitudes and frequency. `solve_unsteady` is the front door.

Verified by tests/test_unsteady.py and validation/ (vortex street behind a circle).
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import PATH, takes
from zephyrum.conditions import Freestream, Reference
from zephyrum.flow import Numerics
from zephyrum.mesh import Mesh
from zephyrum.results.solution import Solution
from zephyrum.solver import Case, TimeRun, run_unsteady
from zephyrum.solver.unsteady import steady_in_time

STEADY_AMPLITUDE = 2e-4  # amplitude of CL or CD below which nothing oscillates
PERIOD_TOLERANCE = 0.02  # relative difference of the amplitudes of successive periods that counts as periodic


@dataclass(frozen=True, eq=False)
class TimeSeries:
    """Coefficients over time, and the last state.

    Attributes
    ----------
    time : (n,) array
        [s]
    travelled : (n,) array
        Distance travelled [chords].
    CL, CD, CM : (n,) arrays
        Coefficients.
    last : Solution
        Solution of the last step.

    Examples
    --------
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_outline(zy.Outline.circle(1.0), around=64, outward=32)
    >>> series = zy.solve_unsteady(mesh, zy.Freestream(mach=0.1, reynolds=100.0))  # doctest: +SKIP
    >>> series.summary()["CD"]  # doctest: +SKIP
    """

    time: np.ndarray
    travelled: np.ndarray
    CL: np.ndarray
    CD: np.ndarray
    CM: np.ndarray
    last: Solution

    __repr__ = short_repr

    def __str__(self) -> str:
        found = ", ".join(f"{name} {mean:.4g} +- {amplitude:.2g}" for name, (mean, amplitude) in self.summary().items())
        return f"{len(self.time)} times over {self.travelled[-1]:.4g} chords: {found}"

    def table(self):
        """DataFrame of the record.

        Examples
        --------
        >>> t = np.arange(0.0, 40.0, 0.1)
        >>> series = TimeSeries(t, t, np.sin(t), 1.0 + 0.1 * np.cos(2.0 * t), 0.0 * t, None)
        >>> list(series.table().columns)
        ['time [s]', 'travelled [chords]', 'CL', 'CD', 'CM']
        """
        import pandas as pd

        names = {"time": "time [s]", "travelled": "travelled [chords]", "CL": "CL", "CD": "CD", "CM": "CM"}
        return pd.DataFrame({label: getattr(self, name) for name, label in names.items()})

    def crossings(self) -> np.ndarray:
        """Places [chords travelled] where CL rises through the mean of the last half of the record.

        Examples
        --------
        >>> t = np.arange(0.0, 40.0, 0.1)
        >>> series = TimeSeries(t, t, np.sin(t), 1.0 + 0.1 * np.cos(2.0 * t), 0.0 * t, None)
        >>> series.crossings().round(2)
        array([25.13, 31.42, 37.7 ])
        """
        half = self.travelled >= 0.5 * self.travelled[-1]
        off = self.CL - 0.5 * (self.CL[half].max() + self.CL[half].min())
        up = np.flatnonzero((off[:-1] < 0.0) & (off[1:] >= 0.0) & half[1:])
        fraction = off[up] / (off[up] - off[up + 1])
        return self.travelled[up] + fraction * (self.travelled[up + 1] - self.travelled[up])

    @property
    def strouhal(self) -> float:
        """Frequency of CL times chord over speed, from whole periods of the last half; nan if nothing oscillates.

        Examples
        --------
        >>> t = np.arange(0.0, 40.0, 0.1)
        >>> series = TimeSeries(t, t, np.sin(t), 1.0 + 0.1 * np.cos(2.0 * t), 0.0 * t, None)
        >>> round(series.strouhal, 4)
        0.1592
        """
        positions = self.crossings()
        if len(positions) < 3 or self.summary()["CL"][1] < STEADY_AMPLITUDE:
            return float("nan")
        return float((len(positions) - 1) / (positions[-1] - positions[0]))

    @property
    def periodic(self) -> bool:
        """Whether the last two periods oscillate alike.

        Examples
        --------
        >>> t = np.arange(0.0, 40.0, 0.1)
        >>> TimeSeries(t, t, np.sin(t), 1.0 + 0.1 * np.cos(2.0 * t), 0.0 * t, None).periodic
        True
        """
        positions = self.crossings()
        if len(positions) < 3:
            return False
        amplitude = [
            np.ptp(self.CL[(self.travelled >= a) & (self.travelled <= b)])
            for a, b in zip(positions[-3:-1], positions[-2:], strict=True)
        ]
        return bool(abs(amplitude[1] - amplitude[0]) <= PERIOD_TOLERANCE * max(amplitude[1], 1e-30))

    def summary(self) -> dict[str, tuple[float, float]]:
        """(mean, amplitude) of CL, CD, CM over whole periods of the last half of the record, or over all of it.

        Examples
        --------
        >>> t = np.arange(0.0, 40.0, 0.1)
        >>> series = TimeSeries(t, t, np.sin(t), 1.0 + 0.1 * np.cos(2.0 * t), 0.0 * t, None)
        >>> mean, amplitude = series.summary()["CD"]
        >>> round(mean, 3), round(amplitude, 3)
        (0.999, 0.1)
        """
        positions = self.crossings()
        low = 0.5 * self.travelled[-1]
        own = self.travelled >= low
        if len(positions) >= 2:
            own = (self.travelled >= positions[0]) & (self.travelled <= positions[-1])
        x = self.travelled[own]
        out = {}
        for name in ("CL", "CD", "CM"):
            y = getattr(self, name)[own]
            mean = float(np.trapezoid(y, x) / (x[-1] - x[0])) if len(x) > 1 else float(y[-1])
            out[name] = (mean, float(0.5 * np.ptp(y)))
        return out


@takes(mesh=Mesh, air=Freestream, model=str, reference=Reference, numerics=Numerics, start=Solution, keep=PATH)
def solve_unsteady(
    mesh: Mesh,
    air: Freestream,
    model: str = "laminar",
    duration: float = 60.0,
    step: float = 0.02,
    start: Solution | None = None,
    on_step: Callable[[dict], None] | None = None,
    keep: str | Path | None = None,
    **conditions,
) -> TimeSeries:
    """Follow the flow of `air` about `mesh` in time, to second order.

    Parameters
    ----------
    mesh, air, model
        As in `solve`.
    duration, step : float
        Distances travelled, in chords; about 40 steps a period resolve a vortex street.
    start : Solution, optional
        On the same mesh, for example a steady one that oscillated; without it the body is set in motion at once.
    on_step : callable, optional
        Receives a dict of distance, CL, CD and CM after every step.
    keep : path, optional
        An .npz file that holds the run, renewed every few seconds. A run that was broken off, or that is now wanted
        longer, goes on from it.
    **conditions
        The fields `reference`, `numerics`, `walls` and `ground` of `Case`, as in `solve`.

    Returns
    -------
    TimeSeries

    Raises
    ------
    InputError, FlowError, FileError
        For bad input, a step that fails, a `keep` of another run.

    Examples
    --------
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_outline(zy.Outline.circle(1.0), around=64, outward=32)
    >>> air = zy.Freestream(mach=0.1, reynolds=100.0)
    >>> zy.solve_unsteady(mesh, air, duration=40.0, step=0.05).strouhal  # doctest: +SKIP
    """
    case = Case.of(mesh, air, model=model, **conditions)
    return series_of(run_unsteady(case, duration, step, start, on_step, keep))


def series_of(run: TimeRun) -> TimeSeries:
    """Time series of a run in time.

    Parameters
    ----------
    run : TimeRun
        The run.
    """
    case = run.last.case
    seconds = run.travelled * case.reference.chord / case.air.speed
    series = TimeSeries(seconds, run.travelled, *run.coefficients.T, Solution.of(run.last))  # type: ignore[call-arg]
    if max(series.summary()[name][1] for name in ("CL", "CD")) < STEADY_AMPLITUDE:
        series = replace(series, last=Solution.of(steady_in_time(run.last)))
    return series
