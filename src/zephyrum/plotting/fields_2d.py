"""Pictures of the mesh and of fields on it, two-dimensional."""

from typing import TYPE_CHECKING

import numpy as np
from matplotlib.collections import LineCollection
from matplotlib.tri import Triangulation

from zephyrum._core.validation import choice, whole
from zephyrum.errors import InputError
from zephyrum.mesh.polygons import next_corners
from zephyrum.plotting.style import clipped_ends, format_axes, new_axes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from zephyrum.mesh.core import Mesh
    from zephyrum.results.linear_stability import Stability
    from zephyrum.results.solution import Solution


FIELDS = {
    "cp": "Cp [-]",
    "mach": "Mach number [-]",
    "pressure": "pressure [Pa]",
    "temperature": "temperature [K]",
    "density": "density [kg/m^3]",
    "eddy viscosity ratio": "eddy viscosity / viscosity [-]",
    "vorticity": "vorticity x chord / speed [-]",
}


MAPS = {"mach": "cividis", "vorticity": "RdBu_r"}
SPIN = 20.0  # vorticity over speed and chord at which the colours end: boundary layers are far beyond
LINES = 28  # streamlines in a view
INNER_LINES = 5  # and in a separated zone
WAKE_VIEW = 5.0  # length of the wake in the picture of a mode, in sizes of the body
FEWEST = 20  # triangles of a zone worth drawing


def window(mesh: "Mesh", kind: str) -> tuple[float, float, float, float]:
    """Window of a view.

    Parameters
    ----------
    mesh : Mesh
        Two-dimensional mesh.
    kind : str
        "all", "near", "nose" or "tail".

    Returns
    -------
    x_low, x_high, z_low, z_high : float
        [m]

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> x_low, x_high, z_low, z_high = window(mesh_airfoil(Airfoil.naca("0012"), 32, 8), "near")
    >>> bool(x_low < 0.0 < 1.0 < x_high)
    True
    """
    choice("view", kind, ("all", "near", "nose", "tail"))
    wall = mesh.face_centroid[mesh.faces_of("wall")]
    c, x0 = mesh.reference.chord, wall[:, 0].min()
    z0 = float(0.5 * (wall[:, 2].min() + wall[:, 2].max()))
    if kind == "all":
        x, z = mesh.points[:, 0], mesh.points[:, 2]
        return float(x.min()), float(x.max()), float(z.min()), float(z.max())
    if kind == "near" and mesh.wedge:
        return x0 - 0.5 * c, x0 + 2.2 * c, 0.0, 1.35 * c
    if kind == "near":
        return x0 - 0.5 * c, x0 + 1.6 * c, z0 - 0.65 * c, z0 + 0.65 * c
    at = wall[np.argmin(wall[:, 0])] if kind == "nose" else wall[np.argmax(wall[:, 0])]
    w = 0.06 * c if kind == "nose" else 0.04 * c
    return at[0] - w, at[0] + w, at[2] - 0.62 * w, at[2] + 0.62 * w


def draw_mesh(mesh: "Mesh", view: str | tuple[float, float, float, float] = "near", ax: "Axes | None" = None):
    """Draw the cells of a two-dimensional mesh in a window.

    Parameters
    ----------
    mesh : Mesh
        Two-dimensional mesh.
    view : str or tuple[float, float, float, float], optional
        "all", "near", "nose", "tail", or (low x, high x, low z, high z) [m].
    ax : Axes, optional
        Axes to draw into.

    Returns
    -------
    matplotlib.axes.Axes

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> ax = draw_mesh(mesh_airfoil(Airfoil.naca("0012"), 32, 8), view="near")
    >>> ax.get_xlabel()
    'x [m]'
    """
    if ax is None:
        _, ax = new_axes()
    low_x, high_x, low_z, high_z = window(mesh, view) if isinstance(view, str) else view
    edge = mesh.points[mesh.edges][:, :, [0, 2]]
    inside = (
        (edge[:, :, 0].max(1) >= low_x)
        & (edge[:, :, 0].min(1) <= high_x)
        & (edge[:, :, 1].max(1) >= low_z)
        & (edge[:, :, 1].min(1) <= high_z)
    )
    ax.add_collection(LineCollection(edge[inside], colors="#56708a", linewidths=0.35))
    wall = mesh.faces_of("wall")
    ax.add_collection(LineCollection(edge[wall], colors="#D55E00", linewidths=1.4))
    ax.set_xlim(low_x, high_x)
    ax.set_ylim(low_z, high_z)
    ax.set_aspect("equal")
    format_axes(
        ax,
        "x [m]",
        "z [m]",
        f"{view}: {mesh.n_cells} cells" if view in ("all", "near") else view if isinstance(view, str) else "",
    )
    ax.grid(False)
    return ax


