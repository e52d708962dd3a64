"""Drawings of an aircraft: three views with dimensions, chord and twist along the span, area along the length."""

from typing import TYPE_CHECKING

import numpy as np
from matplotlib.patches import PathPatch
from matplotlib.path import Path as Outline

from zephyrum.conditions.axes import wind_axes
from zephyrum.geometry.aircraft.wing import Wing
from zephyrum.geometry.surface.solids import outline_of
from zephyrum.plotting.style import COLOURS, MARKERS, format_axes, new_axes

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from zephyrum.geometry.aircraft.assembly import Aircraft
    from zephyrum.geometry.aircraft.assembly_measures import AircraftMeasures
    from zephyrum.geometry.surface.surface_measures import SurfaceMeasures
    from zephyrum.geometry.surface.triangulation import Surface


INK = "#333333"


def part_colours(parts: "dict[str, Surface] | tuple[str, ...]") -> dict[str, str]:
    """One colour for each part; the mirrored half ("... port") has that of its other half.

    Parameters
    ----------
    parts : dict[str, Surface] or tuple[str, ...]
        Names of the parts.

    Examples
    --------
    >>> colours = part_colours(("wing", "wing port", "fin"))
    >>> colours["wing"] == colours["wing port"]
    True
    """
    heads = list(dict.fromkeys(name.removesuffix(" port") for name in parts))
    return {name: COLOURS[heads.index(name.removesuffix(" port")) % 6] for name in parts}


def _shadow(ax, rims: list[np.ndarray], colour: str) -> None:
    """Filled outline with its holes."""
    points, codes = [], []
    for rim in rims:
        if len(rim) < 3:
            continue
        points += [*rim.tolist(), rim[0].tolist()]
        codes += [Outline.MOVETO, *[Outline.LINETO] * (len(rim) - 1), Outline.CLOSEPOLY]
    if points:
        ax.add_patch(PathPatch(Outline(points, codes), facecolor=colour, edgecolor=INK, linewidth=0.7, alpha=0.55))


def _dimension(ax, start, end, text: str, side: tuple[float, float]) -> None:
    """A dimension line between two points, its text beside the centre."""
    ax.annotate(
        "", start, end, arrowprops={"arrowstyle": "<->", "color": INK, "linewidth": 0.9, "shrinkA": 0, "shrinkB": 0}
    )
    midpoint = 0.5 * (np.asarray(start) + end) + side
    upright = abs(end[0] - start[0]) < abs(end[1] - start[1])
    ax.text(*midpoint, text, ha="center", va="center", fontsize="small", color=INK, rotation=90 if upright else 0)


def draw_three_view(measures: "AircraftMeasures", figure: "Figure | None" = None, alpha: float = 0.0):
    """Draw side, front and top view to one scale with dimensions, reference chord and centres, wind arrows and a table.

    Parameters
    ----------
    measures : AircraftMeasures
        Of `Aircraft.measures`.
    figure : matplotlib.figure.Figure, optional
        Figure to draw into.
    alpha : float, optional
        Angle [deg] of the arrows of wind, lift and drag.

    Returns
    -------
    matplotlib.figure.Figure

    Examples
    --------
    >>> from zephyrum import Aircraft, Airfoil, Planform, Wing
    >>> wing = Wing(planform=Planform(span=10.0, area=12.5), airfoil=Airfoil.naca("2412"))
    >>> craft = Aircraft(name="glider", parts={"wing": wing})
    >>> figure = draw_three_view(craft.measures())
    >>> figure.savefig("views.png")  # doctest: +SKIP
    """
    figure, side, top, words = _views(measures.whole, measures.solids, figure, alpha)
    reference = measures.reference
    if reference is not None:
        x, y, z = reference.point
        nose = x - 0.25 * reference.chord
        for ax, at in ((side, z), (top, y)):
            ax.plot(
                [nose, nose + reference.chord],
                [at, at],
                color="black",
                linewidth=2.2,
                solid_capstyle="butt",
                label="reference chord",
            )
            ax.plot(x, at, "o", color="white", markeredgecolor="black", markersize=6, label="moment point")
    if measures.mass.mass:
        for ax, at in ((side, measures.mass.centre[2]), (top, measures.mass.centre[1])):
            ax.plot(
                measures.mass.centre[0],
                at,
                "P",
                color="white",
                markeredgecolor="black",
                markersize=9,
                label="gravity centre",
            )
    if top.get_legend_handles_labels()[1]:
        top.legend(loc="lower left", fontsize="x-small", handlelength=1.2, borderpad=0.3, framealpha=1.0)
    hidden = ("centroid", "reference x", "reference y", "reference z")
    rows = [row for row in measures.rows() if not row[0].startswith(hidden)]
    colours = part_colours(measures.surface.parts)
    rows += [(f"wetted, {row.part}", row.wetted, "m^2") for row in measures.parts.itertuples() if row.aerodynamic]
    _table(words, rows, {f"wetted, {name}": colour for name, colour in colours.items()})
    return figure


