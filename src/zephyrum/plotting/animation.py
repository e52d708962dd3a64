"""Lines and cores of the flow about a body in space, and pictures that move: a turn round the body, and air running
along its lines.

Films are GIFs, written by Pillow, which Matplotlib brings along; in them the air moves one length of the body a second,
whatever its speed. They show a steady flow: every line is both a path and a streamline.
"""

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.validation import choice, number, whole
from zephyrum.errors import InputError
from zephyrum.geometry import Surface
from zephyrum.mesh.wall_triangles import wall_surface
from zephyrum.plotting.fields_3d import CP_RANGE, add_surface, wall_point_values
from zephyrum.plotting.rendering import (
    INK,
    VIEWS,
    aim_camera,
    camera_direction,
    can_render,
    colour_bar,
    frame_of,
    new_scene,
    polyline,
    save_picture,
    triangles_of,
)
from zephyrum.plotting.style import COLOURS, new_axes, save
from zephyrum.results.iso_surfaces import iso_polygons

if TYPE_CHECKING:
    from zephyrum.results.solution import Solution
    from zephyrum.results.streamlines_3d import Streamlines


SPEEDS = (0.7, 1.3)  # over that of the stream, at the ends of the colours
BEHIND = 0.8  # bodies: how far behind it lines are drawn
RATE = 12  # pictures a second
ANIMATION_FORMATS = (9.6, 6.0)  # inches
DASH_LENGTH = 0.35  # fraction of a line that is bright while air runs along it
CORES = 3e-4  # fraction of the volume near the body that the cores of vortices take by default
SKIN = "#c9ced6"


def _lines(solution, paths):
    """(lines of the whole body, cut off behind it)"""
    made = solution.streamlines() if paths is None else paths
    return made.mirrored() if solution.mesh.mirrored else made


def _shown(surface, lines):
    """Runs of points of the lines near the body, as (first, last) positions."""
    low, high = surface.bounds
    size = float((high - low)[0])
    x = lines.points[:, 0]
    keep = (x > low[0] - 0.2 * size) & (x < high[0] + BEHIND * size)
    runs = []
    for first, last in zip(lines.start[:-1], lines.start[1:], strict=True):
        inside = np.flatnonzero(keep[first:last])
        if len(inside) > 1:
            runs.append((first + inside[0], first + inside[-1] + 1))
    return runs


def draw_streamlines_3d(
    solution: "Solution", path: Path, view: str = "quarter", paths: "Streamlines | None" = None
) -> Path:
    """Write a picture of streamlines past the body, coloured by their speed.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    path : path
        Picture file.
    view : str, optional
        Name of the view.
    paths : Streamlines, optional
        Of `Solution.streamlines`; the default ones without it.

    Returns
    -------
    path

    Examples
    --------
    >>> import zephyrum as zy
    >>> draw_streamlines_3d(zy.load_solution("wing.npz"), Path("streamlines.png"))  # doctest: +SKIP
    """
    choice("view", view, tuple(VIEWS))
    surface, _ = wall_surface(solution.mesh)
    lines = _lines(solution, paths)
    runs = _shown(surface, lines)
    speed = lines.speed / solution.air.speed
    ahead = camera_direction(surface, view)
    title = f"{len(runs)} streamlines, steady: {solution.air.describe()}"
    unit = "speed / that of the stream [-]"
    near = np.concatenate([lines.points[first:last] for first, last in runs] + [surface.points])
    if not can_render():
        frame = np.vstack([frame_of(ahead, view), ahead])
        return _drawn_paths(surface, lines, runs, speed, frame, (title, unit), path)
    plotter = new_scene()
    plotter.add_mesh(triangles_of(surface), color=SKIN, smooth_shading=True, split_sharp_edges=True, ambient=0.3)
    drawn = polyline(lines.points, runs)
    drawn[unit] = speed
    plotter.add_mesh(
        drawn, scalars=unit, clim=SPEEDS, cmap="viridis", line_width=2.6, lighting=False, show_scalar_bar=False
    )
    colour_bar(plotter, "speed / stream [-]", SPEEDS, speed)
    plotter.add_text(title, position="upper_left", font_size=11, color=INK)
    aim_camera(plotter, near, ahead, view, 1.22)
    save_picture(plotter, path)
    return Path(path)


def _drawn_paths(surface, lines, runs, speed, frame, labels, path) -> Path:
    """The same with Matplotlib, seen along the last axis of `frame` (3, 3): the body first, the lines over it."""
    from matplotlib.collections import LineCollection, PolyCollection

    figure, ax = new_axes()
    frame, ahead = frame[:2], frame[2]
    order = np.argsort(surface.centres @ ahead)
    order = order[surface.normals[order] @ ahead > 0.0]
    ax.add_collection(
        PolyCollection(
            (surface.points @ frame.T)[surface.triangles[order]], facecolors=SKIN, edgecolors=SKIN, linewidths=0.2
        )
    )
    flat = lines.points @ frame.T
    pieces = np.concatenate([np.stack([flat[a : b - 1], flat[a + 1 : b]], axis=1) for a, b in runs])
    paint = LineCollection(
        pieces,  # type: ignore[arg-type]
        array=np.concatenate([speed[a : b - 1] for a, b in runs]),
        cmap="viridis",
        linewidths=1.0,
    )
    paint.set_clim(*SPEEDS)
    ax.add_collection(paint)
    figure.colorbar(paint, ax=ax, label=labels[1], extend="both", shrink=0.7)
    ax.autoscale_view()
    ax.set_aspect("equal")
    ax.axis("off")
    ax.set_title(labels[0], fontsize="medium", loc="left")
    save(figure, path)
    return Path(path)


