"""Everything that a solution depends on, in one frozen object with one fingerprint.

Verified by tests/test_case.py.
"""

import functools
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from zephyrum._core.fingerprint import canonical, differences, fingerprint
from zephyrum._core.validation import choice, refuse_unknown, set_fields, taken
from zephyrum.conditions import Freestream, Reference
from zephyrum.errors import InputError
from zephyrum.flow import MODELS, FlowProblem, Numerics
from zephyrum.flow.discretization.disk_sources import DiskSources
from zephyrum.flow.physics.gas_model import Scales
from zephyrum.flow.physics.turbulence import VISCOUS_MODELS
from zephyrum.geometry import PropellerDisk
from zephyrum.mesh import Mesh
from zephyrum.mesh.layer_spacing import first_height
from zephyrum.solver.powered import Powered, powered_forecast, powered_groups, powered_mesh, powered_notes
from zephyrum.solver.preflight import preflight_warnings, turbulence_notes
from zephyrum.solver.propellers import named_propellers, propeller_notes, propeller_sources
from zephyrum.solver.walls import GROUNDS, Wall, WallRows, named_walls, wall_rows

FORMAT = 2  # of the description: raised when a change of the solver makes earlier solutions stale
LEAST_MACH = 0.05  # below it this compressible solver loses accuracy: it computes there at equal Reynolds number
COARSEST_WALL = 10.0  # y+ of the first cell above which meshes are refused
SAME_LENGTH = 0.01  # relative difference of two lengths that both claim to be that of the Reynolds number


