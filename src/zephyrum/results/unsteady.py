"""A flow marched in time: its record, means, amplitudes and frequency. `solve_in_time` is the front door.

Verified by tests/test_unsteady.py and validation/ (vortex street behind a circle).
"""

import time
import zipfile
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from zephyrum.air.checks import number, takes
from zephyrum.errors import FileError, FlowError, InputError
from zephyrum.flow import Settings, march_in_time
from zephyrum.mesh import Mesh
from zephyrum.one_stroke import one_stroke, warned
from zephyrum.results.case import prepared
from zephyrum.results.solution import Solution
from zephyrum.results.solve import ARGUMENTS
from zephyrum.told import told

STEADY = 2e-4  # amplitude of CL or CD below which nothing swings
EVERY = 10.0  # seconds between two writings of a kept march
ALIKE = 0.02  # relative difference of the amplitudes of successive periods that counts as periodic


@dataclass(frozen=True, eq=False)
class TimeSeries:
    """Coefficients over time, and the last state as a Solution.

    time (n,) [s]; travelled (n,): distance flown in chords; CL, CD, CM (n,).
    """

    time: np.ndarray
    travelled: np.ndarray
    CL: np.ndarray
    CD: np.ndarray
    CM: np.ndarray
    last: Solution

    __repr__ = told

    def __str__(self) -> str:
        found = ", ".join(f"{name} {mean:.4g} +- {swing:.2g}" for name, (mean, swing) in self.summary().items())
        return f"{len(self.time)} times over {self.travelled[-1]:.4g} chords: {found}"

    def table(self):
        """DataFrame of the record."""
        import pandas as pd

        names = {"time": "time [s]", "travelled": "travelled [chords]", "CL": "CL", "CD": "CD", "CM": "CM"}
        return pd.DataFrame({label: getattr(self, name) for name, label in names.items()})

    def crossings(self) -> np.ndarray:
        """Places [chords travelled] where CL rises through the mean of the last half of the record."""
        half = self.travelled >= 0.5 * self.travelled[-1]
        off = self.CL - 0.5 * (self.CL[half].max() + self.CL[half].min())
        up = np.flatnonzero((off[:-1] < 0.0) & (off[1:] >= 0.0) & half[1:])
        share = off[up] / (off[up] - off[up + 1])
        return self.travelled[up] + share * (self.travelled[up + 1] - self.travelled[up])

    @property
    def strouhal(self) -> float:
        """Frequency of CL times chord over speed, from whole periods of the last half; nan if nothing swings."""
        places = self.crossings()
        if len(places) < 3 or self.summary()["CL"][1] < STEADY:
            return float("nan")
        return float((len(places) - 1) / (places[-1] - places[0]))

    @property
    def periodic(self) -> bool:
        """Whether the last two periods swing alike."""
        places = self.crossings()
        if len(places) < 3:
            return False
        swing = [np.ptp(self.CL[(self.travelled >= a) & (self.travelled <= b)]) for a, b in zip(places[-3:-1], places[-2:], strict=True)]  # fmt: skip
        return abs(swing[1] - swing[0]) <= ALIKE * max(swing[1], 1e-30)

    def summary(self) -> dict[str, tuple[float, float]]:
        """(mean, amplitude) of CL, CD, CM over whole periods of the last half of the record, or over all of it."""
        places = self.crossings()
        low = 0.5 * self.travelled[-1]
        own = self.travelled >= low
        if len(places) >= 2:
            own = (self.travelled >= places[0]) & (self.travelled <= places[-1])
        x = self.travelled[own]
        out = {}
        for name in ("CL", "CD", "CM"):
            y = getattr(self, name)[own]
            mean = float(np.trapezoid(y, x) / (x[-1] - x[0])) if len(x) > 1 else float(y[-1])
            out[name] = (mean, float(0.5 * np.ptp(y)))
        return out


