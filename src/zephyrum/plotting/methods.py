"""Figures of several methods for one case: polars and reference data on one chart, pressures of a section.

Verified by tests/test_methods.py.
"""

import textwrap
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.typical_alpha import nearest_to_typical
from zephyrum.plotting.charts import draw_cp
from zephyrum.plotting.style import COLOURS, MARKERS, format_axes, new_axes

if TYPE_CHECKING:
    import pandas as pd

    from zephyrum.results import Solution
    from zephyrum.studies.method_comparison import MethodComparison


def draw_methods(comparison: "MethodComparison", mach: float | None = None, title: str = ""):
    """Draw lift, drag polar and moment of all methods, and their drag at one angle as bars.

    Parameters
    ----------
    comparison : MethodComparison
        Polars of several methods.
    mach : float, optional
        Mach number; the lowest without it.
    title : str, optional
        Above the figure.

    Returns
    -------
    matplotlib.figure.Figure

    Examples
    --------
    >>> import pandas as pd
    >>> import zephyrum as zy
    >>> one = pd.DataFrame({"mach": 0.2, "alpha": [0.0, 4.0], "CL": [0.1, 0.5], "CD": [0.010, 0.014]})
    >>> figure = draw_methods(zy.compare_polars({"first": one, "second": one.assign(CD=one["CD"] + 0.001)}))
    >>> len(figure.axes)
    4
    """
    figure, axes = new_axes(2, 2)
    lift, polar, moment, bars = axes.ravel()
    machs = sorted({float(one) for table in comparison.polars.values() for one in table["mach"]})
    mach = machs[0] if mach is None else mach
    drags = {}
    for k, (name, table) in enumerate(comparison.polars.items()):
        own = table[np.isclose(table["mach"], mach)]
        own = own[own["converged"]]
        style = {"color": COLOURS[k % 7], "marker": MARKERS[k % 7], "markersize": 4, "linewidth": 1.2, "label": name}
        if name in comparison.measured:
            style |= {"color": "black", "markerfacecolor": "white", "markersize": 6, "linestyle": "none"}
        for ax, x, y in ((lift, "alpha", "CL"), (polar, "CD", "CL"), (moment, "CL", "CM")):
            line = own.dropna(subset=[x, y])
            if line.empty:
                continue
            counts = 1e4 if x == "CD" else 1.0
            ax.plot(counts * line[x], line[y], **style)
            errors = {f"{axis}err": scale * line[f"{key}_error"]
                      for axis, key, scale in (("x", x, counts), ("y", y, 1.0)) if f"{key}_error" in line}  # fmt: skip
            errors = {axis: size for axis, size in errors.items() if not size.isna().all()}
            if errors:
                ax.errorbar(counts * line[x], line[y], **errors, fmt="none", ecolor=style["color"], capsize=2.5)
        known = own.dropna(subset=["alpha", "CD"])
        if len(known):
            row = known.iloc[nearest_to_typical(known["alpha"])]
            drags[name] = (style["color"], 1e4 * row["CD"], 1e4 * row["CD_error"], row["alpha"])
    _draw_drag(bars, drags)
    format_axes(lift, "angle of attack [deg]", "CL [-]", "lift")
    format_axes(polar, "CD [counts]", "CL [-]", "drag polar")
    format_axes(moment, "CL [-]", "CM [-]", "pitching moment about the reference point")
    lift.legend(fontsize="small")
    figure.suptitle(f"{title}{', ' if title else ''}Mach {mach:g}", fontsize="medium")
    return figure


def _draw_drag(ax, drags: dict[str, tuple]) -> None:
    """Drag of every method at the typical angle."""
    names = list(drags)[::-1]
    for at, name in enumerate(names):
        colour, counts, error, _ = drags[name]
        ax.barh(at, counts, color=colour, alpha=0.75, height=0.6, xerr=error if error == error else None, capsize=3)
        shown = f"{counts:.1f}" + (f" ± {error:.2g}" if error == error else "")
        ax.text(counts + (error if error == error else 0.0), at, f"  {shown}", va="center", fontsize="small")
    ax.set_yticks(range(len(names)), [textwrap.fill(name, 18) for name in names])
    alphas = sorted({f"{alpha:g}" for *_, alpha in drags.values()})
    if drags:
        top = max(counts + (error if error == error else 0.0) for _, counts, error, _ in drags.values())
        ax.set_xlim(0.0, 1.3 * max(top, 1e-9))
    format_axes(ax, "CD [counts]", "", f"drag at alpha {' and '.join(alphas)} deg" if alphas else "drag: not known")


def draw_method_pressures(pressures: "pd.DataFrame", solutions: "dict[str, Solution]"):
    """Draw the pressures of a section by panels and by field solutions.

    Parameters
    ----------
    pressures : pandas.DataFrame
        Of panels: "x" [chords], "Cp", "side", "mach", "alpha".
    solutions : dict of str to Solution
        Field solutions by model.

    Returns
    -------
    matplotlib.figure.Figure
    """
    figure, ax = new_axes()
    for k, (name, solution) in enumerate(solutions.items()):
        draw_cp(solution, ax, label=f"{name}, alpha {solution.air.alpha:g} deg", colour=k + 1)
    alpha = float(pressures["alpha"].iloc[0])
    for side, own in pressures.groupby("side"):
        label = f"panels with boundary layers, alpha {alpha:g} deg" if side == "upper" else None
        ax.plot(own["x"], own["Cp"], color=COLOURS[0], linewidth=1.4, label=label, zorder=5)
    ax.legend(fontsize="small")
    ax.set_title(f"pressures at Mach {float(pressures['mach'].iloc[0]):g}", fontsize="medium")
    return figure
