"""Powered boundaries of a case: exhausts and intakes of engines, by the names of the walls that they take the place of.

Verified by tests/test_powered.py and validation/powered.py.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from scipy.optimize import brentq

from zephyrum._core.validation import number, numbers, taken
from zephyrum.conditions import Freestream, Gas
from zephyrum.conditions.axes import turned_body
from zephyrum.errors import InputError
from zephyrum.flow.physics.powered_boundaries import PoweredGroup
from zephyrum.mesh import Mesh

if TYPE_CHECKING:
    from zephyrum.solver.case import Case

SAME_PRESSURE = 0.005  # relative difference of a total pressure from that of a static pressure and a Mach number
MACH_RANGE = (0.0, 20.0)


@dataclass(frozen=True)
class Exhaust:
    """A face through which an engine blows.

    Attributes
    ----------
    total_pressure : float, optional
        [Pa]
    pressure_ratio : float, optional
        Total pressure over the static pressure of the stream, in place of the total pressure.
    total_temperature : float, optional
        [K]; that of the stream without it.
    mach : float, optional
        Mach number at the face, for a supersonic one; without it the flow finds it, at most 1.
    static_pressure : float, optional
        At the face [Pa]. With `mach` it gives the total pressure, or is checked against it.
    direction : tuple[float, float, float], optional
        Of the flow, in body axes; against the normal of each face without it.

    Notes
    -----
    The gas is that of the stream.

    Examples
    --------
    >>> import zephyrum as zy
    >>> jet = zy.Exhaust(pressure_ratio=3.0, total_temperature=900.0)
    >>> round(jet.total(zy.Freestream(mach=0.3, pressure=1e5, temperature=288.0)))
    300000
    """

    total_pressure: float | None = None
    pressure_ratio: float | None = None
    total_temperature: float | None = None
    mach: float | None = None
    static_pressure: float | None = None
    direction: tuple[float, float, float] | None = None

    def __post_init__(self) -> None:
        for name, most in (("total_pressure", 1e9), ("static_pressure", 1e9), ("total_temperature", 1e4)):
            if getattr(self, name) is not None:
                number(f"{name} of an exhaust", getattr(self, name), 0.0, most, open_low=True)
        if self.pressure_ratio is not None:
            number("pressure_ratio of an exhaust", self.pressure_ratio, 1.0, 1e5, open_low=True)
        if self.mach is not None:
            number("mach of an exhaust", self.mach, *MACH_RANGE, open_low=True)
        if self.direction is not None and not np.linalg.norm(numbers("direction of an exhaust", self.direction, 3)):
            raise InputError(f"direction = {self.direction} of an exhaust has no length; give a vector downstream.")
        self._refuse_incomplete()

    def _refuse_incomplete(self) -> None:
        if self.total_pressure is not None and self.pressure_ratio is not None:
            raise InputError("an exhaust has total_pressure and pressure_ratio; give one of them.")
        if (self.total_pressure, self.pressure_ratio) == (None, None) and None in (self.static_pressure, self.mach):
            raise InputError(
                "an exhaust needs total_pressure, or pressure_ratio (total over the static pressure of the stream), or "
                "static_pressure together with mach."
            )
        if self.mach is None and self.static_pressure is not None:
            raise InputError(
                f"static_pressure = {self.static_pressure:g} Pa of an exhaust belongs to a Mach number; give mach, or "
                f"leave it out: the static pressure of a subsonic exhaust follows from the flow."
            )
        if self.mach is not None and self.mach <= 1.0 and self.static_pressure is None:
            raise InputError(
                f"mach = {self.mach:g} of an exhaust: a subsonic Mach number follows from the total pressure and the "
                f"flow outside; leave it out, or give static_pressure in place of the total pressure."
            )

    @property
    def supersonic(self) -> bool:
        """Whether its whole state is given, at a Mach number above 1.

        Examples
        --------
        >>> Exhaust(mach=2.0, static_pressure=1e5).supersonic, Exhaust(pressure_ratio=2.0).supersonic
        (True, False)
        """
        return self.mach is not None and self.mach > 1.0

    def total(self, air: Freestream) -> float:
        """Total pressure [Pa].

        Parameters
        ----------
        air : Freestream
            The stream.

        Raises
        ------
        InputError
            Total pressure, static pressure and Mach number do not agree.

        Examples
        --------
        >>> air = Freestream(mach=0.3, pressure=1e5, temperature=288.0)
        >>> round(Exhaust(mach=2.0, static_pressure=1e5).total(air))
        782445
        """
        given = self.total_pressure if self.pressure_ratio is None else self.pressure_ratio * air.pressure
        if self.static_pressure is None or self.mach is None:
            return given
        implied = self.static_pressure * air.gas.total_pressure_ratio(self.mach)
        if given is not None and abs(given / implied - 1.0) > SAME_PRESSURE:
            raise InputError(
                f"an exhaust with static_pressure = {self.static_pressure:g} Pa at Mach {self.mach:g} has a total "
                f"pressure of {implied:.6g} Pa, not {given:.6g} Pa; leave one of the three out."
            )
        return implied

    def temperature(self, air: Freestream) -> float:
        """Total temperature [K].

        Parameters
        ----------
        air : Freestream
            The stream.

        Examples
        --------
        >>> round(Exhaust(pressure_ratio=2.0).temperature(Freestream(mach=1.0, pressure=1e5, temperature=250.0)), 3)
        300.0
        """
        return air.total_temperature if self.total_temperature is None else self.total_temperature


@dataclass(frozen=True)
class Intake:
    """A face through which an engine takes air in; one of the three is given.

    Attributes
    ----------
    mass_flow : float, optional
        Through the face of the whole aircraft, both sides of a half model and all sectors [kg/s]; of a section through
        the slab that is meshed.
    face_mach : float, optional
        Mach number at the face that the mass flow is computed from, with the total pressure of the stream, or in a
        duct with that of its exhaust.
    static_pressure : float, optional
        At the face [Pa].

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Intake(mass_flow=12.0).mass_flow
    12.0
    """

    mass_flow: float | None = None
    face_mach: float | None = None
    static_pressure: float | None = None

    def __post_init__(self) -> None:
        given = [name for name in ("mass_flow", "face_mach", "static_pressure") if getattr(self, name) is not None]
        if len(given) != 1:
            raise InputError(
                f"an intake needs one of mass_flow, face_mach and static_pressure, not {', '.join(given) or 'none'}."
            )
        number(f"{given[0]} of an intake", getattr(self, given[0]), 0.0, 1e9, open_low=True)
        if self.face_mach is not None and self.face_mach >= 1.0:
            raise InputError(f"face_mach = {self.face_mach:g} of an intake must be below 1; it chokes there.")

    def taken_in(self, gas: Gas, totals: tuple[float, float], area: float) -> float | None:
        """Mass flow that is asked for [kg/s]; None for a static pressure.

        Parameters
        ----------
        gas : Gas
            The gas.
        totals : tuple[float, float]
            Total pressure [Pa] and temperature [K] of what it takes in.
        area : float
            Of the face [m^2].

        Examples
        --------
        >>> air = Freestream(mach=0.5, pressure=1e5, temperature=288.0)
        >>> taken_in = Intake(face_mach=0.5).taken_in(air.gas, (air.total_pressure, air.total_temperature), 0.1)
        >>> round(taken_in / (air.density * air.speed * 0.1), 6)
        1.0
        """
        if self.face_mach is None:
            return self.mass_flow
        return area * gas.mass_flux(self.face_mach, *totals)


Powered = Exhaust | Intake


def highest_totals(case: "Case") -> tuple[float, float]:
    """Highest total pressure [Pa] behind at most a normal shock and total temperature [K] of stream and exhausts.

    Parameters
    ----------
    case : Case
        The case.
    """
    air = case.air
    pressure = air.pressure * air.gas.pitot_pressure_ratio(air.mach) if air.mach > 1.0 else air.total_pressure
    jets = [one for one in case.powered.values() if isinstance(one, Exhaust)]
    return (
        max([pressure, *(one.total(air) for one in jets)]),
        max([air.total_temperature, *(one.temperature(air) for one in jets)]),
    )


def supply_totals(case: "Case") -> tuple[float, float]:
    """Total pressure [Pa] and temperature [K] of what an intake takes in: of the stream, or in a duct of its exhaust.

    Parameters
    ----------
    case : Case
        The case.
    """
    air = case.air
    jets = [one for one in case.powered.values() if isinstance(one, Exhaust)]
    if jets and not len(case.mesh.faces_of("farfield", "imposed")):
        return jets[0].total(air), jets[0].temperature(air)
    return air.total_pressure, air.total_temperature


def powered_mesh(mesh: Mesh, powered: Mapping[str, Powered]) -> Mesh:
    """The mesh with the roles "exhaust" and "intake" for the walls that these take the place of.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    powered : Mapping[str, Powered]
        Exhausts and intakes by name of the wall.

    Raises
    ------
    InputError
        The mesh has no such wall.

    Examples
    --------
    >>> from zephyrum import Outline, mesh_revolved
    >>> mesh = powered_mesh(mesh_revolved(Outline.circle(1.0), 32, 8), {"body": Intake(mass_flow=1.0)})
    >>> mesh.group("body").role
    'intake'
    """
    roles = {}
    walls = [group.name for group in mesh.groups if group.role in ("wall", "exhaust", "intake")]
    for name, one in powered.items():
        taken(f"powered[{name!r}]", one, (Exhaust, Intake))
        if name not in walls:
            raise InputError(
                f"powered: the mesh has no wall named {name!r}; it has: {', '.join(walls)}. Faces of an aircraft that "
                f"get a boundary group of their own are named to mesh_aircraft, separate = [...]."
            )
        roles[name] = "exhaust" if isinstance(one, Exhaust) else "intake"
    for group in mesh.groups:
        if group.role in ("exhaust", "intake") and group.name not in powered:
            raise InputError(f"powered: {group.name!r} of the mesh is an {group.role}; say what it does.")
    return mesh.with_roles(**roles) if roles else mesh


def face_area(mesh: Mesh, name: str) -> float:
    """Area [m^2] of a powered face of the whole body.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    name : str
        Name of its boundary group.

    Examples
    --------
    >>> from zephyrum import Outline, mesh_revolved
    >>> round(face_area(mesh_revolved(Outline.circle(1.0), 256, 8), "body"), 2)
    3.14
    """
    own = np.linalg.norm(mesh.face_area[mesh.group(name).faces], axis=1)
    return float(own.sum() * mesh.multiples[0][0])


def powered_groups(case: "Case") -> tuple[PoweredGroup, ...]:
    """Powered boundary groups in scaled units.

    Parameters
    ----------
    case : Case
        The case.
    """
    air, out = case.computed, []
    gamma = air.gas.gamma
    for name, one in case.powered.items():
        if isinstance(one, Exhaust):
            length = one.mach if one.supersonic else 1.0
            way = np.zeros(3)
            if one.direction is not None:
                turned = turned_body(np.asarray(one.direction, dtype=float), case.mesh.attitude)
                way = length * turned / np.linalg.norm(turned)
            pressure = (one.total(air) / air.pressure - 1.0) / gamma
            row = (pressure, *way.tolist(), one.temperature(air) / air.temperature)
            out.append(PoweredGroup(name, row, 0.0 if one.direction is not None else length))
            continue
        static = air.pressure if one.static_pressure is None else one.static_pressure
        mass_flow = one.taken_in(air.gas, supply_totals(case), face_area(case.mesh, name))
        if mass_flow is not None:
            mass_flow /= air.density * air.sound_speed * case.mesh.multiples[0][0]
        out.append(PoweredGroup(name, ((static / air.pressure - 1.0) / gamma, 0.0, 0.0, 0.0, 0.0), 0.0, mass_flow))
    return tuple(out)


def powered_forecast(case: "Case") -> list[dict]:
    """What one-dimensional isentropic flow gives for each powered face, before a run.

    Parameters
    ----------
    case : Case
        The case.

    Returns
    -------
    list of dict
        name, kind, area [m^2], face Mach, mass flow [kg/s], and gross thrust [N] of an exhaust at the static pressure
        of the stream, or ram drag [N] of an intake.

    Raises
    ------
    InputError
        An intake is asked for more than fits through it.

    Examples
    --------
    >>> from zephyrum import Case, Exhaust, Freestream, Outline, mesh_revolved
    >>> mesh = mesh_revolved(Outline.circle(1.0), 32, 8)
    >>> case = Case(mesh_revolved(Outline.circle(1.0), 32, 8), Freestream(mach=0.3))
    >>> powered_forecast(case)
    []
    """
    air, rows = case.air, []
    gamma = air.gas.gamma
    for name, one in case.powered.items():
        area = face_area(case.mesh, name)
        row: dict = {"name": name, "area": area}
        if isinstance(one, Exhaust):
            total, temperature = one.total(air), one.temperature(air)
            mach = one.mach if one.mach is not None else min(air.gas.mach_of_pressure_ratio(total / air.pressure), 1.0)
            flow = area * air.gas.mass_flux(mach, total, temperature)
            static = temperature / (1.0 + 0.5 * (gamma - 1.0) * mach**2)
            speed = mach * air.gas.sound_speed(static)
            thrust = flow * speed + (total / air.gas.total_pressure_ratio(mach) - air.pressure) * area
            row |= {"kind": "exhaust", "face Mach": mach, "mass flow": flow, "gross thrust": thrust}
        else:
            row |= _intake_forecast(name, one, air, supply_totals(case), area)
        rows.append(row)
    return rows


def _intake_forecast(name: str, one: Intake, air: Freestream, totals: tuple[float, float], area: float) -> dict:
    """Row of `powered_forecast` of an intake."""
    flow = one.taken_in(air.gas, totals, area)
    if flow is None:
        mach = min(air.gas.mach_of_pressure_ratio(totals[0] / one.static_pressure), 1.0)
        flow = area * air.gas.mass_flux(mach, *totals)
    else:
        most = area * air.gas.mass_flux(1.0, *totals)
        if flow >= most:
            raise InputError(
                f"powered: {name!r} should take in {flow:.4g} kg/s, but at most {most:.4g} kg/s fits through "
                f"{area:.4g} m^2 at a total pressure of {totals[0]:.4g} Pa; give less, or a larger face."
            )
        mach = brentq(lambda mach: area * air.gas.mass_flux(mach, *totals) - flow, 0.0, 1.0)
    return {"kind": "intake", "face Mach": mach, "mass flow": flow, "ram drag": flow * air.speed}


def powered_notes(case: "Case") -> list[str]:
    """Sentences on what is implied for each powered face.

    Parameters
    ----------
    case : Case
        The case.
    """
    out = []
    for row in powered_forecast(case):
        force = "gross thrust" if row["kind"] == "exhaust" else "ram drag"
        out.append(
            f"{row['name']} is an {row['kind']} of {row['area']:.4g} m^2: in one-dimensional flow Mach "
            f"{row['face Mach']:.3g} at the face, {row['mass flow']:.4g} kg/s, {force} {row[force]:.4g} N."
        )
    return out