@dataclass
class _Kept:
    """The file that holds a march in time: rows and the last two states, and whose they are."""

    path: Path
    key: str
    written: float = 0.0

    def read(self, count: int):
        """What there is of the first `count` steps (None: nothing); FileError if it belongs to another march."""
        if not self.path.exists():
            return None
        try:
            with np.load(self.path, allow_pickle=False) as data:
                key, rows, now, before = str(data["key"]), data["rows"], data["now"], data["before"]
        except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile) as cause:
            raise FileError(f"march {str(self.path)!r} can't be read ({cause}); remove it and run again.") from None
        if key != self.key or len(rows) > count + 1:
            why = "it is longer" if key == self.key else "mesh, condition, step or settings differ"
            raise FileError(f"march {str(self.path)!r} is another one ({why}); remove it or choose another file.")
        return rows, now, before

    def write(self, rows, now, before, last: bool = False) -> None:
        """Write the file in one stroke, at most every EVERY seconds."""
        if last or time.monotonic() - self.written > EVERY:
            self.written = time.monotonic()
            with warned("the march goes on, but is not kept"), one_stroke(self.path) as part, part.open("wb") as file:
                np.savez(file, key=self.key, rows=rows, now=now, before=before)


@takes(**ARGUMENTS)
def solve_in_time(
    mesh: Mesh,
    air,
    model: str = "laminar",
    duration: float = 60.0,
    step: float = 0.02,
    reference=None,
    settings: Settings | None = None,
    start: Solution | None = None,
    walls=None,
    on_step: Callable[[dict], None] | None = None,
    keep: str | Path | None = None,
) -> TimeSeries:
    """Follow the flow of `air` about `mesh` in time, to second order.

    duration and step are in chords travelled (time = chords times chord over speed); about 40 steps a period resolve a
    vortex street. start: a Solution on the same mesh, for example the steady one that wandered; without it the body is
    set in motion at once. keep: an .npz file that holds the march, renewed every few seconds; a march that was broken
    off, or that is now wanted longer, goes on from it. Other arguments as in `solve`.
    Raises InputError for bad input, FlowError if a step fails, FileError if `keep` belongs to another march.
    """
    number("duration", duration, 0.0, 1e5, open_low=True)
    number("step", step, 0.0, duration, open_low=True)
    settings = settings or Settings()
    case = prepared(mesh, air, model, reference, walls)
    state = None
    if start is not None:
        if start.mesh.fingerprint != mesh.fingerprint or start.model != model:
            raise InputError("start belongs to another mesh or model; give a solution on this mesh with this model.")
        state = start.flow.q
    unit = case.reference.chord / case.computed.mach  # one chord of travel in scaled time
    count = int(np.ceil(duration / step - 1e-9))
    wrapped = None
    if on_step is not None:
        wrapped = lambda row: on_step(row | {"travelled": row.pop("time") / unit})  # noqa: E731
    kept = (
        None
        if keep is None
        else _Kept(Path(keep), f"{mesh.fingerprint} {air.describe()} {model} {step!r} {settings!r} {walls!r}")
    )
    made = march_in_time(
        mesh, case.computed, case.reference, step * unit, count, settings, state, wrapped, model, case.walls,
        resume=kept and kept.read(count), on_state=kept and kept.write,
    )  # fmt: skip
    if kept is not None:
        kept.write(made.rows, made.flow.q, made.before, True)
    if made.flow.verdict == "failed":
        raise FlowError(f"{made.flow.reason} than {step:g} chords.")
    travelled = made.rows[:, 0] / unit
    last = Solution(mesh, air, case.reference, model, settings, made.flow, tuple(case.notes))
    series = TimeSeries(travelled * case.reference.chord / air.speed, travelled, *made.rows[:, 1:4].T, last)
    if max(series.summary()[name][1] for name in ("CL", "CD")) < STEADY:
        series = replace(
            series, last=replace(last, flow=replace(made.flow, verdict="settled", reason="steady in time"))
        )
    return series