def _node_values(mesh, values):
    """Triangles (points on y = 0) of all cells and values at the points, averaged from the cells around."""
    corners, start = mesh.cell_rings
    counts = np.diff(start)
    owner = np.repeat(np.arange(mesh.n_cells), counts)
    n = len(mesh.points)
    total = np.bincount(corners, values[owner], n)
    node = total / np.maximum(np.bincount(corners, minlength=n), 1)
    first = corners[start[owner]]
    triangles = np.stack([first, corners, corners[next_corners(start)]], axis=1)
    good = (triangles[:, 1] != first) & (triangles[:, 2] != first)
    return triangles[good], owner[good], node


def draw_field(
    solution: "Solution",
    name: str = "cp",
    view: str = "near",
    ax: "Axes | None" = None,
    limits: tuple[float, float] | None = None,
    levels: int = 24,
    streamlines: bool = False,
) -> "Axes":
    """Draw filled contours of a field near a section, with contour lines, the sonic line and the stagnation point.

    Parameters
    ----------
    solution : Solution
    name : str
        "cp", "mach", "vorticity" or another field of `Solution.fields`.
    view : str
        "near", "nose", "tail" or "all".
    ax : matplotlib.axes.Axes, optional
    limits : tuple of float, optional
        Range of the colours, the same over several pictures; values beyond it are clipped and the colour bar says so.
    levels : int
        Number of bands.
    streamlines : bool
        Draw streamlines with the same mass flow between neighbours instead of contour lines, and hatch separated zones.

    Returns
    -------
    matplotlib.axes.Axes

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
    >>> ax = draw_field(solution, "cp")
    >>> ax.figure.savefig("cp.png")  # doctest: +SKIP
    """
    fields = solution.fields()
    if name == "vorticity":
        fields["vorticity"] = solution.vorticity() * solution.reference.chord / solution.air.speed
        limits, levels = limits or (-SPIN, SPIN), levels // 2 * 2 + 1  # one colour for what does not rotate
    choice("field", name, tuple(key for key in FIELDS if key in fields))
    if ax is None:
        _, ax = new_axes()
    mesh = solution.mesh
    edges = window(mesh, view)
    mesh_2d, node = _triangles_in_window(mesh, fields[name], edges)
    shown = node[np.unique(mesh_2d.triangles)]
    low, high = limits or (float(np.percentile(shown, 0.2)), float(np.percentile(shown, 99.8)))
    at = np.linspace(low, high, levels + 1)
    extend = clipped_ends(shown, low, high)
    filled = ax.tricontourf(mesh_2d, node, levels=at, cmap=MAPS.get(name, "viridis"), extend=extend)
    if streamlines:
        _draw_streamlines(ax, solution, mesh_2d)
    elif name != "vorticity":
        ax.tricontour(mesh_2d, node, levels=at[::2], colors="black", linewidths=0.25, alpha=0.5)
    _draw_sonic_line(ax, mesh_2d, _node_values(mesh, fields["mach"])[2])
    _draw_stagnation_point(ax, solution)
    ax.legend(loc="lower left", fontsize="small")
    bar = ax.figure.colorbar(filled, ax=ax, label=FIELDS[name], shrink=0.85)
    if name == "vorticity":
        bar.set_ticks(np.linspace(low, high, 9))  # type: ignore[arg-type]
    words = {"neither": "", "min": "lower clipped", "max": "upper clipped", "both": "both ends clipped"}
    bar.ax.set_title(words[extend], fontsize="x-small")
    _format_field_axes(ax, mesh, edges, f"{mesh.recipe.get('section', '')}  {solution.air.describe()}")
    return ax


def draw_mode(stability: "Stability", mode: int = 1, ax: "Axes | None" = None) -> "Axes":
    """Draw the velocity across the stream of a mode of small disturbances of a section's flow, at one instant.

    Parameters
    ----------
    stability : Stability
        On a plane mesh.
    mode : int
        Number of the mode, 1 for the first.
    ax : matplotlib.axes.Axes, optional
        Axes to draw into.

    Returns
    -------
    matplotlib.axes.Axes

    Raises
    ------
    InputError
        The mesh is not plane, or there is no such mode.

    Examples
    --------
    >>> import zephyrum as zy
    >>> from zephyrum.plotting import draw_mode
    >>> draw_mode(zy.linear_stability(solution))  # doctest: +SKIP
    """
    solution, mesh = stability.solution, stability.solution.mesh
    if not mesh.planar:
        raise InputError("a mode is drawn on plane meshes only; this one is in space.")
    shown = stability.modes[whole("mode", mode, 1, len(stability.modes)) - 1]
    if ax is None:
        _, ax = new_axes()
    wall = mesh.face_centroid[mesh.faces_of("wall")]
    (x0, x1), (z0, z1) = ((wall[:, k].min(), wall[:, k].max()) for k in (0, 2))
    size = max(x1 - x0, z1 - z0)
    drift = solution.computed.wind[2] * WAKE_VIEW * size
    edges = x0 - 0.5 * size, x1 + WAKE_VIEW * size, z0 + min(drift, 0.0) - size, z1 + max(drift, 0.0) + size
    across = (shown.velocity @ solution.computed.axes[2]).real
    mesh_2d, node = _triangles_in_window(mesh, across, edges)
    node = node / np.abs(node[np.unique(mesh_2d.triangles)]).max()
    filled = ax.tricontourf(mesh_2d, node, levels=np.linspace(-1.0, 1.0, 26), cmap="RdBu_r", extend="both")
    bar = ax.figure.colorbar(filled, ax=ax, label="velocity across the stream, over its largest here [-]", shrink=0.85)
    bar.set_ticks(np.linspace(-1.0, 1.0, 9))  # type: ignore[arg-type]
    words = f"mode {mode}: growth {shown.growth:+.3g} a chord of travel, Strouhal number {shown.strouhal:.4f}"
    _format_field_axes(ax, mesh, edges, f"{solution.air.describe()}\n{words}")
    return ax


