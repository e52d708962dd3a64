"""The residual: net outflow of mass, momentum and energy of every cell.

Three race-free sweeps: gradients (a gather a cell), fluxes (one a face), sums (a gather a cell).
Verified by tests/test_flow.py and validation/manufactured.py.
"""

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from zephyrum._core.jit import parallel, prange
from zephyrum.flow.discretization.boundary_fluxes import boundary_fluxes
from zephyrum.flow.discretization.disk_sources import DiskSources
from zephyrum.flow.discretization.face_batches import (
    BATCH_SIZE,
    FLUX,
    LEAST_FACE_FRACTION,
    SCRATCH_SIZE,
    gather_batch,
    reconstruct,
    set_inviscid_flux,
)
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.kernel_arrays import Boundary
from zephyrum.flow.discretization.scheme import Scheme
from zephyrum.flow.discretization.turbulence_sources import (
    eddy_viscosity_ratio,
    initial_closure,
    subtract_sources,
    update_closure,
)
from zephyrum.flow.discretization.viscous_terms import (
    correct_mean_gradients,
    set_diffusion_coefficients,
    subtract_viscous_flux,
)
from zephyrum.flow.discretization.wall_pressure_gradient import add_wall_pressure_rises, correct_wall_pressure_gradients
from zephyrum.flow.physics.boundary_conditions import NO_SLIP, SLIP
from zephyrum.flow.physics.gas_model import GasModel
from zephyrum.flow.physics.turbulence import EULER, equation_count

if TYPE_CHECKING:
    from zephyrum.flow.discretization.kernel_arrays import CellFaces, Faces, SchemeNumbers


