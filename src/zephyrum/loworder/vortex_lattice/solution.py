"""What the flow about a lattice in one condition says: coefficients by part, loads, hinge moments, derivatives.

Verified by tests/test_lattice.py.
"""

import functools
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import number
from zephyrum.conditions import Freestream, Reference
from zephyrum.conditions.axes import wind_axes
from zephyrum.loworder.vortex_lattice.basis import MOTIONS, Basis

if TYPE_CHECKING:
    import pandas as pd

    from zephyrum.loworder.vortex_lattice.model import VortexLattice

COEFFICIENTS = ("CL", "CDi", "CDi_surface", "CY", "Cl", "CM", "Cn", "CX", "CY_body", "CZ")


@dataclass(frozen=True)
class Rates:
    """Rates of rotation, dimensionless.

    Attributes
    ----------
    roll, yaw : float
        p b / (2 V), starboard side down positive, and r b / (2 V), nose to starboard positive.
    pitch : float
        q c / (2 V), nose-up positive.

    Examples
    --------
    >>> Rates(roll=0.05).pitch
    0.0
    """

    roll: float = 0.0
    pitch: float = 0.0
    yaw: float = 0.0

    def __post_init__(self) -> None:
        for name in ("roll", "pitch", "yaw"):
            number(f"rates.{name}", getattr(self, name), -10.0, 10.0)

    def rotation(self, reference: Reference) -> np.ndarray:
        """(3,) rotation in body axes over the speed of the stream [1/m].

        Parameters
        ----------
        reference : Reference
            Reference quantities.

        Examples
        --------
        >>> Rates(pitch=0.01).rotation(Reference(28.0, 2.0, 16.0, (0.0, 0.0, 0.0))).tolist()
        [-0.0, 0.01, -0.0]
        """
        span, chord = 2.0 / reference.span, 2.0 / reference.chord
        return np.array([-self.roll * span, self.pitch * chord, -self.yaw * span])


