"""A solved flow and everything one can ask of it."""

import functools
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zephyrum._core.validation import choice, number
from zephyrum.conditions import Freestream, Reference
from zephyrum.errors import InputError
from zephyrum.flow import History, Numerics
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.gas_model import GasModel, Scales
from zephyrum.flow.physics.turbulence import VISCOUS_MODELS
from zephyrum.mesh import Mesh, write_mesh
from zephyrum.results.boundary_layer import boundary_layer_table, profile_table
from zephyrum.results.far_field_drag import DragRegions, FarFieldDrag, drag_columns, far_field_drag
from zephyrum.results.forces import Forces, wall_forces
from zephyrum.results.iso_surfaces import iso_surface, rotation_quantities, velocity_gradients
from zephyrum.results.result_checks import COARSE_WALL, extremes, implausibilities, result_warnings
from zephyrum.results.section_cuts import STRIP_COUNT, SpanLoading, cut_table, span_loading
from zephyrum.results.skin_friction import SkinFrictionLines, skin_friction_lines
from zephyrum.results.solution_writer import save_solution
from zephyrum.results.streamlines_2d import separation_bubbles, stream_function
from zephyrum.results.streamlines_3d import Streamlines, trace_streamlines
from zephyrum.results.surface_quantities import surface_table, turning_points
from zephyrum.results.thrust_account import ThrustAccount, thrust_account, thrust_columns
from zephyrum.results.wake_survey import wake_drag
from zephyrum.solver import Run

LEAST_DRAG = 1e-3  # below ten counts the drag of an inviscid section is mesh error: no L/D is given