@parallel
def interior_fluxes(
    q: np.ndarray,
    g: np.ndarray,
    closure: np.ndarray,
    faces: "Faces",
    scheme: "SchemeNumbers",
    gas: GasModel,
    out: np.ndarray,
):
    """Flux times area of every interior face.

    Parameters
    ----------
    q : (n, m) array
        States.
    g : (n, m, 3) array
        Gradients.
    closure : (n, 2) array
        Closure of the turbulence model.
    faces : Faces
        Faces.
    scheme : SchemeNumbers
        Scheme.
    gas : GasModel
        Gas.
    out : (nf, m) array
        Written.

    Notes
    -----
    Reads 2 x 4 m cell values and 18 numbers of geometry for each face.
    """
    ni, nt = len(faces.right), equation_count(scheme.model)
    for block in prange((ni + BATCH_SIZE - 1) // BATCH_SIZE):
        low = np.int64(block) * BATCH_SIZE
        s = np.empty(SCRATCH_SIZE)
        gather_batch(s, low, q, g, closure, faces, scheme)
        reconstruct(s, scheme, gas.gamma)
        set_inviscid_flux(s, nt, gas.gamma)
        if scheme.model > EULER:
            correct_mean_gradients(s, scheme.axes)
            set_diffusion_coefficients(s, scheme.model, gas)
            subtract_viscous_flux(s, nt)
        for m in range(5 + nt):
            for k in range(min(BATCH_SIZE, ni - low)):  # type: ignore[call-overload]
                out[low + k, m] = s[FLUX + m * BATCH_SIZE + k]


@parallel
def sum_faces(flux: np.ndarray, cells: "CellFaces", out: np.ndarray):
    """Signed sum of face values into cells.

    Parameters
    ----------
    flux : (nf, m) array
        Face values.
    cells : CellFaces
        Faces of each cell.
    out : (n, m) array
        Written.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> faces, out = FaceData.of(mesh), np.empty((mesh.n_cells, 3))
    >>> sum_faces(mesh.face_area, faces.cells, out)
    >>> bool(np.abs(out).max() < 1e-12)  # cells are closed
    True
    """
    m = flux.shape[1]
    for i in prange(len(out)):
        c = np.int64(i)
        for k in range(m):
            out[c, k] = 0.0
        for e in range(cells.start[c], cells.start[c + 1]):
            f = cells.faces[e]
            for k in range(m):
                out[c, k] += cells.sign[e] * flux[f, k]


class FieldState(NamedTuple):
    """States of all cells with what is derived from them before any flux.

    Attributes
    ----------
    q : array (n, m)
    gradients : array (n, m, 3)
    closure : array (n, 2) or (0, 2)
        See `turbulence_sources`.

    Examples
    --------
    >>> state = FieldState(np.zeros((4, 5)), np.zeros((4, 5, 3)), np.zeros((4, 2)))
    >>> state.q.shape
    (4, 5)
    """

    q: np.ndarray
    gradients: np.ndarray
    closure: np.ndarray


class Residual:
    """R(q) on one domain. It keeps work arrays, but no result: what a call needs is in its arguments.

    Parameters
    ----------
    domain : FaceData
    scheme : Scheme
    law : GasModel
    mach : float
        Of the stream.
    exterior : array (nb, m)
        States outside the boundary faces, used where a call names no others.
    source : array (n, m), optional
        Source of every equation; may be set between calls.
    model : str
    wall_data : array (n, 3), optional
        See `turbulence_sources`; without it every wall is smooth and fully turbulent.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
    >>> from zephyrum.flow.nonlinear.flow_problem import FlowProblem
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> residual = DiscreteProblem(FlowProblem(mesh, Freestream(mach=0.5), mesh.reference)).residual
    >>> q = np.tile([0.0, 0.5, 0.0, 0.0, 1.0], (mesh.n_cells, 1))
    >>> state = residual.differentiate(q)
    >>> float(abs(state.gradients[:, 1:]).max())  # of a uniform stream; the pressure has a known slope at walls
    0.0
    >>> residual.balance(state).shape
    (384, 5)
    """

    def __init__(
        self,
        domain: FaceData,
        scheme: Scheme,
        law: GasModel,
        mach: float,
        exterior: np.ndarray,
        source: np.ndarray | None = None,
        model: str = "euler",
        wall_data: np.ndarray | None = None,
    ):
        self.domain, self.scheme, self.law, self.model = domain, scheme, law, model
        n, m = domain.mesh.n_cells, domain.columns
        self.numbers = scheme.numbers(mach, domain, model)
        self.equations = (0,) * (m - 5)
        self.exterior, self.source = exterior, source
        self.disks: DiskSources | None = None  # of the propeller disks; set before the first call
        self._flux = np.empty((domain.mesh.n_faces, m))
        self._rows = np.arange(domain.mesh.n_faces - domain.mesh.n_interior)
        self._work: FieldState | None = None  # arrays of `__call__`, overwritten by the next call
        if wall_data is None:
            wall_data = np.zeros((0, 3))
            if m > 5:
                wall_data = np.stack([domain.mesh.wall_distance, np.zeros(n), np.ones(n)], axis=1)
        self.wall_data = wall_data

    def differentiate(self, q: np.ndarray, reuse: FieldState | None = None) -> FieldState:
        """Compute gradients and closure of states.

        Parameters
        ----------
        q : (n, m) array
            States.
        reuse : FieldState, optional
            No longer needed; its arrays are overwritten.
        """
        d = self.domain
        if reuse is None:
            reuse = FieldState(q, np.zeros((len(q), q.shape[1], 3)), initial_closure(self.wall_data, self.model))
        gradients, closure = reuse.gradients, reuse.closure
        if self.scheme.reconstruction.order == 2 or self.model != "euler":
            d.gradient(q, gradients)
            correct_wall_pressure_gradients(q, d.slip_walls, self.law.gamma, gradients)
            if len(d.axisymmetric_factor):
                gradients[:, 2, 1] = q[:, 3] * d.axisymmetric_factor
        if self.model == "sst":
            update_closure(q, gradients, self.wall_data, self.law, closure)
        return FieldState(q, gradients, closure)

    def boundary(self, exterior: np.ndarray | None = None) -> Boundary:
        """Boundary faces with the states outside them.

        Parameters
        ----------
        exterior : (nb, m) array, optional
            States outside; those of the residual without it.
        """
        d = self.domain
        outside = self.exterior if exterior is None else exterior
        walls = d.slip_walls
        shape = walls.row, walls.normal, walls.curvature
        return Boundary(d.code, d.wall_gradient_factor, outside, *shape, d.mesh.n_interior)

    def boundary_fluxes(
        self, state: FieldState, exterior: np.ndarray | None = None, rows: np.ndarray | None = None
    ) -> np.ndarray:
        """Flux times area of boundary faces.

        Parameters
        ----------
        state : FieldState
            States with gradients and closure.
        exterior : (nb, m) array, optional
            States outside; those of the residual without it.
        rows : (k,) array of int, optional
            Boundary faces, counted from the first; all without it.

        Returns
        -------
        (k, m) array
        """
        d = self.domain
        rows = self._rows if rows is None else rows
        out = np.empty((len(rows), state.q.shape[1]))
        boundary_fluxes(state.q, state.gradients, d.faces, self.boundary(exterior), self.numbers, self.law, rows, out)
        return out

    def fluxes(self, state: FieldState, exterior: np.ndarray | None = None) -> np.ndarray:
        """Flux times area of every face, in a work array that the next call overwrites.

        Parameters
        ----------
        state : FieldState
            States with gradients and closure.
        exterior : (nb, m) array, optional
            States outside; those of the residual without it.

        Returns
        -------
        (nf, m) array
        """
        d, flux = self.domain, self._flux
        interior_fluxes(*state, d.faces, self.numbers, self.law, flux)
        flux[d.mesh.n_interior :] = self.boundary_fluxes(state, exterior)
        if d.periodic is not None:
            s = d.periodic
            through = np.empty((len(s.one), state.q.shape[1]))
            across = s.rows(state.q), s.gradients(state.gradients), s.closure(state.closure)
            interior_fluxes(*across, s.faces, self.numbers, self.law, through)
            s.give(through, flux)
        return flux

    def balance(self, state: FieldState, exterior: np.ndarray | None = None) -> np.ndarray:
        """Net outflow of each cell, in scaled units times m^2.

        Parameters
        ----------
        state : FieldState
            States with gradients and closure.
        exterior : (nb, m) array, optional
            States outside; those of the residual without it.

        Returns
        -------
        (n, m) array
        """
        d, q = self.domain, state.q
        out = np.empty_like(q)
        sum_faces(self.fluxes(state, exterior), d.cells, out)
        if q.shape[1] > 5:
            subtract_sources(q, state.gradients, self.wall_data, d.volume, self.law, self.equations, out)
        if len(d.axisymmetric_factor) and self.model != "euler":
            out[:, 3] += self._axisymmetric_stress(state)
        if self.source is not None:
            out -= self.source * d.volume[:, None]
        if self.disks is not None:
            self.disks.subtract(q, out)
        return out

    def _axisymmetric_stress(self, state: FieldState) -> np.ndarray:
        """(n,) radial force of the viscous stress on the sides of a wedge (White 2006, Viscous Fluid Flow, app. B)."""
        g, axisymmetric_factor = state.gradients, self.domain.axisymmetric_factor
        mu = self.viscosities(state)
        bulk = 2.0 / 3.0 * (g[:, 1, 0] + g[:, 2, 1] + g[:, 3, 2])
        return self.domain.volume * axisymmetric_factor * mu * (2.0 * state.q[:, 3] * axisymmetric_factor - bulk)

    def __call__(self, q: np.ndarray) -> np.ndarray:
        """(n, m) net outflow of each cell for states q (n, m), in scaled units times m^2."""
        self._work = self.differentiate(q, self._work)
        return self.balance(self._work)

    def eddy_ratio(self, state: FieldState) -> np.ndarray:
        """Eddy over molecular viscosity.

        Parameters
        ----------
        state : FieldState
            States with gradients and closure.

        Returns
        -------
        (n,) array
        """
        out = np.zeros(len(state.q))
        if self.domain.columns > 5:
            eddy_viscosity_ratio(state.q, state.closure, self.law, self.numbers.model, out)
        return out

    def viscosities(self, state: FieldState) -> np.ndarray:
        """Molecular and eddy viscosity together, in scaled units.

        Parameters
        ----------
        state : FieldState
            States with gradients and closure.

        Returns
        -------
        (n,) array
        """
        return self.law.viscosity_at(state.q[:, 4]) * (1.0 + self.eddy_ratio(state))

    def tractions(self, state: FieldState, flux: np.ndarray | None = None) -> np.ndarray:
        """Force on every boundary face over its area, in scaled units.

        Parameters
        ----------
        state : FieldState
            States with gradients and closure.
        flux : (nb, m) array, optional
            `boundary_fluxes`, if known.

        Returns
        -------
        (nb, 3) array
        """
        d, ni = self.domain, self.domain.mesh.n_interior
        flux = self.boundary_fluxes(state) if flux is None else flux
        out = flux[:, 1:4] / d.faces.area[ni:, None]
        slip = d.code == SLIP  # the momentum through a face that stands for a curved wall is no force on it
        out[slip] = self.boundary_pressure(state)[slip, None] * d.faces.normal[ni:][slip]
        return out

    def heats(self, state: FieldState) -> np.ndarray:
        """Heat that walls give to the air over their area, in scaled units.

        Parameters
        ----------
        state : FieldState
            States with gradients and closure.

        Returns
        -------
        (nb,) array
        """
        d, ni = self.domain, self.domain.mesh.n_interior
        out = np.zeros(d.mesh.n_faces - ni)
        if self.model == "euler":
            return out
        wall = np.flatnonzero((d.code == NO_SLIP) & (self.exterior[:, 4] > 0.0))
        flux = self.boundary_fluxes(state)[wall] / d.faces.area[ni + wall, None]
        pressure = self.boundary_pressure(state)[wall, None] * d.faces.normal[ni + wall]
        out[wall] = -flux[:, 4] - np.einsum("ij,ij->i", self.exterior[wall, 1:4], pressure - flux[:, 1:4])
        return out

    def boundary_pressure(self, state: FieldState) -> np.ndarray:
        """Gauge pressure at every boundary face, extrapolated from the cell as the fluxes do.

        Parameters
        ----------
        state : FieldState
            States with gradients and closure.

        Returns
        -------
        (nb,) array
        """
        d, q, gamma = self.domain, state.q, self.law.gamma
        ni = d.mesh.n_interior
        cell = d.faces.left[ni:]
        p = q[cell, 0] + np.einsum("ij,ij->i", state.gradients[cell, 0], d.faces.to_left[ni:])
        if self.numbers.order_factor:  # at first order the wall has the pressure of its cell
            add_wall_pressure_rises(q, state.gradients, d.faces, self.boundary(), gamma, p)
        low = 1.0 + gamma * p < LEAST_FACE_FRACTION * (1.0 + gamma * q[cell, 0])
        return np.where(low, q[cell, 0], p)