def draw_sketch(sizes: "SurfaceMeasures", figure: "Figure | None" = None, alpha: float = 0.0):
    """Draw three views of a closed surface with its dimensions and the arrows of nose, wind, lift and drag.

    Parameters
    ----------
    sizes : SurfaceMeasures
        Of `measure_surface`.
    figure : matplotlib.figure.Figure, optional
        Figure to draw into.
    alpha : float, optional
        Angle [deg] of the arrows.

    Returns
    -------
    matplotlib.figure.Figure

    Examples
    --------
    >>> from zephyrum import Body, measure_surface
    >>> figure = draw_sketch(measure_surface(Body.capsule(3.0, 1.0).surface()))
    >>> figure.savefig("sketch.png")  # doctest: +SKIP
    """
    figure, _, _, words = _views(sizes, {"": sizes.surface}, figure, alpha)
    _table(words, sizes.rows(), {})
    return figure


def _views(sizes, solids: dict, figure, alpha: float):
    """(figure, side view, top view, axes for words) with outlines, dimensions and arrows."""
    if figure is None:
        figure, _ = new_axes()
        figure.clear()
    surface = sizes.surface
    low, high = surface.bounds
    length, span, height = sizes.size
    pad = 0.09 * max(length, span)
    grid = figure.add_gridspec(
        2, 2, width_ratios=(length + 2.4 * pad, span + 2.4 * pad), height_ratios=(height + 2.6 * pad, span + 2.4 * pad)
    )
    side, front, top, words = (figure.add_subplot(grid[k]) for k in ((0, 0), (0, 1), (1, 0), (1, 1)))
    colours = part_colours(surface.parts)
    for ax, along in ((side, "y"), (front, "x"), (top, "z")):
        for name in sorted(solids, key=lambda key: _depth(solids[key], along)):
            _shadow(ax, outline_of(solids[name], along), colours.get(name, COLOURS[5]))
        _shadow_edge(ax, outline_of(surface, along))
        ax.set_aspect("equal")
        ax.spines[["top", "right"]].set_visible(False)
    for ax in (side, top):
        ax.set_xlim(low[0] - 1.3 * pad, high[0] + 1.3 * pad)
    for ax in (side, front):
        ax.set_ylim(low[2] - 1.5 * pad, high[2] + 1.1 * pad)
    for setter in (front.set_xlim, top.set_ylim):
        setter(low[1] - 1.3 * pad, high[1] + 1.3 * pad)
    below = low[2] - 0.6 * pad
    _dimension(side, (low[0], below), (high[0], below), f"length {length:.2f} m", (0.0, -0.35 * pad))
    _dimension(front, (low[1], below), (high[1], below), f"span {span:.2f} m", (0.0, -0.35 * pad))
    _dimension(
        side, (high[0] + 0.5 * pad, low[2]), (high[0] + 0.5 * pad, high[2]), f"{height:.2f} m", (0.35 * pad, 0.0)
    )
    _arrows(side, low, high, pad, alpha)
    format_axes(side, "x [m]", "z [m]", f"{surface.name}: from port, wind at alpha {alpha:g} deg")
    format_axes(front, "y [m]", "z [m]", "from behind")
    format_axes(top, "x [m]", "y [m]", "from above")
    return figure, side, top, words


def _depth(surface, along: str) -> float:
    """Where a part lies towards the viewer: from port, from behind, from above."""
    low, high = surface.bounds
    return {"y": -low[1], "x": high[0], "z": high[2]}[along]


def _shadow_edge(ax, rims) -> None:
    for rim in rims:
        closed = np.concatenate([rim, rim[:1]])
        ax.plot(closed[:, 0], closed[:, 1], color="black", linewidth=1.1)


def _arrows(ax, low, high, pad: float, alpha: float) -> None:
    """Nose, wind, lift and drag in the side view."""
    drag, _, lift = wind_axes(alpha)
    size = 0.16 * (high[0] - low[0])
    location = np.array([low[0] + 0.30 * (high[0] - low[0]), high[2] + 0.1 * pad])
    midpoint = 0.5 * (low[2] + high[2])
    ahead = np.array([low[0] - 0.1 * pad, midpoint])
    start = np.array([low[0] - 1.15 * pad, low[2] + 0.05 * pad])
    arrows = (
        ("nose", INK, ahead, np.array([-0.9 * pad, 0.0])),
        ("wind", COLOURS[0], start, 0.9 * pad * drag[[0, 2]]),
        ("lift", COLOURS[2], location, 0.55 * size * lift[[0, 2]]),
        ("drag", COLOURS[1], location, size * drag[[0, 2]]),
    )
    for name, colour, at, direction in arrows:
        style = {"arrowstyle": "-|>", "color": colour, "linewidth": 1.6, "shrinkA": 0, "shrinkB": 0}
        ax.annotate("", at + direction, at, arrowprops=style)
        beside = (
            at + direction + np.array([0.3, 0.0]) * pad
            if name in ("lift", "drag")
            else at + 0.5 * direction + np.array([0.0, 0.28]) * pad
        )
        ax.text(
            *beside,
            name,
            color=colour,
            fontsize="small",
            ha="left" if name in ("lift", "drag") else "center",
            va="center",
        )


