"""Where pictures in space are taken: named views, the camera that fits a shape, and whether anything can be rendered
here.

Rendered off screen with pyvista (extra `3d`); where that does not run, the callers draw with Matplotlib. No camera is
handled.
"""

import functools
import os
import subprocess
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from zephyrum.plotting.style import DPI, SIZE

if TYPE_CHECKING:
    from zephyrum.geometry.surface.triangulation import Surface


# from where the viewer looks at the centre of the shape, in body axes
VIEWS = {
    "quarter": (-1.0, -0.9, 0.62),
    "behind": (1.0, 0.9, 0.55),
    "above": (0.0, 0.0, 1.0),
    "below": (-0.35, -0.25, -1.0),
    "front": (-1.0, 0.0, 0.0),
    "port": (0.0, -1.0, 0.0),
}
INK = "#333333"


@functools.cache
def can_render() -> bool:
    """Whether pyvista renders here; tried once in a process of its own, since a missing driver kills it."""
    os.environ.setdefault("VTK_DEFAULT_OPENGL_WINDOW", "vtkEGLRenderWindow")
    probe = (
        "import pyvista as v; p = v.Plotter(off_screen=True, window_size=(32, 32)); p.add_mesh(v.Sphere()); "
        "p.screenshot(None)"
    )
    try:
        return subprocess.run([sys.executable, "-c", probe], capture_output=True, timeout=120).returncode == 0
    except (OSError, subprocess.TimeoutExpired):
        return False


def camera_direction(surface: "Surface", view: str) -> np.ndarray:
    """Unit vector towards the camera, which never looks into the open side of a half model.

    Parameters
    ----------
    surface : Surface
        Surface.
    view : str
        Name of the view.

    Returns
    -------
    (3,) array

    Examples
    --------
    >>> from zephyrum import Body
    >>> camera_direction(Body.box(1.0, 1.0, 1.0).surface(), "quarter").round(3) + 0.0
    array([-0.675, -0.608,  0.419])
    """
    ahead = np.array(VIEWS[view]) / np.linalg.norm(VIEWS[view])
    return ahead * [1.0, -1.0, 1.0] if surface.bounds[0, 1] >= 0.0 else ahead


def frame_of(ahead: np.ndarray, view: str = "") -> np.ndarray:
    """Unit vectors to the right and upwards in the picture.

    Parameters
    ----------
    ahead : (3,) array
        Unit vector towards the camera.
    view : str, optional
        Name of the view.

    Returns
    -------
    (2, 3) array
        Rows: right, up.

    Examples
    --------
    >>> frame_of(np.array([-1.0, 0.0, 0.0])).round(3) + 0.0
    array([[ 0., -1.,  0.],
           [ 0.,  0.,  1.]])
    """
    right = np.cross([0.0, 1.0, 0.0] if view in ("above", "below") else [0.0, 0.0, 1.0], ahead)
    right /= np.linalg.norm(right)
    return np.stack([right, np.cross(ahead, right)])


def window(points: np.ndarray, ahead: np.ndarray, view: str):
    """Extent of points in the picture.

    Parameters
    ----------
    points : (n, 3) array
        [m]
    ahead : (3,) array
        Unit vector towards the camera.
    view : str
        Name of the view.

    Returns
    -------
    frame : (2, 3) array
        See `frame_of`.
    low, high : (2,) array
        Corners in the picture [m].
    """
    frame = frame_of(ahead, view)
    flat = points @ frame.T
    return frame, flat.min(axis=0), flat.max(axis=0)


def new_scene(size: tuple[float, float] = SIZE):
    """An empty white picture.

    Parameters
    ----------
    size : tuple[float, float], optional
        Width and height [inch].
    """
    import pyvista

    plotter = pyvista.Plotter(off_screen=True, window_size=[int(s * DPI) for s in size])
    plotter.set_background("white")  # type: ignore[arg-type]
    return plotter


def aim_camera(plotter: Any, points: np.ndarray, ahead: np.ndarray, view: str = "", right: float = 1.0) -> None:
    """Show all of some points.

    Parameters
    ----------
    plotter : pyvista.Plotter
        Scene.
    points : (n, 3) array
        [m]
    ahead : (3,) array
        Unit vector towards the camera.
    view : str, optional
        Name of the view.
    right : float, optional
        Above 1 it leaves room for a colour bar at the right.
    """
    frame, low, high = window(points, ahead, view)
    up = (0, 1, 0) if view in ("above", "below") else (0, 0, 1)
    midpoint = 0.5 * (low + high) @ frame
    plotter.view_vector(ahead, viewup=up)
    plotter.enable_parallel_projection()
    plotter.camera.focal_point = tuple(midpoint)
    plotter.camera.position = tuple(midpoint + 4.0 * np.linalg.norm(np.ptp(points, axis=0)) * ahead)
    wide, high_ = plotter.window_size
    plotter.camera.parallel_scale = 0.55 * max(high[1] - low[1], (high[0] - low[0]) * right * high_ / wide)
    plotter.reset_camera_clipping_range()


def save_picture(plotter: Any, path: "Path") -> None:
    """Write the picture and close the scene.

    Parameters
    ----------
    plotter : pyvista.Plotter
        Scene.
    path : path
        Picture file.
    """
    plotter.enable_anti_aliasing("ssaa")
    plotter.screenshot(str(path))
    plotter.close()


def triangles_of(surface: "Surface"):
    """A surface as pyvista's.

    Parameters
    ----------
    surface : Surface
        Surface.
    """
    import pyvista

    cells = np.concatenate([np.full((len(surface.triangles), 1), 3), surface.triangles], axis=1)
    return pyvista.PolyData(surface.points, cells.ravel())


def polyline(points: np.ndarray, runs: list[tuple]):
    """Polylines as pyvista's.

    Parameters
    ----------
    points : (n, 3) array
        [m]
    runs : list[tuple]
        For each line its first point and the one after its last.
    """
    import pyvista

    cells = np.concatenate([np.r_[last - first, np.arange(first, last)] for first, last in runs])
    return pyvista.PolyData(points, lines=cells)


def colour_bar(plotter: Any, unit: str, limits: tuple[float, float], values: np.ndarray) -> None:
    """Add a colour bar at the right for what was added last; a note says what lies beyond its ends.

    Parameters
    ----------
    plotter : pyvista.Plotter
        Scene.
    unit : str
        Label.
    limits : tuple[float, float]
        Range of the colours.
    values : array
        All values.
    """
    wide, high = plotter.window_size
    plotter.add_scalar_bar(
        title=" ",
        vertical=True,
        position_x=0.925,
        position_y=0.25,
        height=0.5,
        width=0.05,
        color=INK,
        n_labels=6,
        fmt="%.2f",
        title_font_size=18,
        label_font_size=16,
    )
    left = min(0.91, 0.975 - 11.0 * len(unit) / wide)
    plotter.add_text(unit, position=(int(left * wide), int(0.79 * high)), font_size=11, color=INK)
    below, above = bool(values.min() < limits[0]), bool(values.max() > limits[1])
    if below or above:
        beyond = " and ".join([f"below {limits[0]:g}"] * below + [f"above {limits[1]:g}"] * above)
        plotter.add_text(f"clipped: {beyond}", position="lower_left", font_size=9, color=INK)
