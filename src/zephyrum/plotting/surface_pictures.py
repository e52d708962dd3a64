"""Pictures of surfaces in space, rendered off screen with pyvista (extra `3d`), else drawn with Matplotlib.

Colours are by part; arrows tell nose, wind, lift and drag. No camera is handled: views have names.
"""

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.validation import choice
from zephyrum.conditions.axes import wind_axes
from zephyrum.plotting.aircraft_views import part_colours
from zephyrum.plotting.rendering import (
    INK,
    VIEWS,
    aim_camera,
    camera_direction,
    can_render,
    frame_of,
    new_scene,
    save_picture,
)
from zephyrum.plotting.style import COLOURS, new_axes, save

if TYPE_CHECKING:
    from zephyrum.geometry.surface.triangulation import Surface


def draw_surface(
    surface: "Surface",
    path: "Path | str",
    view: str = "quarter",
    alpha: float | None = None,
    edges: bool = False,
    marks: np.ndarray | list | None = None,
    by: str = "part",
):
    """Write a picture of a surface.

    Parameters
    ----------
    surface : Surface
        Surface.
    path : path
        Picture file.
    view : str, optional
        Name of the view.
    alpha : float, optional
        Angle [deg] of arrows of nose, wind, lift and drag; no arrows without it.
    edges : bool, optional
        Whether to draw the edges of the triangles.
    marks : array or list, optional
        Positions (n, 3) [m] to be marked, such as those of defects.
    by : str, optional
        Colours by "part" or by "label".

    Returns
    -------
    path

    Examples
    --------
    >>> import zephyrum as zy
    >>> draw_surface(zy.Aircraft.read("skerry.toml").surface(), "skerry.png", view="top")  # doctest: +SKIP
    """
    choice("view", view, tuple(VIEWS))
    choice("by", by, ("part", "label"))
    if can_render():
        return _rendered(surface, path, view, alpha, edges, marks, by)
    return _drawn(surface, path, view, alpha, edges, marks, by)


def _groups(surface, by: str) -> list[tuple[str, np.ndarray, str]]:
    """(name, triangles, colour)"""
    if by == "label":
        order = sorted(range(len(surface.labels)), key=lambda k: surface.labels[k])
        return [(surface.labels[k], surface.label == k, COLOURS[rank % 7]) for rank, k in enumerate(order)]
    colours = part_colours(surface.parts)
    return [(name, surface.belongs(name), colours[name]) for name in surface.parts]


def _legend(groups) -> list[tuple[str, str]]:
    return [(name, colour) for name, _, colour in groups if not name.endswith(" port")][:14]


def _arrows(surface, alpha: float):
    """(name, start, vector, colour) of the arrows."""
    drag, _, lift = wind_axes(alpha)
    low, high = surface.bounds
    size = 0.22 * float(np.ptp(surface.bounds[:, 0]))
    nose = np.array([low[0], 0.0, 0.5 * (low[2] + high[2])])
    top = np.array([low[0] + 0.4 * (high[0] - low[0]), 0.0, high[2] + 0.12 * size])
    return [
        ("nose", nose - [0.15 * size, 0, 0], np.array([-size, 0.0, 0.0]), INK),
        ("wind", nose - 1.3 * size * drag - [0, 0, 0.7 * size], size * drag, COLOURS[0]),
        ("lift", top, size * lift, COLOURS[2]),
        ("drag", top, size * drag, COLOURS[1]),
    ]