@dataclass(frozen=True)
class LatticeSolution:
    """Forces, loads and derivatives of a lattice in one condition.

    Attributes
    ----------
    model : VortexLattice
        The lattice and its reference quantities.
    air : Freestream
        Stream with its angles.
    rates : Rates
        Rotation of the aircraft.
    basis : Basis
        Solutions of unit motions.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
    >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
    >>> found = model.solve(zy.Freestream(mach=0.1, alpha=4.0))
    >>> round(found.CL, 3), round(found.CDi, 4)
    (0.295, 0.0047)
    """

    model: "VortexLattice"
    air: Freestream
    rates: Rates
    basis: Basis

    __repr__ = short_repr

    def __str__(self) -> str:
        found = self.coefficients
        return f"{', '.join(f'{name} {found[name]:.4g}' for name in ('CL', 'CDi', 'CM'))} of {self.model.name}"

    @functools.cached_property
    def motion(self) -> np.ndarray:
        """(6,) stream and rotation over the speed of the stream [-, 1/m]."""
        return np.r_[np.array(self.air.wind), self.rates.rotation(self.model.reference)]

    @property
    def deflections(self) -> dict[str, float]:
        """Deflections of all controls by name [deg].

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012",
        ...                controls={"flap": zy.Control(start=0.1, end=0.6)})
        >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> model.solve(zy.Freestream(mach=0.1), deflections={"wing.flap": 5.0}).deflections
        {'wing.flap': 5.0}
        """
        return dict(zip(self.basis.lattice.control_names, self.basis.angles.tolist()))

    def _sets(self) -> np.ndarray:
        """Weights of the sets of the basis, those of derivatives zero."""
        return np.r_[self.motion, np.zeros(self.basis.circulation.shape[1] - MOTIONS)]

    @functools.cached_property
    def table(self) -> "pd.DataFrame":
        """Coefficients of each part and their sum, one row each.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> list(model.solve(zy.Freestream(mach=0.1, alpha=4.0)).table["part"])
        ['wing', 'all']
        """
        import pandas as pd

        weights = self._sets()
        force, moment = (np.einsum("pabk,a,b->pk", one, weights, weights) for one in self.basis.loads)
        far = np.einsum("pab,a,b->p", self.basis.far_drag, weights, weights)
        names = (*self.basis.part_names, "all")
        force, moment, far = (np.concatenate([one, one.sum(axis=0, keepdims=True)]) for one in (force, moment, far))
        rows = coefficients(force, moment, far, self.air.alpha, self.air.beta, self.model.reference)
        return pd.DataFrame({"part": names, **rows})

    @functools.cached_property
    def coefficients(self) -> dict[str, float]:
        """Coefficients of the whole aircraft.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> sorted(model.solve(zy.Freestream(mach=0.1)).coefficients)
        ['CDi', 'CDi_surface', 'CL', 'CM', 'CX', 'CY', 'CY_body', 'CZ', 'Cl', 'Cn']
        """
        last = self.table.iloc[-1]
        return {name: float(last[name]) for name in COEFFICIENTS}

    @property
    def CL(self) -> float:
        """Lift coefficient.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> abs(round(model.solve(zy.Freestream(mach=0.1)).CL, 6))
        0.0
        """
        return self.coefficients["CL"]

    @property
    def CDi(self) -> float:
        """Coefficient of induced drag in the far plane.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> round(model.solve(zy.Freestream(mach=0.1, alpha=4.0)).CDi, 4)
        0.0047
        """
        return self.coefficients["CDi"]

    @functools.cached_property
    def loading(self) -> "pd.DataFrame":
        """Load of every strip: position [m], span fraction, chord [m], cl and cl c over the mean chord.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> found = model.solve(zy.Freestream(mach=0.1, alpha=4.0)).loading
        >>> len(found)
        48
        """
        import pandas as pd

        lattice = self.basis.lattice
        shed = self.basis.rings[:, -1] @ self._sets()
        middle = 0.75 * lattice.leading + 0.25 * lattice.trailing
        return pd.DataFrame(
            {
                "part": [lattice.parts[k] for k in lattice.part],
                "surface": lattice.surface,
                "fraction": lattice.fraction,
                "x_m": middle[:, 0],
                "y_m": middle[:, 1],
                "z_m": middle[:, 2],
                "chord_m": lattice.chord,
                "width_m": lattice.width,
                "circulation": shed,
                "cl": 2.0 * shed / lattice.chord,
                "loading": 2.0 * shed / self.model.reference.chord,
            }
        )

    @functools.cached_property
    def pressure_differences(self) -> np.ndarray:
        """(n_strips, rows) pressure of the lower less that of the upper side of each panel, over the dynamic pressure.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> found = model.solve(zy.Freestream(mach=0.1, alpha=4.0)).pressure_differences
        >>> bool(found[24, 0] > found[24, -1] > 0.0)  # largest at the leading edge
        True
        """
        lattice, weights = self.basis.lattice, self._sets()
        force = np.einsum("srabk,a,b->srk", self.basis.panel_forces, weights, weights)
        left, right = lattice.edges[lattice.left], lattice.edges[lattice.right]
        area = 0.5 * np.linalg.norm(np.cross(right[:, 1:] - left[:, :-1], left[:, 1:] - right[:, :-1]), axis=2)
        return 2.0 * np.einsum("srk,srk->sr", force, lattice.bound_normals) / area

    @functools.cached_property
    def hinge_moments(self) -> dict[str, float]:
        """Hinge-moment coefficient of each control, tail-down positive, on area and mean chord behind its hinge.

        Of ailerons, which go opposite ways, that of the starboard one.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012",
        ...                controls={"flap": zy.Control(start=0.1, end=0.6)})
        >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> model.solve(zy.Freestream(mach=0.1), deflections={"wing.flap": 5.0}).hinge_moments["wing.flap"] < 0.0
        True
        """
        weights, lattice = self._sets(), self.basis.lattice
        moments = np.einsum("cab,a,b->c", self.basis.hinge_moments, weights, weights)
        out = {}
        for k, name in enumerate(lattice.control_names):
            own = (lattice.control == k) & (lattice.sense > 0.0)
            behind = np.linalg.norm(lattice.trailing[own] - lattice.hinge[own], axis=1)
            width = lattice.width[own]
            area = float((behind * width).sum())
            chord = float((behind**2 * width).sum()) / area
            out[name] = float(2.0 * moments[k] / (area * chord))
        return out

    @functools.cached_property
    def derivatives(self) -> "pd.DataFrame":
        """Exact derivatives of all coefficients: with angles and deflections [1/rad], and with dimensionless rates.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> found = model.solve(zy.Freestream(mach=0.01)).derivatives
        >>> round(float(found.loc["CL", "alpha"]), 3), round(float(found.loc["Cl", "roll"]), 3)
        (4.214, -0.44)
        """
        import pandas as pd

        names = self.basis.lattice.control_names
        model, angles = self.model, tuple(self.basis.angles.tolist())
        basis = model.basis(self.basis.factor.setting, angles, derivatives=True) if names else self.basis
        weights = np.r_[self.motion, np.zeros(MOTIONS * len(names))]
        columns = _motion_derivatives(self.air, model.reference)
        for k, name in enumerate(names):
            columns[name] = np.zeros(MOTIONS * (1 + len(names)))
            columns[name][MOTIONS * (k + 1) : MOTIONS * (k + 2)] = self.motion
        force, moment = (one.sum(axis=0) for one in basis.loads)
        far = basis.far_drag.sum(axis=0)[..., None]
        now = np.einsum("abk,a,b->k", force, weights, weights)
        found = {}
        for name, change in columns.items():
            change = np.r_[change, np.zeros(len(weights) - len(change))]
            rates = [
                np.einsum("abk,a,b->k", one, change, weights) + np.einsum("abk,a,b->k", one, weights, change)
                for one in (force, moment, far)
            ]
            found[name] = _coefficient_rates(now, rates, name, self.air, model.reference)
        return pd.DataFrame(found)

    @property
    def neutral_point(self) -> float:
        """x of the neutral point [m]: moments about it do not change with alpha.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> round(model.solve(zy.Freestream(mach=0.01)).neutral_point, 4)
        0.2388
        """
        slopes, reference = self.derivatives["alpha"], self.model.reference
        return float(reference.point[0] - reference.chord * slopes["CM"] / slopes["CZ"])

    @property
    def centre_of_pressure(self) -> float:
        """x at which the normal force acts [m]; infinitely far away without one.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> round(model.solve(zy.Freestream(mach=0.01, alpha=2.0)).centre_of_pressure, 3)
        0.239
        """
        found, reference = self.coefficients, self.model.reference
        with np.errstate(divide="ignore", invalid="ignore"):
            return float(reference.point[0] - reference.chord * np.divide(found["CM"], found["CZ"]))

    def velocity(self, points: np.ndarray) -> np.ndarray:
        """Velocity at points of the field over that of the stream.

        Parameters
        ----------
        points : (n, 3) array
            Body axes [m].

        Returns
        -------
        (n, 3) array
            Without the rotation of the aircraft.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> found = model.solve(zy.Freestream(mach=0.1, alpha=4.0))
        >>> bool(found.velocity(np.array([[5.0, 0.0, 0.5]]))[0, 2] < np.sin(np.radians(4.0)))  # downwash behind it
        True
        """
        points = np.atleast_2d(np.asarray(points, dtype=float))
        circulation = (self.basis.circulation @ self._sets())[:, None]
        made = self.basis.factor.induced(points, np.full(len(points), -1), circulation)[:, 0]
        return made + np.array(self.air.wind)


