"""Starting fields: from a coarser mesh, and from a neighbouring attitude or Mach number.

A cold start straight at a high alpha can lock in a separation that is not there (impulsively started vorticity meets
coarse-mesh losses at the nose), so a march walks up to its alpha in steps on the coarsest mesh; a sweep uses the same
turn from point to point. Near the wall, within 0.3 chord, the turn fades so that the flow stays along the surface.
Verified by tests/test_flow.py (same answer from either side) and validation/.
"""

import numpy as np
from scipy.spatial import cKDTree

from zephyrum.air import Freestream
from zephyrum.flow.gas import Law
from zephyrum.flow.turbulence.sst import BETA
from zephyrum.mesh import Mesh

ALPHA_STEP = 4.0  # degrees walked at once
NEAR_WALL = 0.3  # chords
DEAD = (
    0.02,
    0.3,
)  # of the total temperature, and of the dynamic pressure: error of air that a start without friction does not take over
COLD = 0.3  # least temperature over the total one that a start may have
LOWER = 0.5  # height of a cell over that of the one it takes its state from below which that is scaled down to it


def alpha_walk(alpha: float) -> list[float]:
    """Attitudes [deg] on the way from 0 to `alpha`, the last one being `alpha`."""
    steps = max(1, int(np.ceil(abs(alpha) / ALPHA_STEP - 1e-9)))
    return [alpha * (k + 1) / steps for k in range(steps)]


def carry_over(q: np.ndarray, mesh: Mesh, old: Freestream, new: Freestream, chord: float) -> np.ndarray:
    """States (n, unknowns) solved at `old`, turned and rescaled for `new`: velocities turn with the wind, Cp is kept."""
    out = q.copy()
    ratio = new.mach / old.mach
    out[:, 0] *= ratio**2
    out[:, 1:4] *= ratio
    out[:, 4] = np.maximum(1.0 + (q[:, 4] - 1.0) * ratio**2, COLD)
    # deep suction would fall below vacuum at a higher Mach number
    out[:, 0] = np.maximum(out[:, 0], -0.85 / new.gas.gamma)
    if q.shape[1] > 6:  # omega goes with the speed
        out[:, 6] += np.log(ratio)
    turn = np.radians(new.alpha - old.alpha)
    if turn != 0.0:
        wall = mesh.face_centroid[mesh.faces_of("wall")]
        share = np.ones(mesh.n_cells)
        if len(wall):
            share = np.minimum(1.0, cKDTree(wall).query(mesh.cell_centroid)[0] / (NEAR_WALL * chord))
        c, s = np.cos(turn * share), np.sin(turn * share)
        out[:, 1], out[:, 3] = c * out[:, 1] - s * out[:, 3], s * out[:, 1] + c * out[:, 3]
    return out


def first_guess(mesh: Mesh, law: Law, freestream: np.ndarray, chord: float, viscous: bool) -> np.ndarray:
    """(n, m) states to begin from: the freestream, in viscous flow slowed towards walls, with turbulence in the layer."""
    q = np.tile(freestream, (mesh.n_cells, 1))
    if not viscous or not len(mesh.faces_of("wall")):
        return q
    reynolds = np.linalg.norm(freestream[1:4]) * chord / law.viscosity
    turbulent = q.shape[1] > 5
    sst = q.shape[1] > 6
    # flat-plate thicknesses at the tail (Schlichting 1979, ch. 7 and 21), a third of it on average
    layer = chord / 3.0 * (0.37 * reynolds**-0.2 if turbulent else 5.0 / np.sqrt(reynolds))
    depth = mesh.body_distance / layer
    q[:, 1:4] *= np.tanh(depth)[:, None]
    bump = depth * np.exp(1.0 - depth)
    if sst:  # k typical of a layer, omega that of the sublayer upon that of the freestream
        q[:, 5] = q[:, 5] * np.tanh(depth) + 5.0 * bump
        q[:, 6] = np.logaddexp(q[:, 6], sublayer_rate(mesh, law))
    elif turbulent:
        q[:, 5] += 100.0 * bump
    return q


def prolong(q: np.ndarray, coarse, fine, law: Law, mach: float | None = None) -> np.ndarray:
    """Linear interpolation of states on the domain `coarse` to the cells of the next finer domain, kept physical.

    mach: Mach number of the stream, of a flow without friction that is to be rid of its dead air (see `_revived`).
    """
    slopes = np.zeros((len(q), q.shape[1], 3))
    coarse.gradient(q, slopes)
    parent = fine.mesh.parent
    offset = fine.mesh.cell_centroid - coarse.mesh.cell_centroid[parent]
    rise = np.einsum("nkj,nj->nk", slopes[parent], offset)
    layers = fine.mesh.dimension == 3 and not fine.mesh.planar
    if layers:
        up, aside, flat = _upwards(offset, coarse, fine)
        own = np.flatnonzero(flat)
        thin = np.flatnonzero(flat & (fine.mesh.cell_thin > 0.0))
        rise[thin, 0] = np.einsum("nj,nj->n", slopes[parent[thin], 0], aside[thin])
        rise[thin, 4] = np.einsum("nj,nj->n", slopes[parent[thin], 4], up[thin])
        rise[own, 1:4] = np.einsum("nkj,nj->nk", slopes[parent[own], 1:4], up[own])
        rise[own, 5:] = np.einsum("nkj,nj->nk", slopes[parent[own], 5:], up[own])
    # no further than the coarse cell's neighbours differ from it: in corners and gaps a middle may lie many cells off
    left, right = coarse.mesh.left[: coarse.mesh.n_interior], coarse.mesh.right
    step, most = np.abs(q[left] - q[right]), np.zeros_like(q)
    np.maximum.at(most, left, step)
    np.maximum.at(most, right, step)
    rise = np.clip(rise, -most[parent], most[parent])
    safe = (np.abs(rise[:, 4]) < 0.2 * q[parent, 4]) & (
        np.abs(law.gamma * rise[:, 0]) < 0.2 * (1.0 + law.gamma * q[parent, 0])
    )
    if q.shape[1] > 5:  # where nu~ or k would turn negative its mean is kept
        rise[:, 5] *= q[parent, 5] + rise[:, 5] > 0.0
    out = q[parent] + rise * safe[:, None]
    if (
        layers and q.shape[1] > 5
    ):  # where a column has no counterpart its cells take a state from high above: flow and eddies grow with the height
        low = fine.mesh.wall_distance / coarse.mesh.wall_distance[parent]
        share = np.where(low < LOWER, low, 1.0)[:, None]
        out[:, 1:4] *= share
        out[:, 5:6] *= share
    if layers and len(thin):
        _turn_along_walls(out, coarse.mesh, fine.mesh, thin)
    if q.shape[1] > 6:  # thinner cells see more of the sublayer's omega
        out[:, 6] = np.maximum(out[:, 6], sublayer_rate(fine.mesh, law))
    if mach is not None:
        _revived(out, fine.mesh, law.gamma, mach)
    return out


