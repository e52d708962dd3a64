"""The discrete problem on one mesh: residual and Jacobian, norms, and the cells demoted to first order.

Verified by tests/test_bent_layers.py and by the cases of validation/.
"""

import time
from dataclasses import dataclass

import numpy as np

from zephyrum.flow.discretization.entropy_production import entropy_production
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.jacobian import BoundaryCoupling, Jacobian
from zephyrum.flow.discretization.residual import FieldState, Residual
from zephyrum.flow.linear.block_ilu import Preconditioner
from zephyrum.flow.nonlinear.flow_problem import FlowProblem
from zephyrum.flow.nonlinear.history import History
from zephyrum.flow.nonlinear.intake_balance import IntakeBalance
from zephyrum.flow.nonlinear.start_up import log_sublayer_omega
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.boundary_conditions import (
    NO_SLIP,
    exterior_states,
    set_curved_wall_normals,
    set_powered_rows,
)
from zephyrum.flow.physics.gas_model import Scales
from zephyrum.flow.physics.turbulence import freestream_turbulence, typical_turbulence
from zephyrum.flow.physics.turbulence.sst import BETA

LIFT_STEP = 1e-4  # [-] change of CL for the derivative of the farfield states


@dataclass(frozen=True, eq=False)
class Evaluation:
    """All that an evaluation of the discrete problem gives.

    Attributes
    ----------
    state : FieldState
        States with gradients and closure.
    R : array (n, m)
        Residual.
    coefficients : array (3,)
        CL, CD, CM of the body.
    exterior : array (nb, m)
        States outside the boundary faces, corrected for the lift.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> problem = DiscreteProblem(FlowProblem(mesh, Freestream(mach=0.5), mesh.reference))
    >>> now = problem.evaluate(np.tile(problem.scales.freestream, (mesh.n_cells, 1)))
    >>> now.R.shape == now.q.shape
    True
    >>> len(now.coefficients)  # CL, CD, CM
    3
    """

    state: FieldState
    R: np.ndarray
    coefficients: np.ndarray
    exterior: np.ndarray

    @property
    def q(self) -> np.ndarray:
        """States (n, m)."""
        return self.state.q


@dataclass(frozen=True, eq=False)
class FlowState:
    """Result of a run.

    Attributes
    ----------
    q : array (n, m)
        Scaled states.
    boundary_pressure : array (nb,)
    traction : array (nb, 3)
        Force on a boundary face over its area.
    heat : array (nb,)
        Heat flux from a boundary face into the air.
    eddy_ratio : array (n,)
        Eddy over molecular viscosity.
    entropy_production : array (n,)
        Power lost to shocks and to the dissipation of the scheme; see `entropy_production`.
    mass_flux : array (nb,)
        Mass flux out of the domain through a boundary face over its area.
    first_order_cells : array (n,) of bool
        Cells that were demoted to first order.
    scales : Scales
    outcome : Outcome
    reason : str
    history : History
    seconds : float

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> flow = solve(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3, alpha=2.0)).flow
    >>> print(flow.outcome)
    converged
    >>> flow.q.shape
    (384, 5)
    """

    q: np.ndarray
    boundary_pressure: np.ndarray
    traction: np.ndarray
    heat: np.ndarray
    eddy_ratio: np.ndarray
    entropy_production: np.ndarray
    mass_flux: np.ndarray
    first_order_cells: np.ndarray
    scales: Scales
    outcome: Outcome
    reason: str
    history: History
    seconds: float


