"""Thrust and drag of a body with exhausts, intakes and propeller disks, by the control volume that ends at their faces.

The stream force on a face is the momentum that leaves the domain through it plus its pressure above that of the stream
times its area. The gross thrust is that of the exhausts, forwards; the ram drag is the mass flow of the intakes times
the speed of the stream; the additive drag is the stream force on the intakes less the ram drag, the pressure on the
stream tube that they take in (Seddon and Goldsmith 1999, Intake Aerodynamics, ch. 9). Drag is that of the walls and
the additive drag, net thrust is gross thrust less ram drag, so that drag less net thrust is the force of all
boundaries of the body along the wind. The thrust of a propeller disk is the force on the air in its cells, against the
wind; its power the work on the air. Verified by tests/test_powered.py and validation/powered.py.
"""

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum.conditions import Gas
from zephyrum.conditions.axes import turned_body
from zephyrum.errors import InputError
from zephyrum.geometry.aircraft.propeller import ON_PLANE
from zephyrum.solver.powered import Exhaust, Intake, face_area, supply_totals

if TYPE_CHECKING:
    import pandas as pd

    from zephyrum.results.solution import Solution


@dataclass(frozen=True)
class FaceFlow:
    """Flow through one exhaust or intake of the whole body.

    Attributes
    ----------
    name : str
        Wall that it takes the place of.
    kind : str
        "exhaust" or "intake".
    area : float
        [m^2]
    mass_flow : float
        Through the face, positive [kg/s].
    force : float
        Stream force on the face along the wind [N]; negative where it pushes forwards.
    ram_drag : float
        Mass flow times the speed of the stream [N]; 0 of an exhaust.
    mach : float
        Mach number of the uniform flow with the same mass flow, stream force and total temperature; NaN if there is
        none.
    recovery : float
        Total pressure of that flow over that of the stream [-].
    """

    name: str
    kind: str
    area: float
    mass_flow: float
    force: float
    ram_drag: float
    mach: float
    recovery: float


@dataclass(frozen=True)
class DiskFlow:
    """Flow through one propeller disk.

    Attributes
    ----------
    name : str
        Name.
    thrust : float
        Along its axis [N].
    forward : float
        Thrust against the wind [N].
    power : float
        Work on the air [W].
    torque : float
        [N m]; NaN where no speed is given.
    through : float
        Mean speed along the axis in its cells, weighed by the thrust [m/s].
    efficiency : float
        Thrust against the wind times the speed of the stream over power [-].
    """

    name: str
    thrust: float
    forward: float
    power: float
    torque: float
    through: float
    efficiency: float


