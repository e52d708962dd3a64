"""Starting fields: from the freestream, from a coarser mesh, and from a neighbouring attitude or Mach number.

A cold start straight at a high alpha can keep a separation that a gradual start has not (the starting vortex meets the
losses of the coarse mesh at the nose), so a run raises its alpha in steps on the coarsest mesh; a sweep uses the same
turn from point to point. Near the wall the turn fades out, so that the flow stays along the surface.
Verified by tests/test_flow.py (same answer from either side) and validation/.
"""

import numpy as np
from scipy.spatial import cKDTree

from zephyrum.conditions import Freestream
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.nonlinear.flow_problem import FlowProblem
from zephyrum.flow.nonlinear.policies import StartUp
from zephyrum.flow.physics.gas_model import GasModel
from zephyrum.flow.physics.turbulence.sst import BETA
from zephyrum.mesh import Mesh

DEFAULT = StartUp()


def alpha_sequence(alpha: float, step: float) -> list[float]:
    """Angles of attack on the way from 0 to `alpha`, which is the last one.

    Parameters
    ----------
    alpha : float
        [deg]
    step : float
        Largest step [deg].

    Examples
    --------
    >>> alpha_sequence(10.0, 5.0)
    [5.0, 10.0]
    """
    steps = max(1, int(np.ceil(abs(alpha) / step - 1e-9)))
    return [alpha * (k + 1) / steps for k in range(steps)]


def transfer_condition(
    q: np.ndarray, mesh: Mesh, old: Freestream, new: Freestream, chord: float, start_up: StartUp = DEFAULT
) -> np.ndarray:
    """States solved at one condition, rotated and rescaled for another: velocities turn with the wind, Cp is kept.

    Parameters
    ----------
    q : (n, m) array
        States.
    mesh : Mesh
        Mesh.
    old, new : Freestream
        Conditions.
    chord : float
        Length of the Reynolds number [m].
    start_up : StartUp, optional
        Start-up policy.

    Returns
    -------
    (n, m) array

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> old, new = Freestream(mach=0.3), Freestream(mach=0.6)
    >>> q = np.tile([0.0, 0.3, 0.0, 0.0, 1.0], (mesh.n_cells, 1))
    >>> transfer_condition(q, mesh, old, new, 1.0)[0].round(3) + 0.0
    array([0. , 0.6, 0. , 0. , 1. ])
    """
    out = q.copy()
    ratio = new.mach / old.mach
    out[:, 0] *= ratio**2
    out[:, 1:4] *= ratio
    out[:, 4] = np.maximum(1.0 + (q[:, 4] - 1.0) * ratio**2, start_up.min_temperature_ratio)
    # deep suction would fall below vacuum at a higher Mach number
    out[:, 0] = np.maximum(out[:, 0], -0.85 / new.gas.gamma)
    if q.shape[1] > 6:  # omega goes with the speed
        out[:, 6] += np.log(ratio)
    turn = np.radians(new.alpha - old.alpha)
    if turn != 0.0:
        wall = mesh.face_centroid[mesh.faces_of("wall")]
        fraction = np.ones(mesh.n_cells)
        if len(wall):
            fraction = np.minimum(1.0, cKDTree(wall).query(mesh.cell_centroid)[0] / (start_up.turn_distance * chord))
        c, s = np.cos(turn * fraction), np.sin(turn * fraction)
        out[:, 1], out[:, 3] = c * out[:, 1] - s * out[:, 3], s * out[:, 1] + c * out[:, 3]
    return out


def initial_state(mesh: Mesh, law: GasModel, freestream: np.ndarray, chord: float, viscous: bool) -> np.ndarray:
    """States to begin from: the freestream, in viscous flow slowed towards walls, with turbulence in the layer.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    law : GasModel
        Gas in scaled units.
    freestream : (m,) array
        State of the freestream.
    chord : float
        [m]
    viscous : bool
        Whether the flow is viscous.

    Returns
    -------
    (n, m) array

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> initial_state(mesh, GasModel(1.4), np.array([0.0, 0.5, 0.0, 0.0, 1.0]), 1.0, False)[0]
    array([0. , 0.5, 0. , 0. , 1. ])
    """
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
        q[:, 6] = np.logaddexp(q[:, 6], log_sublayer_omega(mesh, law))
    elif turbulent:
        q[:, 5] += 100.0 * bump
    return q


