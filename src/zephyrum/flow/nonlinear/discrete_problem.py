"""One mesh made ready to be marched: its residual and matrix, the measures of convergence, and the cells that lose
their slopes to converge.

Verified by tests/test_bent_layers.py and what verifies `march`.
"""

import time
from dataclasses import dataclass

import numpy as np

from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.jacobian import Jacobian
from zephyrum.flow.discretization.residual import Residual
from zephyrum.flow.linear.block_ilu import Preconditioner
from zephyrum.flow.nonlinear.flow_problem import FlowProblem
from zephyrum.flow.nonlinear.history import History
from zephyrum.flow.nonlinear.start_up import log_sublayer_omega
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.boundary_conditions import NO_SLIP, exterior_states, set_curved_wall_normals
from zephyrum.flow.physics.gas_model import Scales
from zephyrum.flow.physics.turbulence import freestream_turbulence, typical_turbulence
from zephyrum.flow.physics.turbulence.sst import BETA

MAX_TEMPERATURE_FACTOR, MIN_TEMPERATURE_FACTOR = (
    1.1,
    0.75,
)  # of the highest and lowest temperature that the stream and the walls can give: beyond them it is the scheme's
MAX_REPAIRED_FRACTION = 0.01  # fraction of the cells that may be that
LOW_MACH = 0.5  # Mach number of stream and walls together below which air can't cool further than that


@dataclass(frozen=True, eq=False)
class FlowState:
    """What a march leaves: scaled states q (n, m), pressure (nb,), traction (nb, 3) and heat (nb,) on the boundary.

    eddy_ratio (n,): eddy over molecular viscosity; first_order_cells (n,): the cells that lost their slopes to
    converge.
    """

    q: np.ndarray
    boundary_pressure: np.ndarray
    traction: np.ndarray
    heat: np.ndarray
    eddy_ratio: np.ndarray
    first_order_cells: np.ndarray
    scales: Scales
    outcome: Outcome
    reason: str
    history: History
    seconds: float