@dataclass(frozen=True)
class ThrustAccount:
    """Thrust and drag of a solution with exhausts, intakes or propeller disks.

    Attributes
    ----------
    faces : tuple[FaceFlow, ...]
        Exhausts and intakes.
    wall_drag : float
        Force of the walls along the wind [N].
    dynamic_area : float
        Dynamic pressure times reference area [N].
    mass_balance : float
        Mass flow of the exhausts less that of the intakes [kg/s]: fuel, and what the engines have in excess.
    disks : tuple[DiskFlow, ...]
        Propeller disks of the whole body.

    Examples
    --------
    >>> jet = FaceFlow("base", "exhaust", 0.1, 10.0, -5000.0, 0.0, 1.0, 2.0)
    >>> account = ThrustAccount((jet,), 1200.0, 4000.0, 10.0)
    >>> account.net_thrust, account.drag
    (5000.0, 1200.0)
    """

    faces: tuple[FaceFlow, ...]
    wall_drag: float
    dynamic_area: float
    mass_balance: float
    disks: tuple[DiskFlow, ...] = ()

    __repr__ = short_repr

    @property
    def gross_thrust(self) -> float:
        """Stream force of the exhausts and thrust of the propeller disks against the wind [N]."""
        jets = -sum(face.force for face in self.faces if face.kind == "exhaust")
        return jets + sum(disk.forward for disk in self.disks)

    @property
    def ram_drag(self) -> float:
        """Mass flow of the intakes times the speed of the stream [N]."""
        return sum(face.ram_drag for face in self.faces)

    @property
    def net_thrust(self) -> float:
        """Gross thrust less ram drag [N]."""
        return self.gross_thrust - self.ram_drag

    @property
    def additive_drag(self) -> float:
        """Stream force on the intakes less ram drag [N]: the pressure on the stream tube ahead of them."""
        return sum(face.force - face.ram_drag for face in self.faces if face.kind == "intake")

    @property
    def drag(self) -> float:
        """Drag with thrust taken out by this account: that of the walls and the additive drag [N]."""
        return self.wall_drag + self.additive_drag

    def table(self) -> "pd.DataFrame":
        """DataFrame: a row for every term, with newtons and coefficient.

        Examples
        --------
        >>> jet = FaceFlow("base", "exhaust", 0.1, 10.0, -5000.0, 0.0, 1.0, 2.0)
        >>> list(ThrustAccount((jet,), 1200.0, 4000.0, 10.0).table().index)
        ['gross thrust', 'ram drag', 'net thrust', 'drag of the walls', 'additive drag', 'drag', 'drag less net thrust']
        """
        import pandas as pd

        rows = {
            "gross thrust": self.gross_thrust,
            "ram drag": self.ram_drag,
            "net thrust": self.net_thrust,
            "drag of the walls": self.wall_drag,
            "additive drag": self.additive_drag,
            "drag": self.drag,
            "drag less net thrust": self.drag - self.net_thrust,
        }
        force = np.array(list(rows.values()))
        return pd.DataFrame({"force [N]": force, "coefficient": force / self.dynamic_area}, index=list(rows))

    def face_table(self) -> "pd.DataFrame":
        """DataFrame: a row for every exhaust and intake.

        Examples
        --------
        >>> jet = FaceFlow("base", "exhaust", 0.1, 10.0, -5000.0, 0.0, 1.0, 2.0)
        >>> len(ThrustAccount((jet,), 1200.0, 4000.0, 10.0).face_table())
        1
        """
        import pandas as pd

        names = {
            "name": "name",
            "kind": "kind",
            "area": "area [m^2]",
            "mass_flow": "mass flow [kg/s]",
            "force": "stream force [N]",
            "mach": "Mach",
            "recovery": "total pressure / stream",
        }
        return pd.DataFrame([{label: getattr(one, name) for name, label in names.items()} for one in self.faces])

    def disk_table(self) -> "pd.DataFrame":
        """DataFrame: a row for every propeller disk.

        Examples
        --------
        >>> len(ThrustAccount((), 1200.0, 4000.0, 0.0).disk_table())
        0
        """
        import pandas as pd

        names = {
            "name": "name",
            "thrust": "thrust [N]",
            "power": "power [W]",
            "torque": "torque [N m]",
            "through": "speed through it [m/s]",
            "efficiency": "efficiency",
        }
        return pd.DataFrame([{label: getattr(one, name) for name, label in names.items()} for one in self.disks])

    def __str__(self) -> str:
        tables = [table for table in (self.face_table(), self.disk_table()) if len(table)]
        texts = [table.to_string(index=False, float_format="{:.4g}".format) for table in tables]
        return "\n\n".join([*texts, self.table().to_string(float_format="{:.5g}".format)])


def uniform_mach(mass_flux: float, impulse: float, total_temperature: float, gas: Gas, supersonic: bool) -> float:
    """Mach number of the uniform flow with a given mass flux, impulse and total temperature.

    Parameters
    ----------
    mass_flux : float
        [kg/(m^2 s)]
    impulse : float
        Static pressure plus density times speed squared [Pa].
    total_temperature : float
        [K]
    gas : Gas
        The gas.
    supersonic : bool
        Which of the two solutions.

    Returns
    -------
    float
        NaN if there is none.

    Notes
    -----
    G (gamma + 1) / (2 gamma) u^2 - S u + G R T_t = 0 for mass flux G and impulse S.

    Examples
    --------
    >>> air = Gas()
    >>> density, speed, temperature = 1.0, 100.0, 300.0
    >>> impulse = density * air.R * temperature + density * speed**2
    >>> total = temperature + speed**2 * (air.gamma - 1.0) / (2.0 * air.gamma * air.R)
    >>> round(uniform_mach(density * speed, impulse, total, air, False) * air.sound_speed(temperature), 6)
    100.0
    """
    a, c = mass_flux * (gas.gamma + 1.0) / (2.0 * gas.gamma), mass_flux * gas.R * total_temperature
    inside = impulse**2 - 4.0 * a * c
    if mass_flux <= 0.0:
        return 0.0
    if inside < -1e-6 * impulse**2:
        return math.nan
    speed = (impulse + (1.0 if supersonic else -1.0) * math.sqrt(max(inside, 0.0))) / (2.0 * a)
    temperature = total_temperature - speed**2 * (gas.gamma - 1.0) / (2.0 * gas.gamma * gas.R)
    return speed / gas.sound_speed(temperature) if temperature > 0.0 else math.nan


