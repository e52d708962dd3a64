"""Flow about a lattice: circulation, forces, moments and induced drag of an aircraft in any steady attitude.

The circulation is linear in the six components of the motion (stream and rotation) and in the deflections of the
controls; forces are quadratic in them. One factorisation and one set of solutions thus serve any number of conditions,
and derivatives are exact. The flow is attached, the surfaces are thin, wakes are straight, compressibility follows
Prandtl and Glauert below Mach 0.8 or so (Katz and Plotkin 2001, ch. 12; Lan 1974 for the chordwise rule and the suction
of the leading edge). Verified by tests/test_lattice.py.
"""

import functools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import number
from zephyrum.conditions import Freestream, Reference
from zephyrum.conditions.axes import wind_axes
from zephyrum.errors import InputError
from zephyrum.geometry import Aircraft
from zephyrum.geometry.aircraft.part import attitude_matrix
from zephyrum.loworder.vortex_lattice.basis import MOTIONS, Basis, Factor
from zephyrum.loworder.vortex_lattice.lattice import Lattice, LatticeOptions, build_lattice, lifting_parts
from zephyrum.loworder.vortex_lattice.relaxed_wake import relaxed_setting
from zephyrum.loworder.vortex_lattice.setting import LatticeSetting
from zephyrum.loworder.vortex_lattice.slender_bodies import SlenderBodies
from zephyrum.loworder.vortex_lattice.solution import LatticeSolution, Rates, coefficients

if TYPE_CHECKING:
    import pandas as pd

MOST_MATRICES, MOST_BASES = 8, 64  # kept in memory
OPEN_ROOT = 0.3  # of the tip's distance from the plane of symmetry: a root nearer to it belongs beside a body
CLOSED_ROOT = 1e-3  # of the same: halves that meet are one surface
LARGEST_MACH = 0.95  # of the stream: beyond it the rule of Prandtl and Glauert has no meaning left