def _revived(q: np.ndarray, mesh: Mesh, gamma: float, mach: float) -> None:
    """Fill, in states q of a flow without friction, cells whose total temperature or (in a subsonic stream) pressure is not that of the stream from those round them.

    What a coarse mesh has heated or slowed down behind a blunt edge turns for ever in a finer one, where nothing carries it off: some hundred cells
    then keep a mesh of 200,000 from settling. Everywhere the temperature is made that of the stream's total one.
    """
    half = 0.5 * (gamma - 1.0)
    total = 1.0 + half * mach**2
    power = gamma / (gamma - 1.0)

    def heat():
        return np.einsum("ij,ij->i", q[:, 1:4], q[:, 1:4]) * half

    warm = heat()
    dead = np.abs((q[:, 4] + warm) / total - 1.0) > DEAD[0]
    if mach < 1.0:
        loss = total**power - (1.0 + gamma * q[:, 0]) * (1.0 + warm / q[:, 4]) ** power
        dead |= np.abs(loss) > DEAD[1] * 0.5 * gamma * mach**2
    left, right = mesh.left[: mesh.n_interior], mesh.right
    rim = dead[left] | dead[right]
    left, right = left[rim], right[rim]
    size = np.linalg.norm(mesh.face_area[: mesh.n_interior][rim], axis=1)
    known = ~dead
    while True:
        of_left, of_right = size * known[left], size * known[right]
        weight = np.bincount(right, of_left, len(q)) + np.bincount(left, of_right, len(q))
        fill = dead & (weight > 0.0)
        for j in range(4):
            mean = np.bincount(right, of_left * q[left, j], len(q)) + np.bincount(left, of_right * q[right, j], len(q))
            q[fill, j] = mean[fill] / weight[fill]
        if not (fill & ~known).any():
            break
        known |= fill
    q[:, 4] = np.maximum(total - heat(), COLD * total)


def _upwards(offset: np.ndarray, coarse, fine) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(ways (n, 3) upwards as long as the heights of coarse and fine cells over the wall differ, those (n, 3) along the wall, where in layers the two count
    instead of `offset` (n, 3)).

    Layers bend by more than they are high: along them a steep profile would pose as a slope, and across them the bend as a height.
    """
    height, parent = coarse.mesh.wall_distance, fine.mesh.parent
    slope = np.zeros((len(height), 1, 3))
    coarse.gradient(height[:, None].copy(), slope)
    n = (slope[:, 0] / np.maximum(np.linalg.norm(slope[:, 0], axis=1), 1e-300)[:, None])[parent]
    aside = offset - np.einsum("ij,ij->i", offset, n)[:, None] * n
    return (
        (fine.mesh.wall_distance - height[parent])[:, None] * n,
        aside,
        height[parent] < np.linalg.norm(aside, axis=1),
    )


def _turn_along_walls(out: np.ndarray, coarse: Mesh, fine: Mesh, own: np.ndarray) -> None:
    """Turn the velocities in the cells `own` of layers as the wall under them is turned against that under the cell they came from.

    Through the floor of a cell ten thousand times as wide as high the least inclination drives more than through its sides.
    """
    n = []
    for mesh, cells in ((fine, own), (coarse, fine.parent[own])):
        foot = mesh.feet[cells]
        n.append(mesh.face_area[foot])
        n[-1][foot < 0] = 0.0
    stands = (n[0] != 0.0).any(axis=1) & (n[1] != 0.0).any(axis=1)
    cells = own[stands]
    new, old = (one[stands] / np.linalg.norm(one[stands], axis=1)[:, None] for one in n)
    v = out[cells, 1:4]
    through = np.einsum("ij,ij->i", v, old)[:, None]
    along = v - through * old
    turned = along - np.einsum("ij,ij->i", along, new)[:, None] * new
    size = np.linalg.norm(along, axis=1) / np.maximum(np.linalg.norm(turned, axis=1), 1e-300)
    out[cells, 1:4] = np.minimum(size, 2.0)[:, None] * turned + through * new


def sublayer_rate(mesh: Mesh, law: Law) -> np.ndarray:
    """(n,) log(omega) of a viscous sublayer, 6 nu / (beta y^2) (Wilcox 2006, Turbulence Modeling for CFD, ch. 4)."""
    return np.log(6.0 * law.viscosity / (BETA[0] * mesh.wall_distance**2))