def _rendered(surface, path, view, alpha, edges, marks, by):
    """Draw with pyvista; arguments as in `draw_surface`."""
    plotter = new_scene()
    groups = _groups(surface, by)
    for _, which, colour in groups:
        if which.any():
            _add_triangles(plotter, surface, which, colour, edges)
    arrows = _arrows(surface, alpha) if alpha is not None else ()
    for name, start, way, colour in arrows:
        _add_arrow(plotter, name, start, way, colour)
    if marks is not None and len(marks):
        plotter.add_points(
            np.asarray(marks, dtype=float), color="#CC0000", point_size=14, render_points_as_spheres=True
        )
    shown = _legend(groups)
    if shown:
        plotter.add_legend(shown, bcolor=None, face="rectangle", size=(0.17, 0.032 * len(shown)), loc="upper left")
    plotter.add_text(_title(surface), position="lower_right", font_size=10, color=INK)
    used = surface.points[np.unique(surface.triangles)]
    ends = [*used[:: max(1, len(used) // 5000)]]
    ends += [start + fraction * way for fraction in (0.0, 1.3) for _, start, way, _ in arrows]
    aim_camera(plotter, np.array(ends), camera_direction(surface, view), view)
    plotter.show_axes()
    save_picture(plotter, path)
    return path


def _add_triangles(plotter, surface, which: np.ndarray, colour: str, edges: bool) -> None:
    """Triangles `which` (t, bool) of a surface in one colour, smooth or with their edges."""
    import pyvista

    own = surface.triangles[which]
    faces = np.concatenate([np.full((len(own), 1), 3), own], axis=1)
    plotter.add_mesh(
        pyvista.PolyData(surface.points, faces.ravel()).clean(),
        color=colour,
        show_edges=edges,
        edge_color="#444444",
        line_width=0.6,
        smooth_shading=not edges,
        split_sharp_edges=not edges,
        ambient=0.25,
    )


def _add_arrow(plotter, name: str, start: np.ndarray, way: np.ndarray, colour: str) -> None:
    """Arrow from `start` along `way` (3,) [m], with its name at the tip."""
    import pyvista

    shape: dict = {"shaft_radius": 0.02, "tip_radius": 0.055, "tip_length": 0.2}
    arrow = pyvista.Arrow(start=start, direction=way, scale=float(np.linalg.norm(way)), **shape)
    plotter.add_mesh(arrow, color=colour)
    plotter.add_point_labels(
        [start + 1.25 * way],
        [name],
        text_color=colour,
        font_size=18,
        shape=None,
        show_points=False,
        always_visible=True,
    )


def _title(surface) -> str:
    x, y, z = np.ptp(surface.bounds, axis=0)
    return f"{surface.name}: {len(surface.triangles):,} triangles, {x:.3g} x {y:.3g} x {z:.3g} m"


def _drawn(surface, path, view, alpha, edges, marks, by):
    """The same with Matplotlib: triangles painted from back to front with a shade by their slope to the light."""
    from matplotlib.collections import PolyCollection
    from matplotlib.colors import to_rgb

    figure, ax = new_axes()
    ahead = camera_direction(surface, view)
    frame = frame_of(ahead, view)
    up = frame[1]
    seen = surface.normals @ ahead > 0.0
    colour = np.zeros((len(surface.triangles), 3))
    groups = _groups(surface, by)
    for _, which, tone in groups:
        colour[which] = to_rgb(tone)
    light = 0.55 + 0.45 * np.clip(surface.normals @ (ahead + 0.6 * up) / np.linalg.norm(ahead + 0.6 * up), 0.0, 1.0)
    order = np.argsort(surface.centres @ ahead)
    order = order[seen[order]]
    flat = surface.points @ frame.T
    paint = np.clip(colour[order] * light[order, None], 0.0, 1.0)
    ax.add_collection(
        PolyCollection(
            flat[surface.triangles[order]], facecolors=paint, edgecolors="#444444" if edges else paint, linewidths=0.3
        )
    )
    ax.autoscale_view()
    if alpha is not None:
        for name, start, way, tone in _arrows(surface, alpha):
            a, b = frame @ start, frame @ (start + way)
            ax.annotate("", b, a, arrowprops={"arrowstyle": "-|>", "color": tone, "linewidth": 2})
            ax.text(*(frame @ (start + 1.15 * way)), name, color=tone, ha="center", va="center")
            ax.update_datalim([a, b])
        ax.autoscale_view()
    if marks is not None and len(marks):
        ax.plot(
            *(np.asarray(marks) @ frame.T).T,
            "o",
            color="#CC0000",
            markersize=8,
            markerfacecolor="none",
            markeredgewidth=2,
        )
    for name, tone in _legend(groups):
        ax.fill([], [], color=tone, label=name)
    ax.legend(fontsize="small", loc="upper right")
    ax.set_aspect("equal")
    ax.axis("off")
    ax.set_title(_title(surface), fontsize="medium", loc="left")
    save(figure, path)
    return path