@dataclass(frozen=True, eq=False)
class Solution(Run):
    """One solved condition on one mesh.

    Notes
    -----
    outcome: "converged" (residuals down and forces at rest), "implausible" (that, but with values that no such flow
    has), "oscillating" (neither, but bounded) or "failed"; `reason` says why. Coefficients refer to `reference`; the
    mesh error of a single solution is unknown until `refine` finds it. `case` is everything that it depends on.

    Examples
    --------
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
    >>> solution = zy.solve(mesh, zy.Freestream(mach=0.3, alpha=2.0), numerics=zy.Numerics(residual_drop=3))
    >>> solution.forces.CL > 0.1
    True
    """

    @classmethod
    def of(cls, run: Run) -> "Solution":
        """Solution of a finished run.

        Parameters
        ----------
        run : Run
            The run.
        """
        return cls(run.case, run.flow, run.notes, run.fallback)

    @property
    def mesh(self) -> Mesh:
        """The mesh."""
        return self.case.mesh

    @property
    def air(self) -> Freestream:
        """The freestream, as it meets the body."""
        return self.case.air

    @property
    def reference(self) -> Reference:
        """The reference quantities."""
        return self.case.reference

    @property
    def model(self) -> str:
        """The flow model."""
        return self.case.model

    @property
    def numerics(self) -> Numerics:
        """The numerics."""
        return self.case.numerics

    def __repr__(self) -> str:
        found = ", ".join(f"{name} {getattr(self.forces, name):.4g}" for name in ("CL", "CD", "CM"))
        return (
            f"<Solution, {self.model}, {self.air.describe()}, {self.mesh.n_cells:,} cells: {found}; {self.outcome}, "
            f"{self.reason}>"
        )

    @property
    def outcome(self) -> str:
        """converged, implausible, oscillating or failed."""
        return Outcome.IMPLAUSIBLE if self.implausible else self.flow.outcome

    @property
    def reason(self) -> str:
        """One sentence on the outcome."""
        if self.implausible:
            return f"{self.flow.reason}, implausible: {'; '.join(self.implausible)}"
        return self.flow.reason

    @functools.cached_property
    def implausible(self) -> tuple[str, ...]:
        """What a converged solution shows that no such flow has: what must not be used as a result. Empty if nothing,
        or if it did not converge.
        """
        return tuple(implausibilities(self)) if self.flow.outcome == Outcome.CONVERGED else ()

    @property
    def history(self) -> History:
        """Residuals and coefficients of every step."""
        return self.flow.history

    @property
    def wall_pressure(self) -> np.ndarray:
        """Gauge pressure (n_boundary,) on the boundary faces [Pa]."""
        return self.flow.boundary_pressure * self.stress_unit

    @property
    def stress_unit(self) -> float:
        """What one scaled unit of pressure is worth [Pa]: Cp is that of the Mach number computed at."""
        return 2.0 * self.air.dynamic_pressure / self.computed.mach**2

    @property
    def computed(self) -> Freestream:
        """The freestream computed with, in the axes of the mesh: `air` itself unless its Mach number is very low or the
        body is turned.
        """
        return self.case.computed

    @property
    def forces(self) -> Forces:
        """Forces and coefficients; `.about(point)` moves the moment point.

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
        >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
        >>> solution.forces.CL > 0.0
        True
        """
        return self._forces

    @functools.cached_property
    def _forces(self) -> Forces:
        return wall_forces(self.mesh, self.wall_pressure, self.wall_friction, self.air, self.reference)

    @property
    def viscous(self) -> bool:
        """Whether the model has friction."""
        return self.model != "euler"

    @property
    def law(self) -> GasModel:
        """The gas in scaled units, with the viscosity that was computed with."""
        return Scales.law(self.computed, self.reference.chord)

    @property
    def reynolds(self) -> float:
        """Reynolds number on the chord that was computed with [-]; infinite without friction."""
        return self.case.reynolds if self.viscous else float("inf")

    @property
    def wall_friction(self) -> np.ndarray | None:
        """Friction (n_boundary, 3) on the boundary faces [Pa]; None without friction.

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, first_height=5e-3)
        >>> solution = solve(mesh, Freestream(mach=0.3, reynolds=500.0), "laminar")
        >>> solution.wall_friction.shape[1]
        3
        """
        if not self.viscous:
            return None
        area = self.mesh.face_area[self.mesh.n_interior :]
        normal = area / np.linalg.norm(area, axis=1)[:, None]
        return (self.flow.traction - self.flow.boundary_pressure[:, None] * normal) * self.stress_unit

    @property
    def wall_heat(self) -> np.ndarray:
        """Heat flux (n_boundary,) from isothermal walls to the air [W/m^2]."""
        unit = self.air.density * (self.air.speed / self.computed.mach) * self.air.sound_speed**2
        return self.flow.heat * unit

    @property
    def y_plus(self) -> np.ndarray | None:
        """y+ (n_boundary,) of the height of the first cell (twice its centroid's distance); None without friction."""
        if not self.viscous:
            return None
        ni, law = self.mesh.n_interior, self.law
        cell = self.mesh.left[ni:]
        tau = np.linalg.norm(self.wall_friction, axis=1) / self.stress_unit
        T = self.flow.q[cell, 4]
        rho = (1.0 + law.gamma * self.flow.boundary_pressure) / T
        mu = law.viscosity_at(T)
        return np.sqrt(tau * rho) * 2.0 * self.mesh.wall_distance[cell] / mu

    def wall_out_of_range(self, limit: float = COARSE_WALL) -> tuple[float, float]:
        """Fraction of the wall's area with too high a first cell.

        Parameters
        ----------
        limit : float, optional
            Largest y+.

        Returns
        -------
        fraction : float
        largest : float
            Largest y+.

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, first_height=5e-3)
        >>> solution = solve(mesh, Freestream(mach=0.3, reynolds=500.0), "laminar")
        >>> fraction, largest = solution.wall_out_of_range()
        >>> fraction
        0.0
        """
        self._refuse_inviscid("has no y+")
        faces = self.mesh.faces_of("wall")
        area, high = np.linalg.norm(self.mesh.face_area[faces], axis=1), self.y_plus[faces - self.mesh.n_interior]
        return float(area[high > limit].sum() / area.sum()), float(high.max())

    @property
    def wall_of_first_order(self) -> float:
        """Fraction of the wall's area at cells that lost their slopes to converge."""
        faces = self.mesh.faces_of("wall")
        area = np.linalg.norm(self.mesh.face_area[faces], axis=1)
        return float(area[self.flow.first_order_cells[self.mesh.left[faces]]].sum() / max(area.sum(), 1e-300))

    def surface(self):
        """DataFrame along the surface: part, side, x, y, z, x/c, Cp, and in viscous flow Cf (signed) and y+.

        With isothermal walls also "heat flux" [W/m^2], positive from the wall to the air.

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
        >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
        >>> list(solution.surface().columns)
        ['part', 'side', 'x', 'y', 'z', 'x/c', 'Cp']
        """
        return self._surface.copy()

    @functools.cached_property
    def _surface(self):
        heat = self.wall_heat if self.flow.heat.any() else None
        return surface_table(
            self.mesh, self.wall_pressure, self.air, self.reference, self.wall_friction, self.y_plus, heat
        )

    def cp(self):
        """DataFrame of Cp along the surface: part, side, x, y, z, x/c, Cp.

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
        >>> solution = zy.solve(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3))
        >>> bool(0.9 < solution.cp()["Cp"].max() < 1.2)
        True
        """
        return self._surface.drop(columns=["Cf", "y+", "heat flux"], errors="ignore")

    def cuts(self, at: float | list[float], part: str | None = None, axis: str = "y"):
        """Pressures in sections of a body in space.

        Parameters
        ----------
        at : float or list[float]
            Positions [m].
        part : str, optional
            Wall; all without it.
        axis : str, optional
            "y" (sections of wings) or "x" (rings of bodies).

        Returns
        -------
        pandas.DataFrame
            A row for every triangle cut: part, loop, x, y, z [m], "fraction" of the local chord from its foremost
            point, side, Cp (and Cf), the local "chord" [m], and its part of the force coefficients cx, cz of the
            section, whose sum they are. Cp and Cf are linear in each triangle and continuous along the section, but at
            sharp edges.

        Examples
        --------
        >>> import zephyrum as zy
        >>> solution = zy.load_solution("wing.npz")  # doctest: +SKIP
        >>> solution.cuts([0.5, 1.5])[["part", "fraction", "Cp"]]  # doctest: +SKIP
        """
        return cut_table(self, at, part, axis)

    def span_loading(self, strips: int = STRIP_COUNT, part: str | None = None) -> SpanLoading:
        """Lift along the span, and the induced drag that belongs to it.

        Parameters
        ----------
        strips : int, optional
            Number of strips.
        part : str, optional
            Wall; all without it.

        Examples
        --------
        >>> import zephyrum as zy
        >>> solution = zy.load_solution("wing.npz")  # doctest: +SKIP
        >>> solution.span_loading(strips=24).induced  # doctest: +SKIP
        """
        return span_loading(self, strips, part)

    def wake_drag(self, at: float | None = None):
        """Drag seen in planes behind a body in space.

        Parameters
        ----------
        at : float, optional
            x of the plane [m]; four planes up to a reference chord behind the body without it.

        Returns
        -------
        pandas.DataFrame
            "induced CD" of the trailing vortices, "entropy CD" of friction, shocks and, in smooth inviscid flow, of the
            mesh's error; their sum.

        Notes
        -----
        "induced CD" of the trailing vortices, "entropy CD" of friction, shocks and, in smooth inviscid flow, of the
        mesh's error; their sum.

        Examples
        --------
        >>> import zephyrum as zy
        >>> solution = zy.load_solution("wing.npz")  # doctest: +SKIP
        >>> solution.wake_drag()  # doctest: +SKIP
        """
        return wake_drag(self, at)

    def far_field_drag(self, regions: DragRegions | None = None) -> FarFieldDrag:
        """Drag by what the flow loses: induced, wave, viscous, and the spurious drag of the mesh, which is left out.

        Parameters
        ----------
        regions : DragRegions, optional
            Where entropy is taken to be produced by what.

        Raises
        ------
        InputError
            In supersonic streams and for wedges of bodies of revolution.

        Notes
        -----
        Of sections and of meshes in space. On coarse meshes it is much closer to the drag of fine ones than that of the
        surface pressures: see docs/theory/error_estimates.md.

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=16, topology="O")
        >>> solution = zy.solve(mesh, zy.Freestream(mach=0.3, alpha=2.0))
        >>> drag = solution.far_field_drag()
        >>> abs(drag.CD) < abs(drag.near_field)
        True
        """
        return self._far_field_drag if regions is None else far_field_drag(self, regions)

    def thrust_account(self) -> ThrustAccount:
        """Thrust, ram drag, additive drag and drag of a body with exhausts or intakes.

        Raises
        ------
        InputError
            The case has neither.

        Notes
        -----
        The coefficients of `forces` are those of the walls alone.

        Examples
        --------
        >>> import zephyrum as zy
        >>> solution = zy.load_solution("rocket.npz")  # doctest: +SKIP
        >>> solution.thrust_account().net_thrust  # doctest: +SKIP
        """
        return thrust_account(self)

    @functools.cached_property
    def _far_field_drag(self) -> FarFieldDrag:
        return far_field_drag(self)

    def turning_points(self):
        """DataFrame of stagnation, separation and reattachment points: part, side, kind, x/c and its uncertainty.

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, first_height=5e-3)
        >>> solution = solve(mesh, Freestream(mach=0.3, reynolds=500.0), "laminar")
        >>> solution.turning_points()["kind"].tolist()[0]
        'stagnation'
        """
        if not self.viscous:
            raise InputError("inviscid flow does not separate; solve with model='laminar', 'sa' or 'sst'.")
        if not self.mesh.planar:
            raise InputError(
                "turning points are those of sections and axisymmetric bodies; in space look at skin_friction_lines()."
            )
        return turning_points(self._surface)

    def boundary_layer(self):
        """DataFrame along a section: part, side, x/c, delta99, displacement and momentum thickness [m], shape
        factor.

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, first_height=5e-3)
        >>> solution = solve(mesh, Freestream(mach=0.3, reynolds=500.0), "laminar")
        >>> table = solution.boundary_layer()
        >>> list(table.columns)[:4]
        ['part', 'side', 'x/c', 'delta99']
        """
        self._refuse_inviscid("has no boundary layer")
        return boundary_layer_table(self.mesh, self.fields()["velocity"], self._surface, self.reference, self.air.speed)

    def profile(self, position: float, side: str = "upper"):
        """Velocity profile of the boundary layer.

        Parameters
        ----------
        position : float
            Chord fraction.
        side : str, optional
            "upper" or "lower".

        Returns
        -------
        pandas.DataFrame
            y [m], u [m/s], u/ue.

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, first_height=5e-3)
        >>> solution = solve(mesh, Freestream(mach=0.3, reynolds=500.0), "laminar")
        >>> list(solution.profile(0.5).columns)
        ['y', 'u', 'u/ue']
        """
        self._refuse_inviscid("has no boundary layer")
        choice("side", side, ("upper", "lower"))
        number("position", position, 0.0, 1.0)
        made = profile_table(self.mesh, self.fields()["velocity"], self._surface, self.reference, position, side)
        if made is None:
            raise InputError(
                f"position = {position:g} on the {side} side: no boundary layer is found there; try another place."
            )
        return made

    def _refuse_inviscid(self, why: str) -> None:
        if not self.viscous:
            raise InputError(f"inviscid flow {why}; solve with model='laminar', 'sa' or 'sst'.")
        if not self.mesh.planar and "layer" in why:
            raise InputError("boundary-layer tables are for sections and axisymmetric bodies only.")

    def fields(self) -> dict[str, np.ndarray]:
        """Cell fields in SI: pressure [Pa], velocity (n, 3) [m/s], temperature [K], density [kg/m^3], mach, cp.

        With a turbulence model also the eddy viscosity over the molecular one.

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
        >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
        >>> sorted(solution.fields())
        ['cp', 'density', 'mach', 'pressure', 'temperature', 'velocity']
        """
        q, air = self.flow.q, self.air
        pressure = air.pressure + q[:, 0] * self.stress_unit
        temperature = q[:, 4] * air.temperature
        velocity = q[:, 1:4] * air.speed / self.computed.mach
        out = {
            "pressure": pressure,
            "velocity": velocity,
            "temperature": temperature,
            "density": pressure / (air.gas.R * temperature),
            "mach": np.linalg.norm(q[:, 1:4], axis=1) / np.sqrt(q[:, 4]) * air.mach / self.computed.mach,
            "cp": q[:, 0] / (0.5 * self.computed.mach**2),
        }
        if self.model in VISCOUS_MODELS:
            out["eddy viscosity ratio"] = self.flow.eddy_ratio
        return out

    def vorticity(self) -> np.ndarray:
        """(n,) rate of rotation about y in the cells [1/s], nose-up positive (twice the angular velocity).

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
        >>> solution = zy.solve(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3))
        >>> solution.vorticity().shape == (mesh.n_cells,)
        True
        """
        slopes = velocity_gradients(self)
        return slopes[:, 0, 2] - slopes[:, 2, 0]

    def rotation_quantities(self) -> dict[str, np.ndarray]:
        """Cell fields (n,) of rotation: "vorticity", its size over speed and chord, and "q", the Q criterion over their
        square (positive in cores).

        Examples
        --------
        >>> import zephyrum as zy
        >>> solution = zy.load_solution("wing.npz")  # doctest: +SKIP
        >>> solution.rotation_quantities()["q"].max()  # doctest: +SKIP
        """
        return rotation_quantities(self)

    def iso_surface(self, name: str, level: float):
        """Surface on which a field has a value, in space.

        Parameters
        ----------
        name : str
            Field of `fields` or `rotation_quantities`.
        level : float
            Value.

        Returns
        -------
        surface : Surface
        cell : (t,) array
            Cell of each triangle.

        Raises
        ------
        InputError
            The field has this value nowhere.

        Notes
        -----
        Normals point to lower values.

        Examples
        --------
        >>> import zephyrum as zy
        >>> solution = zy.load_solution("wing.npz")  # doctest: +SKIP
        >>> solution.iso_surface("q", 1.0)  # doctest: +SKIP
        """
        return iso_surface(self, name, level)

    def streamlines(self, seeds: list[list] | None = None, length: float | None = None) -> Streamlines:
        """Streamlines in space, both ways from their seeds.

        Parameters
        ----------
        seeds : list[list], optional
            Positions (k, 3) [m]; before the body without them.
        length : float, optional
            Largest length either way [m]; three bodies without it.

        Examples
        --------
        >>> import zephyrum as zy
        >>> solution = zy.load_solution("wing.npz")  # doctest: +SKIP
        >>> solution.streamlines([[-1.0, 0.5, 0.0]], length=5.0)  # doctest: +SKIP
        """
        return trace_streamlines(self, seeds, length)

    def skin_friction_lines(self, spacing: float | None = None) -> SkinFrictionLines:
        """Lines of friction on the surface in space, as oil would draw them; without friction those of the velocity at
        the wall.

        Parameters
        ----------
        spacing : float, optional
            Distance of the lines [m]; 1.2 % of the body without it.

        Notes
        -----
        They cover the body evenly.

        Examples
        --------
        >>> import zephyrum as zy
        >>> solution = zy.load_solution("wing.npz")  # doctest: +SKIP
        >>> solution.skin_friction_lines(spacing=0.05)  # doctest: +SKIP
        """
        return skin_friction_lines(self, spacing)

    def stream_function(self) -> np.ndarray:
        """(n_points,) mass between a point on the front side and the wall over that through a chord; lines are
        streamlines.

        See `results.streamlines`; of planar flow only.

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
        >>> solution = zy.solve(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3))
        >>> solution.stream_function().ndim
        1
        """
        if not self.mesh.planar:
            raise InputError("a stream function exists in two dimensions and about an axis only.")
        fields = self.fields()
        flow = fields["density"][:, None] * fields["velocity"]
        return stream_function(self.mesh, flow) / self._through_chord

    @property
    def _through_chord(self) -> float:
        across = np.pi * self.reference.chord**2 if self.mesh.wedge else self.reference.chord * self.mesh.depth
        return self.air.density * self.air.speed * across

    def separated(self, stream: np.ndarray | None = None) -> np.ndarray:
        """Points in zones of closed streamlines, which are separation bubbles.

        Parameters
        ----------
        stream : (n_points,) array, optional
            Stream function, if known.

        Returns
        -------
        (n_points,) array of bool

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, first_height=5e-3)
        >>> solution = solve(mesh, Freestream(mach=0.3, reynolds=500.0), "laminar")
        >>> bool(solution.separated().any())
        False
        """
        return separation_bubbles(self.mesh, self.stream_function() if stream is None else stream, 1.0)

    def amplitude(self) -> dict[str, tuple[float, float]]:
        """(mean, half of peak to peak) of CL, CD, CM over the last half of the fine-mesh history (at most 40 steps).

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
        >>> solution = zy.solve(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3))
        >>> sorted(solution.amplitude())
        ['CD', 'CL', 'CM']
        """
        out = {}
        for name in ("CL", "CD", "CM"):
            values = self.history.column(name, 0)
            tail = values[-max(1, min(40, len(values) // 2)) :]
            out[name] = (float(tail.mean()), float(0.5 * np.ptp(tail)))
        return out

    def extremes(self):
        """DataFrame of the extremes of the fields with their positions, the physical bound of each, and whether it
        holds.

        Bounds (inviscid, steady): total temperature and total pressure of the freestream limit temperature, pressure
        and Cp from above (total pressure only downstream of no shock, so as an upper bound); vacuum from below.

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
        >>> solution = zy.solve(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3))
        >>> len(solution.extremes()) > 0
        True
        """
        return extremes(self)

    def checks(self) -> list[str]:
        """Sentences on what looks wrong, with the likely cause; empty if nothing does.

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
        >>> solution = zy.solve(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3))
        >>> isinstance(solution.checks(), list)
        True
        """
        return result_warnings(self)

    def row(self) -> dict:
        """The row of this point in a polar.

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
        >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
        >>> solution.row()["mach"]
        0.3
        """
        c, amplitude = self.forces.coefficients(), self.amplitude()
        drop = self.history.drop()
        worst = float(drop[-1].max()) if len(drop) else 1.0
        fields = self.fields()
        drag = drag_columns(self)
        known = drag["CD_far"] if drag["CD_far"] == drag["CD_far"] else c["CD"]
        friction = {}
        if self.viscous:
            friction = {
                "CD_pressure": self.forces.coefficients(cause="pressure")["CD"],
                "CD_friction": self.forces.coefficients(cause="friction")["CD"],
                "y_plus_max": float(self._surface["y+"].max()),
            }
        return {
            "mach": self.air.mach,
            "alpha": self.air.alpha,
            "reynolds": self.reynolds if self.viscous else self.air.reynolds,
            **{k: c[k] for k in ("CL", "CD", "CM", "CX", "CZ")},
            **drag,
            "L/D": c["CL"] / known if known > LEAST_DRAG else float("nan"),
            "outcome": self.outcome,
            "residual_drop": round(-np.log10(max(worst, 1e-16)), 2),
            "drift": self.history.drift(),
            "numerics": self.fallback or "as asked",
            "CL_amplitude": amplitude["CL"][1] if self.flow.outcome != Outcome.CONVERGED else 0.0,
            "CD_amplitude": amplitude["CD"][1] if self.flow.outcome != Outcome.CONVERGED else 0.0,
            **friction,
            **thrust_columns(self),
            "cp_min": float(fields["cp"].min()),
            "mach_max": float(fields["mach"].max()),
            "model": self.model,
            "cells": self.mesh.n_cells,
            "mesh": self.mesh.fingerprint,
            "case": self.case.fingerprint,
            "steps": int(self.history.column("step", 0)[-1]),
            "seconds": round(self.flow.seconds, 2),
            "reason": self.reason,
        }

    def write(self, path: str | Path) -> Path:
        """Write the fields on the mesh to a .vtu or .cgns file.

        Parameters
        ----------
        path : path
            File; its ending picks the format.

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
        >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
        >>> import tempfile
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     solution.write(f"{folder}/flow.vtu").name
        'flow.vtu'
        """
        return write_mesh(self.mesh, path, self.fields())

    def save(self, path: str | Path, mesh_file: str | Path | None = None) -> Path:
        """Write case, last state and history to one .npz file, atomically; `load_solution(path)` reads it.

        Parameters
        ----------
        path : path
            File.
        mesh_file : path, optional
            A mesh kept by `store_mesh`, to which the file then only refers; without it the mesh is inside.

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
        >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
        >>> import tempfile
        >>> from zephyrum import load_solution
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     again = load_solution(solution.save(f"{folder}/point.npz"))
        >>> again.forces.CL == solution.forces.CL
        True
        """
        return save_solution(self, path, mesh_file)
