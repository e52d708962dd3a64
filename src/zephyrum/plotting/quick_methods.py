"""Figures of the quick methods: load over lifting surfaces and along their span, drag by part, friction laws, section
polars.

Verified by tests/test_lattice.py, tests/test_buildup.py and tests/test_viscous_panels.py.
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum.plotting.style import COLOURS, MARKERS, format_axes, new_axes

if TYPE_CHECKING:
    from collections.abc import Sequence

    from zephyrum.loworder.drag_buildup.buildup import DragBuildup
    from zephyrum.loworder.panel.element_polar import ElementsPolar
    from zephyrum.loworder.panel.layered_flow import LayeredFlow
    from zephyrum.loworder.panel.polar import PanelPolar
    from zephyrum.loworder.vortex_lattice.solution import LatticeSolution

WAKE_LENGTH = 0.5  # of the span: how far wakes are drawn


def draw_lattice(solution: "LatticeSolution"):
    """Draw the load over all surfaces with their wakes, and the load along their spans.

    Parameters
    ----------
    solution : LatticeSolution
        Flow about a lattice.

    Returns
    -------
    matplotlib.figure.Figure

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
    >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}), zy.LatticeOptions(rows=4, strips=6))
    >>> figure = draw_lattice(model.solve(zy.Freestream(mach=0.1, alpha=4.0)))
    >>> len(figure.axes)
    3
    """
    figure, ax = new_axes()
    ax.remove()
    grid = figure.add_gridspec(1, 2, width_ratios=(1.35, 1.0))
    _draw_loads(figure, figure.add_subplot(grid[0], projection="3d"), solution)
    _draw_span_loads(figure.add_subplot(grid[1]), solution)
    found = solution.coefficients
    figure.suptitle(
        f"{solution.model.name}: vortex lattice, {solution.air.describe()}; "
        f"CL {found['CL']:.4f}, CDi {found['CDi']:.5f}, CM {found['CM']:+.4f}",
        fontsize="medium",
    )
    return figure


def _draw_loads(figure, ax, solution: "LatticeSolution") -> None:
    """Panels in space, coloured by their pressure difference, and wakes as thin lines."""
    from matplotlib.cm import ScalarMappable
    from matplotlib.colors import Normalize
    from mpl_toolkits.mplot3d.art3d import Line3DCollection, Poly3DCollection

    lattice, values = solution.basis.lattice, solution.pressure_differences
    left, right = lattice.edges[lattice.left], lattice.edges[lattice.right]
    panels = np.stack([left[:, :-1], right[:, :-1], right[:, 1:], left[:, 1:]], axis=2).reshape(-1, 4, 3)
    limit = float(np.percentile(np.abs(values), 98.0)) or 1.0
    colours = ScalarMappable(Normalize(-limit, limit), "RdBu_r")
    ax.add_collection3d(
        Poly3DCollection(panels, facecolors=colours.to_rgba(values.ravel()), edgecolors="#666666", linewidths=0.15)
    )
    low, high = panels.min(axis=(0, 1)), panels.max(axis=(0, 1))
    wakes = _wakes(solution)
    ax.add_collection3d(Line3DCollection(wakes, colors="#bbbbbb", linewidths=0.4))
    low, high = np.minimum(low, wakes.min(axis=(0, 1))), np.maximum(high, wakes.max(axis=(0, 1)))
    ax.set(xlim=(low[0], high[0]), ylim=(low[1], high[1]), zlim=(low[2], max(high[2], low[2] + 1e-3)))
    ax.set_box_aspect(np.maximum(high - low, 0.12 * (high - low).max()), zoom=1.2)
    ax.view_init(elev=28.0, azim=-128.0)
    ax.set(xlabel="x [m]", ylabel="y [m]", zlabel="z [m]")
    ax.tick_params(labelsize="small")
    ax.locator_params(axis="z", nbins=3)
    ax.grid(False)
    for axis in (ax.xaxis, ax.yaxis, ax.zaxis):
        axis.set_pane_color((1.0, 1.0, 1.0, 0.0))
    figure.colorbar(
        colours, ax=ax, orientation="horizontal", shrink=0.6, pad=0.02, extend="both",
        label="pressure of the lower less that of the upper side, over dynamic pressure [-]",
    )  # fmt: skip


def _wakes(solution: "LatticeSolution") -> np.ndarray:
    """(n_filaments, k, 3) beginnings of the trailing vortices [m]."""
    lattice, setting = solution.basis.lattice, solution.basis.factor.setting
    tails, reach = lattice.filaments[:, -1:], WAKE_LENGTH * solution.model.reference.span
    if not setting.nodes:
        return np.concatenate([tails, tails + reach * np.array(setting.wake)], axis=1)
    lines = np.concatenate([tails, np.reshape(setting.nodes, (len(tails), -1, 3))], axis=1)
    along = (lines[0] - lines[0, 0]) @ np.array(setting.wake)
    return lines[:, : int(np.searchsorted(along, reach)) + 1]


def _draw_span_loads(ax, solution: "LatticeSolution") -> None:
    """Load of every surface along y, or along z where it stands upright."""
    for lines, ((part, _), own) in enumerate(solution.loading.groupby(["part", "surface"], sort=False)):
        upright = np.ptp(own["z_m"]) > np.ptp(own["y_m"])
        own = own.sort_values("z_m" if upright else "y_m")
        style = {"color": COLOURS[lines % 6], "marker": MARKERS[lines % 6], "markersize": 3, "linewidth": 1.2}
        label = f"{part}, over z" if upright else part
        ax.plot(own["z_m" if upright else "y_m"], own["loading"], label=label, **style)
    reference = solution.model.reference
    y = np.linspace(-0.5 * reference.span, 0.5 * reference.span, 201)
    ellipse = 4.0 / np.pi * reference.area / (reference.span * reference.chord) * solution.CL
    ax.plot(
        y, ellipse * np.sqrt(1.0 - (2.0 * y / reference.span) ** 2), "--", color=COLOURS[6], linewidth=1,
        label="ellipse with the lift of the whole",
    )  # fmt: skip
    ax.axhline(0.0, color="#888888", linewidth=0.8)
    ax.legend(fontsize="small")
    format_axes(ax, "y [m]", "cl c over the reference chord [-]", "load along the span")


def draw_buildup(buildup: "DragBuildup"):
    """Draw drag by part, and the friction laws with the parts marked on them.

    Parameters
    ----------
    buildup : DragBuildup
        Zero-lift drag by part.

    Returns
    -------
    matplotlib.figure.Figure

    Examples
    --------
    >>> import zephyrum as zy
    >>> one = zy.Component("wing", "wing", 12.0, 1.0, thickness=0.12)
    >>> figure = draw_buildup(zy.zero_lift_drag([one], zy.Freestream(speed=60.0), area=6.0))
    >>> len(figure.axes)
    2
    """
    figure, axes = new_axes(1, 2)
    _draw_bars(axes[0], buildup)
    _draw_laws(axes[1], buildup)
    low, high = buildup.spread
    figure.suptitle(
        f"zero-lift drag {1e4 * buildup.CD:.1f} counts of {buildup.area:.4g} m^2 ({1e4 * low:.1f} to {1e4 * high:.1f} "
        f"by other laws), {buildup.air.describe()}",
        fontsize="medium",
    )
    return figure


def _draw_bars(ax, buildup: "DragBuildup") -> None:
    table = buildup.sorted().iloc[:-1]
    groups = list(dict.fromkeys(table["group"]))
    counts, position = 1e4 * table["CD"].to_numpy(), np.arange(len(table))[::-1]
    for k, group in enumerate(groups):
        own = (table["group"] == group).to_numpy()
        ax.barh(position[own], counts[own], color=COLOURS[k % 6], label=group)
    for at, size, share in zip(position, counts, table["share_percent"]):
        ax.text(size + 0.01 * counts.max(), at, f"{size:.1f} ({share:.0f} %)", va="center", fontsize="small")
    ax.set_yticks(position, table["part"])
    ax.set_xlim(0.0, 1.22 * counts.max())
    ax.legend(fontsize="small", loc="lower right")
    format_axes(ax, "drag [counts]", "", "drag by part")


def _draw_laws(ax, buildup: "DragBuildup") -> None:
    from zephyrum.loworder.drag_buildup.friction import friction_chart

    parts = buildup.table[buildup.table["Re"].notna()]
    low, high = float(parts["Re"].min()), float(parts["Re"].max())
    reynolds = np.geomspace(min(0.2 * low, 3e5), max(5.0 * high, 3e7), 120)
    for k, (name, values) in enumerate(friction_chart(reynolds, buildup.air.mach).items()):
        style = "-" if name == buildup.options.law else "--"
        ax.plot(reynolds, 1e3 * values, style, color=COLOURS[k % 7], linewidth=1.2, label=name.replace("_", " "))
    for k, (_, row) in enumerate(parts.iterrows()):
        ax.plot(row["Re"], 1e3 * row["Cf"], MARKERS[k % 7], color="black", markersize=6, markerfacecolor="white")
        above = k % 2 == 0
        ax.annotate(
            row["part"], (row["Re"], 1e3 * row["Cf"]), xytext=(0, 14 if above else -20), fontsize="small",
            textcoords="offset points", ha="center", arrowprops={"arrowstyle": "-", "linewidth": 0.5},
        )  # fmt: skip
    ax.set_xscale("log")
    ax.legend(fontsize="small")
    format_axes(ax, "Reynolds number on the length [-]", "mean friction coefficient, thousandths [-]", "friction laws")


def draw_panel_polar(polar: "PanelPolar", alpha: float | None = None):
    """Draw lift, drag polar and transition of a section polar, and the pressures of one of its flows.

    Parameters
    ----------
    polar : PanelPolar
        Polar of a section.
    alpha : float, optional
        Angle of the pressures [deg]; the converged one nearest to 4 deg without it.

    Returns
    -------
    matplotlib.figure.Figure

    Examples
    --------
    >>> import zephyrum as zy
    >>> figure = draw_panel_polar(zy.panel_polar(zy.Airfoil.naca("0012"), [0.0, 4.0], 3e6))
    >>> len(figure.axes)
    4
    """
    figure, axes = new_axes(2, 2)
    flows = polar.flows
    angles, lift = (np.array([getattr(flow, name) for flow in flows]) for name in ("alpha", "cl"))
    drag = 1e4 * np.array([flow.cd for flow in flows])
    style = {"markersize": 3, "linewidth": 1.2}
    axes[0, 0].plot(angles, lift, color=COLOURS[0], marker=MARKERS[0], **style)
    format_axes(axes[0, 0], "angle of attack [deg]", "lift coefficient [-]", "lift")
    axes[0, 1].plot(drag, lift, color=COLOURS[0], marker=MARKERS[0], **style)
    axes[0, 1].set_xlim(0.0, min(float(drag.max()), 4.0 * float(drag.min())) * 1.05)
    format_axes(axes[0, 1], "drag coefficient [counts]", "lift coefficient [-]", "polar")
    for side, name in enumerate(("upper side", "lower side")):
        place = [flow.transition[side] for flow in flows]
        axes[1, 0].plot(place, lift, color=COLOURS[side], marker=MARKERS[side], label=name, **style)
    apart = np.array([flow.separation[0] for flow in flows])
    if np.isfinite(apart).any():
        axes[1, 0].plot(apart, lift, "--", color=COLOURS[2], label="separation, upper side", linewidth=1.2)
    axes[1, 0].set_xlim(0.0, 1.0)
    axes[1, 0].legend(fontsize="small")
    format_axes(axes[1, 0], "place [chords]", "lift coefficient [-]", "transition")
    wanted = 4.0 if alpha is None else alpha
    _draw_pressures(axes[1, 1], flows[int(np.argmin(np.abs(angles - wanted)))])
    figure.suptitle(f"{polar.foil.name}: panels with boundary layers, Re {polar.reynolds:.3g}, Mach {polar.mach:g}")
    return figure


def draw_elements_polar(polar: "ElementsPolar", alpha: float | None = None):
    """Draw lift and drag of a section with several elements, and displacement and pressures of one of its flows.

    Parameters
    ----------
    polar : ElementsPolar
        Polar of several elements.
    alpha : float, optional
        Angle of the pressures [deg]; the converged one nearest to 4 deg without it.

    Returns
    -------
    matplotlib.figure.Figure

    Examples
    --------
    >>> import zephyrum as zy
    >>> pair = {"low": zy.Airfoil.naca("0012"), "high": zy.Airfoil.naca("0012").moved(0.0, 1.0)}
    >>> len(draw_elements_polar(zy.panel_polar(pair, [0.0, 4.0], 3e6)).axes)
    4
    """
    figure, axes = new_axes(2, 2)
    flows = polar.flows
    angles, lift = (np.array([getattr(flow, name) for flow in flows]) for name in ("alpha", "cl"))
    drag = 1e4 * np.array([flow.cd for flow in flows])
    style = {"markersize": 3, "linewidth": 1.2}
    axes[0, 0].plot(angles, lift, color="black", marker=".", label="all", **style)
    axes[0, 1].plot(drag, lift, color="black", marker=".", label="all", **style)
    flow = flows[int(np.argmin(np.abs(angles - (4.0 if alpha is None else alpha))))]
    for k, (name, own) in enumerate(flow.elements.items()):
        part = {"color": COLOURS[k % 6], "label": name}
        own_lift, own_drag = (np.array([one.share(name, c) for one in flows]) for c in ("cl", "cd"))
        axes[0, 0].plot(angles, own_lift, marker=MARKERS[k % 6], **part, **style)
        axes[0, 1].plot(1e4 * own_drag, lift, marker=MARKERS[k % 6], **part, **style)
        _draw_displaced(axes[1, 0], own, part["color"])
        x = own.points[:, 0] / flow.chord
        for side, line in zip(own.sides, ("-", "--")):
            axes[1, 1].plot(x[side], own.cp[side], line, color=part["color"], linewidth=1.2)
    axes[0, 1].set_xlim(left=0.0)
    axes[0, 0].legend(fontsize="small")
    axes[1, 1].invert_yaxis()
    axes[1, 0].set_aspect("equal", adjustable="datalim")
    format_axes(axes[0, 0], "angle of attack [deg]", "lift coefficient [-]", "lift, on the chord of the first")
    format_axes(axes[0, 1], "drag coefficient [counts]", "lift coefficient [-]", "drag of all and of each wake")
    format_axes(axes[1, 0], "x [m]", "z [m]", f"elements and displacement at {flow.alpha:g} deg")
    format_axes(axes[1, 1], "x [chords]", "Cp [-]", f"pressures at {flow.alpha:g} deg; dashed: lower sides")
    names = ", ".join(polar.foils)
    figure.suptitle(f"{names}: panels with boundary layers, Re {polar.reynolds:.3g}, Mach {polar.mach:g}")
    return figure


def _draw_displaced(ax, flow: "LayeredFlow", colour: str) -> None:
    """Outline of an element, and the edge of its displacement along it and its wake."""
    n = sum(len(side) for side in flow.sides)
    points, delta = flow.points, flow.values[:, 2]
    along = np.gradient(points[:n], axis=0)
    outward = np.stack([along[:, 1], -along[:, 0]], axis=1) / np.linalg.norm(along, axis=1)[:, None]
    ax.fill(*points[:n].T, color=colour, alpha=0.3, linewidth=0)
    ax.plot(*(points[:n] + delta[:n, None] * outward).T, color=colour, linewidth=0.8)
    behind = np.gradient(points[n:], axis=0)
    across = np.stack([-behind[:, 1], behind[:, 0]], axis=1) / np.linalg.norm(behind, axis=1)[:, None]
    for sign in (0.5, -0.5):  # the wake has the displacement of both sides
        ax.plot(*(points[n:] + sign * delta[n:, None] * across).T, color=colour, linewidth=0.8)


def draw_panel_polars(polars: "Sequence[PanelPolar]"):
    """Draw several polars of sections over each other: lift, drag, transition on the upper side and L/D.

    Parameters
    ----------
    polars : sequence of PanelPolar
        Polars, such as those of one section at several Reynolds numbers.

    Returns
    -------
    matplotlib.figure.Figure

    Examples
    --------
    >>> import zephyrum as zy
    >>> polars = [zy.panel_polar(zy.Airfoil.naca("0012"), [0.0, 4.0], re) for re in (1e6, 3e6)]
    >>> len(draw_panel_polars(polars).axes)
    4
    """
    figure, axes = new_axes(2, 2)
    names = {polar.title for polar in polars}
    low, high = [], []
    for k, polar in enumerate(polars):
        own = "" if len(names) == 1 else f"{polar.title}, "
        style = {"color": COLOURS[k % 6], "marker": MARKERS[k % 6], "markersize": 3, "linewidth": 1.2}
        style["label"] = f"{own}Re {polar.reynolds:.3g}, M {polar.mach:g}"
        lift, drag = (np.array([getattr(flow, name) for flow in polar.flows]) for name in ("cl", "cd"))
        axes[0, 0].plot([flow.alpha for flow in polar.flows], lift, **style)
        axes[0, 1].plot(1e4 * drag, lift, **style)
        first = [next(iter(getattr(flow, "elements", {"": flow}).values())) for flow in polar.flows]
        axes[1, 0].plot([flow.transition[0] for flow in first], lift, **style)
        axes[1, 1].plot(lift, lift / drag, **style)
        low.append(drag.min())
        high.append(drag.max())
    axes[0, 1].set_xlim(0.0, 1.05e4 * min(max(high), 4.0 * max(low)))
    axes[1, 0].set_xlim(0.0, 1.0)
    axes[0, 0].legend(fontsize="small")
    format_axes(axes[0, 0], "angle of attack [deg]", "lift coefficient [-]", "lift")
    format_axes(axes[0, 1], "drag coefficient [counts]", "lift coefficient [-]", "polar")
    format_axes(axes[1, 0], "place [chords]", "lift coefficient [-]", "transition, upper side")
    format_axes(axes[1, 1], "lift coefficient [-]", "lift over drag [-]", "lift over drag")
    figure.suptitle(f"{', '.join(sorted(names))}: panels with boundary layers")
    return figure


def _draw_pressures(ax, flow: "LayeredFlow") -> None:
    """Pressures along both sides with transition and laminar bubbles."""
    table = flow.table
    for side, name in enumerate(("upper", "lower")):
        own = table[table.side == name]
        x = (own[["x_m", "z_m"]].to_numpy() - flow.foil.nose) @ (flow.foil.tail - flow.foil.nose) / flow.foil.chord**2
        ax.plot(x, own.Cp, color=COLOURS[side], linewidth=1.2, label=f"{name} side")
        at = flow.transition[side]
        ax.plot([at], [np.interp(at, x, own.Cp)], MARKERS[side], color=COLOURS[side], markersize=6)
        bubble = flow.bubbles[side]
        if bubble is not None:
            ax.axvspan(*bubble, color=COLOURS[side], alpha=0.2, linewidth=0, label=f"bubble, {name} side")
    ax.invert_yaxis()
    ax.legend(fontsize="small")
    format_axes(ax, "x [chords]", "Cp [-]", f"pressures at {flow.alpha:g} deg; marks: transition")
