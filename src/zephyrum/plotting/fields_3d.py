"""Pictures of meshes and flows in space: slices with cells or fields, and values on the surface of the body.

Ranges can be fixed over several pictures; what is beyond them is clipped and the colour bar says so.
"""

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.collections import LineCollection, PolyCollection

from zephyrum._core.validation import choice
from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.mesh.slices import slice_mesh
from zephyrum.mesh.wall_triangles import wall_surface
from zephyrum.plotting.fields_2d import FIELDS, MAPS
from zephyrum.plotting.rendering import (
    INK,
    VIEWS,
    aim_camera,
    camera_direction,
    can_render,
    colour_bar,
    new_scene,
    polyline,
    save_picture,
    triangles_of,
    window,
)
from zephyrum.plotting.style import COLOURS, clipped_ends, format_axes, new_axes, save
from zephyrum.plotting.surface_pictures import draw_surface
from zephyrum.results.wall_interpolation import WallInterpolation

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from pyvista import Plotter

    from zephyrum.mesh.core import Mesh
    from zephyrum.results.skin_friction import SkinFrictionLines
    from zephyrum.results.solution import Solution


AROUND = 0.12  # of the body: what a slice shows beyond it
CP_RANGE = (-1.5, 1.0)
LINES = "#202020"
OFF = 2e-3  # of the body: how far lines on the surface are drawn before it


def draw_slice(
    shown: "Mesh | Solution",
    axis: str = "y",
    at: float | None = None,
    name: str | None = None,
    view: tuple[float, float, float, float] | None = None,
    ax: "Axes | None" = None,
    limits: tuple[float, float] | None = None,
) -> "Axes":
    """Draw the cells of a mesh, or a field of a solution, in a plane across an axis.

    Parameters
    ----------
    shown : Mesh or Solution
    axis : str
        "x", "y" or "z".
    at : float, optional
        Position of the plane [m]; without it half of the body's surface lies on either side (half a thousandth of the
        body off a symmetry plane).
    name : str, optional
        Field of the solution such as "cp" or "mach"; without it the cells are drawn.
    view : tuple of float, optional
        Window (low, high, low, high) [m] of the other two axes; without it all of the body that is cut.
    ax : matplotlib.axes.Axes, optional
    limits : tuple of float, optional
        Range of the colours.

    Returns
    -------
    matplotlib.axes.Axes

    Examples
    --------
    >>> import zephyrum as zy
    >>> draw_slice(zy.load_solution("wing.npz"), "y", 0.5, "mach").figure.savefig("slice.png")  # doctest: +SKIP
    """
    mesh = shown if name is None and not hasattr(shown, "mesh") else shown.mesh  # type: ignore[union-attr]
    bounds = _wall_bounds(mesh)
    k = "xyz".index(choice("axis", axis, ("x", "y", "z")))
    if at is None:
        symmetric = mesh.mirrored and k == 1
        at = 5e-4 * (bounds[1] - bounds[0]).max() if symmetric else _middle_of_area(mesh, k)
    cut = slice_mesh(mesh, axis, at)
    if view is None:
        view = _slice_window(cut, bounds[:, [j for j in range(3) if j != k]])
    polygons = np.split(cut.points, cut.start[1:-1])
    far = np.array([[p[:, 0].min(), p[:, 0].max(), p[:, 1].min(), p[:, 1].max()] for p in polygons])
    inside = np.flatnonzero(
        (far[:, 1] > view[0]) & (far[:, 0] < view[1]) & (far[:, 3] > view[2]) & (far[:, 2] < view[3])
    )
    if ax is None:
        _, ax = new_axes()
    drawn = [polygons[i] for i in inside]
    if name is None:
        ax.add_collection(PolyCollection(drawn, facecolors="none", edgecolors="#56708a", linewidths=0.35))
        title = f"{len(inside):,} of {mesh.n_cells:,} cells"
    else:
        fields = shown.fields()  # type: ignore[union-attr]
        values = fields[choice("field", name, tuple(key for key in FIELDS if key in fields))][cut.cell[inside]]
        low_v, high_v = limits or (float(np.percentile(values, 0.5)), float(np.percentile(values, 99.5)))
        paint = PolyCollection(drawn, array=values, cmap=MAPS.get(name, "viridis"), edgecolors="face", linewidths=0.2)
        paint.set_clim(low_v, high_v)
        ax.add_collection(paint)
        extend = clipped_ends(values, low_v, high_v)
        ax.figure.colorbar(paint, ax=ax, label=FIELDS[name], extend=extend, shrink=0.8)
        title = shown.air.describe()  # type: ignore[union-attr]
    ax.add_collection(LineCollection(cut.walls, colors=COLOURS[1] if name is None else INK, linewidths=1.2))  # type: ignore[arg-type]
    ax.set_xlim(*view[:2])
    ax.set_ylim(*view[2:])
    ax.set_aspect("equal")
    format_axes(ax, f"{cut.across[0]} [m]", f"{cut.across[1]} [m]", f"{axis} = {at:.4g} m: {title}")
    ax.grid(False)
    return ax