def exhaust_mach(problem: FlowProblem) -> float:
    """Largest Mach number of the exhausts expanded to the static pressure of the stream; 0 without any.

    Parameters
    ----------
    problem : FlowProblem
        Problem.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> exhaust_mach(FlowProblem(mesh, Freestream(mach=0.3), mesh.reference))
    0.0
    """
    gas, gamma = problem.air.gas, problem.air.gas.gamma
    ratios = [1.0 + gamma * one.row[0] for one in problem.powered if one.exhaust]
    return max((gas.mach_of_pressure_ratio(ratio) for ratio in ratios), default=0.0)


def exhaust_start(problem: FlowProblem) -> np.ndarray | None:
    """State (5) to begin the flow inside a duct with: its exhaust expanded to the static pressure of the stream.

    Parameters
    ----------
    problem : FlowProblem
        Problem.

    Returns
    -------
    (5,) array or None
        None where there is a stream round a body.

    Notes
    -----
    From air at rest a shock runs through the duct, and in inviscid flow the vortex ring that it leaves on the axis does
    not decay: a nozzle of area ratio 1.8 at a pressure ratio of 8 did not start in 40 steps, from this state it does.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> exhaust_start(FlowProblem(mesh, Freestream(mach=0.3), mesh.reference)) is None
    True
    """
    exhausts = [one for one in problem.powered if one.exhaust]
    if not exhausts or len(problem.mesh.faces_of("farfield", "imposed")):
        return None
    gas, first = problem.air.gas, exhausts[0]
    mach = gas.mach_of_pressure_ratio(1.0 + gas.gamma * first.row[0])
    temperature = first.row[4] / gas.total_temperature_ratio(mach)
    speed = mach * np.sqrt(temperature)
    area = problem.mesh.face_area[problem.mesh.group(first.name).faces].sum(axis=0)
    way = -area / np.linalg.norm(area) if first.along_normal else np.array(first.row[1:4])
    return np.array([0.0, *(speed * way / np.linalg.norm(way)), temperature])


def prolongate(
    q: np.ndarray,
    coarse: FaceData,
    fine: FaceData,
    law: GasModel,
    mach: float | None = None,
    start_up: StartUp = DEFAULT,
) -> np.ndarray:
    """Interpolate states linearly from a mesh to the cells of the next finer one, kept physical.

    Parameters
    ----------
    q : array (n, m)
        States on the coarse mesh.
    coarse, fine : FaceData
    law : GasModel
    mach : float, optional
        Mach number of the stream; give it for inviscid flow whose dead air is to be replaced (see `_replace_dead_air`).
    start_up : StartUp

    Returns
    -------
    array (n_fine, m)

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> fine = mesh_airfoil(Airfoil.naca("0012"), 64, 16)
    >>> coarse = fine.coarser
    >>> q = np.tile([0.0, 0.5, 0.0, 0.0, 1.0], (coarse.n_cells, 1))
    >>> states = prolongate(q, FaceData.of(coarse), FaceData.of(fine), GasModel(1.4))
    >>> states.shape == (fine.n_cells, 5)
    True
    """
    gradients = np.zeros((len(q), q.shape[1], 3))
    coarse.gradient(q, gradients)
    parent = fine.mesh.parent
    offset = fine.mesh.cell_centroid - coarse.mesh.cell_centroid[parent]
    increment = np.einsum("nkj,nj->nk", gradients[parent], offset)
    layers = fine.mesh.dimension == 3 and not fine.mesh.planar
    if layers:
        up, aside, flat = _wall_normal_offsets(offset, coarse, fine)
        own = np.flatnonzero(flat)
        thin = np.flatnonzero(flat & (fine.mesh.cell_thin > 0.0))
        increment[thin, 0] = np.einsum("nj,nj->n", gradients[parent[thin], 0], aside[thin])
        increment[thin, 4] = np.einsum("nj,nj->n", gradients[parent[thin], 4], up[thin])
        increment[own, 1:4] = np.einsum("nkj,nj->nk", gradients[parent[own], 1:4], up[own])
        increment[own, 5:] = np.einsum("nkj,nj->nk", gradients[parent[own], 5:], up[own])
    # no further than the coarse cell's neighbours differ from it: in corners and gaps a centre may lie many cells off
    left, right = coarse.mesh.left[: coarse.mesh.n_interior], coarse.mesh.right
    step, largest_jump = np.abs(q[left] - q[right]), np.zeros_like(q)
    np.maximum.at(largest_jump, left, step)
    np.maximum.at(largest_jump, right, step)
    increment = np.clip(increment, -largest_jump[parent], largest_jump[parent])
    safe = (np.abs(increment[:, 4]) < 0.2 * q[parent, 4]) & (
        np.abs(law.gamma * increment[:, 0]) < 0.2 * (1.0 + law.gamma * q[parent, 0])
    )
    if q.shape[1] > 5:  # where nu~ or k would turn negative its mean is kept
        increment[:, 5] *= q[parent, 5] + increment[:, 5] > 0.0
    out = q[parent] + increment * safe[:, None]
    if (
        layers and q.shape[1] > 5
    ):  # where a column has no counterpart its cells take a state from high above: flow and eddies grow with the height
        low = fine.mesh.wall_distance / coarse.mesh.wall_distance[parent]
        fraction = np.where(low < start_up.thinner_cell_ratio, low, 1.0)[:, None]
        out[:, 1:4] *= fraction
        out[:, 5:6] *= fraction
    if layers and len(thin):
        _align_with_walls(out, coarse.mesh, fine.mesh, thin)
    if q.shape[1] > 6:  # thinner cells see more of the sublayer's omega
        out[:, 6] = np.maximum(out[:, 6], log_sublayer_omega(fine.mesh, law))
    if mach is not None:
        _replace_dead_air(out, fine.mesh, law.gamma, mach, start_up)
    return out


