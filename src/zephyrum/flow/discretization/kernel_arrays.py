"""Groups of arrays that kernels take as one argument.

Numba passes a named tuple of arrays and numbers to a parallel kernel member by member, as long as no member is itself a
tuple. So the groups are flat. A parallel kernel must not itself write to an array of a group: Numba takes such an array
for a temporary one and drops the write. A serial kernel that it calls may.
"""

from typing import NamedTuple

import numpy as np


class Faces(NamedTuple):
    """Geometry of the faces, interior ones first.

    Attributes
    ----------
    left : (nf,) array
        Cells that the normals leave.
    right : (ni,) array
        Cells that they enter.
    normal : (nf, 3) array
        Unit normals.
    area : (nf,) array
        [m^2]
    to_left : (nf, 3) array
        From the centroid of the left cell to that of the face [m].
    to_right : (ni, 3) array
        From the centroid of the right cell to that of the face [m].
    vector_to_right, vector_to_left : (ni, 3) arrays
        From each cell centroid to the other [m].
    fraction : (ni, 2) array
        Position of the face between the centroids, seen from either side.

    Notes
    -----
    left (nf,), right (ni,): cells; normal (nf, 3), area (nf,) [m^2]; to_left (nf, 3), to_right (ni, 3): face centroid
    minus cell centroid [m]; vector_to_right, vector_to_left (ni, 3): from each cell centroid to the other [m]; fraction
    (ni, 2): position of the face between the centroids, seen from either side.
    """

    left: np.ndarray
    right: np.ndarray
    normal: np.ndarray
    area: np.ndarray
    to_left: np.ndarray
    to_right: np.ndarray
    vector_to_right: np.ndarray
    vector_to_left: np.ndarray
    fraction: np.ndarray


class Boundary(NamedTuple):
    """Boundary faces.

    Attributes
    ----------
    code : (nb,) array
        Code of the boundary condition.
    wall_gradient_factor : (nb,) array
        See `face_data`.
    exterior : (nb, m) array
        States outside.
    wall_row : (nb,) array
        Row of `SlipWallCells`, -1 for none.
    wall_normal : (k, 3) array
        Their normals.
    wall_curvature : (k, 3, 3) array
        Their curvatures [1/m].
    first : int
        First boundary face.
    """

    code: np.ndarray
    wall_gradient_factor: np.ndarray
    exterior: np.ndarray
    wall_row: np.ndarray
    wall_normal: np.ndarray
    wall_curvature: np.ndarray
    first: int


class CellFaces(NamedTuple):
    """Faces of each cell: faces[start[c]:start[c + 1]].

    Attributes
    ----------
    start : (nc + 1,) array
    faces : array of int
    sign : array
        1 where the cell is the left one, else -1.
    """

    start: np.ndarray
    faces: np.ndarray
    sign: np.ndarray


class SchemeNumbers(NamedTuple):
    """Numbers of the discretisation for the kernels.

    Attributes
    ----------
    kappa : float
        Weight of the central difference.
    order_factor, turbulence_order_factor : float
        1 at second order, 0 at first.
    limiter_floor : float
        Least weight of the limiter.
    smooth_squares : (m,) array
        Squared variations taken as smooth.
    axes : (n_active,) array
        Columns of the unknowns that are solved for.
    model : int
        Code of the flow model.
    """

    kappa: float
    order_factor: float
    turbulence_order_factor: float
    limiter_floor: float
    smooth_squares: np.ndarray
    axes: np.ndarray
    model: int


class JacobianArrays(NamedTuple):
    """Derivatives of the face fluxes, for nf faces of which ni are interior and n active unknowns.

    Attributes
    ----------
    blocks : (nf, 2, n, n) array
        Area times dF/d(left, right face state).
    viscous_jacobian : (nf, n, n) array
        Minus the derivative to the difference of the cell values.
    viscous_coefficients : (nf, 7) array
        Area times (viscosity, conductivity, two diffusion coefficients), and the velocity at the face.
    closure_jacobian : (ni, 2, n) array
        Half the derivative to the mean of the SST closure.
    limited : (ni,) array
        Whether the limiter acts or the increment was refused.
    increment_jacobian : (ni, 2, 3, n) array
        There, factors of (g.r, g.d, jump) in the increment of each side.
    limiter_jacobian : (ni, 2 n + 2) array
        Derivatives of the limiter weight to both states and both upwind pressure differences.
    weight_jacobian : (ni, 2, n) array
        Derivative of each increment to the weight.
    wall_slope_jacobian : (k, n) array
        Derivatives of the slopes of the pressure known at the walls to the states of their cells.
    speed : (nf,) array
        Wave speed times area.

    Notes
    -----
    Arrays that a case does not need have length 0.
    """

    blocks: np.ndarray
    viscous_jacobian: np.ndarray
    viscous_coefficients: np.ndarray
    closure_jacobian: np.ndarray
    limited: np.ndarray
    increment_jacobian: np.ndarray
    limiter_jacobian: np.ndarray
    weight_jacobian: np.ndarray
    wall_slope_jacobian: np.ndarray
    speed: np.ndarray


class CellJacobian(NamedTuple):
    """Derivatives within a cell, for nc cells.

    Attributes
    ----------
    inertia : (nc, n, n) array
        Pseudo-time term.
    by_state : (nc, nt, n) array
        Of the turbulence sources, to the state.
    by_gradient : (nc, nt, n, 3) array
        Of the turbulence sources, to the gradient.
    row_scale : (nc, n) array
        Factors of the equations.
    """

    inertia: np.ndarray
    by_state: np.ndarray
    by_gradient: np.ndarray
    row_scale: np.ndarray


class Direction(NamedTuple):
    """A change of the unknowns.

    Attributes
    ----------
    v : (nc, n) array
        Change of the states.
    gradient : (nc, n, 3) array
        Its gradient.
    closure : (nc, 2) array
        Change of the SST closure.
    """

    v: np.ndarray
    gradient: np.ndarray
    closure: np.ndarray