def _wall_bounds(mesh: "Mesh") -> np.ndarray:
    """Lowest and highest corner (2, 3) [m] of the walls."""
    groups = [g for g in mesh.groups if g.role == "wall"]
    used = np.concatenate([mesh.face_points[mesh.face_start[g.start] : mesh.face_start[g.stop]] for g in groups])
    body = mesh.points[np.unique(used)]
    return np.stack([body.min(axis=0), body.max(axis=0)])


def _slice_window(cut, bounds: np.ndarray) -> tuple[float, float, float, float]:
    """Window (low, high, low, high) [m] about the walls that are cut, or else about the bounds (2, 2) of the body."""
    walls = cut.walls.reshape(-1, 2) if len(cut.walls) else bounds
    low, high = walls.min(axis=0), walls.max(axis=0)
    pad = AROUND * max(high - low) * np.ones(2) + 0.25 * np.maximum(0.6 * (high - low)[::-1] - (high - low), 0.0)
    return low[0] - pad[0], high[0] + pad[0], low[1] - pad[1], high[1] + pad[1]


def _middle_of_area(mesh, axis: int) -> float:
    """Place [m] along an axis on either side of which lies half of the area of the walls: not a fin, however far it
    stands out.
    """
    faces = mesh.faces_of("wall")
    position, area = mesh.face_centroid[faces, axis], np.linalg.norm(mesh.face_area[faces], axis=1)
    order = np.argsort(position)
    fraction = np.cumsum(area[order])
    return float(position[order][np.searchsorted(fraction, 0.5 * fraction[-1])])


def draw_volume(mesh: "Mesh", folder: Path) -> list:
    """Save pictures of a mesh in space: its surface, and slices of the whole, the nose, the tail and the tip.

    Parameters
    ----------
    mesh : Mesh
        Mesh in space.
    folder : path
        Folder of the pictures.

    Returns
    -------
    list of path

    Examples
    --------
    >>> import zephyrum as zy
    >>> draw_volume(zy.read_mesh("wing.cgns"), Path("pictures"))  # doctest: +SKIP
    """
    folder = Path(folder)
    folder.mkdir(parents=True, exist_ok=True)
    surface, _ = wall_surface(mesh)
    made = [draw_surface(replace(surface, name="surface mesh"), folder / "mesh_surface.png", edges=True)]
    x = surface.points
    low, high = surface.bounds
    nose, tail, tip = x[np.argmin(x[:, 0])], x[np.argmax(x[:, 0])], x[np.argmax(x[:, 1])]
    w = 0.05 * (high[0] - low[0])
    figure, axes = new_axes(2, 2)
    draw_slice(mesh, "y", ax=axes[0, 0])
    off = 5e-4 * (high - low).max()
    for ax, at, name in ((axes[0, 1], nose, "nose"), (axes[1, 0], tail, "tail")):
        draw_slice(mesh, "y", off, view=(at[0] - w, at[0] + w, at[2] - 0.6 * w, at[2] + 0.6 * w), ax=ax)
        ax.set_title(f"{name}: {ax.get_title()}", fontsize="medium")
    draw_slice(
        mesh, "x", tip[0], view=(tip[1] - 1.4 * w, tip[1] + 0.6 * w, tip[2] - 0.6 * w, tip[2] + 0.6 * w), ax=axes[1, 1]
    )
    axes[1, 1].set_title(f"tip: {axes[1, 1].get_title()}", fontsize="medium")
    save(figure, folder / "mesh_slices.png")
    return [*made, folder / "mesh_slices.png"]


