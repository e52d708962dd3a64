"""Static pressures of intakes that take a given mass flow, found anew for every state.

The pressure is the root of a function of one variable, the mass flow through all faces of the intake at the states
inside, so that the mass flow is met at every step, not only at the end. Verified by tests/test_powered.py.
"""

import numpy as np
from scipy.optimize import brentq

from zephyrum.flow.discretization.jacobian import BoundaryCoupling
from zephyrum.flow.discretization.residual import FieldState, Residual
from zephyrum.flow.physics.powered_boundaries import PoweredGroup

PRESSURE_STEP = 1e-6  # scaled pressure of a difference quotient
VACUUM = 1.0 - 1e-6  # fraction of the pressure of the stream by which the lowest pressure tried lies below it


class IntakeBalance:
    """Intakes of one mesh that take a given mass flow.

    Parameters
    ----------
    residual : Residual
    powered : tuple of PoweredGroup
        All powered groups; those without a mass flow are left alone.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
    >>> from zephyrum.flow.nonlinear.flow_problem import FlowProblem
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> residual = DiscreteProblem(FlowProblem(mesh, Freestream(mach=0.5), mesh.reference)).residual
    >>> len(IntakeBalance(residual, ()).groups)
    0
    """

    def __init__(self, residual: Residual, powered: tuple[PoweredGroup, ...]):
        self.residual = residual
        mesh = residual.domain.mesh
        self.groups: list[tuple[np.ndarray, float]] = []
        for one in powered:
            if one.mass_flow is not None:
                faces = mesh.group(one.name).faces
                self.groups.append((np.arange(faces.start, faces.stop) - mesh.n_interior, one.mass_flow))

    def with_pressures(self, state: FieldState, exterior: np.ndarray) -> np.ndarray:
        """States outside the boundary faces with the pressures that the mass flows need.

        Parameters
        ----------
        state : FieldState
            States with gradients and closure.
        exterior : (nb, m) array
            States outside; not changed.

        Notes
        -----
        An intake that would have to take more than fits at Mach 1 gets the lowest pressure; less than what enters it
        faster than sound, the highest.
        """
        if not self.groups:
            return exterior
        out = exterior.copy()
        for rows, target in self.groups:

            def excess(pressure: float, rows=rows, target=target) -> float:
                out[rows, 0] = pressure
                return float(self.residual.boundary_fluxes(state, out, rows)[:, 0].sum()) - target

            low, high = self._bounds(state, rows)
            if (at_low := excess(low)) > 0.0 > excess(high):
                out[rows, 0] = brentq(excess, low, high, xtol=1e-14, rtol=1e-14)
            else:
                out[rows, 0] = low if at_low <= 0.0 else high
        return out

    def with_pressures_of(self, other: np.ndarray, exterior: np.ndarray) -> np.ndarray:
        """States outside the boundary faces, changed to the pressures that other states have at the intakes.

        Parameters
        ----------
        other, exterior : (nb, m) arrays
            States outside; the second ones are changed in place.
        """
        for rows, _ in self.groups:
            exterior[rows, 0] = other[rows, 0]
        return exterior

    def couplings(self, state: FieldState, exterior: np.ndarray) -> list[BoundaryCoupling]:
        """Responses of the pressures to the mass flows.

        Parameters
        ----------
        state : FieldState
            States with gradients and closure.
        exterior : (nb, m) array
            States outside, with the pressures of this state.
        """
        out, axes = [], self.residual.domain.axes
        for rows, target in self.groups:
            flux = self.residual.boundary_fluxes(state, exterior, rows)
            moved = exterior.copy()
            moved[rows, 0] += PRESSURE_STEP
            change = (self.residual.boundary_fluxes(state, moved, rows) - flux) / PRESSURE_STEP
            slope = change[:, 0].sum()
            if abs(flux[:, 0].sum() - target) > 1e-6 * abs(target) or slope >= 0.0:
                continue  # choked: the pressure stays
            row = np.zeros((len(rows), len(axes)), dtype=np.float32)
            row[:, 0] = -1.0 / slope
            faces = slice(int(rows[0]), int(rows[-1]) + 1)
            out.append(BoundaryCoupling(faces, change[:, axes].astype(np.float32), row))
        return out

    def _bounds(self, state: FieldState, rows: np.ndarray) -> tuple[float, float]:
        """Pressures at which an intake chokes and at which nothing enters it."""
        gamma, domain = self.residual.law.gamma, self.residual.domain
        q = state.q[domain.faces.left[domain.mesh.n_interior + rows]]
        k = 0.5 * (gamma - 1.0)
        speed2 = np.einsum("ij,ij->i", q[:, 1:4], q[:, 1:4])
        rise = (1.0 + k * np.sqrt(speed2 / q[:, 4])) ** (gamma / k)
        highest = float(((1.0 + gamma * q[:, 0]) * rise).max())
        return -VACUUM / gamma, (2.0 * highest - 1.0) / gamma
