"""One mesh made ready to be marched: its residual and matrix, the measures of convergence, and the cells that lose their slopes to settle.

Verified by tests/test_bent_layers.py and what verifies `march`.
"""

import time
from dataclasses import dataclass

import numpy as np

from zephyrum.air import Freestream, Reference
from zephyrum.flow.boundary import NO_SLIP, Walls, follow_walls, outer_states
from zephyrum.flow.domain import Domain
from zephyrum.flow.gas import Scales
from zephyrum.flow.history import History
from zephyrum.flow.jacobian import Jacobian
from zephyrum.flow.krylov import Preconditioner
from zephyrum.flow.residual import Residual
from zephyrum.flow.settings import Settings
from zephyrum.flow.start import sublayer_rate
from zephyrum.flow.turbulence import inflow, typical
from zephyrum.flow.turbulence.sst import BETA
from zephyrum.mesh import Mesh

WARMEST, COLDEST = (
    1.1,
    0.75,
)  # of the highest and lowest temperature that the stream and the walls can give: beyond them it is the scheme's
STRAY = 0.01  # share of the cells that may be that
SLOW = 0.5  # Mach number of stream and walls together below which air can't cool further than that


@dataclass(frozen=True, eq=False)
class Flow:
    """What a march leaves: scaled states q (n, m), pressure (nb,), traction (nb, 3) and heat (nb,) on the boundary.

    eddies (n,): eddy over molecular viscosity; calmed (n,): the cells that lost their slopes to settle.
    """

    q: np.ndarray
    boundary_pressure: np.ndarray
    traction: np.ndarray
    heat: np.ndarray
    eddies: np.ndarray
    calmed: np.ndarray
    scales: Scales
    verdict: str
    reason: str
    history: History
    seconds: float