def draw_on_surface(
    solution: "Solution",
    path: Path,
    name: str = "Cp",
    view: str = "quarter",
    limits: tuple[float, float] | None = None,
    lines: "SkinFrictionLines | None" = None,
    title: str = "",
):
    """Write a picture of the body coloured by a column of `surface()`; a half model is shown whole.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    path : path
        Picture file.
    name : str, optional
        "Cp", "Cf" or "y+".
    view : str, optional
        Name of the view.
    limits : tuple[float, float], optional
        Range of the colours.
    lines : SkinFrictionLines, optional
        Of `Solution.skin_friction_lines`, drawn over the colours.
    title : str, optional
        Text before the condition.

    Returns
    -------
    path

    Examples
    --------
    >>> import zephyrum as zy
    >>> draw_on_surface(zy.load_solution("wing.npz"), Path("Cp.png"), "Cp", limits=(-1.5, 1.0))  # doctest: +SKIP
    """
    choice("view", view, tuple(VIEWS))
    table = solution.surface()
    choice("name", name, tuple(column for column in ("Cp", "Cf", "y+") if column in table))
    surface, values = wall_point_values(solution, name)
    limits = limits or (CP_RANGE if name == "Cp" else (0.0, float(np.percentile(values, 99.0))))
    title = (
        f"{title}{': ' if title else ''}{name}{'' if lines is None else f' and {lines.means} lines'} at "
        f"{solution.air.describe()}"
    )
    unit = f"{name} [-]"
    if lines is not None and solution.mesh.mirrored:
        lines = lines.mirrored()
    if can_render():
        return _rendered(surface, values, path, view, limits, title, unit, lines)
    return _painted(surface, values, path, view, limits, title, unit, lines)


def wall_point_values(solution: "Solution", name: str) -> tuple[Surface, np.ndarray]:
    """Walls as a surface, and a column of `surface()` at its points.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    name : str
        Column.

    Returns
    -------
    surface : Surface
        Of the whole body where the mesh is half of it. Points at sharp edges are there once for each side.
    values : (n,) array
    """
    walls = WallInterpolation.of(solution.mesh)
    values = walls.at_nodes(solution.surface()[name].to_numpy())
    mirrored = solution.mesh.mirrored
    return walls.surface(mirrored), np.tile(values, 2) if mirrored else values


def draw_loading(
    solution: "Solution",
    axes: np.ndarray | None = None,
    positions: tuple[float, float, float, float] = (0.2, 0.45, 0.7, 0.9),
):
    """Draw the lift over the span beside that of an ellipse, and Cp in sections.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    axes : two axes, optional
        Axes to draw into.
    positions : tuple[float, float, float, float], optional
        Fractions of the half span at which the sections lie.

    Returns
    -------
    two matplotlib.axes.Axes

    Examples
    --------
    >>> import zephyrum as zy
    >>> draw_loading(zy.load_solution("wing.npz"))  # doctest: +SKIP
    """
    if axes is None:
        _, axes = new_axes(2, 1)
    load = solution.span_loading()
    own = load.table
    top, bottom = axes
    top.plot(own["y"], own["load"], color=COLOURS[0], label=f"load; {load}")
    midpoint = 0.5 * (own["y"].iloc[0] + own["y"].iloc[-1])
    ellipse = 4.0 / np.pi * np.sqrt(np.maximum(1.0 - ((own["y"] - midpoint) / (0.5 * load.span)) ** 2, 0.0))
    top.plot(own["y"], ellipse, "--", color=COLOURS[6], linewidth=1, label="ellipse of the same lift")
    top.legend(fontsize="small", loc="lower center")
    format_axes(top, "y [m]", "lift a length over its mean [-]", solution.air.describe())
    planes = [midpoint + 0.5 * load.span * position for position in positions]
    cuts = solution.cuts(planes)  # in one call: the walls are interpolated once
    for k, at in enumerate(planes):
        cut = cuts[np.isclose(cuts["y"], at, rtol=0.0, atol=1e-9 * load.span)]
        part = cut.loc[cut.groupby("part")["chord"].transform("max").idxmax(), "part"]
        cut = cut[cut["part"] == part]
        for side, style in (("upper", "-"), ("lower", "--")):
            line = cut[cut["side"] == side].sort_values("fraction")
            bottom.plot(
                line["fraction"],
                line["Cp"],
                style,
                color=COLOURS[k % 7],
                linewidth=1.2,
                marker=".",
                markersize=4,
                label=f"{part}, y = {at:.2f} m, cl {(cut['cz']).sum():.3f}" if side == "upper" else None,
            )
    bottom.invert_yaxis()
    bottom.legend(fontsize="small")
    format_axes(bottom, "fraction of the local chord [-]", "Cp [-] (upper side full, lower side dashed)")
    return axes


