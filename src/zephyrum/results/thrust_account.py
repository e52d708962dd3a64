"""Thrust and drag of a body with exhausts and intakes, by the control volume that ends at their faces.

The stream force on a face is the momentum that leaves the domain through it plus its pressure above that of the stream
times its area. The gross thrust is that of the exhausts, forwards; the ram drag is the mass flow of the intakes times
the speed of the stream; the additive drag is the stream force on the intakes less the ram drag, the pressure on the
stream tube that they take in (Seddon and Goldsmith 1999, Intake Aerodynamics, ch. 9). Drag is that of the walls and
the additive drag, net thrust is gross thrust less ram drag, so that drag less net thrust is the force of all
boundaries of the body along the wind. Verified by tests/test_powered.py and validation/powered.py.
"""

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum.conditions import Gas
from zephyrum.errors import InputError
from zephyrum.solver.powered import Exhaust, Intake, supply_totals

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
class ThrustAccount:
    """Thrust and drag of a solution with exhausts and intakes.

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

    __repr__ = short_repr

    @property
    def gross_thrust(self) -> float:
        """Stream force of the exhausts against the wind [N]."""
        return -sum(face.force for face in self.faces if face.kind == "exhaust")

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

    def __str__(self) -> str:
        return (
            f"{self.face_table().to_string(index=False, float_format='{:.4g}'.format)}\n\n"
            f"{self.table().to_string(float_format='{:.5g}'.format)}"
        )


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
    if not solution.case.powered:
        raise InputError("the case has no exhaust and no intake (powered), so there is no thrust to account for.")
    faces = tuple(_face_flow(solution, name, one) for name, one in solution.case.powered.items())
    air, forces = solution.air, solution.forces
    scale = air.dynamic_pressure * solution.reference.area
    sign = {"exhaust": 1.0, "intake": -1.0}
    return ThrustAccount(faces, forces.CD * scale, scale, sum(sign[one.kind] * one.mass_flow for one in faces))


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
    if not solution.case.powered:
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
    area = float(size.sum() * on_force[0])
    mass = float((solution.flow.mass_flux[own] * size).sum() * on_force[0] * air.density * air.sound_speed)
    stress = solution.flow.traction[own] * solution.stress_unit
    drag_way = solution.computed.axes[0]
    force = float(((stress * size[:, None]).sum(axis=0) * on_force) @ drag_way)
    exhaust = isinstance(one, Exhaust)
    temperature = one.temperature(air) if isinstance(one, Exhaust) else supply_totals(solution.case)[1]
    impulse = air.pressure + float(np.einsum("ij,ij->", stress, vector) / size.sum())
    fast = isinstance(one, Exhaust) and one.mach is not None and one.mach > 1.0
    mach = uniform_mach(abs(mass) / area, impulse, temperature, air.gas, fast)
    static = impulse / (1.0 + air.gas.gamma * mach**2)
    recovery = static * air.gas.total_pressure_ratio(mach) / air.total_pressure
    kind = "exhaust" if exhaust else "intake"
    ram = 0.0 if exhaust else mass * air.speed
    return FaceFlow(name, kind, area, abs(mass), force, ram, mach, recovery)