class Level:
    """One mesh of the sequence, ready to be marched."""

    def __init__(
        self,
        mesh: Mesh,
        depth: int,
        air: Freestream,
        reference: Reference,
        settings: Settings,
        model: str,
        source=None,
        outer=None,
        walls: Walls | None = None,
        twin: "Level | None" = None,
    ):
        """twin: a level whose domain and preconditioner are taken over if it has the same mesh."""
        self.mesh, self.depth, self.air, self.reference, self.settings = mesh, depth, air, reference, settings
        self.law = Scales.law(air, reference.chord)
        self.scales = Scales.of(air, inflow(model, self.law, air.mach, reference.chord), typical(model))
        self.walls = Walls.plain(mesh) if walls is None else walls
        twin = twin if twin is not None and twin.mesh is mesh and not twin.calmed.any() else None
        self.domain = Domain.of(mesh, settings.gradient, model) if twin is None else twin.domain
        grounded = (
            len(mesh.faces_of("ground", "slip")) > 0
        )  # the mirrored vortex cancels the far field of the body's own
        self.vortex = (
            settings.vortex
            and not grounded
            and mesh.dimension == 2
            and air.mach < 1.0
            and mesh.reference is not None
            and outer is None
        )
        first = outer_states(mesh, self.scales, 0.0, False, self.walls) if outer is None else outer
        if outer is None:
            follow_walls(mesh, first, model)
        near = self.walls.near(mesh) if self.domain.columns > 5 else None
        self.residual = Residual(self.domain, settings.scheme(), self.law, air.mach, first, source, model, near)
        self.jacobian = Jacobian(self.residual)
        self.preconditioner = Preconditioner(self.domain) if twin is None else twin.preconditioner
        rows = 1.0 / (self.scales.rows()[None, :] * np.sqrt(self.domain.volume)[:, None])
        if self.domain.columns > 6:  # omega grows without bound towards a wall: its equation is weighed by its own rate
            rate = np.exp(sublayer_rate(mesh, self.law)) * reference.chord / air.mach
            rows[:, 6] /= 1.0 + BETA[0] * rate
        self.rows = rows
        self.calmed = np.zeros(mesh.n_cells, dtype=bool)
        self.jacobian.rows[:] = rows[:, self.domain.axes]
        own = first[self.domain.code == NO_SLIP]
        heated, moved = own[own[:, 4] > 0.0, 4], np.linalg.norm(own[:, 1:4], axis=1).max(initial=0.0)
        total = 1.0 + 0.5 * (self.law.gamma - 1.0) * (air.mach + moved) ** 2
        low = COLDEST * heated.min(initial=1.0) if air.mach + moved < SLOW else 0.0
        self.possible = low, WARMEST * heated.max(initial=total)
        self.body = mesh.faces_of("wall")
        self._body_area = np.linalg.norm(mesh.face_area[self.body], axis=1)[:, None]
        self._dynamic = 0.5 * air.mach**2 * reference.area
        self._arm = mesh.face_centroid[self.body] - np.asarray(reference.point)
        still = np.tile(self.scales.freestream, (mesh.n_cells, 1))
        if self.domain.columns > 5:  # with a layer's turbulence (of omega that of the freestream)
            still[:, 5] = self.scales.turbulence[0]
        first = self.norms(self.residual(still))
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
            self.residual.outer = self._outer(self.found[0])
        return self.residual.balance(q)

    def linearise(self, q: np.ndarray) -> None:
        """Jacobian at the state evaluated last, with the farfield's answer to lift."""
        self.jacobian.linearise(q)
        if not self.vortex:
            return
        step, ni, axes = 1e-4, self.mesh.n_interior, self.domain.axes
        aimed, flux = self.residual.outer, self.residual.flux.copy()
        self.residual.outer = self._outer(self.found[0] + step)
        self.residual.edge_fluxes(q, flux)
        self.residual.outer = aimed
        self.jacobian.swirl = ((flux - self.residual.flux)[ni:, axes] / step).astype(np.float32)
        row = np.zeros((self.mesh.n_faces - ni, q.shape[1]), dtype=np.float32)
        row[self.body - ni, 1:4] = self.air.axes[2] / self._dynamic
        self.jacobian.lift_row = row[:, axes]

    def calm(self, R: np.ndarray, few: float, share: float) -> np.ndarray:
        """Take the slopes off the cells that hold a `share` of the (squared) residual R if they are no more than `few` of all; which (n,) are new.

        The columns of layers that they stand in swing together and follow, but no more: first order in many cells falsifies the drag.
        """
        held = np.sum((R * self.rows / self.start_norm) ** 2, axis=1)
        order = np.argsort(-held)
        count = 1 + int(np.searchsorted(np.cumsum(held[order]), share * held.sum()))
        wide = np.zeros(len(held), dtype=bool)
        if self.mesh.planar or self.settings.order == 1 or count > max(few * len(held), 20):
            return wide
        wide[order[:count]] = True
        return self.still(wide)

    def stray(self, q: np.ndarray) -> np.ndarray:
        """Take the slopes off the columns that have a temperature out of what is possible, and off those beside them; q with these put back, or as it is.

        In thin columns on bases of tails, wide beside narrow ones, the energy of two neighbours may part for ever at a pressure and velocity that agree.
        """
        odd = (q[:, 4] < self.possible[0]) | (q[:, 4] > self.possible[1])
        if not odd.any() or odd.sum() > STRAY * len(odd):
            return q
        left, right = self.mesh.left[: self.mesh.n_interior], self.mesh.right
        wide = odd.copy()
        wide[left[odd[right]]] = wide[right[odd[left]]] = True
        if not self.still(wide).any():
            return q
        q = q.copy()
        q[odd, 4] = np.clip(q[odd, 4], self.possible[0] / COLDEST, self.possible[1] / WARMEST)
        return q

    def still(self, cells: np.ndarray) -> np.ndarray:
        """Take the slopes off `cells` (n,) and the columns of layers that they stand in; which (n,) are new."""
        if not cells.any():
            return cells
        foot = self.mesh.feet
        fresh = (cells | ((foot >= 0) & np.isin(foot, foot[cells]))) & ~self.calmed
        self.calmed |= fresh
        self.domain.without_slopes(self.calmed, self.residual.model == "euler")
        return fresh

    def flow(self, q: np.ndarray, verdict: str, reason: str, history: History, begin: float) -> Flow:
        """What is left at states q, those evaluated last; begin: clock [s] at the start."""
        r = self.residual
        if self.calmed.any():
            place = self.mesh.cell_centroid[np.flatnonzero(self.calmed)[0]].round(3)
            reason += (
                f", first order in {self.calmed.sum():,} of {len(q):,} cells (one at {place} m) that would not settle"
            )
        return Flow(
            q, r.boundary_pressure(q), r.tractions(q), r.heats(q), r.eddies(q), self.calmed, self.scales, verdict, reason, history,
            time.perf_counter() - begin,
        )  # fmt: skip

    def _outer(self, lift: float) -> np.ndarray:
        return outer_states(self.mesh, self.scales, lift * self.reference.area / self.mesh.depth, True, self.walls)
