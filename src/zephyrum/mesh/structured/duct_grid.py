"""Axisymmetric structured meshes of the inside of a duct or nozzle, in exactly nested families.

Verified by tests/test_powered.py and validation/powered.py.
"""

import numpy as np
from scipy.interpolate import PchipInterpolator

from zephyrum._core.validation import number, whole
from zephyrum.conditions import Reference
from zephyrum.errors import InputError
from zephyrum.mesh.core import Mesh
from zephyrum.mesh.structured.blocks import BlockBoundary, StructuredGrid, nested_family
from zephyrum.mesh.structured.outline_grid import WEDGE
from zephyrum.mesh.structured.spacing import geometric


def mesh_duct(contour: np.ndarray, along: int = 192, across: int = 48, first_height: float | None = None) -> Mesh:
    """An axisymmetric mesh of the inside of a duct, a wedge one cell thick about the x axis.

    Parameters
    ----------
    contour : (n, 2) array
        Distance along the axis, increasing, and radius [m] of points of the wall, joined by a monotone cubic
        interpolant (Fritsch and Carlson 1980).
    along, across : int, optional
        Cells along the duct and from the axis to the wall.
    first_height : float, optional
        Height of the wall cell in radii of the inlet; cells of equal height without it.

    Raises
    ------
    InputError
        For a contour that makes no duct.

    Notes
    -----
    Boundary groups: "inlet" (role exhaust: give its total conditions with `Case.powered`), "duct" (wall) and "outlet"
    (outflow: the static pressure of the stream acts on what leaves slower than sound). The reference area is that of
    the outlet, the chord its diameter.

    Examples
    --------
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_duct([(0.0, 1.0), (1.0, 0.7), (3.0, 1.2)], along=32, across=8)
    >>> [group.name for group in mesh.groups][:3]
    ['outlet', 'duct', 'inlet']
    """
    points = np.asarray(contour, dtype=float)
    if points.ndim != 2 or points.shape[1:] != (2,) or len(points) < 2 or not np.isfinite(points).all():
        raise InputError("contour of a duct must be two or more points (x, radius) in metres.")
    if (np.diff(points[:, 0]) <= 0.0).any() or (points[:, 1] <= 0.0).any():
        raise InputError("contour of a duct: x must increase from point to point and every radius be above 0.")
    along, across = whole("along", along, 8, 100_000), whole("across", across, 4, 100_000)
    x = np.linspace(points[0, 0], points[-1, 0], along + 1)
    radius = PchipInterpolator(*points.T)(x)
    fraction = np.linspace(0.0, 1.0, across + 1)
    if first_height is not None:
        fraction = 1.0 - geometric(number("first_height", first_height, 0.0, 0.5, open_low=True), 1.0, across)[::-1]
    block = np.empty((along + 1, across + 1, 2))
    block[:, :, 0] = x[:, None]
    block[:, :, 1] = radius[:, None] * fraction
    block = np.ascontiguousarray(block[::-1, ::-1])  # from the wall to the axis, numbered counter-clockwise
    borders = (
        BlockBoundary("outlet", "outflow", "first", 0, across),
        BlockBoundary("duct", "wall", "inner", 0, along),
        BlockBoundary("inlet", "exhaust", "last", 0, across),
    )
    exit_radius = float(radius[-1])
    reference = Reference(
        np.pi * exit_radius**2, 2.0 * exit_radius, 2.0 * exit_radius, (float(x[0]), 0.0, 0.0), "measured on the outlet"
    )
    recipe = {"kind": "axisymmetric duct", "along": along, "across": across}
    return nested_family(StructuredGrid(block, borders), reference, recipe, wedge=float(WEDGE))