def thrust_account(solution: "Solution") -> ThrustAccount:
    """Thrust and drag of a solution with exhausts and intakes; see `Solution.thrust_account`.

    Parameters
    ----------
    solution : Solution
        Solution.
    """
    if not solution.case.driven:
        raise InputError(
            "the case has no exhaust, no intake (powered) and no propeller disk (propellers), so there is no thrust to "
            "account for."
        )
    faces = tuple(_face_flow(solution, name, one) for name, one in solution.case.powered.items())
    air, forces = solution.air, solution.forces
    scale = air.dynamic_pressure * solution.reference.area
    sign = {"exhaust": 1.0, "intake": -1.0}
    balance = sum(sign[one.kind] * one.mass_flow for one in faces)
    return ThrustAccount(faces, forces.CD * scale, scale, balance, _disk_flows(solution))


def _disk_flows(solution: "Solution") -> tuple[DiskFlow, ...]:
    """Flows through the propeller disks, both of a pair on a half model."""
    case, mesh, air, q = solution.case, solution.mesh, solution.air, solution.flow.q
    sources = None if case.disk_sources is None else case.disk_sources(mesh)
    if sources is None:
        return ()
    out, work = [], sources.work_on(q)
    scale = air.density * air.sound_speed**2 * mesh.multiples[0][0]
    for number, (name, disk) in enumerate(case.propellers.items()):
        own = sources.disk == number
        if not own.any():  # the mirror image of another one
            continue
        share = 1.0 if not mesh.mirrored or abs(disk.position[1]) <= ON_PLANE * disk.diameter else 0.5
        axis = turned_body(disk.axis, mesh.attitude)
        along = sources.force[own] @ axis
        thrust = float(along.sum()) * scale * share
        forward = float(sources.force[own].sum(axis=0) @ solution.computed.axes[0]) * scale
        power = float(work[own].sum()) * scale * share * air.sound_speed
        through = float((q[sources.cells[own], 1:4] @ axis) @ along / along.sum()) * air.sound_speed if thrust else 0.0
        torque = math.nan if disk.speed is None else power * 30.0 / (math.pi * disk.speed)
        efficiency = forward * share * air.speed / power if power > 0.0 else math.nan
        out.append(DiskFlow(name, thrust, forward, power, torque, through, efficiency))
    return tuple(out)


def thrust_columns(solution: "Solution") -> dict[str, float]:
    """Columns of thrust and drag in the row of a polar; none without exhausts and intakes.

    Parameters
    ----------
    solution : Solution
        Solution.

    Returns
    -------
    dict of str to float
        CD_additive: coefficient of the additive drag, which `CD` (of the walls) is without; C_net_thrust; net_thrust
        [N].
    """
    if not solution.case.driven:
        return {}
    account = thrust_account(solution)
    scale = account.dynamic_area
    return {
        "CD_additive": account.additive_drag / scale,
        "C_net_thrust": account.net_thrust / scale,
        "net_thrust": account.net_thrust,
    }


def _face_flow(solution: "Solution", name: str, one: Exhaust | Intake) -> FaceFlow:
    mesh, air = solution.mesh, solution.air
    group = mesh.group(name)
    own = slice(group.start - mesh.n_interior, group.stop - mesh.n_interior)
    vector = mesh.face_area[group.faces]
    size = np.linalg.norm(vector, axis=1)
    on_force, _ = mesh.multiples
    area = face_area(mesh, name)
    mass = float((solution.flow.mass_flux[own] * size).sum() * on_force[0] * air.density * air.sound_speed)
    stress = solution.flow.traction[own] * solution.stress_unit
    drag_way = solution.computed.axes[0]
    force = float(((stress * size[:, None]).sum(axis=0) * on_force) @ drag_way)
    temperature = one.temperature(air) if isinstance(one, Exhaust) else supply_totals(solution.case)[1]
    impulse = air.pressure + float(np.einsum("ij,ij->", stress, vector) / size.sum())
    fast = isinstance(one, Exhaust) and one.supersonic
    mach = uniform_mach(abs(mass) / area, impulse, temperature, air.gas, fast)
    static = impulse / (1.0 + air.gas.gamma * mach**2)
    recovery = static * air.gas.total_pressure_ratio(mach) / air.total_pressure
    if isinstance(one, Exhaust):
        return FaceFlow(name, "exhaust", area, abs(mass), force, 0.0, mach, recovery)
    return FaceFlow(name, "intake", area, abs(mass), force, mass * air.speed, mach, recovery)
