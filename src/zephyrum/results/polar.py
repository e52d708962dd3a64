"""A polar: one table, a row a point, with condition, result, outcome, mesh and time; CSV plus a JSON sidecar."""

import json
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pandas as pd

from zephyrum._core.atomic_files import write_text
from zephyrum._core.interpolated_maximum import interpolated_maximum
from zephyrum._core.representation import short_repr
from zephyrum.errors import FileError
from zephyrum.flow.outcome import Outcome

KNOWN_DRAG_FRACTION = 0.2
COLUMNS = (
    "mach",
    "alpha",
    "reynolds",
    "CL",
    "CD",
    "CM",
    "CD_far",
    "CD_far_error",
    "CD_induced",
    "CD_wave",
    "CD_viscous",
    "CD_spurious",
    "CD_pressure",
    "CD_friction",
    "CX",
    "CZ",
    "L/D",
    "y_plus_max",
    "outcome",
    "residual_drop",
    "drift",
    "numerics",
    "CL_amplitude",
    "CD_amplitude",
    "CL_error",
    "CD_error",
    "CM_error",
    "cp_min",
    "mach_max",
    "model",
    "cells",
    "mesh",
    "case",
    "steps",
    "seconds",
    "reason",
)


def with_known_drag(table: pd.DataFrame) -> pd.DataFrame:
    """Table of a polar with far-field drag and its error as CD where it is known.

    Parameters
    ----------
    table : pandas.DataFrame
        Columns as in COLUMNS.

    Examples
    --------
    >>> with_known_drag(pd.DataFrame({"CD": [0.03, 0.02], "CD_far": [0.02, np.nan]}))["CD"].tolist()
    [0.02, 0.02]
    """
    if "CD_far" not in table:
        return table
    known, out = table["CD_far"].notna(), table.copy()
    out["CD"] = table["CD_far"].where(known, table["CD"])
    if "CD_error" in table:
        out["CD_error"] = table["CD_far_error"].where(known, table["CD_error"])
    return out


def unknown_drag(table: pd.DataFrame) -> pd.Series:
    """Points of a polar with errors whose drag is not known well enough for a ratio.

    Parameters
    ----------
    table : pandas.DataFrame
        With "CD" and "CD_error", and "CD_far" and "CD_far_error" where far-field drag is known.

    Returns
    -------
    pandas.Series of bool

    Notes
    -----
    The error exceeds `KNOWN_DRAG_FRACTION` of the far-field drag, or, where that is not known, of that of the surface.

    Examples
    --------
    >>> unknown_drag(pd.DataFrame({"CD": [0.01, 0.01], "CD_error": [0.001, 0.005]})).tolist()
    [False, True]
    """
    known = with_known_drag(table)
    return known["CD_error"] > KNOWN_DRAG_FRACTION * known["CD"].abs()


