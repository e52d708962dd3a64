"""A drawing of a section with its mean line and measures."""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum.plotting.style import COLOURS, format_axes, new_axes

if TYPE_CHECKING:
    from zephyrum.geometry.airfoil.section import Airfoil


def draw_section(foil: "Airfoil", axes: np.ndarray | None = None):
    """Draw the outline with points, mean line and chord (top), and the curvature along the surface (bottom).

    Parameters
    ----------
    foil : Airfoil
        Section.
    axes : two axes, optional
        Axes to draw into.

    Returns
    -------
    two matplotlib.axes.Axes

    Examples
    --------
    >>> from zephyrum import Airfoil
    >>> outline, curvature = draw_section(Airfoil.naca("2412"))
    >>> outline.get_xlabel()
    'x / chord [-]'
    """
    from zephyrum.geometry.airfoil.section_measures import mean_line

    if axes is None:
        _, axes = new_axes(2, 1, height_ratios=(3, 2))
    top, bottom = axes
    s = np.linspace(0.0, foil.length, 1200)
    curve = (foil.curve(s) - foil.nose) / foil.chord
    points = (foil.points - foil.nose) / foil.chord
    top.plot(curve[:, 0], curve[:, 1], color=COLOURS[0], label=foil.name)
    top.plot(points[:, 0], points[:, 1], ".", markersize=3, color=COLOURS[6], label=f"{len(points)} points")
    x, camber, _ = mean_line(foil)
    a = (foil.tail - foil.nose) / foil.chord
    top.plot(x * a[0] - camber * a[1], x * a[1] + camber * a[0], "--", color=COLOURS[1], label="mean line")
    top.set_aspect("equal", adjustable="datalim")
    m = foil.measures
    format_axes(
        top,
        "x / chord [-]",
        "z / chord [-]",
        f"{foil.name}: thickness {100 * m.thickness:.2f} % at {m.thickness_at:.3f}, camber {100 * m.camber:.2f} % at "
        f"{m.camber_at:.3f}, "
        f"nose radius {100 * m.nose_radius:.2f} %, tail {m.tail_angle:.1f} deg, gap {100 * m.gap:.2f} %",
    )
    top.legend(fontsize="small", loc="upper right")
    d1, d2 = foil.curve(s, 1), foil.curve(s, 2)
    bend = (d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]) / np.einsum("ij,ij->i", d1, d1) ** 1.5 * foil.chord
    nose = s < foil.nose_parameter
    for mask, name, k in ((nose, "upper", 0), (~nose, "lower", 1)):
        bottom.plot(curve[mask, 0], bend[mask], color=COLOURS[k], linestyle="-" if k == 0 else "--", label=name)
    bottom.set_yscale("symlog", linthresh=0.3)
    format_axes(bottom, "x / chord [-]", "curvature x chord [-]")
    bottom.legend(fontsize="small")
    return axes
