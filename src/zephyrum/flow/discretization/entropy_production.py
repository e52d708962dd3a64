"""Entropy that the inviscid fluxes produce: by shocks, and by the dissipation of the scheme everywhere else.

With the entropy function U = -rho s / (gamma - 1), s = ln(p / rho^gamma), its derivatives w to the conserved variables
and the potential psi = rho V, a face with the numerical flux F produces -(w_R - w_L).F + (psi_R - psi_L).n A (Tadmor
2003, Acta Numerica 12:451). Of a steady solution the sum over any cells is what the convected entropy gains on its way
through them, exactly: no plane has to be chosen, and smooth flow far away, where differences of s are all truncation
error, adds nothing. Physical dissipation is not contained. Valid for converged steady solutions. Verified by
tests/test_far_field_drag.py.
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum.flow.discretization.residual import FieldState, Residual, interior_fluxes
from zephyrum.flow.physics.boundary_conditions import NO_SLIP, SLIP
from zephyrum.flow.physics.turbulence import EULER, model_code

if TYPE_CHECKING:
    from zephyrum.flow.discretization.kernel_arrays import Faces

CHUNK = 200_000  # faces at a time: bounds the memory


def entropy_production(residual: Residual, state: FieldState, exterior: np.ndarray | None = None) -> np.ndarray:
    """Mechanical power that the inviscid fluxes lose in every cell.

    Parameters
    ----------
    residual : Residual
        Residual of the mesh.
    state : FieldState
        States with gradients, of a converged solution.
    exterior : (nb, m) array, optional
        States outside the boundary faces; those of the residual without it.

    Returns
    -------
    (n,) array
        Freestream temperature times entropy produced per unit of time, over freestream density and cubed speed of sound
        [m^2]. Half of a face's belongs to each of its cells; far-field faces produce none.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
    >>> from zephyrum.flow.nonlinear.flow_problem import FlowProblem
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> residual = DiscreteProblem(FlowProblem(mesh, Freestream(mach=0.5), mesh.reference)).residual
    >>> uniform = np.tile([0.0, 0.5, 0.0, 0.0, 1.0], (mesh.n_cells, 1))
    >>> made = entropy_production(residual, residual.differentiate(uniform))
    >>> made.shape, bool(abs(made[mesh.left[mesh.faces_of("farfield")]]).max() < 1e-12)
    ((384,), True)
    """
    domain, law, q = residual.domain, residual.law, state.q
    numbers = (
        residual.numbers._replace(model=model_code("euler")) if residual.numbers.model > EULER else residual.numbers
    )
    faces, n = domain.faces, len(q)
    flux = np.empty((len(faces.right), q.shape[1]))
    interior_fluxes(*state, faces, numbers, law, flux)
    half = 0.5 * _produced_at_faces(q, flux, faces, law.gamma)
    made = np.bincount(faces.left[: len(half)], half, n) + np.bincount(faces.right, half, n)
    if domain.periodic is not None:
        s = domain.periodic
        flux = np.empty((len(s.one), q.shape[1]))
        across = s.rows(q), s.gradients(state.gradients), s.closure(state.closure)
        interior_fluxes(*across, s.faces, numbers, law, flux)
        half = 0.5 * _produced_at_faces(across[0], flux, s.faces, law.gamma)
        np.add.at(made, s.cells, np.r_[half, half])
    _add_production_at_walls(residual, state, exterior, made)
    return made / law.gamma


def entropy(q: np.ndarray, gamma: float) -> np.ndarray:
    """Entropy of states over the heat capacity at constant volume; 0 in the stream.

    Parameters
    ----------
    q : (k, m) array
        States: gauge pressure, velocity, temperature, in scaled units.
    gamma : float
        Ratio of the specific heats.

    Returns
    -------
    (k,) array

    Examples
    --------
    >>> entropy(np.array([[0.0, 0.5, 0.0, 0.0, 1.0]]), 1.4).tolist()
    [0.0]
    """
    return gamma * np.log(q[:, 4]) - (gamma - 1.0) * np.log(1.0 + gamma * q[:, 0])


def entropy_variables(q: np.ndarray, gamma: float) -> tuple[np.ndarray, np.ndarray]:
    """Derivatives of the entropy function to the conserved variables, and its potential.

    Parameters
    ----------
    q : (k, m) array
        States: gauge pressure, velocity, temperature, in scaled units.
    gamma : float
        Ratio of the specific heats.

    Returns
    -------
    w : (k, 5) array
    psi : (k, 3) array
        Mass flux.

    Examples
    --------
    >>> w, psi = entropy_variables(np.array([[0.0, 0.5, 0.0, 0.0, 1.0]]), 1.4)
    >>> [round(float(x), 3) for x in w[0]], psi.tolist()
    ([4.166, 0.7, 0.0, 0.0, -1.4], [[0.5, 0.0, 0.0]])
    """
    p, velocity = (1.0 + gamma * q[:, 0]) / gamma, q[:, 1:4]
    rho = gamma * p / q[:, 4]
    beta = rho / p
    s = entropy(q, gamma) - np.log(gamma)
    w = np.empty((len(q), 5))
    w[:, 0] = (gamma - s) / (gamma - 1.0) - 0.5 * beta * np.sum(velocity**2, axis=1)
    w[:, 1:4] = beta[:, None] * velocity
    w[:, 4] = -beta
    return w, rho[:, None] * velocity


def _produced_at_faces(q: np.ndarray, flux: np.ndarray, faces: "Faces", gamma: float) -> np.ndarray:
    """(k,) entropy produced at interior faces with fluxes (k, m)."""
    w, psi = entropy_variables(q, gamma)
    out = np.empty(len(flux))
    for low in range(0, len(flux), CHUNK):
        part = slice(low, min(low + CHUNK, len(flux)))
        left, right = faces.left[part], faces.right[part]
        area = faces.normal[part] * faces.area[part, None]
        through = flux[part, :5].copy()
        through[:, 1:4] += area / gamma  # the fluxes contain the gauge pressure
        jump = np.einsum("km,km->k", w[right] - w[left], through)
        out[part] = np.einsum("kj,kj->k", psi[right] - psi[left], area) - jump
    return out


def _add_production_at_walls(
    residual: Residual, state: FieldState, exterior: np.ndarray | None, made: np.ndarray
) -> None:
    """Add what is produced between the cells at walls and planes of symmetry and these; `made` (n,) is changed."""
    domain, gamma = residual.domain, residual.law.gamma
    local = np.flatnonzero((domain.code == SLIP) | (domain.code == NO_SLIP))
    faces = domain.mesh.n_interior + local
    cells = domain.mesh.left[faces]
    area = domain.faces.normal[faces] * domain.faces.area[faces, None]
    flux = residual.boundary_fluxes(state, exterior)[local, :5]
    rigid = domain.code[local] == NO_SLIP  # its friction and heat are physical
    flux[rigid] = 0.0
    flux[rigid, 1:4] = residual.boundary_pressure(state)[local[rigid], None] * area[rigid]
    flux[:, 1:4] += area / gamma
    own = state.q[cells]
    w, psi = entropy_variables(own, gamma)
    # some air passes the chord of a curved wall face: it takes the entropy of its cell along
    s = entropy(own, gamma) - np.log(gamma)
    carried = flux[:, 0] * s / (gamma - 1.0)
    np.add.at(made, cells, np.einsum("km,km->k", w, flux) - np.einsum("kj,kj->k", psi, area) + carried)