@dataclass(frozen=True, eq=False)
class Case:
    """One condition about one mesh, complete and checked.

    Parameters
    ----------
    mesh : Mesh
    air : Freestream
    model : str
        "euler", "laminar", "sa" or "sst".
    reference : Reference, optional
        Typed reference quantities; without it those measured by the mesh generator.
    walls : Wall or mapping of names to Wall, optional
        What the walls do; at rest, adiabatic, smooth and fully turbulent without it.
    numerics : Numerics
        Numerics.
    ground : str, optional
        What a ground in the mesh does: "belt" (moves with the wind, the default with friction), "still" or "slip" (no
        friction, the only choice with model "euler").
    powered : mapping of names to Exhaust or Intake, optional
        Walls that are exhausts or intakes of engines; the mesh of the case has these roles.
    propellers : mapping of names to PropellerDisk, optional
        Propeller disks; mirror images get names of their own.

    Raises
    ------
    InputError
        For what cannot be solved, with the name of the argument and the remedy.

    Examples
    --------
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 64, 16, topology="O")
    >>> case = zy.Case(mesh, zy.Freestream(mach=0.3, alpha=2.0))
    >>> len(case.fingerprint), case.turned(alpha=4.0).differences(case)
    (16, ['freestream.alpha'])
    """

    mesh: Mesh
    air: Freestream
    model: str = "euler"
    reference: Reference | None = None
    walls: Wall | Mapping[str, Wall] | None = None
    numerics: Numerics = field(default_factory=Numerics)
    ground: str | None = None
    powered: Mapping[str, Powered] | None = None
    propellers: Mapping[str, PropellerDisk] | None = None

    def __post_init__(self) -> None:
        taken("mesh", self.mesh, Mesh)
        taken("air", self.air, Freestream)
        choice("model", self.model, MODELS)
        taken("numerics", self.numerics, Numerics)
        self._set_powered()
        set_fields(self, reference=self._checked_reference(), ground=self._checked_ground())
        self._refuse_directions()
        self._refuse_turbulence()
        set_fields(self, walls=named_walls(self.walls, self.mesh, self.model))
        if self.model in VISCOUS_MODELS or self.model == "laminar":
            self._refuse_other_length()
        if self.model in VISCOUS_MODELS:
            self._refuse_without_layers()
        self.wall_rows(self.mesh)
        powered_forecast(self)
        if self.disk_sources is not None:
            self.disk_sources(self.mesh)  # refuses a mesh that is too coarse for them

    @classmethod
    def of(cls, mesh: Mesh, air: Freestream, **conditions) -> "Case":
        """Make a case from the keyword arguments of a public call.

        Parameters
        ----------
        mesh : Mesh
        air : Freestream
        **conditions
            Other fields; None stands for the default.

        Raises
        ------
        InputError
            For a name that is no field, and for what cannot be solved.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
        >>> Case.of(mesh, Freestream(mach=0.3), model="euler").model
        'euler'
        """
        refuse_unknown(cls, conditions, "a case")
        return cls(mesh, air, **{name: value for name, value in conditions.items() if value is not None})

    def __getstate__(self) -> dict:
        return {name: self.__dict__[name] for name in self.__dataclass_fields__}  # nothing that was derived

    def _set_powered(self) -> None:
        """Check what engines do, and give their faces in the mesh the roles for it."""
        powered = {} if self.powered is None else taken("powered", self.powered, Mapping)
        set_fields(self, powered={name: powered[name] for name in sorted(powered)})
        if (powered or self.propellers) and self.air.mach < LEAST_MACH:
            raise InputError(
                f"mach = {self.air.mach:g}: a flow with exhausts, intakes or propellers is not computed below Mach "
                f"{LEAST_MACH:g}; give that Mach number."
            )
        set_fields(self, mesh=powered_mesh(self.mesh, self.powered))
        set_fields(self, propellers=named_propellers(self.propellers, self.mesh))

    # -- what is checked -----------------------------------------------------------------------------------------------
    def _checked_reference(self) -> Reference:
        if self.reference is not None:
            return taken("reference", self.reference, Reference)
        if self.mesh.reference is None:
            raise InputError(
                "the mesh carries no measured reference; give reference=Reference(area, chord, span, point)."
            )
        return self.mesh.reference

    def _checked_ground(self) -> str | None:
        if not len(self.mesh.faces_of("ground")):
            if self.ground is not None:
                raise InputError(f"ground = {self.ground!r}, but the mesh has no ground; mesh with ground=<height z>.")
            return None
        usual = "slip" if self.model == "euler" else "belt"
        kind = usual if self.ground is None else choice("ground", self.ground, GROUNDS)
        if self.model == "euler" and kind != "slip":
            raise InputError(
                f"ground = {kind!r}: model 'euler' has no friction, so its ground can only be 'slip'; leave it out."
            )
        return kind

    def _refuse_directions(self) -> None:
        mesh, air = self.mesh, self.air
        if not len(mesh.faces_of("wall")):
            raise InputError("the mesh has no boundary with the role 'wall', so there is nothing to take forces of.")
        if not air.mach > 0.0:
            raise InputError(f"mach = {air.mach:g}: the air is at rest; give a speed.")
        if (mesh.wedge or mesh.sectors > 1) and (abs(air.alpha) > 1e-9 or abs(air.beta) > 1e-9):
            kind = "an axisymmetric mesh" if mesh.wedge else "one of several equal sectors"
            raise InputError(
                f"alpha = {air.alpha:g}, beta = {air.beta:g} deg: flow about {kind} runs along its axis; "
                "use alpha = beta = 0, or a mesh of the whole body."
            )
        if mesh.dimension == 2 and abs(air.beta) > 1e-9:
            raise InputError(f"beta = {air.beta:g} deg has no meaning on a two-dimensional mesh; leave it out.")
        if mesh.mirrored and abs(air.beta) > 1e-9:
            raise InputError(
                f"beta = {air.beta:g} deg blows across the symmetry plane of a half model; mesh the whole one (half = "
                f"False)."
            )
        if self.ground is not None and abs(air.alpha - mesh.attitude) > 1e-6:
            raise InputError(
                f"alpha = {air.alpha:g} deg, but the mesh has a level ground with the body at {mesh.attitude:g} deg: "
                f"the wind would blow "
                f"through the ground; mesh the body at this attitude with attitude = {air.alpha:g}, one mesh for each "
                f"alpha."
            )
        if self.ground is not None and abs(air.alpha) > 80.0:
            raise InputError(f"alpha = {air.alpha:g} deg over a level ground is out of range; give at most 80 deg.")

    def _refuse_turbulence(self) -> None:
        """InputError if the turbulence of the stream has no effect."""
        if self.air.turbulence is not None and self.model not in VISCOUS_MODELS:
            raise InputError(
                f"turbulence of the stream has no effect with model {self.model!r}; use 'sa' or 'sst', or leave it out."
            )

    def _refuse_other_length(self) -> None:
        """InputError if the Reynolds number belongs to another length than the chord that it would be taken on."""
        air, chord = self.air, self.reference.chord
        if not air.similarity or "pressure" in air.assumed:
            return
        if abs(air.length / chord - 1.0) > SAME_LENGTH:
            raise InputError(
                f"reynolds = {air.reynolds:.4g} belongs to a length of {air.length:.4g} m in air of this density, "
                f"speed and viscosity, but the reference "
                f"chord is {chord:.4g} m: leave reynolds out (it is {air.reynolds * chord / air.length:.4g} on the "
                f"chord), or give its length."
            )

    def _refuse_without_layers(self) -> None:
        """InputError if the first cells are far too high for a model that resolves the wall layer."""
        mesh, chord = self.mesh, self.reference.chord
        faces = mesh.faces_of("wall")
        high = 2.0 * float(np.median(mesh.body_distance[mesh.left[faces]])) / chord
        fit = first_height(self.reynolds, 1.0)
        if high > COARSEST_WALL * fit:
            raise InputError(
                f"model {self.model!r} needs thin layers at the wall: the first cells are {high:.2g} chords high, y+ "
                f"about {high / fit:.0f}; "
                f"mesh with y_plus = 1 (first_height = {fit:.2g} chords at Reynolds number {self.reynolds:.2g})."
            )

    @property
    def driven(self) -> bool:
        """Whether there are exhausts, intakes or propeller disks.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3)).driven
        False
        """
        return bool(self.powered or self.propellers)

    # -- what is computed with -----------------------------------------------------------------------------------------
    @functools.cached_property
    def computed(self) -> Freestream:
        """The freestream computed with, in the axes of the mesh: turned with the body, at Mach `LEAST_MACH` if the Mach
        number is lower.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
        >>> Case(mesh, Freestream(mach=0.001)).computed.mach == LEAST_MACH
        True
        """
        air = slowest_point(self.air, self.reference.chord)
        return air.turned(alpha=air.alpha - self.mesh.attitude) if self.mesh.attitude else air

    @property
    def reynolds(self) -> float:
        """Reynolds number on the reference chord that is computed with [-].

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8, first_height=1e-3)
        >>> round(Case(mesh, Freestream(mach=0.3, reynolds=1e5), "sa").reynolds)
        100000
        """
        chord = self.reference.chord
        return self.computed.mach * chord / Scales.law(self.computed, chord).viscosity

    @property
    def flow_mesh(self) -> Mesh:
        """The mesh with the roles that the flow solver sees: a ground without friction slips.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> case = Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3))
        >>> case.flow_mesh is case.mesh
        True
        """
        if self.ground == "slip" and self.model != "euler":
            return self._slipping
        return self.mesh

    @functools.cached_property
    def _slipping(self) -> Mesh:
        return self.mesh.with_roles(**{g.name: "slip" for g in self.mesh.groups if g.role == "ground"})

    def problem(self) -> FlowProblem:
        """What the flow solver takes of this case.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
        >>> Case(mesh, Freestream(mach=0.3)).problem().viscous
        False
        """
        return FlowProblem(
            self.flow_mesh,
            self.computed,
            self.reference,
            self.numerics,
            self.model,
            self.wall_rows,
            powered=powered_groups(self),
            disks=self.disk_sources,
        )

    @functools.cached_property
    def wall_rows(self) -> WallRows:
        """A function from a mesh of the family to what its walls do."""
        return wall_rows(self)

    @functools.cached_property
    def disk_sources(self) -> Callable[[Mesh], DiskSources | None] | None:
        """A function from a mesh of the family to the sources of the propeller disks; None without any."""
        return propeller_sources(self)

    @functools.cached_property
    def notes(self) -> tuple[str, ...]:
        """What the user should know before the run: changed conditions, and what looks wrong.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
        >>> Case(mesh, Freestream(mach=0.001)).notes[0][:20]
        'computed at Mach 0.0'
        """
        out = []
        if self.mesh.reference is not None:
            out = self.reference.disagreement(self.mesh.reference)
        if self.computed.mach > self.air.mach:
            out.append(
                f"computed at Mach {LEAST_MACH:g} instead of {self.air.mach:.3g} with the same Reynolds number: "
                f"pressure and friction "
                f"coefficients differ by about {100 * 0.25 * LEAST_MACH**2:.2g} %."
            )
        return (*out, *turbulence_notes(self), *powered_notes(self), *propeller_notes(self), *preflight_warnings(self))

    # -- identity ------------------------------------------------------------------------------------------------------
    @functools.cached_property
    def description(self) -> dict:
        """Canonical description of all that the solution depends on.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
        >>> sorted(Case(mesh, Freestream(mach=0.3)).description)
        ['format', 'freestream', 'ground', 'mesh', 'model', 'numerics', 'powered', 'propellers', 'reference', 'walls']
        """
        mesh, air = self.mesh, self.air
        return canonical(
            {
                "format": FORMAT,
                "mesh": {
                    "fingerprint": mesh.fingerprint,
                    "dimension": mesh.dimension,
                    "wedge": mesh.wedge,
                    "attitude": mesh.attitude,
                    "reference": mesh.reference and replace(mesh.reference, origin=""),
                },
                "freestream": {
                    "mach": air.mach,
                    "alpha": air.alpha,
                    "beta": air.beta,
                    "pressure": air.pressure,
                    "temperature": air.temperature,
                    "reynolds": air.reynolds,
                    "reynolds on chord": air.similarity,
                    "length": air.length,
                    "gas": air.gas,
                    "turbulence": air.turbulence,
                },
                "model": self.model,
                "walls": self.walls,
                "ground": self.ground,
                "powered": self.powered,
                "propellers": self.propellers,
                "reference": replace(self.reference, origin=""),
                "numerics": self.numerics,
            }
        )

    @functools.cached_property
    def fingerprint(self) -> str:
        """Sixteen hexadecimal digits that change with anything in `description`; the only key of stored solutions.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
        >>> case = Case(mesh, Freestream(mach=0.3))
        >>> len(case.fingerprint), case.fingerprint == case.turned(alpha=1.0).fingerprint
        (16, False)
        """
        return fingerprint(self.description)

    def differences(self, other: "Case | dict") -> list[str]:
        """Dotted names of what differs from another case.

        Parameters
        ----------
        other : Case or dict
            Case, or the description of one.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> case = Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3))
        >>> case.differences(case.turned(alpha=2.0))
        ['freestream.alpha']
        """
        return differences(self.description, other.description if isinstance(other, Case) else other)

    def turned(self, alpha: float | None = None, beta: float | None = None) -> "Case":
        """The same case at another attitude of the wind.

        Parameters
        ----------
        alpha, beta : float, optional
            Angle of attack and of sideslip [deg]; None keeps it.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
        >>> Case(mesh, Freestream(mach=0.3)).turned(alpha=2.0).air.alpha
        2.0
        """
        return replace(self, air=self.air.turned(alpha, beta))


def slowest_point(air: Freestream, chord: float) -> Freestream:
    """The stream that is computed: below Mach `LEAST_MACH` at that Mach number, with the Reynolds number kept.

    Parameters
    ----------
    air : Freestream
        Freestream.
    chord : float
        Length of the Reynolds number [m].

    Examples
    --------
    >>> slowest_point(Freestream(mach=0.001), 1.0).mach == LEAST_MACH
    True
    """
    if air.mach >= LEAST_MACH:
        return air
    reynolds = air.mach * chord / Scales.law(air, chord).viscosity
    return Freestream(
        mach=LEAST_MACH,
        reynolds=reynolds,
        length=chord,
        temperature=air.temperature,
        alpha=air.alpha,
        beta=air.beta,
        turbulence=air.turbulence,
        gas=air.gas,
    )