def _replace_dead_air(q: np.ndarray, mesh: Mesh, gamma: float, mach: float, start_up: StartUp) -> None:
    """Interpolate the states q of cells whose total temperature or pressure is not that of the stream, in place.

    Air that a coarse mesh has heated or slowed down behind a blunt edge recirculates for ever on a finer one, where
    nothing convects it away: some hundred cells then keep a mesh of 200,000 from converging. The total pressure counts
    in a subsonic stream only. In all cells the temperature is set from the total temperature of the stream.
    """
    half = 0.5 * (gamma - 1.0)
    total = 1.0 + half * mach**2
    power = gamma / (gamma - 1.0)

    def kinetic_temperature():
        return np.einsum("ij,ij->i", q[:, 1:4], q[:, 1:4]) * half

    kinetic = kinetic_temperature()
    dead = np.abs((q[:, 4] + kinetic) / total - 1.0) > start_up.dead_air_temperature
    if mach < 1.0:
        loss = total**power - (1.0 + gamma * q[:, 0]) * (1.0 + kinetic / q[:, 4]) ** power
        dead |= np.abs(loss) > start_up.dead_air_pressure * 0.5 * gamma * mach**2
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
    q[:, 4] = np.maximum(total - kinetic_temperature(), start_up.min_temperature_ratio * total)


def _wall_normal_offsets(offset: np.ndarray, coarse, fine) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(ways (n, 3) upwards as long as the heights of coarse and fine cells over the wall differ, those (n, 3) along the
    wall, where in layers the two count instead of `offset` (n, 3)).

    Layers curve by more than they are high: along them a steep profile would pose as a slope, and across them the bend
    as a height.
    """
    height, parent = coarse.mesh.wall_distance, fine.mesh.parent
    normal_direction = np.zeros((len(height), 1, 3))
    coarse.gradient(height[:, None].copy(), normal_direction)
    n = (normal_direction[:, 0] / np.maximum(np.linalg.norm(normal_direction[:, 0], axis=1), 1e-300)[:, None])[parent]
    aside = offset - np.einsum("ij,ij->i", offset, n)[:, None] * n
    return (
        (fine.mesh.wall_distance - height[parent])[:, None] * n,
        aside,
        height[parent] < np.linalg.norm(aside, axis=1),
    )


def _align_with_walls(out: np.ndarray, coarse: Mesh, fine: Mesh, own: np.ndarray) -> None:
    """Turn the velocities in the cells `own` of layers as the wall under them is turned against that under the cell
    they came from.

    Through the floor of a cell ten thousand times as wide as high the least inclination drives more than through its
    sides.
    """
    n = []
    for mesh, cells in ((fine, own), (coarse, fine.parent[own])):
        foot = mesh.wall_face_of_cell[cells]
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


def log_sublayer_omega(mesh: Mesh, law: GasModel) -> np.ndarray:
    """log(omega) of a viscous sublayer, 6 nu / (beta y^2) (Wilcox 2006, Turbulence Modeling for CFD, ch. 4).

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    law : GasModel
        Gas in scaled units.

    Returns
    -------
    (n,) array

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, first_height=1e-4)
    >>> omega = log_sublayer_omega(mesh, GasModel(1.4, viscosity=1e-6))
    >>> int(omega.argmax()) == int(mesh.wall_distance.argmin())
    True
    """
    return np.log(6.0 * law.viscosity / (BETA[0] * mesh.wall_distance**2))