def coefficients(
    force: np.ndarray, moment: np.ndarray, far: np.ndarray, alpha: float, beta: float, reference: Reference
) -> dict[str, np.ndarray]:
    """Coefficients of forces and moments for a stream of unit speed and density.

    Parameters
    ----------
    force, moment : (n, 3) array
        Body axes.
    far : (n,) array
        Induced drag in the far plane.
    alpha, beta : float
        Angle of attack and of sideslip [deg].
    reference : Reference
        Reference quantities.

    Examples
    --------
    >>> one = Reference(2.0, 1.0, 2.0, (0.0, 0.0, 0.0))
    >>> found = coefficients(np.array([[0.0, 0.0, 1.0]]), np.zeros((1, 3)), np.zeros(1), 0.0, 0.0, one)
    >>> float(found["CL"][0])
    1.0
    """
    scale = 2.0 / reference.area
    drag, side, lift = (force @ wind_axes(alpha, beta).T * scale).T
    return {
        "CL": lift,
        "CDi": far * scale,
        "CDi_surface": drag,
        "CY": side,
        "Cl": -moment[:, 0] * scale / reference.span,
        "CM": moment[:, 1] * scale / reference.chord,
        "Cn": -moment[:, 2] * scale / reference.span,
        "CX": force[:, 0] * scale,
        "CY_body": force[:, 1] * scale,
        "CZ": force[:, 2] * scale,
    }


def _motion_derivatives(air: Freestream, reference: Reference) -> dict[str, np.ndarray]:
    """Derivatives of the motion (6,) with angles [1/rad] and dimensionless rates."""
    a, b = np.radians([air.alpha, air.beta])
    turn = Rates(1.0, 1.0, 1.0).rotation(reference)
    nothing = np.zeros(3)
    return {
        "alpha": np.r_[-np.sin(a) * np.cos(b), 0.0, np.cos(a) * np.cos(b), nothing],
        "beta": np.r_[-np.cos(a) * np.sin(b), -np.cos(b), -np.sin(a) * np.sin(b), nothing],
        "roll": np.r_[nothing, turn[0], 0.0, 0.0],
        "pitch": np.r_[nothing, 0.0, turn[1], 0.0],
        "yaw": np.r_[nothing, 0.0, 0.0, turn[2]],
    }


def _coefficient_rates(
    force: np.ndarray, rates: list[np.ndarray], name: str, air: Freestream, reference: Reference
) -> dict[str, float]:
    """Derivatives of the coefficients from those of force, moment and far-plane drag, with axes that turn."""
    made = coefficients(rates[0][None], rates[1][None], rates[2], air.alpha, air.beta, reference)
    found = {key: float(value[0]) for key, value in made.items()}
    if name in ("alpha", "beta"):
        a = np.radians(air.alpha)
        lift, drag = wind_axes(air.alpha, air.beta)[2], _motion_derivatives(air, reference)[name][:3]
        lift_rate = np.array([-np.cos(a), 0.0, -np.sin(a)]) if name == "alpha" else np.zeros(3)
        side = np.cross(lift_rate, wind_axes(air.alpha, air.beta)[0]) + np.cross(lift, drag)
        for key, axis in (("CL", lift_rate), ("CDi_surface", drag), ("CY", side)):
            found[key] += float(force @ axis) * 2.0 / reference.area
    return found