@dataclass(frozen=True)
class VortexLattice:
    """The lattice of an aircraft, ready to be solved.

    Attributes
    ----------
    lattice : Lattice
        Filaments and control points.
    reference : Reference
        Reference quantities.
    options : LatticeOptions
        How fine.
    name : str
        Name of the aircraft.
    notes : tuple[str, ...]
        What makes values of this lattice doubtful.
    bodies : SlenderBodies, optional
        Bodies that take part.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
    >>> model = lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
    >>> found = model.solve(zy.Freestream(mach=0.1, alpha=4.0))
    >>> round(found.CL, 3)
    0.295
    """

    lattice: Lattice
    reference: Reference
    options: LatticeOptions
    name: str
    notes: tuple[str, ...] = ()
    bodies: SlenderBodies | None = None

    __repr__ = short_repr

    def __str__(self) -> str:
        bodies = "" if self.bodies is None else f", with {', '.join(self.bodies.names)} as slender bodies"
        return f"vortex lattice of {self.name}: {self.lattice}{bodies}"

    def solve(
        self,
        air: Freestream,
        rates: Rates | None = None,
        deflections: dict[str, float] | None = None,
    ) -> LatticeSolution:
        """Solve the flow in one condition.

        Parameters
        ----------
        air : Freestream
            Stream with its angles.
        rates : Rates, optional
            Rotation of the aircraft.
        deflections : dict[str, float], optional
            Deflections of controls by name, such as {"wing.flap": 10} [deg]; the others are as described.

        Raises
        ------
        InputError
            A control is unknown, or the Mach number is too high.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> model = lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> round(model.solve(zy.Freestream(mach=0.1), rates=Rates(roll=0.1)).coefficients["Cl"], 4)
        -0.0441
        """
        angles, rates = self.angles(deflections), rates or Rates()
        return LatticeSolution(self, air, rates, self.basis(self._setting(air, rates, angles), angles))

    def _setting(self, air: Freestream, rates: Rates, angles: tuple[float, ...]) -> LatticeSetting:
        """Setting of a condition, with relaxed wakes if they are wanted."""
        setting = self.setting(air)
        if self.options.wake != "relaxed":
            return setting
        return relaxed_setting(self, setting, np.r_[np.array(air.wind), rates.rotation(self.reference)], angles)

    def setting(self, air: Freestream) -> LatticeSetting:
        """Mach number, wakes and ground of a stream.

        Parameters
        ----------
        air : Freestream
            Stream with its angles.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
        >>> model = lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> model.setting(zy.Freestream(mach=0.1, alpha=4.0)).wake
        (1.0, 0.0, 0.0)
        """
        mach, ground = round(float(air.mach), 12), self.options.ground
        if ground is None and self.options.wake == "body":
            return LatticeSetting(mach)
        wake = tuple(round(float(v), 12) for v in air.wind)
        if ground is None:
            return LatticeSetting(mach, wake)  # type: ignore[arg-type]
        if air.beta != 0.0:
            raise InputError(f"beta = {air.beta:g} deg over a ground: give beta = 0, or leave the ground out.")
        up = wind_axes(air.alpha)[2]
        # of the origin of the body axes
        height = ground - float(up @ np.asarray(self.reference.point))
        lowest = float((self.lattice.filaments @ up).min()) + height
        if lowest <= 0.0:
            raise InputError(
                f"ground = {ground:g} m: at alpha = {air.alpha:g} deg a lifting surface is {-lowest:.3g} m below the "
                f"ground; raise the moment point."
            )
        return LatticeSetting(mach, wake, (*(float(v) for v in up), height))  # type: ignore[arg-type]

    def conditions(self, streams: Sequence[Freestream], deflections: dict[str, float] | None = None) -> "pd.DataFrame":
        """Coefficients of the whole aircraft in many streams, one row each; one factorisation for each Mach number.

        Parameters
        ----------
        streams : sequence of Freestream
            Streams with their angles.
        deflections : dict[str, float], optional
            Deflections of controls by name [deg].

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> model = lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> table = model.conditions([zy.Freestream(mach=0.1, alpha=a) for a in (0.0, 2.0, 4.0)])
        >>> bool(table["CL"].is_monotonic_increasing)
        True
        """
        import pandas as pd

        angles = self.angles(deflections)
        made = []
        settings = [self._setting(air, Rates(), angles) for air in streams]
        for setting in dict.fromkeys(settings):
            own = [k for k, one in enumerate(settings) if one == setting]
            basis = self.basis(setting, angles)
            motions = np.zeros((len(own), MOTIONS))
            motions[:, :3] = [streams[k].wind for k in own]
            force, moment = (np.einsum("abk,na,nb->nk", one.sum(axis=0), motions, motions) for one in basis.loads)
            far = np.einsum("ab,na,nb->n", basis.far_drag.sum(axis=0), motions, motions)
            for row, k in enumerate(own):
                air = streams[k]
                given = force[row : row + 1], moment[row : row + 1], far[row : row + 1]
                found = coefficients(*given, air.alpha, air.beta, self.reference)
                head = {"mach": air.mach, "alpha": air.alpha, "beta": air.beta}
                made.append((k, head | {name: float(value[0]) for name, value in found.items()}))
        return pd.DataFrame([row for _, row in sorted(made, key=lambda one: one[0])])

    def angles(self, deflections: dict[str, float] | None = None) -> tuple[float, ...]:
        """Deflections of all controls [deg], those as described where none is given.

        Parameters
        ----------
        deflections : dict[str, float], optional
            By name.

        Raises
        ------
        InputError
            A control is unknown.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012",
        ...                controls={"flap": zy.Control(start=0.1, end=0.6)})
        >>> lattice_model(zy.Aircraft(name="plank", parts={"wing": wing})).angles({"wing.flap": 5.0})
        (5.0,)
        """
        given = dict(zip(self.lattice.control_names, self.lattice.deflections.tolist()))
        for name, angle in (deflections or {}).items():
            if name not in given:
                raise InputError(
                    f"deflections: {name!r} is no control of {self.name!r}; choose of: {', '.join(given) or 'none'}."
                )
            given[name] = number(f"deflections[{name!r}]", angle, -60.0, 60.0)
        return tuple(given.values())

    @functools.cached_property
    def _matrices(self) -> dict:
        return {}

    def factor(self, setting: LatticeSetting) -> Factor:
        """The factorised matrix in a setting, made once.

        Parameters
        ----------
        setting : LatticeSetting
            Mach number, wakes and ground.

        Raises
        ------
        InputError
            The Mach number is too high.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
        >>> model = lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> model.factor(LatticeSetting(0.2)) is model.factor(LatticeSetting(0.2))
        True
        """
        if not setting.mach <= LARGEST_MACH:
            raise InputError(
                f"mach = {setting.mach:g} is too high for a vortex lattice, which knows no shocks; it must be at most "
                f"{LARGEST_MACH:g}. Solve the flow on a mesh instead."
            )
        if setting not in self._matrices:
            if len(self._matrices) > MOST_MATRICES:
                self._matrices.clear()
            self._matrices[setting] = Factor.of(self.lattice, self.options, setting, self.bodies)
        return self._matrices[setting]

    @functools.cached_property
    def _bases(self) -> dict:
        return {}

    def basis(self, setting: LatticeSetting, angles: tuple[float, ...], derivatives: bool = False) -> Basis:
        """Solutions for unit motions in a setting with deflections [deg], made once.

        Parameters
        ----------
        setting : LatticeSetting
            Mach number, wakes and ground.
        angles : tuple of float
            Deflections of all controls [deg].
        derivatives : bool, optional
            Whether their derivatives with the deflections are solved for as well.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
        >>> model = lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
        >>> model.basis(LatticeSetting(0.2), ()).circulation.shape
        (576, 6)
        """
        key = (setting, tuple(angles), derivatives)
        if key not in self._bases:
            if len(self._bases) > MOST_BASES:
                self._bases.clear()
            controls = tuple(range(len(angles))) if derivatives else ()
            deflected, centre = np.asarray(angles, dtype=float), np.asarray(self.reference.point)
            self._bases[key] = Basis.of(self.lattice, self.factor(setting), centre, deflected, controls)
        return self._bases[key]


