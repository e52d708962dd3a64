"""The body in space with its pressures, to be turned in a browser: one script and its data, nothing from elsewhere
(extra `report`).
"""

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from zephyrum.geometry import Surface
from zephyrum.plotting.fields_3d import CP_RANGE, wall_point_values

HEIGHT = 560  # pixels
MOST = 90_000  # triangles: more make files of tens of megabytes, and turn slowly

if TYPE_CHECKING:
    from zephyrum.results.solution import Solution


def decimated(surface: Surface, values: np.ndarray, most: int = MOST) -> tuple[Surface, np.ndarray]:
    """Surface of fewer triangles, with the means of values at its points.

    Parameters
    ----------
    surface : Surface
        Surface with n points.
    values : (n, k) array
        Values at its points.
    most : int, optional
        Largest number of triangles.

    Notes
    -----
    Points in one cube of a grid that look to the same side become one (Rossignac and Borrel 1993, Modeling in Computer
    Graphics, 455): both sides of a thin wing stay apart. Points in the plane y = 0 stay in it: no gap between both
    halves of a mirrored body.

    Examples
    --------
    >>> from zephyrum import Body
    >>> ball = Body.ellipsoid(1.0, 1.0).surface(tolerance=0.0005).welded()
    >>> small, values = decimated(ball, ball.points[:, :1], most=200)
    >>> len(small.triangles) <= 200, len(values) == len(small.points)
    (True, True)
    """
    if len(surface.triangles) <= most:
        return surface, values
    normal = np.zeros_like(surface.points)
    for k in range(3):
        np.add.at(normal, surface.triangles[:, k], surface.area_vectors)
    flat = np.abs(surface.points[:, 1]) < 1e-9 * surface.size
    normal[flat, 1] = 0.0
    octant = (normal > 0.0) @ np.array([1, 2, 4]) + 8 * flat
    side = np.sqrt(4.0 * surface.area() / most)
    while True:
        key = np.column_stack([np.floor(surface.points / side).astype(np.int64), octant])
        _, group = np.unique(key, axis=0, return_inverse=True)
        t = group.ravel()[surface.triangles]
        stored = (t[:, 0] != t[:, 1]) & (t[:, 1] != t[:, 2]) & (t[:, 2] != t[:, 0])
        _, first = np.unique(np.sort(t[stored], axis=1), axis=0, return_index=True)
        if len(first) <= most:
            break
        side *= 1.15
    rows = np.flatnonzero(stored)[np.sort(first)]
    count = np.bincount(group.ravel())[:, None]
    points, values = (
        np.stack([np.bincount(group.ravel(), column) for column in one.T], axis=1) / count
        for one in (surface.points, values)
    )
    return replace(surface, points=points, triangles=t[rows], label=surface.label[rows]), values


def pressure_scene(solutions: list["Solution"], labels: list[str]) -> str:
    """Make an interactive view of the walls coloured by Cp.

    Parameters
    ----------
    solutions : list of Solution
        On one mesh.
    labels : list of str
        Entries of the menu that chooses among them.

    Returns
    -------
    str
        HTML; a click on the name of a part in the legend hides it.
    """
    import plotly.graph_objects as go
    from plotly.offline import plot

    each = [wall_point_values(solution, "Cp") for solution in solutions]
    surface, values = each[0][0], np.stack([values for _, values in each], axis=1)
    surface, values = decimated(surface, values)
    values = values.T.astype(np.float32).round(3)
    traces, corners = [], []
    for k, name in enumerate(surface.labels):
        triangles = surface.triangles[surface.label == k]
        if len(triangles):
            used, triangles = np.unique(triangles, return_inverse=True)
            corners.append(used)
            traces.append(_part_trace(name, surface.points[used], triangles.reshape(-1, 3), values[0][used]))
    figure = go.Figure(traces, layout=_layout())
    if len(labels) > 1:
        buttons = [
            {"label": label, "method": "restyle", "args": [{"intensity": [own[used] for used in corners]}]}
            for label, own in zip(labels, values, strict=True)
        ]
        menu = {"buttons": buttons, "x": 0.0, "xanchor": "left", "y": 1.0, "yanchor": "bottom", "direction": "down"}
        figure.update_layout(updatemenus=[menu])
    return plot(figure, output_type="div", include_plotlyjs=True, config={"displaylogo": False, "responsive": True})


def _part_trace(name: str, points: np.ndarray, triangles: np.ndarray, cp: np.ndarray):
    """Plotly trace of the triangles (t, 3) of one part, coloured by Cp (n,) at its points (n, 3) [m]."""
    import plotly.graph_objects as go

    x, y, z = points.astype(np.float32).round(4).T
    i, j, k = triangles.T.astype(np.int32)
    return go.Mesh3d(
        x=x,
        y=y,
        z=z,
        i=i,
        j=j,
        k=k,
        intensity=cp,
        coloraxis="coloraxis",
        name=name,
        showlegend=True,
        lighting={"ambient": 0.75, "diffuse": 0.5, "specular": 0.05, "roughness": 0.9},
        hovertemplate=f"{name}<br>x %{{x:.2f}} m, y %{{y:.2f}} m, z %{{z:.2f}} m<br>Cp "
        f"%{{intensity:.3f}}<extra></extra>",
    )


def _layout() -> dict:
    """Plotly layout: one colour axis, axes in metres, a parallel projection from the front quarter."""
    plain = {"showbackground": False, "showspikes": False, "nticks": 4}
    return {
        "height": HEIGHT,
        "margin": {"l": 0, "r": 0, "t": 44, "b": 0},
        "coloraxis": {
            "colorscale": "Viridis",
            "cmin": CP_RANGE[0],
            "cmax": CP_RANGE[1],
            "colorbar": {"title": "Cp [-]", "len": 0.7, "x": 1.0, "xanchor": "right", "thickness": 16},
        },
        "legend": {"x": 0.0, "y": 0.98, "itemsizing": "constant", "title": {"text": "parts: click to hide"}},
        "scene": {
            "aspectmode": "data",
            "camera": {
                "eye": {"x": -0.72, "y": 0.72, "z": 0.45},
                "center": {"x": 0.0, "y": 0.0, "z": -0.05},
                "projection": {"type": "orthographic"},
            },
            **{f"{axis}axis": {"title": f"{axis} [m]", **plain} for axis in "xyz"},
        },
    }
