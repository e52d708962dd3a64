"""Loading of a propeller disk by blade elements and momentum theory.

Every ring of the disk has the axial and tangential momentum that its blade elements give it (Glauert 1935, Airplane
Propellers, in Durand (ed.), Aerodynamic Theory 4); the inflow angle is the root of one equation in an interval that
always holds it (Ning 2014, Wind Energy 17:1327), with Prandtl's factor for the finite number of blades. Verified by
tests/test_propellers.py.
"""

import math
from dataclasses import dataclass

import numpy as np
from scipy.optimize import brentq

from zephyrum.errors import InputError
from zephyrum.geometry.aircraft.propeller import Blades, PropellerDisk

RINGS = 40  # rings of a disk; with 20 the thrust of the blades of the Skerry differs by 0.1 %
LEAST_ANGLE = 1e-4  # [rad] least inflow angle


@dataclass(frozen=True, eq=False)
class DiskLoading:
    """Forces of a propeller disk along its radius.

    Attributes
    ----------
    fraction : (n,) array
        Of the radius.
    axial : (n,) array
        Thrust over the area [Pa].
    tangential : (n,) array
        Force on the air along the rotation, over the area [Pa].
    work : (n,) array or None
        Power over the area [W/m^2]; None for that of an ideal disk, the axial force times the local velocity.
    thrust : float
        [N]
    power : float
        [W]; NaN of an ideal disk, whose power the flow finds.

    Examples
    --------
    >>> disk = PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, thrust=100.0)
    >>> loading = disk_loading(disk, 50.0, 1.2)
    >>> round(float(loading.axial[-1] * disk.area), 6), loading.work is None
    (100.0, True)
    """

    fraction: np.ndarray
    axial: np.ndarray
    tangential: np.ndarray
    work: np.ndarray | None
    thrust: float
    power: float


def disk_loading(disk: PropellerDisk, airspeed: float, density: float) -> DiskLoading:
    """Loading of a propeller disk in a stream along its axis.

    Parameters
    ----------
    disk : PropellerDisk
        The disk.
    airspeed : float
        Of the stream [m/s].
    density : float
        [kg/m^3]

    Notes
    -----
    Without blades the tangential force over the area is the axial one times torque over thrust and radius, so that
    torque and power are distributed as the thrust is: that of blades with a circulation that is constant where the
    thrust grows with the radius.

    Examples
    --------
    >>> disk = PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, thrust=100.0, power=6e3, speed=2000.0)
    >>> round(disk_loading(disk, 50.0, 1.2).power)
    6000
    """
    edges = np.linspace(disk.hub_diameter, 1.0, RINGS + 1)
    fraction = 0.5 * (edges[1:] + edges[:-1])
    area = math.pi * disk.radius**2 * np.diff(edges**2)
    if disk.blades is not None:
        return _by_blades(disk, fraction, area, airspeed, density)
    shape = disk.relative_thrust(fraction)
    axial = disk.thrust * shape / (shape @ area)
    if disk.power is None:
        return DiskLoading(fraction, axial, np.zeros(RINGS), None, float(disk.thrust), math.nan)
    work = disk.power * shape / (shape @ area)
    tangential = np.zeros(RINGS)
    if disk.speed is not None:
        tangential = work / (disk.speed * math.pi / 30.0 * fraction * disk.radius)
    return DiskLoading(fraction, axial, tangential, work, float(disk.thrust), disk.power)


def _by_blades(
    disk: PropellerDisk, fraction: np.ndarray, area: np.ndarray, airspeed: float, density: float
) -> DiskLoading:
    """Loading of a disk with blades."""
    blades, rate = disk.blades, disk.speed * math.pi / 30.0
    if airspeed <= 0.0:
        raise InputError(f"speed of the stream {airspeed:g} m/s: blade elements need a stream towards the disk.")
    axial, tangential = np.empty(RINGS), np.empty(RINGS)
    for k, part in enumerate(fraction):
        element = _Element(blades, float(part), disk.hub_diameter, disk.radius)
        axial[k], tangential[k] = element.forces(airspeed, rate, density)
    work = tangential * rate * fraction * disk.radius
    return DiskLoading(fraction, axial, tangential, work, float(axial @ area), float(work @ area))


@dataclass(frozen=True)
class _Element:
    """Blade elements of one ring: at a fraction of a radius [m]."""

    blades: Blades
    fraction: float
    hub: float
    radius: float

    def _coefficients(self, angle: float) -> tuple[float, float, float]:
        """(axial coefficient, tangential coefficient, factor of Prandtl) at an inflow angle [rad]."""
        own = self.blades
        pitch = math.radians(float(np.interp(self.fraction, own.radius, own.pitch)))
        lift, drag = (float(value) for value in own.section_coefficients(np.array(pitch - angle)))
        c, s = math.cos(angle), math.sin(angle)
        tip = 0.5 * own.count * (1.0 - self.fraction) / (self.fraction * s)
        root = 0.5 * own.count * (self.fraction - self.hub) / (max(self.hub, 1e-3) * s)
        factor = math.prod(2.0 / math.pi * math.acos(math.exp(-min(max(one, 1e-6), 50.0))) for one in (tip, root))
        return lift * c - drag * s, lift * s + drag * c, factor

    @property
    def solidity(self) -> float:
        """Area of the blades over that of the ring."""
        chord = float(np.interp(self.fraction, self.blades.radius, self.blades.chord))
        return self.blades.count * chord / (2.0 * math.pi * self.fraction * self.radius)

    def forces(self, airspeed: float, rate: float, density: float) -> tuple[float, float]:
        """(axial, tangential) force on the air over the area [Pa]."""
        advance = airspeed / (rate * self.fraction * self.radius)

        def ratios(angle: float) -> tuple[float, float]:
            axial, tangential, factor = self._coefficients(angle)
            c, s = math.cos(angle), math.sin(angle)
            return self.solidity * axial / (4.0 * factor * s * s), self.solidity * tangential / (4.0 * factor * s * c)

        def mismatch(angle: float) -> float:
            k, turn = ratios(angle)
            return math.sin(angle) * (1.0 - k) - advance * math.cos(angle) * (1.0 + turn)

        grid = np.linspace(LEAST_ANGLE, 0.5 * math.pi - LEAST_ANGLE, 181)
        values = np.array([mismatch(angle) for angle in grid])
        crossing = np.flatnonzero((values[:-1] < 0.0) & (values[1:] >= 0.0))
        if not len(crossing):
            raise InputError(
                f"blades at {self.fraction:.2g} of the radius have no inflow angle at an airspeed of {airspeed:.3g} "
                f"m/s: check pitch and speed."
            )
        angle = brentq(mismatch, grid[crossing[0]], grid[crossing[0] + 1], xtol=1e-12)
        k, turn = ratios(angle)
        through, swirl = airspeed / (1.0 - k), turn / (1.0 + turn)
        factor = self._coefficients(angle)[2]
        axial = 2.0 * density * factor * through * (through - airspeed)
        tangential = 2.0 * density * factor * through * swirl * rate * self.fraction * self.radius
        return axial, tangential