def core_level(solution: "Solution", q: np.ndarray | None = None) -> float:
    """Value of the Q criterion that marks the cores of the vortices: what a small fraction of the volume near the body
    exceeds.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    q : (n,) array, optional
        The Q criterion, if known [1/s^2].

    Returns
    -------
    float
        [1/s^2]
    """
    mesh, (low, high) = solution.mesh, wall_surface(solution.mesh)[0].bounds
    size = float((high - low).max())
    x = mesh.cell_centroid
    room = size * np.array([0.5, 0.1, 0.1])  # most of it behind
    near = ((x > low - 0.1 * size) & (x < high + room)).all(axis=1)
    q, volume = (_free_spin(solution) if q is None else q)[near], mesh.cell_volume[near]
    order = np.argsort(-q)
    return float(max(q[order][np.searchsorted(np.cumsum(volume[order]), CORES * volume.sum())], 1e-6))


def _free_spin(solution) -> np.ndarray:
    """(n,) the Q criterion, nothing within the layers of cells on walls with friction: what turns there is the boundary
    layer, all over the body.
    """
    q = solution.rotation_quantities()["q"]
    if solution.viscous:
        q[(solution.mesh.wall_face_of_cell >= 0) & (q > 0.0)] = 0.0
    return q


def draw_vortex_cores(solution: "Solution", path: Path, view: str = "behind", level: float | None = None) -> Path:
    """Write a picture of the vortex cores (Q criterion = `level`) about the body with its Cp.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    path : path
        Picture file.
    view : str, optional
        Name of the view.
    level : float, optional
        Of the Q criterion [1/s^2]; from the flow without it.

    Returns
    -------
    path

    Examples
    --------
    >>> import zephyrum as zy
    >>> draw_vortex_cores(zy.load_solution("wing.npz"), Path("cores.png"), level=2.0)  # doctest: +SKIP
    """
    choice("view", view, tuple(VIEWS))
    if not can_render():
        raise InputError("surfaces in space need pyvista and a driver that renders; pip install 'zephyrum[3d]'.")
    q = _free_spin(solution)
    level = core_level(solution, q) if level is None else number("level", level)
    points, triangles, _ = iso_polygons(solution.mesh, q, level)
    if not len(triangles):
        raise InputError(f"no place off the walls has Q = {level:g}; choose a lower level.")
    cores = Surface(points, triangles)
    surface, values = wall_point_values(solution, "Cp")
    if solution.mesh.mirrored:
        cores = _twice(cores)
    low, high = surface.bounds
    size = float((high - low)[0])
    box = np.stack([low - size * np.array([0.2, 1.0, 1.0]), high + size * np.array([BEHIND, 1.0, 1.0])], axis=1)
    within = ((cores.points > box[:, 0]) & (cores.points < box[:, 1])).all(axis=1)
    keep = within[cores.triangles].all(axis=1)  # type: ignore[index]
    cores = triangles_of(replace(cores, triangles=cores.triangles[keep], label=cores.label[keep]))
    plotter = new_scene()
    add_surface(plotter, surface, values, CP_RANGE, "Cp [-]")
    plotter.add_mesh(cores, color=COLOURS[1], opacity=0.75, smooth_shading=False, ambient=0.3)
    plotter.add_text(
        f"vortex cores: Q = {level:.3g} (stream speed / chord)^2, {solution.air.describe()}",
        position="upper_left",
        font_size=11,
        color=INK,
    )
    points = np.concatenate([surface.points, np.asarray(cores.points)])
    aim_camera(plotter, points, camera_direction(surface, view), view, 1.22)
    save_picture(plotter, path)
    return Path(path)


def _twice(surface):
    """A surface and its image at the plane y = 0."""
    n = len(surface.points)
    return replace(
        surface,
        points=np.concatenate([surface.points, surface.points * [1.0, -1.0, 1.0]]),
        triangles=np.concatenate([surface.triangles, surface.triangles[:, ::-1] + n]),
        label=np.r_[surface.label, surface.label],
    )