@dataclass(frozen=True)
class Polar:
    """Coefficients over angles of attack and Mach numbers.

    Attributes
    ----------
    table : pd.DataFrame
        Columns as in COLUMNS, sorted by mach and alpha.
    notes : dict
        How the polar was made.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Polar.read("polar.csv").table  # doctest: +SKIP
    """

    table: pd.DataFrame
    notes: dict = field(default_factory=dict)

    __repr__ = short_repr

    def __str__(self) -> str:
        t = self.table
        count = ", ".join(f"{n} {outcome}" for outcome, n in t["outcome"].value_counts().items())
        machs = " ".join(f"{m:g}" for m in sorted(t["mach"].unique()))
        return f"{len(t)} points, M {machs}, alpha {t['alpha'].min():g} to {t['alpha'].max():g} deg: {count}"

    @classmethod
    def of(cls, rows: list[dict], notes: dict | None = None) -> "Polar":
        """Polar of the rows of points.

        Parameters
        ----------
        rows : list[dict]
            One dict for each point.
        notes : dict, optional
            How the polar was made.

        Examples
        --------
        >>> rows = [{"mach": 0.3, "alpha": 0.0, "CL": 0.0, "CD": 0.01, "CM": 0.0, "outcome": "converged"}]
        >>> len(Polar.of(rows).table)
        1
        """
        given = pd.DataFrame(rows)
        friction = {"CD_pressure", "CD_friction", "y_plus_max"}  # only where the model has it
        table = given.reindex(columns=[name for name in COLUMNS if name in given or name not in friction]).sort_values(
            ["mach", "alpha"], ignore_index=True
        )
        return cls(table, notes or {})

    def lift_maximum(self, mach: float) -> dict[str, float] | None:
        """Maximum lift coefficient at a Mach number.

        Parameters
        ----------
        mach : float
            Mach number.

        Returns
        -------
        dict or None
            CL, alpha [deg], its uncertainty `alpha +-` and whether the points there converged; None where CL still
            rises at an end.

        Notes
        -----
        It is the top of the parabola through the highest point and its neighbours.

        Examples
        --------
        >>> row = {"mach": 0.2, "CD": 0.01, "CM": 0.0, "outcome": "converged"}
        >>> rows = [row | {"alpha": a, "CL": cl} for a, cl in ((8.0, 0.9), (12.0, 1.2), (16.0, 1.1))]
        >>> sorted(Polar.of(rows).lift_maximum(0.2))
        ['CL', 'alpha', 'alpha +-', 'converged']
        """
        own = self.table[(self.table["mach"] - mach).abs() < 1e-9].dropna(subset=["CL"]).sort_values("alpha")
        a, lift = own["alpha"].to_numpy(), own["CL"].to_numpy()
        if (found := interpolated_maximum(a, lift)) is None:
            return None
        top, alpha, highest = found
        converged = bool((own["outcome"].to_numpy()[top - 1 : top + 2] == Outcome.CONVERGED).all())
        spacing = float(np.diff(a[top - 1 : top + 2]).max())
        return {"CL": highest, "alpha": alpha, "alpha +-": 0.5 * spacing, "converged": converged}

    def with_errors(self, relative: dict[str, float], absolute: dict[str, float]) -> "Polar":
        """The polar with error bars: the larger of a fraction of the value and an absolute one, plus the oscillation if
        any.

        Parameters
        ----------
        relative : dict[str, float]
            Fraction by coefficient.
        absolute : dict[str, float]
            Absolute error by coefficient.

        Notes
        -----
        No L/D is given where the error of CD exceeds `KNOWN_DRAG_FRACTION` of it.

        Examples
        --------
        >>> row = {"mach": 0.2, "CD": 0.01, "CM": 0.0, "outcome": "converged"}
        >>> rows = [row | {"alpha": alpha, "CL": 0.1 * alpha} for alpha in (0.0, 4.0)]
        >>> Polar.of(rows).with_errors({"CL": 0.02}, {"CL": 0.001}).table["CL_error"].tolist()
        [0.001, 0.008]
        """
        table = self.table.copy()
        for name in ("CL", "CD", "CM"):
            mesh = (table[name].abs() * relative.get(name, 0.0)).clip(lower=absolute.get(name, 0.0))
            table[f"{name}_error"] = mesh + (
                table[f"{name}_amplitude"].fillna(0.0) if f"{name}_amplitude" in table else 0.0
            )
        if "CD_far_error" in table:  # what the estimates of far-field drag differ by, and the error of the mesh
            table["CD_far_error"] += (table["CD_far"].abs() * relative.get("CD_far", 0.0)).clip(
                lower=absolute.get("CD_far", 0.0)
            )
        if "L/D" in table:  # a ratio with such an error says nothing
            table.loc[unknown_drag(table), "L/D"] = np.nan
        return Polar(table, self.notes)

    def write(self, path: str | Path) -> Path:
        """Write a .csv file and its sidecar (.json), each atomically.

        Parameters
        ----------
        path : path
            File.

        Examples
        --------
        >>> import tempfile
        >>> row = {"mach": 0.2, "CD": 0.01, "CM": 0.0, "outcome": "converged"}
        >>> rows = [row | {"alpha": alpha, "CL": 0.1 * alpha} for alpha in (0.0, 4.0)]
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     polar = Polar.read(Polar.of(rows).write(f"{folder}/polar.csv"))
        >>> polar.table["CL"].tolist()
        [0.0, 0.4]
        """
        path = Path(path)
        notes = self.notes | {
            "columns": {
                "alpha": "deg",
                "seconds": "s",
                "drift": "largest coefficient change over the last window",
                "residual_drop": "decades of residual drop",
                "other columns": "dimensionless or text",
            }
        }
        write_text(path, self.table.to_csv(index=False))
        write_text(path.with_suffix(".json"), json.dumps(notes, indent=1, default=str))
        return path

    @classmethod
    def read(cls, path: str | Path) -> "Polar":
        """Read a polar written by `write`.

        Parameters
        ----------
        path : path
            File (.csv).

        Examples
        --------
        >>> import tempfile
        >>> rows = [{"alpha": 4.0, "mach": 0.2, "CL": 0.4, "CD": 0.01, "CM": 0.0, "outcome": "converged"}]
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     polar = Polar.read(Polar.of(rows).write(f"{folder}/polar.csv"))
        >>> len(polar.table)
        1
        """
        path = Path(path)
        if not path.is_file():
            raise FileError(f"polar {str(path)!r} does not exist; run the study first.")
        try:
            notes = json.loads(path.with_suffix(".json").read_text(encoding="utf-8"))
            return cls(pd.read_csv(path), notes)
        except (OSError, ValueError) as cause:
            raise FileError(f"polar {str(path)!r} can't be read ({cause}); run the study again.") from None
