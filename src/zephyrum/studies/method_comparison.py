"""Polars of several methods and reference data for one case: coefficients side by side, differences in counts and
percent, slopes, and the checks that the methods are to each other.

Verified by tests/test_methods.py.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from zephyrum._core.interpolated_maximum import interpolated_maximum
from zephyrum._core.representation import short_repr
from zephyrum.errors import InputError

LINEAR_RANGE = 10.0  # deg: points of larger alpha are left out of slopes
# beyond these differences from a quick method a field solution is doubted: thickness raises the slope of a wing by up
# to 10 %, a fuselage changes it by 5 %, and coarse meshes lower it by a few percent
SLOPE_TOLERANCE = 0.15
INVISCID_SECTION_TOLERANCE = 0.22  # of inviscid flow against panels with layers: displacement takes up to 15 % of it
ZERO_LIFT_TOLERANCE = 1.5  # deg: a fuselage shifts that of the Skerry by 1.0
TRIM_TOLERANCE = 2.0  # deg, of alpha and of an angle that trims
LIMITS = {
    "lattice": "thin surfaces in attached flow, without bodies; CD is induced drag only",
    "lattice + buildup": "lift and induced drag of thin surfaces without bodies; zero-lift drag of all parts by laws "
    "of flat plates; nothing of stall or of shock waves",
    "panel": "one section with integral boundary layers and free transition; largest lift within 10 %",
    "euler": "no friction: CD is induced and wave drag where the far field gives it, and spurious drag else",
    "euler + buildup": "the inviscid field solution with the zero-lift drag of all parts by laws of flat plates",
    "laminar": "laminar layers everywhere",
    "sa": "turbulent layers everywhere unless [walls] says otherwise",
    "sst": "turbulent layers everywhere unless [walls] says otherwise",
}
QUICK = ("lattice", "lattice + buildup", "panel")
FIELD_METHODS = ("euler", "laminar", "sa", "sst")


@dataclass(frozen=True, eq=False)
class MethodComparison:
    """Several polars of one case.

    Attributes
    ----------
    polars : dict[str, pandas.DataFrame]
        By method: "mach", "alpha", "CL", "CD", "CM", where known "CL_error", "CD_error", and "converged".
    table : pandas.DataFrame
        One row for each condition and method, with differences from the first method.
    slopes : pandas.DataFrame
        One row for each Mach number and method: lift slope, alpha of no lift, slope of CM.
    lines : list of str
        Limits of the methods, and what differs by more than they explain.
    measured : tuple of str
        Names of reference data.

    Examples
    --------
    >>> one = pd.DataFrame({"mach": 0.2, "alpha": [0.0, 4.0], "CL": [0.0, 0.4]})
    >>> found = compare_polars({"first": one, "second": one.assign(CL=1.05 * one["CL"])})
    >>> round(float(found.table["CL %"].iloc[-1]), 6)
    5.0
    """

    polars: dict[str, pd.DataFrame]
    table: pd.DataFrame
    slopes: pd.DataFrame
    lines: list[str]
    measured: tuple[str, ...] = ()

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"{len(self.polars)} methods: {', '.join(self.polars)}"

    @property
    def warnings(self) -> list[str]:
        """Sentences on differences that the limits of the methods do not explain."""
        return [line for line in self.lines if line.startswith("doubtful")]


def compare_polars(
    polars: Mapping[str, pd.DataFrame], lines: Sequence[str] = (), measured: Sequence[str] = ()
) -> MethodComparison:
    """Set polars of one case side by side; the first is what the others are set against.

    Parameters
    ----------
    polars : mapping of str to pandas.DataFrame
        Two or more, by name, with columns "mach", "alpha" and "CL", and "CD", "CM", "CL_error", "CD_error",
        "converged" where they are known. All refer to the same reference quantities.
    lines : sequence of str, optional
        Further sentences.
    measured : sequence of str, optional
        Names of the polars that are reference data; they are drawn as marks.

    Raises
    ------
    InputError
        There are fewer than two polars, or a column is missing.

    Notes
    -----
    Where the first polar has no point at an angle it is interpolated linearly between its points, never beyond them.

    Examples
    --------
    >>> one = pd.DataFrame({"mach": 0.2, "alpha": [0.0, 4.0], "CL": [0.1, 0.5], "CD": [0.010, 0.014]})
    >>> two = one.assign(CD=one["CD"] + 0.001)
    >>> compare_polars({"first": one, "second": two}).table["counts"].round(6).tolist()
    [nan, 10.0, nan, 10.0]
    """
    if len(polars) < 2:
        raise InputError(f"polars holds {len(polars)} method(s); give at least two, by name.")
    clean = {name: _checked(name, table) for name, table in polars.items()}
    first = next(iter(clean))
    rows = []
    for name, table in clean.items():
        for point in table.to_dict("records"):
            rows.append(_row(name, point, None if name == first else clean[first]))
    order = {name: k for k, name in enumerate(clean)}
    made = pd.DataFrame(rows)
    made = made.sort_values(
        ["mach", "alpha", "method"], key=lambda one: one.map(order) if one.name == "method" else one
    )
    slopes = pd.DataFrame([_slopes(name, mach, own) for name, t in clean.items() for mach, own in t.groupby("mach")])
    slopes = slopes.sort_values("mach", kind="stable", ignore_index=True)
    said = [f"{name}: {LIMITS[name]}" for name in clean if name in LIMITS]
    said = [*said, *_slope_warnings(slopes), *lines]
    return MethodComparison(clean, made.reset_index(drop=True), slopes, said, tuple(measured))


def _checked(name: str, table: pd.DataFrame) -> pd.DataFrame:
    for column in ("mach", "alpha", "CL"):
        if column not in table:
            raise InputError(f"polar {name!r} has no column {column!r}; give mach, alpha and CL.")
    wanted = ["mach", "alpha", "CL", "CD", "CM", "CL_error", "CD_error", "CM_error"]
    own = table.reindex(columns=[*wanted, "converged"])
    own["converged"] = own["converged"].astype("boolean").fillna(True).astype(bool)
    own[wanted] = own[wanted].astype(float)
    return own.sort_values(["mach", "alpha"], ignore_index=True)


def _row(name: str, point: dict, first: pd.DataFrame | None) -> dict:
    """A row of the table, with differences from the first polar."""
    out = {key: point[key] for key in ("mach", "alpha")} | {"method": name}
    out |= {key: point[key] for key in ("CL", "CD", "CM", "CL_error", "CD_error")}
    for key in ("CL", "CD", "CM"):
        base = np.nan if first is None else _interpolated(first, point["mach"], point["alpha"], key)
        change = point[key] - base
        if key == "CD":
            out["counts"] = 1e4 * change
        else:
            out[f"change of {key}"] = change
        if key != "CM":
            out[f"{key} %"] = 100.0 * change / abs(base) if base else np.nan
    return out


def _interpolated(table: pd.DataFrame, mach: float, alpha: float, name: str) -> float:
    own = table[(table["mach"] - mach).abs() < 1e-6].dropna(subset=["alpha", name])
    a = own["alpha"].to_numpy()
    if not len(a) or not a[0] - 1e-9 <= alpha <= a[-1] + 1e-9:
        return np.nan
    return float(np.interp(alpha, a, own[name].to_numpy()))


def _slopes(name: str, mach: float, own: pd.DataFrame) -> dict:
    """Straight lines through the points of attached flow."""
    row = {"mach": mach, "method": name, "points": 0}
    lift = own.dropna(subset=["alpha", "CL"])
    lift = lift[lift["converged"]]
    top = interpolated_maximum(lift["alpha"].to_numpy(), lift["CL"].to_numpy())
    if top is not None:
        row |= {"CLmax": top[2], "alpha of CLmax [deg]": top[1]}
    high = LINEAR_RANGE if top is None else min(LINEAR_RANGE, 0.6 * top[1])
    line = lift[(lift["alpha"] <= high) & (lift["alpha"] >= -LINEAR_RANGE)]
    row["points"] = len(line)
    if len(line) >= 2 and np.ptp(line["alpha"]) > 0.0:
        slope, start = np.polyfit(np.radians(line["alpha"]), line["CL"], 1)
        row |= {"CL alpha [1/rad]": float(slope), "alpha of no lift [deg]": float(np.degrees(-start / slope))}
        moment = line.dropna(subset=["CM"])
        if len(moment) >= 2:
            row["dCM/dCL"] = float(np.polyfit(moment["CL"], moment["CM"], 1)[0])
    return row


def _slope_warnings(slopes: pd.DataFrame) -> list[str]:
    """Slopes of field solutions that a quick method contradicts by more than its limits."""
    out: list[str] = []
    if "CL alpha [1/rad]" not in slopes:
        return out
    for mach, own in slopes.groupby("mach"):
        own = own.dropna(subset=["CL alpha [1/rad]"]).set_index("method")
        quick = next((name for name in QUICK if name in own.index), None)
        if quick is None:
            continue
        base = own.loc[quick]
        for name, row in own.iterrows():
            if name not in FIELD_METHODS:
                continue
            change = row["CL alpha [1/rad]"] / base["CL alpha [1/rad]"] - 1.0
            most = INVISCID_SECTION_TOLERANCE if (quick, name) == ("panel", "euler") else SLOPE_TOLERANCE
            if abs(change) > most:
                out.append(
                    f"doubtful: at M {mach:g} the lift slope of {name}, {row['CL alpha [1/rad]']:.3f} / rad, is "
                    f"{abs(change):.0%} {'above' if change > 0 else 'below'} that of {quick}; thickness, bodies, "
                    f"layers and mesh explain {most:.0%}. Look at reference area, mesh and separation."
                )
            apart = row["alpha of no lift [deg]"] - base["alpha of no lift [deg]"]
            if abs(apart) > ZERO_LIFT_TOLERANCE:
                out.append(
                    f"doubtful: at M {mach:g} the alpha of no lift of {name} differs from that of {quick} by "
                    f"{apart:+.2f} deg; {ZERO_LIFT_TOLERANCE:g} deg can be explained. Look at incidence, camber and "
                    f"axes."
                )
    return out
