"""Induced drag from the trailing vortices in a plane far downstream.

The drag of lifting surfaces of any arrangement (stacked wings, tip plates, V tails) is that of their common wake (Munk
1921): D = -rho/2 int Gamma w_n ds, w_n the velocity normal to the wake, taken at the middle of the steps in angle of
every strip. Verified by tests/test_lattice.py.
"""

import numpy as np

from zephyrum.loworder.vortex_lattice.lattice import Lattice


def wake_normal_velocity(lattice: Lattice, circulation: np.ndarray, core: np.ndarray, axis: np.ndarray) -> np.ndarray:
    """Velocity normal to the wake far downstream, times the width of the strip.

    Parameters
    ----------
    lattice : Lattice
        Lattice.
    circulation : (n_strips, n_sets) array
        Circulation of each strip at its trailing edge, one column for each flow [m^2/s].
    core : (n_filaments,) array
        Radius of the cores that other surfaces see [m].
    axis : (3,) array
        Unit vector along the wake.

    Returns
    -------
    (n_strips, n_sets) array
        [m^2/s]

    Examples
    --------
    >>> import zephyrum as zy
    >>> from zephyrum.loworder.vortex_lattice.lattice import build_lattice
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
    >>> lattice = build_lattice(zy.Aircraft(name="plank", parts={"wing": wing}))
    >>> elliptic = np.sqrt(1.0 - (lattice.trailing[:, 1:2] / 3.0) ** 2)
    >>> none, axis = np.zeros(len(lattice.filaments)), np.array([1.0, 0.0, 0.0])
    >>> wash = wake_normal_velocity(lattice, elliptic, none, axis) / lattice.width[:, None]
    >>> bool(np.allclose(wash, -1.0 / 6.0, rtol=4e-3))  # the same everywhere, Gamma_0 / b
    True
    """
    # two axes of the plane square to the wake
    second = np.array([0.0, 1.0, 0.0]) - axis[1] * axis
    second /= np.linalg.norm(second)
    third = np.cross(axis, second)
    plane = np.stack([second, third], axis=1)
    nodes, points = lattice.filaments[:, -1] @ plane, lattice.trailing @ plane
    trailing = np.zeros((len(nodes), circulation.shape[1]))
    np.add.at(trailing, lattice.right, circulation)
    np.subtract.at(trailing, lattice.left, circulation)
    offset = points[:, None, :] - nodes[None, :, :]
    square = (offset**2).sum(axis=2)
    apart = lattice.surface[:, None] != lattice.filament_surface[None, :]
    square = square + apart * core[None, :] ** 2
    across = nodes[lattice.right] - nodes[lattice.left]
    normal = np.stack([-across[:, 1], across[:, 0]], axis=1)
    # a vortex along the wake turns from the second axis to the third
    kernel = (-offset[:, :, 1] * normal[:, None, 0] + offset[:, :, 0] * normal[:, None, 1]) / (2.0 * np.pi * square)
    return kernel @ trailing


def filament_widths(lattice: Lattice) -> np.ndarray:
    """(n_filaments,) width of the wider strip beside each filament [m].

    Parameters
    ----------
    lattice : Lattice
        Lattice.

    Examples
    --------
    >>> import zephyrum as zy
    >>> from zephyrum.loworder.vortex_lattice.lattice import build_lattice
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
    >>> lattice = build_lattice(zy.Aircraft(name="plank", parts={"wing": wing}))
    >>> len(filament_widths(lattice)) == len(lattice.filaments)
    True
    """
    widths = np.zeros(len(lattice.filaments))
    np.maximum.at(widths, lattice.left, lattice.width)
    np.maximum.at(widths, lattice.right, lattice.width)
    return widths