def animate_turn(
    solution: "Solution", path: Path, name: str = "Cp", frames: int = 48, limits: tuple[float, float] = CP_RANGE
) -> Path:
    """Write a GIF of the body turning once, coloured by a column of `surface()`.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    path : path
        File.
    name : str, optional
        Column, such as "Cp".
    frames : int, optional
        Number of frames.
    limits : tuple[float, float], optional
        Range of the colours.

    Returns
    -------
    path

    Examples
    --------
    >>> import zephyrum as zy
    >>> animate_turn(zy.load_solution("wing.npz"), Path("turn.gif"), frames=24)  # doctest: +SKIP
    """
    _needs_stage(path)
    surface, values = wall_point_values(solution, name)
    high = np.array(VIEWS["quarter"])[2]
    made = []
    # as large in every picture: the ball round the body has to fit
    midpoint, radius = surface.midpoint, 0.5 * surface.size
    for angle in np.linspace(0.0, 2.0 * np.pi, whole("frames", frames, 2), endpoint=False):
        ahead = np.array([-np.cos(angle), -np.sin(angle), high / 1.35])
        ahead /= np.linalg.norm(ahead)
        plotter = new_scene(ANIMATION_FORMATS)
        add_surface(plotter, surface, values, limits, f"{name} [-]")
        plotter.add_text(solution.air.describe(), position="upper_left", font_size=9, color=INK)
        right, up = frame_of(ahead)
        corners = [midpoint + a * radius * right + b * 0.6 * radius * up for a in (-0.9, 0.9) for b in (-0.9, 0.9)]
        aim_camera(plotter, np.array(corners), ahead, "", 1.2)
        made.append(_frame_of(plotter))
    return _write(made, path)


def animate_streamlines(
    solution: "Solution", path: Path, view: str = "quarter", paths: "Streamlines" = None, frames: int = 36
) -> Path:
    """Write a GIF of air running along streamlines past the body, coloured by speed; it repeats without a jump.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    path : path
        File.
    view : str, optional
        Name of the view.
    paths : Streamlines, optional
        Of `Solution.streamlines`; the default ones without it.
    frames : int, optional
        Number of frames.

    Returns
    -------
    path

    Examples
    --------
    >>> import zephyrum as zy
    >>> animate_streamlines(zy.load_solution("wing.npz"), Path("flow.gif"))  # doctest: +SKIP
    """
    _needs_stage(path)
    choice("view", view, tuple(VIEWS))
    surface, _ = wall_surface(solution.mesh)
    lines = _lines(solution, paths)
    runs = _shown(surface, lines)
    ahead = camera_direction(surface, view)
    near = np.concatenate([lines.points[first:last] for first, last in runs] + [surface.points])
    period = float(np.ptp(surface.bounds[:, 0])) / solution.air.speed * frames / RATE / 3.0
    speed = lines.speed / solution.air.speed
    made = []
    for k in range(whole("frames", frames, 2)):
        plotter = new_scene(ANIMATION_FORMATS)
        plotter.add_mesh(triangles_of(surface), color=SKIN, smooth_shading=True, split_sharp_edges=True, ambient=0.3)
        plotter.add_mesh(polyline(lines.points, runs), color="#d5d9e0", line_width=1.0, lighting=False)
        lit = ((lines.time / period - k / frames) % 1.0) < DASH_LENGTH
        dashes = [run for first, last in runs for run in _runs(lit[first:last], first)]
        if dashes:
            drawn = polyline(lines.points, dashes)
            drawn["speed"] = speed
            plotter.add_mesh(
                drawn,
                scalars="speed",
                clim=SPEEDS,
                cmap="viridis",
                line_width=3.0,
                lighting=False,
                show_scalar_bar=False,
            )
            colour_bar(plotter, "speed / stream", SPEEDS, speed)
        plotter.add_text(f"steady flow, {solution.air.describe()}", position="upper_left", font_size=9, color=INK)
        aim_camera(plotter, near, ahead, view, 1.22)
        made.append(_frame_of(plotter))
    return _write(made, path)


def _runs(lit, offset: int):
    """(first, last) of the runs of True with more than one point."""
    change = np.flatnonzero(np.diff(np.r_[0, lit.astype(np.int8), 0]))
    return [(offset + a, offset + b) for a, b in zip(change[::2], change[1::2], strict=True) if b - a > 1]


def _needs_stage(path) -> None:
    if Path(path).suffix.lower() != ".gif":
        raise InputError(f"a film is written as .gif, not {str(path)!r}.")
    if not can_render():
        raise InputError("films need pyvista and a driver that renders; pip install 'zephyrum[3d]'.")


def _frame_of(plotter) -> np.ndarray:
    plotter.enable_anti_aliasing("ssaa")
    shot = plotter.screenshot(None, return_img=True)
    plotter.close()
    return shot


def _write(frames, path) -> Path:
    from PIL import Image

    # one palette for all, or the colours would flicker
    first = Image.fromarray(frames[0]).quantize(128)
    pictures = [Image.fromarray(frame).quantize(palette=first, dither=Image.Dither.NONE) for frame in frames]
    pictures[0].save(path, save_all=True, append_images=pictures[1:], duration=int(1000 / RATE), loop=0, optimize=True)
    return Path(path)