def _rendered(surface, values, path, view, limits, title, unit, lines):
    plotter = new_scene()
    add_surface(plotter, surface, values, limits, unit)
    plotter.add_text(title, position="upper_left", font_size=11, color=INK)
    ahead = camera_direction(surface, view)
    if lines is not None:  # moved towards the viewer, which does not show but keeps them off the surface
        runs = list(zip(lines.start[:-1], lines.start[1:], strict=True))
        drawn = polyline(lines.points + OFF * np.ptp(lines.points, axis=0).max() * ahead, runs)
        plotter.add_mesh(drawn, color=LINES, line_width=1.2, lighting=False)
    aim_camera(plotter, surface.points, ahead, view, 1.22)
    save_picture(plotter, path)
    return path


def add_surface(
    plotter: "Plotter", surface: Surface, values: np.ndarray, limits: tuple[float, float], unit: str
) -> None:
    """Add a surface with values at its points, and their colour bar, to a scene.

    Parameters
    ----------
    plotter : pyvista.Plotter
        Scene.
    surface : Surface
        Surface with n points.
    values : (n,) array
        Values.
    limits : tuple[float, float]
        Range of the colours.
    unit : str
        Label of the colour bar.
    """
    skin = triangles_of(surface)
    skin[unit] = values
    plotter.add_mesh(
        skin,
        scalars=unit,
        clim=limits,
        cmap="viridis",
        smooth_shading=True,
        split_sharp_edges=True,
        ambient=0.45,
        diffuse=0.6,
        show_scalar_bar=False,
    )
    colour_bar(plotter, unit, limits, values)


def _painted(surface, values, path, view, limits, title, unit, lines):
    """The same with Matplotlib, triangles painted from back to front."""
    figure, ax = new_axes()
    each = values[surface.triangles].mean(axis=1)
    ahead = camera_direction(surface, view)
    frame, low, high = window(surface.points, ahead, view)
    order = np.argsort(surface.centres @ ahead)
    order = order[surface.normals[order] @ ahead > 0.0]
    paint = PolyCollection(
        (surface.points @ frame.T)[surface.triangles[order]],
        array=each[order],
        cmap="viridis",
        edgecolors="face",
        linewidths=0.2,
    )
    paint.set_clim(*limits)
    ax.add_collection(paint)
    if lines is not None:  # those on what looks this way
        pair = np.setdiff1d(np.arange(len(lines.points) - 1), lines.start[1:-1] - 1)
        pair = pair[lines.normal[pair] @ ahead > 0.0]
        flat = lines.points @ frame.T
        ax.add_collection(LineCollection(np.stack([flat[pair], flat[pair + 1]], axis=1), colors=LINES, linewidths=0.5))
    extend = clipped_ends(each, *limits)
    figure.colorbar(paint, ax=ax, label=unit, extend=extend, shrink=0.7)
    ax.set_xlim(low[0], high[0])
    ax.set_ylim(low[1], high[1])
    ax.set_aspect("equal")
    ax.axis("off")
    ax.set_title(title, fontsize="medium", loc="left")
    save(figure, path)
    return path
