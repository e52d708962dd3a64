"""Line charts: histories, Cp, polars, refinement."""

from typing import TYPE_CHECKING

import numpy as np
from matplotlib.ticker import MaxNLocator

from zephyrum.errors import InputError
from zephyrum.flow.outcome import Outcome
from zephyrum.plotting.style import COLOURS, MARKERS, format_axes, new_axes
from zephyrum.results.polar import with_known_drag

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from zephyrum.results.polar import Polar
    from zephyrum.results.solution import Solution
    from zephyrum.results.time_series import TimeSeries
    from zephyrum.studies.grid_convergence import Refinement


_SHOWN = ("mass", "x_momentum", "z_momentum", "energy", "turbulence", "turbulence_rate")


def draw_history(solution: "Solution", axes: np.ndarray | None = None):
    """Draw residuals (top) and coefficients (bottom) of every step on the finest mesh.

    Parameters
    ----------
    solution : Solution
        Solution.
    axes : two axes, optional
        Axes to draw into.

    Returns
    -------
    two matplotlib.axes.Axes

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
    >>> residuals, coefficients = draw_history(solution)
    >>> residuals.figure.savefig("history.png")  # doctest: +SKIP
    """
    if axes is None:
        _, axes = new_axes(2, 1, sharex=True)
    top, bottom = axes
    history = solution.history
    step = history.column("step", 0)
    for k, name in enumerate(_SHOWN):
        values = np.maximum(history.column(f"residual_{name}", 0), 1e-16)
        if values.max() <= 1e-16:  # not part of this model
            continue
        top.semilogy(
            step,
            values,
            color=COLOURS[k],
            marker=MARKERS[k],
            markersize=3.5,
            markevery=max(1, len(step) // 15),
            label=name.replace("_", " "),
        )
    top.axhline(10.0**-solution.numerics.residual_drop, color="#555555", linestyle="--", linewidth=1, label="asked")
    format_axes(
        top,
        "",
        "residual / residual of the free stream [-]",
        f"{solution.mesh.recipe.get('section', '')}  {solution.air.describe()}: {solution.outcome} ({solution.reason})",
    )
    top.legend(loc="upper right", ncols=6, fontsize="small")
    twin = []
    for k, name in enumerate(("CL", "CD", "CM")):
        values = history.column(name, 0)
        bottom.plot(
            step,
            (values - values[-1]) * 1e4,
            color=COLOURS[k],
            marker=MARKERS[k],
            markersize=3.5,
            label=f"{name}: last {values[-1]:.5f}",
        )
        twin.append(values)
    bottom.set_yscale("symlog", linthresh=1.0)
    bottom.xaxis.set_major_locator(MaxNLocator(integer=True))
    format_axes(bottom, "Newton step on the finest mesh", "coefficient minus its last value [counts, 1e-4]")
    bottom.legend(loc="upper right", fontsize="small")
    return axes


def draw_time(series: "TimeSeries", axes: np.ndarray = None):
    """Draw lift (top) and drag (bottom) over the distance travelled, with mean and frequency.

    Parameters
    ----------
    series : TimeSeries
        Run in time.
    axes : two axes, optional
        Axes to draw into.

    Returns
    -------
    two matplotlib.axes.Axes

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve_unsteady
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> series = solve_unsteady(mesh, Freestream(mach=0.3), duration=1.0, step=0.5)
    >>> lift, drag = draw_time(series)
    >>> lift.get_ylabel()
    'CL [-]'
    """
    if axes is None:
        _, axes = new_axes(2, 1, sharex=True)
    summary = series.summary()
    frequency = "" if np.isnan(series.strouhal) else f", Strouhal number {series.strouhal:.3f}"
    state = "periodic" if series.periodic else "not periodic yet"
    title = f"{series.last.mesh.recipe.get('section', '')}  {series.last.air.describe()}: {state}{frequency}"
    late = series.travelled > 0.2 * series.travelled[-1]  # the start itself is much larger than what follows
    for k, (ax, name) in enumerate(zip(axes, ("CL", "CD"), strict=True)):
        mean, amplitude = summary[name]
        values = getattr(series, name)
        ax.plot(series.travelled, values, color=COLOURS[k], linewidth=1.3)
        label = f"mean of the last half {mean:.4f} +- {amplitude:.4f}"
        ax.axhline(mean, color="#555555", linestyle="--", linewidth=1, label=label)
        low, high = values[late].min(), values[late].max()
        room = 0.15 * max(high - low, 1e-4)
        ax.set_ylim(low - room, high + 2.0 * room)
        format_axes(ax, "distance travelled [chords]" if k else "", f"{name} [-]", "" if k else title)
        ax.legend(loc="upper right", fontsize="small")
    return axes


def draw_cp(solution: "Solution", ax: "Axes | None" = None, label: str | None = None, colour: int = 0):
    """Draw Cp against x/c, suction up; upper side solid, lower dashed; the sonic level where it is within reach.

    Parameters
    ----------
    solution : Solution
        On a section.
    ax : Axes, optional
        Axes to draw into.
    label : str, optional
        Label in the legend.
    colour : int, optional
        Number of the colour.

    Returns
    -------
    matplotlib.axes.Axes

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
    >>> ax = draw_cp(solution)
    >>> ax.figure.savefig("cp.png")  # doctest: +SKIP
    """
    if ax is None:
        _, ax = new_axes()
    table = solution.cp()
    for side, style in (("upper", "-"), ("lower", "--")):
        part = table[table["side"] == side].sort_values("x/c")
        ax.plot(
            part["x/c"],
            part["Cp"],
            style,
            color=COLOURS[colour % 7],
            marker=MARKERS[colour % 7],
            markersize=2.5,
            linewidth=1.3,
            label=f"{label + ', ' if label else ''}{side}",
        )
    critical = solution.air.cp_critical
    label_of_state = "" if solution.outcome == Outcome.CONVERGED else f" ({solution.outcome})"
    for line in ax.lines[-2:]:
        line.set_label(line.get_label() + label_of_state)  # type: ignore[operator]
    if colour == 0 and critical > 1.3 * table["Cp"].min() - 0.3 and solution.air.mach < 1.0:
        ax.axhline(critical, color="#555555", linestyle=":", linewidth=1.2)
        ax.annotate(
            f"sonic, M {solution.air.mach:g}",
            (0.99, critical),
            xycoords=("axes fraction", "data"),
            textcoords="offset points",
            xytext=(0, 3),
            ha="right",
            va="bottom",
            fontsize="small",
            color="#555555",
        )
    if not ax.yaxis_inverted():
        ax.invert_yaxis()
    format_axes(
        ax,
        "x / chord [-]",
        "Cp [-] (suction up)",
        f"{solution.mesh.recipe.get('section', '')}  {solution.air.describe()}",
    )
    ax.legend(fontsize="small")
    return ax


def draw_friction(solution: "Solution", axes: np.ndarray | None = None):
    """Draw Cf (top, signed) and y+ (bottom) along both sides, with separation and reattachment points.

    Parameters
    ----------
    solution : Solution
        Viscous, on a section.
    axes : two axes, optional
        Axes to draw into.

    Returns
    -------
    two matplotlib.axes.Axes

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, first_height=5e-3)
    >>> solution = solve(mesh, Freestream(mach=0.3, reynolds=500.0), "laminar")
    >>> friction, wall_units = draw_friction(solution)
    >>> wall_units.get_ylabel()
    'y+ of the first cell [-]'
    """
    if axes is None:
        _, axes = new_axes(2, 1, sharex=True, height_ratios=(3, 2))
    top, bottom = axes
    table = solution.surface()
    for k, (side, style) in enumerate((("upper", "-"), ("lower", "--"))):
        part = table[table["side"] == side].sort_values("x/c")
        for ax, name in ((top, "Cf"), (bottom, "y+")):
            ax.plot(
                part["x/c"],
                part[name],
                style,
                color=COLOURS[k],
                marker=MARKERS[k],
                markersize=2.5,
                linewidth=1.3,
                label=side,
            )
    top.axhline(0.0, color="#555555", linewidth=0.8)
    for row in solution.turning_points().itertuples():
        if row.kind != "stagnation":
            top.plot(
                row[4],
                0.0,
                "o",
                markerfacecolor="none",
                markeredgecolor="#CC0000",
                markersize=9,
                label=f"{row.side} {row.kind} {row[4]:.3f} +- {row[5]:.3f}",
            )
    high = np.percentile(table["Cf"].abs(), 97)
    top.set_ylim(max(1.3 * table["Cf"].min(), -0.5 * high), 1.3 * high)
    title = f"{solution.mesh.recipe.get('section', '')}  {solution.air.describe()}: {solution.model}"
    format_axes(top, "", "Cf, positive towards the tail [-]", title)
    format_axes(bottom, "x / chord [-]", "y+ of the first cell [-]")
    bottom.set_ylim(bottom=0.0)
    top.legend(fontsize="small")
    return axes


def draw_layer(
    solution: "Solution", axes: np.ndarray | None = None, positions: tuple[float, ...] = (0.1, 0.3, 0.5, 0.7, 0.9)
):
    """Draw velocity profiles on the upper side (left) and the thicknesses of the boundary layer on both sides (right).

    Parameters
    ----------
    solution : Solution
        Viscous, on a section.
    axes : two axes, optional
        Axes to draw into.
    positions : sequence of float, optional
        Chord fractions of the profiles.

    Returns
    -------
    two matplotlib.axes.Axes

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, first_height=5e-3)
    >>> solution = solve(mesh, Freestream(mach=0.3, reynolds=500.0), "laminar")
    >>> profiles, thickness = draw_layer(solution)
    >>> profiles.get_xlabel()
    'u / ue on the upper side [-]'
    """
    if axes is None:
        _, axes = new_axes(1, 2)
    left, right = axes
    chord, reach = solution.reference.chord, 0.0
    table = solution.boundary_layer()
    for k, position in enumerate(positions):
        try:
            part = solution.profile(position)
        except InputError:  # no layer there
            continue
        left.plot(
            part["u/ue"],
            part["y"] / chord,
            color=COLOURS[k % 7],
            marker=MARKERS[k % 7],
            markersize=3.5,
            linewidth=1.3,
            label=f"x/c {position:g}",
        )
        beside = table[(table["side"] == "upper") & ((table["x/c"] - position).abs() < 0.1)]["delta99"]
        reach = max(reach, 0.0 if beside.isna().all() else float(beside.median()) / chord)
    left.set_ylim(0.0, 1.6 * reach if reach else None)
    left.set_xlim(right=1.1)
    title = f"{solution.mesh.recipe.get('section', '')}  {solution.air.describe()}: {solution.model}"
    format_axes(left, "u / ue on the upper side [-]", "distance from the wall / chord [-]", title)
    left.axvline(0.0, color="#555555", linewidth=0.8)
    for k, name in enumerate(("displacement", "momentum")):
        for side, style in (("upper", "-"), ("lower", "--")):
            part = table[table["side"] == side].sort_values("x/c")
            right.plot(part["x/c"], part[name] / chord, style, color=COLOURS[k], linewidth=1.5, label=f"{name}, {side}")
    right.set_yscale("log")
    thin = table["momentum"][table["momentum"] > 0.0]
    if len(thin):
        right.set_ylim(bottom=0.5 * float(np.percentile(thin, 10)) / chord)
    format_axes(right, "x / chord [-]", "thickness / chord [-]")
    if left.get_legend_handles_labels()[1]:
        left.legend(fontsize="small", loc="upper left")
    right.legend(fontsize="small", loc="lower right")
    return axes


def draw_polar(polar: "Polar", axes: np.ndarray | None = None):
    """Draw CL-alpha, CD-CL, CM-alpha and L/D, one curve for each Mach number.

    Parameters
    ----------
    polar : Polar
        Polar.
    axes : four axes, optional
        Axes to draw into.

    Returns
    -------
    four matplotlib.axes.Axes

    Notes
    -----
    Open marks did not converge; bars are mesh errors. CD is the far-field drag where it is known; that of the surface
    is a thin dashed line beside it.

    Examples
    --------
    >>> from zephyrum import Polar
    >>> row = {"mach": 0.2, "CD": 0.01, "CM": 0.0, "outcome": "converged"}
    >>> polar = Polar.of([row | {"alpha": alpha, "CL": 0.1 * alpha} for alpha in (0.0, 4.0)])
    >>> axes = draw_polar(polar)
    >>> len(axes)
    2
    """
    if axes is None:
        _, axes = new_axes(2, 2)
    panels = np.ravel(axes)
    shown = (("alpha", "CL"), ("CD", "CL"), ("alpha", "CM"), ("CL", "L/D"))
    names = {
        "alpha": "alpha [deg]",
        "CL": "CL [-]",
        "CD": "CD [-]",
        "CM": "CM about quarter chord [-]",
        "L/D": "L/D [-]",
    }
    known = with_known_drag(polar.table)
    for k, (mach, rows) in enumerate(known.groupby("mach")):
        colour, marker = COLOURS[k % 7], MARKERS[k % 7]
        converged = rows["outcome"] == Outcome.CONVERGED
        if (rows["CD"] != (surface := polar.table.loc[rows.index, "CD"])).any():
            panels[1].plot(surface, rows["CL"], "--", color=colour, linewidth=0.8, label=f"M {mach:g}, surface")
        for ax, (x, y) in zip(panels, shown):
            lines = rows if y != "L/D" else rows[rows["L/D"].notna()]
            ax.plot(lines[x], lines[y], "-", color=colour, linewidth=1.3, label=f"M {mach:g}")
            for mask, face in ((converged, colour), (~converged, "white")):
                part = lines[mask.loc[lines.index]]
                ax.plot(part[x], part[y], marker, color=colour, markerfacecolor=face, markersize=5, linestyle="none")
            bars = {
                f"{axis}err": lines[f"{name}_error"] for axis, name in (("x", x), ("y", y)) if f"{name}_error" in lines
            }
            bars = {key: values for key, values in bars.items() if not values.isna().all()}
            if bars:
                ax.errorbar(lines[x], lines[y], **bars, fmt="none", ecolor=colour, elinewidth=1, capsize=2.5)
        peak = polar.lift_maximum(mach)
        if peak is not None and (polar.table["model"] != "euler").all():
            panels[0].plot(
                peak["alpha"],
                peak["CL"],
                "*",
                color=colour,
                markeredgecolor="black",
                markersize=13,
                label=f"CLmax {peak['CL']:.3f} at {peak['alpha']:.1f} deg",
            )
    for ax, (x, y) in zip(panels, shown):
        format_axes(ax, names[x], names[y])
        if y == "L/D" and (polar.table["model"] == "euler").all():
            ax.set_title("without friction; only where CD is above 10 counts", fontsize="small", color="#555555")
    panels[0].legend(fontsize="small")
    if panels[1].get_legend_handles_labels()[1]:
        panels[1].legend(fontsize="small")
    marks = []
    if (polar.table["outcome"] != Outcome.CONVERGED).any():
        marks.append(
            "open marks: did not converge"
            + (", or implausible" if (polar.table["outcome"] == Outcome.IMPLAUSIBLE).any() else "")
        )
    other = known[known["numerics"] != "as asked"] if "numerics" in known else known[:0]
    if len(other):
        marks.append("rings: other numerics")
        for ax, (x, y) in zip(panels, shown):
            ax.plot(other[x], other[y], "o", color="#555555", markerfacecolor="none", markersize=11, linestyle="none")
    if marks:
        panels[0].set_title("; ".join(marks), fontsize="small", color="#555555")
    return axes


def draw_refinement(refinement: "Refinement", axes: np.ndarray | None = None):
    """Draw CL, CD and CM against the cell size squared, with the extrapolated value and the error bar of the finest
    mesh.

    Parameters
    ----------
    refinement : Refinement
        Mesh study.
    axes : three axes, optional
        Axes to draw into.

    Returns
    -------
    three matplotlib.axes.Axes

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, refine
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 128, 32, topology="O")
    >>> axes = draw_refinement(refine(mesh, Freestream(mach=0.3, alpha=2.0)))
    >>> len(axes)
    3
    """
    if axes is None:
        _, axes = new_axes(1, 3)
    table = refinement.table
    h = (table["h"] / table["h"].iloc[0]).to_numpy()
    cells = ", ".join(f"{count:,}" for count in table["cells"])
    if "CD_far" in refinement.estimates:
        far = refinement.estimates["CD_far"]
        axes[1].errorbar([1.0], [far.finest], yerr=[far.error], color=COLOURS[3], capsize=3, fmt="none")
        axes[1].plot(
            h**2, table["CD_far"], "--", color=COLOURS[3], marker=MARKERS[3], label=f"far field +- {far.error:.2g}"
        )
    for k, (ax, name) in enumerate(zip(axes, ("CL", "CD", "CM"))):
        e = refinement.estimates[name]
        ax.plot(h**2, table[name], "-", color=COLOURS[k], marker=MARKERS[k], label=f"meshes of {cells} cells")
        ax.errorbar(
            [1.0], [e.finest], yerr=[e.error], color=COLOURS[6], capsize=5, fmt="none", label=f"error bar {e.error:.2g}"
        )
        if e.extrapolated != e.finest:  # without an order nothing is extrapolated
            ax.plot(
                [0.0],
                [e.extrapolated],
                "*",
                markersize=13,
                color=COLOURS[1],
                label=f"extrapolated {e.extrapolated:.5g}",
            )
        format_axes(
            ax, "(cell size / finest cell size)^2 [-]", f"{name} [-]", e.words.replace(": ", ":\n").replace(", ", ",\n")
        )
        ax.margins(y=0.2)
        ax.set_xlim(left=-0.06 * h[-1] ** 2)
        ax.legend(fontsize="small", loc="best")
    axes[0].figure.suptitle(f"Refinement, {refinement.air.describe()}", fontsize="medium")
    return axes