class DiscreteProblem:
    """One mesh of the sequence, ready to be marched."""

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
            air, freestream_turbulence(model, self.law, air.mach, reference.chord), typical_turbulence(model)
        )
        self.walls = problem.wall_data()
        twin = twin if twin is not None and twin.mesh is mesh else None
        self._second_order = FaceData.of(mesh, self.numerics.gradient, model) if twin is None else twin._second_order
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
        first = exterior_states(mesh, self.scales, 0.0, False, self.walls) if exterior is None else exterior
        if exterior is None:
            set_curved_wall_normals(mesh, first, model)
        wall_data = self.walls.wall_data(mesh) if self.domain.columns > 5 else None
        self.residual = Residual(
            self.domain, self.numerics.scheme(), self.law, air.mach, first, problem.source, model, wall_data
        )
        self.jacobian = Jacobian(self.residual)
        self.preconditioner = Preconditioner(self.domain) if twin is None else twin.preconditioner
        rows = 1.0 / (self.scales.rows()[None, :] * np.sqrt(self.domain.volume)[:, None])
        if self.domain.columns > 6:  # omega grows without bound towards a wall: its equation is weighed by its own rate
            rate = np.exp(log_sublayer_omega(mesh, self.law)) * reference.chord / air.mach
            rows[:, 6] /= 1.0 + BETA[0] * rate
        self.rows = rows
        self.first_order_cells = np.zeros(mesh.n_cells, dtype=bool)
        self.jacobian.row_scale[:] = rows[:, self.domain.axes]
        own = first[self.domain.code == NO_SLIP]
        heated, moved = own[own[:, 4] > 0.0, 4], np.linalg.norm(own[:, 1:4], axis=1).max(initial=0.0)
        total = 1.0 + 0.5 * (self.law.gamma - 1.0) * (air.mach + moved) ** 2
        low = MIN_TEMPERATURE_FACTOR * heated.min(initial=1.0) if air.mach + moved < LOW_MACH else 0.0
        self.possible = low, MAX_TEMPERATURE_FACTOR * heated.max(initial=total)
        self.body = mesh.faces_of("wall")
        self._body_area = np.linalg.norm(mesh.face_area[self.body], axis=1)[:, None]
        self._dynamic = 0.5 * air.mach**2 * reference.area
        self._arm = mesh.face_centroid[self.body] - np.asarray(reference.point)
        undisturbed = np.tile(self.scales.freestream, (mesh.n_cells, 1))
        if self.domain.columns > 5:  # with a layer's turbulence (of omega that of the freestream)
            undisturbed[:, 5] = self.scales.turbulence[0]
        first = self.norms(self.residual(undisturbed))
        first[1:4] = np.sqrt(np.sum(first[1:4] ** 2))  # momentum is one vector
        self.start_norm = np.maximum(first, 1e-30)

    def norms(self, R: np.ndarray) -> np.ndarray:
        """(m,) scaled size of a residual, equation by equation."""
        return np.sqrt(np.sum((R * self.rows) ** 2, axis=0))

    def coefficients(self, q: np.ndarray) -> np.ndarray:
        """(CL, CD, CM) of the body, from the gradients found last."""
        force = self.residual.tractions(q)[self.body - self.mesh.n_interior] * self._body_area
        on_force, on_moment = self.mesh.multiples
        moment = np.cross(self._arm, force).sum(axis=0) * on_moment
        drag, _, lift = self.air.axes @ (force.sum(axis=0) * on_force) / self._dynamic
        # nose-up is positive about y to starboard when x points aft
        return np.array([lift, drag, moment[1] / (self._dynamic * self.reference.chord)])

    def evaluate(self, q: np.ndarray) -> np.ndarray:
        """Residual (n, equations) with the farfield answering to the lift of q; leaves `found`, the coefficients."""
        self.residual.differentiate(q)
        self.found = self.coefficients(q)
        if self.vortex:
            self.residual.exterior = self._outer(self.found[0])
        return self.residual.balance(q)

    def linearise(self, q: np.ndarray) -> None:
        """Jacobian at the state evaluated last, with the farfield's answer to lift."""
        self.jacobian.linearise(q)
        if not self.vortex:
            return
        step, ni, axes = 1e-4, self.mesh.n_interior, self.domain.axes
        aimed, flux = self.residual.exterior, self.residual.flux.copy()
        self.residual.exterior = self._outer(self.found[0] + step)
        self.residual.boundary_fluxes_into(q, flux)
        self.residual.exterior = aimed
        self.jacobian.vortex_correction = ((flux - self.residual.flux)[ni:, axes] / step).astype(np.float32)
        row = np.zeros((self.mesh.n_faces - ni, q.shape[1]), dtype=np.float32)
        row[self.body - ni, 1:4] = self.air.axes[2] / self._dynamic
        self.jacobian.lift_row = row[:, axes]

    def demote_unconverged(self, R: np.ndarray, few: float, fraction: float) -> np.ndarray:
        """Take the slopes off the cells that hold a `fraction` of the (squared) residual R if they are no more than
        `few` of all; which (n,) are new.

        The columns of layers that they stand in oscillate together and follow, but no more: first order in many cells
        falsifies the drag.
        """
        held = np.sum((R * self.rows / self.start_norm) ** 2, axis=1)
        order = np.argsort(-held)
        count = 1 + int(np.searchsorted(np.cumsum(held[order]), fraction * held.sum()))
        wide = np.zeros(len(held), dtype=bool)
        if self.mesh.planar or self.numerics.order == 1 or count > max(few * len(held), 20):
            return wide
        wide[order[:count]] = True
        return self.demote_to_first_order(wide)

    def repair_temperature(self, q: np.ndarray) -> np.ndarray:
        """Take the slopes off the columns that have a temperature out of what is possible, and off those beside them; q
        with these put back, or as it is.

        In thin columns on bases of tails, wide beside narrow ones, the energy of two neighbours may part without end at
        a pressure and velocity that agree.
        """
        odd = (q[:, 4] < self.possible[0]) | (q[:, 4] > self.possible[1])
        if not odd.any() or odd.sum() > MAX_REPAIRED_FRACTION * len(odd):
            return q
        left, right = self.mesh.left[: self.mesh.n_interior], self.mesh.right
        wide = odd.copy()
        wide[left[odd[right]]] = wide[right[odd[left]]] = True
        if not self.demote_to_first_order(wide).any():
            return q
        q = q.copy()
        q[odd, 4] = np.clip(
            q[odd, 4], self.possible[0] / MIN_TEMPERATURE_FACTOR, self.possible[1] / MAX_TEMPERATURE_FACTOR
        )
        return q

    def demote_to_first_order(self, cells: np.ndarray) -> np.ndarray:
        """Take the slopes off `cells` (n,) and the columns of layers that they stand in; which (n,) are new."""
        if not cells.any():
            return cells
        foot = self.mesh.wall_face_of_cell
        demoted = (cells | ((foot >= 0) & np.isin(foot, foot[cells]))) & ~self.first_order_cells
        self.first_order_cells |= demoted
        faces = self._second_order.with_first_order(self.first_order_cells, self.residual.model == "euler")
        self.domain = self.residual.domain = faces
        return demoted

    def flow(self, q: np.ndarray, outcome: Outcome, reason: str, history: History, begin: float) -> FlowState:
        """What is left at states q, those evaluated last; begin: clock [s] at the start."""
        r = self.residual
        if self.first_order_cells.any():
            position = self.mesh.cell_centroid[np.flatnonzero(self.first_order_cells)[0]].round(3)
            reason += f", first order in {self.first_order_cells.sum():,} of {len(q):,} cells (one at {position} m) that would not converge"
        return FlowState(
            q,
            r.boundary_pressure(q),
            r.tractions(q),
            r.heats(q),
            r.eddy_ratio(q),
            self.first_order_cells,
            self.scales,
            outcome,
            reason,
            history,
            time.perf_counter() - begin,
        )

    def _outer(self, lift: float) -> np.ndarray:
        return exterior_states(self.mesh, self.scales, lift * self.reference.area / self.mesh.depth, True, self.walls)