class DiscreteProblem:
    """One mesh of the family with everything that the iteration needs.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> problem = DiscreteProblem(FlowProblem(mesh, Freestream(mach=0.5), mesh.reference))
    >>> now = problem.evaluate(np.tile(problem.scales.freestream, (mesh.n_cells, 1)))
    >>> problem.norm(now.R) > 0.0
    True
    >>> problem.linearise(now)
    """

    def __init__(self, problem: FlowProblem, depth: int = 0, twin: "DiscreteProblem | None" = None):
        """depth: 0 for the finest mesh; twin: its face data and preconditioner are taken over if it has the same
        mesh.
        """
        self.problem, self.depth = problem, depth
        self.mesh, self.air, self.reference = problem.mesh, problem.air, problem.reference
        self.numerics = problem.numerics
        mesh, air, reference, model, exterior = self.mesh, self.air, self.reference, problem.model, problem.exterior
        self.law = Scales.law(air, reference.chord)
        self.scales = Scales.of(
            air,
            freestream_turbulence(model, self.law, air.mach, reference.chord, air.turbulence),
            typical_turbulence(model),
        )
        self.walls = problem.wall_data()
        twin = twin if twin is not None and twin.mesh is mesh else None
        self._second_order = (
            FaceData.of(mesh, self.numerics.reconstruction.gradient, model) if twin is None else twin._second_order  # type: ignore[has-type]
        )
        self.domain = self._second_order
        grounded = (
            len(mesh.faces_of("ground", "slip")) > 0
        )  # the mirrored vortex cancels the far field of the body's own
        self.vortex = (
            self.numerics.vortex
            and not grounded
            and mesh.dimension == 2
            and air.mach < 1.0
            and mesh.reference is not None
            and exterior is None
        )
        first = self._exterior(0.0, vortex=False) if exterior is None else exterior
        wall_data = self.walls.wall_data(mesh) if self.domain.columns > 5 else None
        self.residual = Residual(
            self.domain,
            self.numerics.scheme(),
            self.law,
            air.mach,
            first,
            problem.source,
            model,
            wall_data,
        )
        if problem.disks is not None:
            self.residual.disks = problem.disks(mesh)
        self.intakes = IntakeBalance(self.residual, problem.powered)
        self.jacobian = Jacobian(self.residual)
        self.preconditioner = Preconditioner(self.domain) if twin is None else twin.preconditioner  # type: ignore[has-type]
        rows = 1.0 / (self.scales.rows()[None, :] * np.sqrt(self.domain.volume)[:, None])
        if self.domain.columns > 6:  # omega grows without bound towards a wall: its equation is weighed by its own rate
            rate = np.exp(log_sublayer_omega(mesh, self.law)) * reference.chord / air.mach
            rows[:, 6] /= 1.0 + BETA[0] * rate
        self.rows = rows
        self.first_order_cells = np.zeros(mesh.n_cells, dtype=bool)
        self.jacobian.row_scale[:] = rows[:, self.domain.axes]
        own = first[self.domain.code == NO_SLIP]
        heated, moved = own[own[:, 4] > 0.0, 4], np.linalg.norm(own[:, 1:4], axis=1).max(initial=0.0)
        total, fallback = 1.0 + 0.5 * (self.law.gamma - 1.0) * (air.mach + moved) ** 2, self.numerics.fallback
        self.coldest = heated.min(initial=1.0) if air.mach + moved < fallback.slow_mach else 0.0
        self.hottest = heated.max(initial=total)
        for one in problem.powered:
            if one.exhaust:
                self.hottest, self.coldest = max(self.hottest, one.row[4]), 0.0
        self.body = mesh.faces_of("wall")
        self._body_area = np.linalg.norm(mesh.face_area[self.body], axis=1)[:, None]
        self._dynamic = 0.5 * air.mach**2 * reference.area
        self._free: list[FieldState] = []  # arrays of states that are no longer needed
        self._arm = mesh.face_centroid[self.body] - np.asarray(reference.point)
        undisturbed = np.tile(self.scales.freestream, (mesh.n_cells, 1))
        if self.domain.columns > 5:  # with a layer's turbulence (of omega that of the freestream)
            undisturbed[:, 5] = self.scales.turbulence[0]
        first = self.norms(self.residual(undisturbed))
        first[1:4] = np.sqrt(np.sum(first[1:4] ** 2))  # momentum is one vector
        self.start_norm = np.maximum(first, 1e-30)

    def norms(self, R: np.ndarray) -> np.ndarray:
        """Scaled size of a residual, equation by equation.

        Parameters
        ----------
        R : (n, m) array
            Residual.

        Returns
        -------
        (m,) array
        """
        return np.sqrt(np.sum((R * self.rows) ** 2, axis=0))

    def norm(self, R: np.ndarray) -> float:
        """Scaled size of a residual, of all equations together.

        Parameters
        ----------
        R : (n, m) array
            Residual.
        """
        return float(np.sqrt(np.sum((R * self.rows) ** 2)))

    def coefficients(self, state: FieldState) -> np.ndarray:
        """CL, CD and CM of the body.

        Parameters
        ----------
        state : FieldState
            States with gradients and closure.

        Returns
        -------
        (3,) array
        """
        force = self.residual.tractions(state)[self.body - self.mesh.n_interior] * self._body_area
        on_force, on_moment = self.mesh.multiples
        moment = np.cross(self._arm, force).sum(axis=0) * on_moment
        drag, _, lift = self.air.axes @ (force.sum(axis=0) * on_force) / self._dynamic
        # nose-up is positive about y to starboard when x points aft
        return np.array([lift, drag, moment[1] / (self._dynamic * self.reference.chord)])

    def evaluate(self, q: np.ndarray) -> Evaluation:
        """Compute residual and coefficients, with the farfield corrected for their lift.

        Parameters
        ----------
        q : (n, m) array
            States.
        """
        state = self.residual.differentiate(q, self._free.pop() if self._free else None)
        coefficients = self.coefficients(state)
        exterior = self._exterior(coefficients[0]) if self.vortex else self.residual.exterior
        exterior = self.intakes.with_pressures(state, exterior)
        return Evaluation(state, self.residual.balance(state, exterior), coefficients, exterior)

    def release(self, evaluation: Evaluation) -> None:
        """Let a later evaluation overwrite the gradients of one that is no longer needed.

        Parameters
        ----------
        evaluation : Evaluation
            No longer needed.
        """
        self._free.append(evaluation.state)

    def linearise(self, now: Evaluation) -> None:
        """Compute the Jacobian at an evaluation, with the response of the farfield to lift.

        Parameters
        ----------
        now : Evaluation
            Evaluation.
        """
        self.jacobian.linearise(now.state, now.exterior)
        self.jacobian.couplings = self.intakes.couplings(now.state, now.exterior)
        if self.vortex:
            self.jacobian.couplings.append(self._lift_coupling(now))

    def _lift_coupling(self, now: Evaluation) -> BoundaryCoupling:
        """Response of the farfield to lift: flux change per unit of lift, and lift per wall flux."""
        axes = self.domain.axes
        outside = self._exterior(now.coefficients[0] + LIFT_STEP)
        outside = self.intakes.with_pressures_of(now.exterior, outside)
        moved = self.residual.boundary_fluxes(now.state, outside)
        change = moved - self.residual.boundary_fluxes(now.state, now.exterior)
        correction = (change[:, axes] / LIFT_STEP).astype(np.float32)
        row = np.zeros((len(change), now.q.shape[1]), dtype=np.float32)
        row[self.body - self.mesh.n_interior, 1:4] = self.air.axes[2] / self._dynamic
        return BoundaryCoupling(slice(0, len(row)), correction, row[:, axes])

    def demote_unconverged(self, R: np.ndarray, max_cells: float, residual_share: float) -> np.ndarray:
        """Demote the cells that hold most of the squared residual R, if they are few.

        The prism columns that they belong to oscillate together and follow, but no more: first order in many cells
        falsifies the drag.

        Parameters
        ----------
        R : array (n, m)
        max_cells : float
            Fraction of the cells that may be demoted.
        residual_share : float
            Fraction of the squared residual.

        Returns
        -------
        array (n,) of bool
            Cells that were not at first order before.
        """
        if self.mesh.planar or self.numerics.reconstruction.order == 1:
            return np.zeros(len(R), dtype=bool)
        return self.demote_to_first_order(self.cells_of_residual(R, max_cells, residual_share))

    def cells_of_residual(self, R: np.ndarray, max_cells: float, residual_share: float) -> np.ndarray:
        """Cells that hold most of the squared residual R, if they are few.

        Parameters
        ----------
        R : array (n, m)
        max_cells : float
            Largest fraction of the cells; 20 may always be.
        residual_share : float
            Fraction of the squared residual.

        Returns
        -------
        array (n,) of bool
            None if they are more.
        """
        squares = self.squared_residual(R)
        order = np.argsort(-squares)
        count = 1 + int(np.searchsorted(np.cumsum(squares[order]), residual_share * squares.sum()))
        chosen = np.zeros(len(squares), dtype=bool)
        if count <= max(max_cells * len(squares), 20):
            chosen[order[:count]] = True
        return chosen

    def squared_residual(self, R: np.ndarray) -> np.ndarray:
        """(n,) squared residual of every cell, in the scale of those of the undisturbed stream.

        Parameters
        ----------
        R : array (n, m)
        """
        return np.sum((R * self.rows / self.start_norm) ** 2, axis=1)

    def repair_temperature(self, q: np.ndarray) -> np.ndarray:
        """Demote the prism columns that have an impossible temperature, with those beside them, and reset it.

        Parameters
        ----------
        q : (n, m) array
            States.

        Returns
        -------
        (n, m) array
            q with these temperatures clipped, or q itself if there are none.

        Notes
        -----
        In thin columns on blunt tails, wide beside narrow ones, the energy of two neighbours may diverge while their
        pressures and velocities agree.

        Returns
        -------
        array (n, m)
            q with these temperatures clipped, or q itself if there are none.
        """
        fallback, impossible = self.numerics.fallback, self.impossible_temperatures(q)
        if not impossible.any() or impossible.sum() > fallback.max_repaired * len(impossible):
            return q
        if not self.demote_to_first_order(self.with_neighbours(impossible)).any():
            return q
        q = q.copy()
        q[impossible, 4] = np.clip(q[impossible, 4], self.coldest, self.hottest)
        return q

    def with_neighbours(self, cells: np.ndarray) -> np.ndarray:
        """(n,) mask of some cells and of those that share a face with them.

        Parameters
        ----------
        cells : (n,) array
            Mask of the cells.
        """
        left, right = self.mesh.left[: self.mesh.n_interior], self.mesh.right
        wide = cells.copy()
        wide[left[cells[right]]] = wide[right[cells[left]]] = True
        return wide

    def impossible_temperatures(self, q: np.ndarray) -> np.ndarray:
        """(n,) mask of the cells whose temperature neither stream nor walls can give.

        Parameters
        ----------
        q : (n, m) array
            States.
        """
        fallback = self.numerics.fallback
        low, high = fallback.min_temperature * self.coldest, fallback.max_temperature * self.hottest
        return (q[:, 4] < low) | (q[:, 4] > high)

    def demote_to_first_order(self, cells: np.ndarray) -> np.ndarray:
        """Demote cells and the prism columns that they belong to.

        Parameters
        ----------
        cells : (n,) array
            Mask of the cells.

        Returns
        -------
        (n,) array of bool
            Cells that were not at first order before.
        """
        if not cells.any():
            return cells
        foot = self.mesh.wall_face_of_cell
        demoted = (cells | ((foot >= 0) & np.isin(foot, foot[cells]))) & ~self.first_order_cells
        self.first_order_cells |= demoted
        faces = self._second_order.with_first_order(self.first_order_cells, self.residual.model == "euler")
        self.domain = self.residual.domain = faces
        return demoted

    def flow(self, now: Evaluation, outcome: Outcome, reason: str, history: History, begin: float) -> FlowState:
        """Result at an evaluation.

        Parameters
        ----------
        now : Evaluation
            Evaluation.
        outcome : Outcome
            How the run ended.
        reason : str
            Why.
        history : History
            History.
        begin : float
            Clock at the start [s].
        """
        r, state = self.residual, now.state
        flux = r.boundary_fluxes(state, now.exterior)
        if self.first_order_cells.any():
            position = self.mesh.cell_centroid[np.flatnonzero(self.first_order_cells)[0]].round(3)
            reason += (
                f", first order in {self.first_order_cells.sum():,} of {len(now.q):,} cells (one at {position} m) that "
                "would not converge"
            )
        return FlowState(
            now.q,
            r.boundary_pressure(state),
            r.tractions(state, flux),
            r.heats(state),
            r.eddy_ratio(state),
            entropy_production(r, state, now.exterior),
            flux[:, 0] / self.domain.faces.area[self.mesh.n_interior :],
            self.first_order_cells,
            self.scales,
            outcome,
            reason,
            history,
            time.perf_counter() - begin,
        )

    def _exterior(self, lift: float, vortex: bool = True) -> np.ndarray:
        """(nb, m) states outside the boundary faces at a lift coefficient."""
        lifting = lift * self.reference.area / self.mesh.depth
        out = exterior_states(self.mesh, self.scales, lifting, vortex, self.walls)
        set_curved_wall_normals(self.mesh, out, self.problem.model)
        set_powered_rows(self.mesh, out, self.problem.powered)
        return out