def _table(ax, rows, colours: dict[str, str]) -> None:
    """Measures as text in two columns."""
    ax.axis("off")
    half = max(12, (len(rows) + 1) // 2)
    for k, (name, value, unit) in enumerate(rows):
        y = 0.97 - (k % half) * 0.93 / half
        x = 0.02 + 0.52 * (k // half)
        words = {"transform": ax.transAxes, "va": "top"}
        ax.text(x, y, name, fontsize="small", color=colours.get(name, INK), **words)
        ax.text(x + 0.375, y, f"{round(value, 3) + 0.0:,.3f}", fontsize="small", color=INK, ha="right", **words)
        ax.text(x + 0.385, y, unit, fontsize="x-small", color="#777777", **words)


def draw_span(craft: "Aircraft", axes: np.ndarray | None = None):
    """Draw chord (above), twist and thickness (below) of every wing along its span.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    axes : two axes, optional
        Axes to draw into.

    Returns
    -------
    two matplotlib.axes.Axes

    Examples
    --------
    >>> from zephyrum import Aircraft, Airfoil, Planform, Wing
    >>> wing = Wing(planform=Planform(span=10.0, area=12.5), airfoil=Airfoil.naca("2412"))
    >>> craft = Aircraft(name="glider", parts={"wing": wing})
    >>> chord, twist = draw_span(craft)
    >>> chord.get_ylabel()
    'chord [m]'
    """
    if axes is None:
        _, axes = new_axes(2, 1, sharex=True)
    upper, lower = np.ravel(axes)
    wings = {name: one for name, one in craft.parts.items() if isinstance(one, Wing)}
    for k, (name, wing) in enumerate(wings.items()):
        total = _true_span(wing)
        fraction = np.linspace(0.0, 1.0, 101)
        made = [wing.at(s) for s in fraction]
        colour = COLOURS[k % 7]
        upper.plot(fraction * total, [one.chord for one in made], color=colour, linewidth=1.6, label=name)
        upper.plot(
            wing.span_fractions * total,
            [one.chord for one in wing.sections],
            MARKERS[k % 7],
            color=colour,
            markersize=6,
        )
        lower.plot(fraction * total, [one.twist for one in made], color=colour, linewidth=1.6, label=f"{name}: twist")
        for key, c in wing.controls.items():
            at = np.linspace(c.start, c.end, 21)
            chord = np.array([wing.at(s).chord for s in at])
            upper.fill_between(at * total, chord * c.hinge, chord, color=colour, alpha=0.22, linewidth=0)
            midpoint = 0.5 * (c.start + c.end)
            upper.text(
                midpoint * total,
                wing.at(midpoint).chord * (0.5 + 0.5 * c.hinge),
                key,
                ha="center",
                va="center",
                fontsize="small",
                color=INK,
            )
    format_axes(upper, "", "chord [m]", f"{craft.name}: stations marked, controls shaded over their share of the chord")
    upper.set_ylim(bottom=0.0)
    format_axes(lower, "distance from the root along the span [m]", "twist, nose-up [deg]")
    upper.legend(fontsize="small")
    lower.legend(fontsize="small")
    return axes


def _true_span(wing) -> float:
    from zephyrum.geometry.aircraft.stations import span_lengths

    return float(span_lengths(wing.sections)[-1])


def draw_area_distribution(measures: "AircraftMeasures", ax: "Axes | None" = None, n: int = 201):
    """Draw the area of the cross-sections along the length, of all and of each part alone.

    Parameters
    ----------
    measures : AircraftMeasures
        Of `Aircraft.measures`.
    ax : , optional
        Axes to draw into.
    n : int, optional
        Number of positions.

    Returns
    -------
    matplotlib.axes.Axes

    Examples
    --------
    >>> from zephyrum import Aircraft, Airfoil, Planform, Wing
    >>> wing = Wing(planform=Planform(span=10.0, area=12.5), airfoil=Airfoil.naca("2412"))
    >>> craft = Aircraft(name="glider", parts={"wing": wing})
    >>> ax = draw_area_distribution(craft.measures())
    >>> ax.get_xlabel()
    'x [m]'
    """
    from zephyrum.geometry.surface.solids import section_area

    if ax is None:
        _, ax = new_axes()
    x, area = measures.whole.area_distribution(n)
    ax.plot(x, area, color="black", linewidth=2.0, label="all parts united")
    for name, solid in measures.solids.items():
        colour = part_colours(measures.solids)[name]
        if name.endswith(" port"):
            continue
        low, high = solid.bounds[:, 0]
        own = np.linspace(low, high, max(21, int(n * (high - low) / np.ptp(x)) // 2))
        ax.plot(own, section_area(solid, own), color=colour, linewidth=1.3, label=name)
    format_axes(
        ax,
        "x [m]",
        "cross-section area [m^2]",
        f"{measures.surface.name}: largest {area.max():.3f} m^2 at x = {x[int(area.argmax())]:.2f} m",
    )
    ax.set_ylim(bottom=0.0)
    ax.legend(fontsize="small")
    return ax
