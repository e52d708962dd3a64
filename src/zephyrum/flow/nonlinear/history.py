"""The history of a run: every residual and every coefficient at every step, the outcome drawn from it, and how long it
will take.
"""

from dataclasses import dataclass, field

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum.flow.physics.gas_model import EQUATION_NAMES

COEFFICIENT_TOLERANCES = {"CL": 1e-4, "CD": 1e-5, "CM": 1e-4}  # a tenth of a lift count, of a drag count
FORECAST_STEPS = 8  # steps whose slope a forecast goes by
COEFFICIENTS = tuple(COEFFICIENT_TOLERANCES)
COLUMNS = (
    "step",
    "level",
    "seconds",
    "cfl",
    "krylov",
    "factor",
    *(f"residual_{name}" for name in EQUATION_NAMES),
    *COEFFICIENTS,
)


@dataclass
class History:
    """Rows of COLUMNS, one for each step, oldest first.

    Attributes
    ----------
    rows : list[tuple]
        The rows.
    window : int
        Steps over which coefficients may drift.

    Notes
    -----
    A residual column holds the square root of the sum over cells of (net outflow)^2 / volume, over the same of the
    undisturbed stream on the same mesh.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> history = solve(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3)).flow.history
    >>> drop = history.drop()[:, 0]  # residual of the mass over that of the undisturbed stream
    >>> bool(drop[-1] < 1e-6)
    True
    """

    rows: list[tuple] = field(default_factory=list)
    window: int = 3

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"{len(self.rows)} steps"

    def add(self, *values: float) -> None:
        """Append one step, values in the order of COLUMNS.

        Examples
        --------
        >>> history = History()
        >>> history.add(*range(len(COLUMNS)))
        >>> len(history.rows)
        1
        """
        self.rows.append(values)

    def column(self, name: str, level: int | None = None) -> np.ndarray:
        """One column, of one mesh level or of all.

        Parameters
        ----------
        name : str
            Column.
        level : int, optional
            0 is the finest; all without it.

        Examples
        --------
        >>> history = History()
        >>> for value in (0.1, 0.2):
        ...     history.add(*[value] * len(COLUMNS))
        >>> history.column("CL")
        array([0.1, 0.2])
        """
        k, at = COLUMNS.index(name), COLUMNS.index("level")
        return np.array([row[k] for row in self.rows if level is None or row[at] == level], dtype=float)

    def drop(self) -> np.ndarray:
        """(steps, equations) residuals over those of the undisturbed stream, on the finest level.

        Examples
        --------
        >>> History([(0,) * len(COLUMNS)] * 3).drop().shape
        (3, 7)
        """
        return np.stack([self.column(f"residual_{name}", 0) for name in EQUATION_NAMES], axis=1)

    def period(self) -> float:
        """Steps a cycle of CL over the last half of the finest level's history (at most 80 steps); nan if it does not
        cycle.

        Examples
        --------
        >>> CL = 0.5 + 0.01 * np.sin(2.0 * np.pi * np.arange(160) / 10.0)
        >>> round(History([tuple(x if name == "CL" else 0 for name in COLUMNS) for x in CL]).period(), 1)
        10.0
        """
        values = self.column("CL", 0)
        values = values[-max(1, min(80, len(values) // 2)) :]
        if len(values) < 8:
            return float("nan")
        x = np.arange(len(values))
        rest = values - np.polyval(np.polyfit(x, values, 1), x)
        power = np.abs(np.fft.rfft(rest * np.hanning(len(rest)))) ** 2
        peak = int(np.argmax(power[2:])) + 2 if len(power) > 2 else 0
        if not peak or power[peak] < 0.2 * power[1:].sum():
            return float("nan")
        return len(rest) / peak

    def resting(self, steps: int, fraction: float) -> bool:
        """Whether CL and CD changed by less than a fraction of them over the last steps, whatever the mesh.

        Parameters
        ----------
        steps : int
            Number of steps.
        fraction : float
            The fraction.

        Examples
        --------
        >>> history = History([(0.5,) * len(COLUMNS)] * 4)
        >>> history.resting(steps=3, fraction=1e-4)
        True
        """
        rows = np.array(self.rows[-steps - 1 :])[:, [COLUMNS.index("CL"), COLUMNS.index("CD")]]
        return bool((np.ptp(rows, axis=0) < fraction * np.abs(rows[-1])).all())

    def drift(self) -> float:
        """Largest change of any coefficient over the last `window` steps of the finest level.

        Examples
        --------
        >>> History([(0,) * len(COLUMNS)] * 5).drift()
        0.0
        """
        return max(self._changes().values())

    def drifts(self) -> bool:
        """Whether any coefficient changed by more than its tolerance (`COEFFICIENT_TOLERANCES`) over those steps.

        Examples
        --------
        >>> History([(0,) * len(COLUMNS)] * 5).drifts()
        False
        """
        return any(change > COEFFICIENT_TOLERANCES[name] for name, change in self._changes().items())

    def _changes(self) -> dict[str, float]:
        if len(self.column("CL", 0)) <= self.window:
            return dict.fromkeys(COEFFICIENTS, np.inf)
        return {name: float(np.ptp(self.column(name, 0)[-self.window - 1 :])) for name in COEFFICIENTS}


def residual_decades(row: dict) -> float:
    """Decades that the largest residual has fallen.

    Parameters
    ----------
    row : dict
        Row of COLUMNS.

    Examples
    --------
    >>> residual_decades(dict.fromkeys(COLUMNS, 1e-3))
    3.0
    """
    return -float(np.log10(max(*(row[f"residual_{name}"] for name in EQUATION_NAMES), 1e-30)))


@dataclass
class TimeForecast:
    """Forecast of the time that a run still takes, from the slope of the largest residual on the finest mesh.

    Attributes
    ----------
    residual_drop : float
        Decades to be reached.
    seen : list[tuple[float, float]]
        (clock [s], decades) of the steps so far.

    Examples
    --------
    >>> TimeForecast(residual_drop=8.0).seen
    []
    """

    residual_drop: float
    seen: list[tuple[float, float]] = field(default_factory=list)

    def left(self, row: dict) -> float:
        """Time left [s]; NaN on coarser meshes, in the first steps and while residuals do not fall.

        Parameters
        ----------
        row : dict
            Row of COLUMNS.
        """
        if row["level"] != 0:
            self.seen.clear()
            return float("nan")
        self.seen = [*self.seen, (row["seconds"], -residual_decades(row))][-FORECAST_STEPS:]
        (first, high), (last, low) = self.seen[0], self.seen[-1]
        if len(self.seen) < FORECAST_STEPS or low >= high - 0.05:
            return float("nan")
        return max(low + self.residual_drop, 0.0) * (last - first) / (high - low)
