"""Propellers as disks: place, size, sense of rotation, operating state, and how thrust and torque lie along the radius.

Verified by tests/test_propellers.py and validation/propellers.py.
"""

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from zephyrum.errors import InputError
from zephyrum.geometry.aircraft.part import Degrees, Fraction, Length, Point, attitude_matrix, part, unit_type

Newtons = Annotated[float, unit_type("N"), Field(allow_inf_nan=False)]
Watts = Annotated[float, unit_type("W"), Field(ge=0.0, allow_inf_nan=False)]
RevolutionsPerMinute = Annotated[float, Field(gt=0.0, lt=1e6)]
ON_PLANE = 1e-6  # of the diameter: distance from the plane of symmetry of a disk that lies on it


@part
class Blades:
    """Blades of a propeller, for its loading by blade elements.

    Attributes
    ----------
    count : int
        Number of blades.
    radius : tuple of float
        Stations from hub to tip, in radii of the disk.
    chord : tuple of float
        There [m].
    pitch : tuple of float
        Angle of the chord to the plane of the disk there [deg].
    lift_slope : float
        Of the sections [1/rad].
    zero_lift_angle : float
        Of the sections [deg].
    max_lift : float
        Lift coefficient at which the sections stall.
    drag : float
        Drag coefficient of the sections at zero lift.
    drag_of_lift : float
        Its rise with the square of the lift coefficient.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Blades(count=3, radius=(0.2, 1.0), chord=(0.2, 0.1), pitch=(45.0, 20.0)).count
    3
    """

    count: Annotated[int, Field(ge=2, le=20)]
    radius: tuple[Fraction, ...]
    chord: tuple[Length, ...]
    pitch: tuple[Degrees, ...]
    lift_slope: Annotated[float, Field(gt=0.0, le=10.0)] = 5.7
    zero_lift_angle: Degrees = -3.0
    max_lift: Annotated[float, Field(gt=0.0, le=4.0)] = 1.4
    drag: Annotated[float, Field(ge=0.0, le=1.0)] = 0.01
    drag_of_lift: Annotated[float, Field(ge=0.0, le=1.0)] = 0.01

    def __post_init__(self) -> None:
        n = len(self.radius)
        if n < 2 or len(self.chord) != n or len(self.pitch) != n:
            raise InputError(
                f"blades have {n} radii, {len(self.chord)} chords and {len(self.pitch)} pitch angles; give as many of "
                f"each, two or more."
            )
        if (np.diff(self.radius) <= 0.0).any():
            raise InputError("blades.radius must increase from hub to tip.")

    def section_coefficients(self, alpha: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Lift and drag coefficients of the sections.

        Parameters
        ----------
        alpha : array
            Angle of attack [rad].

        Returns
        -------
        lift, drag : arrays

        Examples
        --------
        >>> blades = Blades(count=2, radius=(0.2, 1.0), chord=(0.1, 0.1), pitch=(40.0, 20.0), zero_lift_angle=0.0)
        >>> lift, drag = blades.section_coefficients(np.array([0.1]))
        >>> round(float(lift[0]), 3)
        0.57
        """
        lift = self.lift_slope * (np.asarray(alpha) - math.radians(self.zero_lift_angle))
        lift = np.clip(lift, -self.max_lift, self.max_lift)
        return lift, self.drag + self.drag_of_lift * lift**2


@part
class PropellerDisk:
    """A propeller as a disk with a mean force on the air.

    Attributes
    ----------
    position : tuple of float
        Centre [m].
    diameter : float
        [m]
    hub_diameter : float
        Of the part of the disk without blades, in diameters.
    pitch, yaw : float
        Of its axis [deg]: nose up, nose to starboard; at 0 it pulls along -x.
    rotation : Literal[right, left]
        "right": clockwise seen from behind.
    mirrored : bool
        Whether there is a second one on the other side of y = 0, with the same sense of rotation unless
        `counter_rotating`.
    counter_rotating : bool
        Whether the mirrored one turns the other way.
    thrust : float, optional
        Of one disk [N]; with `blades` it follows from them. 0 stands for no propeller.
    power : float, optional
        Of one shaft [W]; without it that of an ideal disk, thrust times the speed of the air through it.
    speed : float, optional
        [rev/min]. With power it gives the torque, and the slipstream its swirl.
    loading : str or tuple
        Thrust of the rings along the radius: "uniform" over the area, "peaked" (r sqrt(1 - r), as of a blade with least
        losses), or pairs of a fraction of the radius and the relative thrust over the area.
    blades : Blades, optional
        Blade elements; need `speed`.
    thickness : float
        Length of the disk along its axis, in diameters: the force is spread over it.

    Examples
    --------
    >>> import zephyrum as zy
    >>> disk = zy.PropellerDisk(position=(0.4, 2.2, 1.1), diameter=2.4, thrust=4000.0)
    >>> round(disk.area, 3)
    4.343
    """

    position: Point
    diameter: Length
    hub_diameter: Annotated[float, Field(ge=0.0, lt=0.9)] = 0.2
    pitch: Degrees = 0.0
    yaw: Degrees = 0.0
    rotation: Literal["right", "left"] = "right"
    mirrored: bool = False
    counter_rotating: bool = False
    thrust: Newtons | None = None
    power: Watts | None = None
    speed: RevolutionsPerMinute | None = None
    loading: Literal["uniform", "peaked"] | tuple[tuple[Fraction, float], ...] = "uniform"
    blades: Blades | None = None
    thickness: Annotated[float, Field(gt=0.0, le=1.0)] = 0.1

    def __post_init__(self) -> None:
        if self.blades is None and self.thrust is None:
            raise InputError("a propeller disk needs thrust, or blades and speed.")
        if self.blades is not None:
            if self.speed is None:
                raise InputError("the blades of a propeller disk need its speed; give it in rev/min.")
            for name in ("thrust", "power"):
                if getattr(self, name) is not None:
                    raise InputError(f"{name} of a propeller disk with blades follows from them; leave it out.")
        elif self.speed is not None and self.power is None:
            raise InputError("the speed of a propeller disk has no effect without power or blades; give one of them.")
        if not isinstance(self.loading, str):
            pairs = np.array(self.loading)
            if len(pairs) < 2 or (np.diff(pairs[:, 0]) <= 0.0).any() or (pairs[:, 1] < 0.0).any():
                raise InputError(
                    "loading of a propeller disk: give pairs (fraction of the radius, relative thrust) with rising "
                    "fractions and no negative thrust."
                )
            if not pairs[:, 1].any():
                raise InputError("loading of a propeller disk is 0 everywhere.")

    @property
    def radius(self) -> float:
        """[m]

        Examples
        --------
        >>> PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, thrust=1.0).radius
        1.0
        """
        return 0.5 * self.diameter

    @property
    def area(self) -> float:
        """Area of the part with blades [m^2].

        Examples
        --------
        >>> round(PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, hub_diameter=0.0, thrust=1.0).area, 4)
        3.1416
        """
        return math.pi * self.radius**2 * (1.0 - self.hub_diameter**2)

    @property
    def axis(self) -> np.ndarray:
        """Unit vector (3,) downstream, against the thrust, in body axes.

        Examples
        --------
        >>> PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, thrust=1.0).axis
        array([1., 0., 0.])
        """
        return attitude_matrix(0.0, self.pitch, self.yaw) @ np.array([1.0, 0.0, 0.0])

    @property
    def sense(self) -> float:
        """1.0 where the blades turn about the axis by the right hand, -1.0 where by the left.

        Notes
        -----
        Clockwise seen from behind is by the right hand about a vector that points forwards, and so by the left hand
        about the axis, which points downstream.

        Examples
        --------
        >>> PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, thrust=1.0).sense
        -1.0
        """
        return -1.0 if self.rotation == "right" else 1.0

    @property
    def idle(self) -> bool:
        """Whether it does nothing: no thrust and no blades. Its mesh and its flow are those without it.

        Examples
        --------
        >>> PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, thrust=0.0).idle
        True
        """
        return self.blades is None and not self.thrust

    @property
    def swirls(self) -> bool:
        """Whether it gives its slipstream swirl.

        Examples
        --------
        >>> PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, thrust=10.0).swirls
        False
        """
        return self.blades is not None or (self.speed is not None and bool(self.power))

    def placed(self, name: str) -> "dict[str, PropellerDisk]":
        """The disk, and its mirror image if there is one, by name.

        Parameters
        ----------
        name : str
            Name; the mirror image is "name port".

        Examples
        --------
        >>> disk = PropellerDisk(position=(0.0, 2.0, 0.0), diameter=2.0, thrust=1.0, mirrored=True)
        >>> [one.position[1] for one in disk.placed("propeller").values()]
        [2.0, -2.0]
        """
        own = replace(self, mirrored=False, counter_rotating=False)
        if not self.mirrored:
            return {name: own}
        x, y, z = self.position
        other: Literal["right", "left"] = "left" if self.rotation == "right" else "right"
        turned = other if self.counter_rotating else self.rotation
        return {name: own, f"{name} port": replace(own, position=(x, -y, z), yaw=-self.yaw, rotation=turned)}

    def relative_thrust(self, fraction: np.ndarray) -> np.ndarray:
        """Thrust over the area, of the formula or table, not normalised; 0 inside the hub and beyond the tip.

        Parameters
        ----------
        fraction : array
            Of the radius.

        Examples
        --------
        >>> disk = PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, thrust=1.0)
        >>> disk.relative_thrust(np.array([0.1, 0.5, 1.2])).tolist()
        [0.0, 1.0, 0.0]
        """
        fraction = np.asarray(fraction, dtype=float)
        inside = (fraction >= self.hub_diameter) & (fraction <= 1.0)
        if self.loading == "uniform":
            value = np.ones(fraction.shape)
        elif self.loading == "peaked":
            span = np.clip((fraction - self.hub_diameter) / (1.0 - self.hub_diameter), 0.0, 1.0)
            value = span * np.sqrt(1.0 - span)
        else:
            value = np.interp(fraction, *np.array(self.loading).T)
        return np.where(inside, value, 0.0)


def one_sided(propellers: Mapping[str, PropellerDisk]) -> str:
    """Name of a disk that has no mirror image at the plane y = 0; empty if all have one.

    Parameters
    ----------
    propellers : Mapping[str, PropellerDisk]
        Disks by name, mirror images apart.

    Examples
    --------
    >>> disk = PropellerDisk(position=(0.0, 1.0, 0.0), diameter=1.0, thrust=10.0)
    >>> port = PropellerDisk(position=(0.0, -1.0, 0.0), diameter=1.0, thrust=10.0)
    >>> one_sided({"starboard": disk}), one_sided({"starboard": disk, "port": port})
    ('starboard', '')
    """
    for name, disk in propellers.items():
        (x, y, z), turning = disk.position, disk.swirls
        images = [
            other
            for other in propellers.values()
            if np.allclose(other.position, (x, -y, z), atol=ON_PLANE * disk.diameter)
            and (other.thrust, other.power, other.speed) == (disk.thrust, disk.power, disk.speed)
            and math.isclose(other.yaw, -disk.yaw, abs_tol=1e-9)
            and not (turning and other.rotation == disk.rotation)
        ]
        if not images:
            return name
    return ""
