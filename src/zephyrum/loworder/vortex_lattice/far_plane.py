"""Induced drag from the trailing vortices in a plane far downstream.

The drag of lifting surfaces of any arrangement (stacked wings, tip plates, V tails) is that of their common wake (Munk
1921): D = -rho/2 int Gamma w_n ds, w_n the velocity normal to the wake, taken at the middle of the steps in angle of
every strip. Verified by tests/test_lattice.py.
"""

import numpy as np

from zephyrum.loworder.vortex_lattice.lattice import Lattice
from zephyrum.loworder.vortex_lattice.setting import LatticeSetting


def wake_normal_velocity(
    lattice: Lattice, circulation: np.ndarray, core: np.ndarray, setting: LatticeSetting
) -> np.ndarray:
    """Velocity normal to the wake far downstream, times the width of the strip.

    Parameters
    ----------
    lattice : Lattice
        Lattice.
    circulation : (n_strips, n_sets) array
        Circulation of each strip at its trailing edge, one column for each flow [m^2/s].
    core : (n_filaments,) array
        Radius of the cores that other surfaces see [m].
    setting : LatticeSetting
        Direction of the wake, and a ground.

    Returns
    -------
    (n_strips, n_sets) array
        [m^2/s]

    Examples
    --------
    >>> import zephyrum as zy
    >>> from zephyrum.loworder.vortex_lattice.setting import LatticeSetting
    >>> from zephyrum.loworder.vortex_lattice.lattice import build_lattice
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
    >>> lattice = build_lattice(zy.Aircraft(name="plank", parts={"wing": wing}))
    >>> elliptic = np.sqrt(1.0 - (lattice.trailing[:, 1:2] / 3.0) ** 2)
    >>> none = np.zeros(len(lattice.filaments))
    >>> wash = wake_normal_velocity(lattice, elliptic, none, LatticeSetting(0.0)) / lattice.width[:, None]
    >>> bool(np.allclose(wash, -1.0 / 6.0, rtol=4e-3))  # the same everywhere, Gamma_0 / b
    True
    """
    axis = np.array(setting.wake)
    # two axes of the plane square to the wake
    second = np.array([0.0, 1.0, 0.0]) - axis[1] * axis
    second /= np.linalg.norm(second)
    plane = np.stack([second, np.cross(axis, second)], axis=1)
    trailing = np.zeros((len(lattice.filaments), circulation.shape[1]))
    np.add.at(trailing, lattice.right, circulation)
    np.subtract.at(trailing, lattice.left, circulation)
    tails = lattice.filaments[:, -1]
    across = (tails[lattice.right] - tails[lattice.left]) @ plane
    normal = np.stack([-across[:, 1], across[:, 0]], axis=1)
    apart = lattice.surface[:, None] != lattice.filament_surface[None, :]
    spread = apart * core[None, :] ** 2
    points = lattice.trailing @ plane
    made = _normal_kernel(points, tails @ plane, normal, spread)
    if setting.ground is not None:  # images turn the other way
        made -= _normal_kernel(points, setting.reflected(tails, True) @ plane, normal, 0.0 * spread)
    return made @ trailing


def _normal_kernel(points: np.ndarray, nodes: np.ndarray, normal: np.ndarray, spread: np.ndarray) -> np.ndarray:
    """(n_points, n_nodes) normal velocity of unit vortices that turn from the second axis to the third."""
    offset = points[:, None, :] - nodes[None, :, :]
    square = (offset**2).sum(axis=2) + spread
    return (-offset[:, :, 1] * normal[:, None, 0] + offset[:, :, 0] * normal[:, None, 1]) / (2.0 * np.pi * square)


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