def _triangles_in_window(mesh, values, edges) -> tuple[Triangulation, np.ndarray]:
    """Triangles of the cells that reach into a window (low x, high x, low z, high z), and values at all points."""
    triangles, _, node = _node_values(mesh, values)
    x, z = mesh.points[:, 0], mesh.points[:, 2]
    tx, tz = x[triangles], z[triangles]
    low_x, high_x, low_z, high_z = edges
    inside = (tx.max(1) >= low_x) & (tx.min(1) <= high_x) & (tz.max(1) >= low_z) & (tz.min(1) <= high_z)
    return Triangulation(x, z, triangles[inside]), node


def _format_field_axes(ax, mesh, edges, title: str) -> None:
    """Walls, the window (low x, high x, low z, high z) and the title of a picture of a field."""
    wall = mesh.points[mesh.edges[mesh.faces_of("wall")]][:, :, [0, 2]]
    ax.add_collection(LineCollection(wall, colors="black", linewidths=1.2))
    ax.set_xlim(*edges[:2])
    ax.set_ylim(*edges[2:])
    ax.set_aspect("equal")
    format_axes(ax, "x [m]", "z [m]", title)
    ax.grid(False)


def _draw_sonic_line(ax, triangles: Triangulation, mach: np.ndarray) -> None:
    """Line of Mach 1 within the triangles, if there is one; mach (n,) at all points."""
    own = mach[np.unique(triangles.triangles)]
    if own.max() > 1.0 > own.min():
        ax.tricontour(triangles, mach, levels=[1.0], colors="#D55E00", linewidths=1.4)
        ax.plot([], [], color="#D55E00", label="sonic line")


def _draw_stagnation_point(ax, solution: "Solution") -> None:
    """Circle round the point of the largest Cp on the surface."""
    surface = solution.cp()
    stagnation = surface.loc[surface["Cp"].idxmax()]
    style = {"markersize": 8, "markerfacecolor": "none", "markeredgecolor": "#CC0000", "markeredgewidth": 1.6}
    ax.plot(stagnation["x"], stagnation["z"], "o", label="stagnation point", **style)


def _draw_streamlines(ax, solution, triangles: Triangulation) -> None:
    """Lines of the stream function, finer ones within separated zones, and those zones hatched."""
    stream = solution.stream_function()
    zone = solution.separated(stream)
    own = np.unique(triangles.triangles)
    outside = stream[own[~zone[own]]]
    low, high = outside.min(), outside.max()
    step = (high - low) / LINES
    levels = np.arange(np.floor(low / step), np.ceil(high / step) + 1.0) * step
    filled = np.nan_to_num(stream)
    ax.tricontour(triangles, filled, levels=levels[levels != 0.0], colors="white", linewidths=0.7, linestyles="solid")
    found = False
    for sign in (1.0, -1.0):
        inside = zone & (sign * filled > 0.0)
        top = np.max(sign * filled[own], where=inside[own], initial=0.0)
        part = triangles.triangles[inside[triangles.triangles].any(axis=1)]
        if top <= 0.0 or len(part) < FEWEST:
            continue
        closed = Triangulation(triangles.x, triangles.y, part)
        finer = top * np.linspace(0.0, 0.95, INNER_LINES)
        ax.tricontourf(closed, sign * filled, levels=[0.0, 1.1 * top], colors="none", hatches=["...."])
        ax.tricontour(closed, sign * filled, levels=finer, colors="#F0E442", linewidths=1.0)
        found = True
    if found:
        ax.plot([], [], color="#F0E442", label="separated zone")
    ax.plot([], [], color="#999999", linewidth=0.7, label="streamlines")
