"""Structured grids marched off a curve: orthogonal at the wall, smooth outside.

The grid solves x_xi x_eta + z_xi z_eta = 0 (orthogonality) and x_xi z_eta - z_xi x_eta = cell area, linearised about
the last layer and marched outward with an implicit step and second-difference damping that grows with distance and
in concave positions. Source: Steger and Chaussee (1980), SIAM J. Sci. Stat. Comput. 1:431; Chan and Steger (1992),
Appl. Math. Comput. 51:181 (damping, treatment of corners). Limits: a concave corner sharper than about 60 degrees may
still cross; `Mesh.check` refuses such a grid. Verified by tests/test_mesh.py.
"""

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.linalg import splu

DAMPING = 0.5
IMPLICIT = 1.5
SPREAD = 0.3  # widths are evened out over this fraction of the distance marched
SPACING_TOLERANCE = 1.3  # and change the step by this factor at most


def march_grid(wall: np.ndarray, heights: np.ndarray, closed: bool) -> np.ndarray:
    """March a grid off a curve.

    Parameters
    ----------
    wall : (n, 2) array
        Curve with the outside on the left of its direction [m].
    heights : (n, layers) array
        Wanted steps at every point [m].
    closed : bool
        Whether the curve returns to its first point (which is not repeated); otherwise its ends move along a line of
        constant x.

    Returns
    -------
    (n, layers + 1, 2) array
        [m]

    Examples
    --------
    >>> angle = np.linspace(0.0, -2.0 * np.pi, 33)[:-1]
    >>> circle = np.stack([np.cos(angle), np.sin(angle)], axis=1)
    >>> march_grid(circle, np.full((32, 4), 0.1), closed=True).shape
    (32, 5, 2)
    """
    n, layers = heights.shape
    grid = np.empty((n, layers + 1, 2))
    grid[:, 0] = wall
    old_size = None
    for layer in range(layers):
        grid[:, layer + 1], old_size = _step(
            grid[:, layer], heights[:, layer], layer, layers, closed, old_size, heights[:, :layer].sum(axis=1)
        )
    return grid


def _neighbours(r: np.ndarray, closed: bool) -> tuple[np.ndarray, np.ndarray]:
    after, before = np.roll(r, -1, axis=0), np.roll(r, 1, axis=0)
    if not closed:
        after[-1], before[0] = 2 * r[-1] - r[-2], 2 * r[0] - r[1]
    return after, before


def _step(r, height, layer, layers, closed, old_size, distance):
    n = len(r)
    after, before = _neighbours(r, closed)
    ahead, behind = after - r, r - before
    la, lb = np.linalg.norm(ahead, axis=1), np.linalg.norm(behind, axis=1)
    ta, tb = ahead / la[:, None], behind / lb[:, None]
    size = 0.5 * (la + lb)
    tangent = ta + tb
    length = np.linalg.norm(tangent, axis=1)
    cusp = length < 1e-6  # the curve turns straight back: leave along its old direction
    tangent[~cusp] /= length[~cusp, None]
    tangent[cusp] = np.stack([tb[cusp, 1], -tb[cusp, 0]], axis=1)
    normal = np.stack([-tangent[:, 1], tangent[:, 0]], axis=1)
    # wanted area: height times width, with the width evened out between neighbours ever more with distance
    evened = _smoothed_spacing(size, SPREAD * distance / size, closed)
    march_height = height * np.clip(evened / size, 1.0 / SPACING_TOLERANCE, SPACING_TOLERANCE)
    # damping: grows with the layer, with the aspect of the cell, where lines converge and where the wall is concave
    stage = np.sqrt(min(layer, 0.75 * layers) / (0.75 * layers))
    gathering = np.ones(n) if old_size is None else old_size / size
    gathering = np.maximum(gathering ** (2.0 / max(stage, 0.1)), 0.1)
    bend = np.einsum("ij,ij->i", ta - tb, normal)  # positive where concave
    cos_half = np.clip(np.linalg.norm(ta - tb, axis=1) / 2.0, 0.0, 0.9)
    concave = np.where(bend > 0.0, 1.0 / (1.0 - cos_half**2), 1.0)
    aspect = march_height / size
    explicit = DAMPING * aspect * np.minimum(stage * gathering + 0.02, 2.0) * concave
    implicit = 2.0 * explicit + 0.5 * DAMPING * aspect
    # C = inverse(B) A, symmetric, from the metric of this layer
    xi, eta = tangent * size[:, None], normal * march_height[:, None]
    scale = size**2
    c11 = (xi[:, 0] * eta[:, 0] - xi[:, 1] * eta[:, 1]) / scale
    c12 = (xi[:, 0] * eta[:, 1] + xi[:, 1] * eta[:, 0]) / scale
    C = np.stack([np.stack([c11, c12], -1), np.stack([c12, -c11], -1)], -2)
    right = normal * march_height[:, None] + explicit[:, None] * (after - 2.0 * r + before)
    centre = np.broadcast_to(np.eye(2), (n, 2, 2)) * (1.0 + 2.0 * implicit)[:, None, None]
    up = 0.5 * IMPLICIT * C - np.eye(2) * implicit[:, None, None]
    down = -0.5 * IMPLICIT * C - np.eye(2) * implicit[:, None, None]
    if not closed:
        for end, inner in ((0, up), (n - 1, down)):
            up[end] = down[end] = 0.0
            centre = centre.copy()
            centre[end] = np.eye(2)
            inner[end] = [[0.0, 0.0], [0.0, -1.0]]  # x stays, z follows the neighbour
            right[end] = 0.0
    return r + _solve(down, centre, up, right), size


def _smoothed_spacing(values: np.ndarray, reach: np.ndarray, closed: bool) -> np.ndarray:
    """`values` (n,) diffused over `reach` (n,) points to either side, by one implicit step."""
    n = len(values)
    k = reach**2 + 1.0
    low, high = 0.5 * (k + np.roll(k, 1)), 0.5 * (k + np.roll(k, -1))
    if not closed:
        low[0] = high[-1] = 0.0
    i = np.arange(n)
    rows, cols = np.concatenate([i, i, i]), np.concatenate([i, (i - 1) % n, (i + 1) % n])
    matrix = coo_array((np.concatenate([1.0 + low + high, -low, -high]), (rows, cols)), shape=(n, n))
    return splu(matrix.tocsc()).solve(values)


def _solve(down, centre, up, right):
    """Solve the (periodic) block-tridiagonal system of 2 x 2 blocks."""
    n = len(centre)
    i = np.arange(n)
    rows, cols, values = [], [], []
    for block, j in ((down, (i - 1) % n), (centre, i), (up, (i + 1) % n)):
        for a in range(2):
            for b in range(2):
                rows.append(2 * i + a)
                cols.append(2 * j + b)
                values.append(block[:, a, b])
    matrix = coo_array((np.concatenate(values), (np.concatenate(rows), np.concatenate(cols))), shape=(2 * n, 2 * n))
    return splu(matrix.tocsc()).solve(right.ravel()).reshape(n, 2)