def lattice_model(
    aircraft: Aircraft, options: LatticeOptions | None = None, reference: Reference | None = None
) -> VortexLattice:
    """Make the vortex lattice of an aircraft.

    Parameters
    ----------
    aircraft : Aircraft
        The aircraft.
    options : LatticeOptions, optional
        How fine, and which parts.
    reference : Reference, optional
        Reference quantities; without it those of the aircraft.

    Raises
    ------
    InputError
        No part could carry lift.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
    >>> print(lattice_model(zy.Aircraft(name="plank", parts={"wing": wing})))
    vortex lattice of plank: 576 panels in 48 strips of wing
    """
    options = options or LatticeOptions()
    lattice, reference = build_lattice(aircraft, options), reference or aircraft.reference_quantities()[0]
    bodies = SlenderBodies.of(aircraft, options.parts) if options.bodies else None
    return VortexLattice(lattice, reference, options, aircraft.name, _notes(aircraft, options), bodies)


def _notes(aircraft: Aircraft, options: LatticeOptions) -> tuple[str, ...]:
    """Sentences on halves of a wing that begin beside a body: nothing is carried over between them."""
    out = []
    for name, wing in lifting_parts(aircraft, options.parts, options.bodies).items():
        if not wing.mirrored and (not wing.symmetric or wing.centred):
            continue
        places = np.array([station.position for station in wing.sections])
        y = (places @ attitude_matrix(wing.roll, wing.pitch, wing.yaw).T)[:, 1] + wing.position[1]
        root, tip = float(np.abs(y).min()), float(np.abs(y).max())
        if CLOSED_ROOT * tip < root < OPEN_ROOT * tip:
            out.append(
                f"the halves of {name!r} begin at y = {root:.3g} m, and no lift is carried over between them: CL is "
                f"too low by the lift on the body there; let the wing begin at y = 0"
            )
    return tuple(out)
