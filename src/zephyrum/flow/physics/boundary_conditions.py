"""What the outside does at a boundary face: one flux for each role.

- wall, slip, symmetry (inviscid): no flow through; only the pressure, extrapolated to the face, acts. On flat faces of
  curved walls the flow follows the curved wall, not the face (Krivodonova and Berger 2006; see `mesh.wall_shape`).
- farfield: one-dimensional Riemann invariants decide face by face what enters and what leaves (Thomas and Salas 1986,
  AIAA J. 24:1074), at low Mach number only the pressure outside acts on what leaves; in two dimensions the outer state
  carries the compressible vortex of the lift found so far, so that a farfield at 30 to 100 chords acts like infinity.
- outflow: the static pressure outside acts on what leaves, all else comes from inside, so that boundary layers and
  wakes pass; what leaves faster than sound keeps its own pressure, from Mach 0.9 on a part of it.
- imposed: Roe's flux against a given outer state.
- exhaust, intake: an engine blows or sucks, see `powered_boundaries`.
- periodic: no flux of its own, see `periodic_interface`.
Verified by tests/test_flow.py (freestream preserved) and validation/.
"""

import math
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from zephyrum._core.jit import inner_serial, serial
from zephyrum.flow.physics.gas_model import Scales
from zephyrum.flow.physics.inviscid_flux import euler_flux, roe_flux
from zephyrum.flow.physics.powered_boundaries import PoweredGroup, exhaust_state, intake_state
from zephyrum.flow.physics.smoothing import smoothstep
from zephyrum.flow.physics.turbulence.sa import ROUGH_CHI, ROUGH_SHIFT
from zephyrum.mesh import Mesh
from zephyrum.mesh.wall_shape import wall_shape_of

OUTFLOW_BLEND = 0.9  # Mach number through an outflow from which its own pressure begins to count, wholly from 1 on
LOW_SPEED_MACH = 0.3  # Mach number of the stream below which a farfield lets air out at the pressure outside
SLIP, FARFIELD, IMPOSED, NO_SLIP, OUTFLOW, PERIODIC, EXHAUST, INTAKE = range(8)
ROLE_CODES = {
    "wall": NO_SLIP,
    "ground": NO_SLIP,
    "slip": SLIP,
    "symmetry": SLIP,
    "farfield": FARFIELD,
    "outflow": OUTFLOW,
    "imposed": IMPOSED,
    "periodic": PERIODIC,
    "exhaust": EXHAUST,
    "intake": INTAKE,
}


def set_curved_wall_normals(mesh: Mesh, states: np.ndarray, model: str) -> None:
    """Write the normals of curved walls to the rows of walls where the flow slips.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    states : (nb, m) array
        Changed in place.
    model : str
        Flow model.
    """
    roles = slip_wall_roles(model)
    faces = mesh.faces_of(*roles)
    if len(faces):
        states[faces - mesh.n_interior, 1:4] = wall_shape_of(mesh, roles).normal


def slip_wall_roles(model: str) -> tuple[str, ...]:
    """Roles of walls, curved or not, along which the flow slips.

    Parameters
    ----------
    model : str
        Flow model.

    Examples
    --------
    >>> slip_wall_roles("euler"), slip_wall_roles("sa")
    (('wall', 'slip'), ('slip',))
    """
    return tuple(role for role in ("wall", "slip") if boundary_code(role, model) == SLIP)


def boundary_code(role: str, model: str) -> int:
    """Code of the boundary condition of a role; walls and ground slip in inviscid flow.

    Parameters
    ----------
    role : str
        Role of the boundary group.
    model : str
        Flow model.

    Examples
    --------
    >>> boundary_code("wall", "euler") == SLIP, boundary_code("wall", "sa") == NO_SLIP
    (True, True)
    """
    return SLIP if role in ("wall", "ground") and model == "euler" else ROLE_CODES[role]


@serial
def boundary_flux(
    code: int, inside: tuple[float, ...], outside: tuple[float, ...], normal: tuple[float, float, float], gamma: float
):
    """Flux (5) out of the domain through a unit area.

    Parameters
    ----------
    code : int
        Code of the boundary condition.
    inside, outside : tuple[float, ...]
        States (5).
    normal : tuple[float, float, float]
        Unit normal (3).
    gamma : float
        Ratio of the specific heats.

    Examples
    --------
    >>> at_rest = (0.0, 0.0, 0.0, 0.0, 1.0)
    >>> flux = boundary_flux(SLIP, at_rest, at_rest, (1.0, 0.0, 0.0), 1.4)
    >>> [round(float(value), 6) for value in flux]
    [0.0, 0.0, 0.0, 0.0, 0.0]
    """
    p, u, v, w, T = inside
    pe, ue, ve, we, _ = outside
    nx, ny, nz = normal
    if code == SLIP and ue * ue + ve * ve + we * we > 0.0:  # along the curved wall that the face stands for
        through = u * ue + v * ve + w * we
        return euler_flux((p, u - through * ue, v - through * ve, w - through * we, T), normal, gamma)
    if code in (SLIP, NO_SLIP):
        return 0.0, p * nx, p * ny, p * nz, 0.0
    if code == PERIODIC:
        return 0.0, 0.0, 0.0, 0.0, 0.0
    if code == IMPOSED:
        return roe_flux(inside, outside, normal, gamma)
    if code == OUTFLOW:
        # a step at Mach 1 stops Newton's method where the edge of a layer leaves near the speed of sound: plate, SA,
        # Mach 2, Re 1.05e7, residual 2.8 orders down
        own_pressure = smoothstep((u * nx + v * ny + w * nz) / math.sqrt(T), OUTFLOW_BLEND, 1.0)
        return euler_flux((pe + own_pressure * (p - pe), u, v, w, T), normal, gamma)
    if code == EXHAUST:
        return euler_flux(exhaust_state(inside, outside, normal, gamma), normal, gamma)
    if code == INTAKE:
        return euler_flux(intake_state(inside, pe, normal, gamma), normal, gamma)
    return euler_flux(_farfield_state(inside, outside, normal, gamma), normal, gamma)


@inner_serial
def _farfield_state(inside, outside, normal, gamma):
    """State (5) at a farfield face from one-dimensional Riemann invariants; see the top of this file."""
    p, u, v, w, T = inside
    pe, ue, ve, we, te = outside
    nx, ny, nz = normal
    g1 = gamma - 1.0
    ui, uo = u * nx + v * ny + w * nz, ue * nx + ve * ny + we * nz
    ai, ao = math.sqrt(T), math.sqrt(te)
    leaving, entering = ui + 2.0 * ai / g1, uo - 2.0 * ao / g1
    if uo < -ao:
        leaving = uo + 2.0 * ao / g1
    elif ui > ai:
        entering = ui - 2.0 * ai / g1
    ub = 0.5 * (leaving + entering)
    ab = max(0.25 * g1 * (leaving - entering), 1e-3)
    if ub > 0.0:
        pb, tb, normal_shift, us, vs, ws = p, T, ub - ui, u, v, w
    else:
        pb, tb, normal_shift, us, vs, ws = pe, te, ub - uo, ue, ve, we
    # same entropy as the side the air comes from: p ~ T^(gamma / (gamma - 1))
    wave = ((1.0 + gamma * pb) * (ab * ab / tb) ** (gamma / g1) - 1.0) / gamma
    # in slow streams what leaves takes the pressure outside: as a sound wave the deficit of a wake would be many times
    # its own dynamic pressure, and the wake would be reflected (the scaling of velocity jumps in `inviscid_flux`)
    stream = math.sqrt(ue * ue + ve * ve + we * we)
    low_speed = max(1.0 - stream / (ao * LOW_SPEED_MACH), 0.0)
    wave_fraction = 1.0 - low_speed * smoothstep(ub / (stream + 1e-12), 0.0, 0.5)
    pe = pe + wave_fraction * (wave - pe)
    te = tb * ((1.0 + gamma * pe) / (1.0 + gamma * pb)) ** (g1 / gamma)
    normal_shift *= wave_fraction
    return pe, us + normal_shift * nx, vs + normal_shift * ny, ws + normal_shift * nz, te


@dataclass(frozen=True, eq=False)
class WallData:
    """Conditions of the walls of one mesh, a row for every boundary face (rows of other faces have no meaning).

    Attributes
    ----------
    velocity : (nb, 3) array
        [m/s]
    temperature : (nb,) array
        [K]; 0 where adiabatic.
    roughness : (nb,) array
        Sand-grain height [m].
    laminar : (nb,) array
        Whether the boundary layer is held laminar.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> walls = WallData.plain(mesh)
    >>> walls.velocity.shape == (len(mesh.left) - mesh.n_interior, 3)
    True
    >>> float(walls.roughness.max())
    0.0
    """

    velocity: np.ndarray
    temperature: np.ndarray
    roughness: np.ndarray
    laminar: np.ndarray

    @classmethod
    def plain(cls, mesh: Mesh) -> "WallData":
        """Walls at rest, adiabatic, smooth, fully turbulent.

        Parameters
        ----------
        mesh : Mesh
            Mesh.

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O")
        >>> bool(WallData.plain(mesh).velocity.any())
        False
        """
        n = mesh.n_faces - mesh.n_interior
        return cls(np.zeros((n, 3)), np.zeros(n), np.zeros(n), np.zeros(n, dtype=bool))

    def wall_data(self, mesh: Mesh) -> np.ndarray:
        """What each cell must know of the wall next to it.

        Parameters
        ----------
        mesh : Mesh
            Mesh.

        Returns
        -------
        (n, 3) array
            Wall distance [m], roughness shift, fraction of the production.
        """
        distance = mesh.wall_distance
        out = np.stack([distance, np.zeros(len(distance)), np.ones(len(distance))], axis=1)
        if self.roughness.any() or self.laminar.any():
            faces = mesh.faces_of("wall")
            _, closest = cKDTree(mesh.face_centroid[faces]).query(mesh.cell_centroid)
            own = (faces - mesh.n_interior)[closest]
            out[:, 0] += ROUGH_SHIFT * self.roughness[own]
            out[:, 1] = ROUGH_CHI * self.roughness[own] / out[:, 0]
            out[:, 2] = ~self.laminar[own]
        return out


def set_powered_rows(mesh: Mesh, states: np.ndarray, powered: tuple[PoweredGroup, ...]) -> None:
    """Write what engines do to the rows of their boundary faces.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    states : (nb, m) array
        Changed in place.
    powered : tuple[PoweredGroup, ...]
        Powered boundary groups.
    """
    for one in powered:
        faces = mesh.group(one.name).faces
        own = slice(faces.start - mesh.n_interior, faces.stop - mesh.n_interior)
        states[own, :5] = one.row
        if one.along_normal:
            area = mesh.face_area[faces]
            states[own, 1:4] = -one.along_normal * area / np.linalg.norm(area, axis=1)[:, None]


def exterior_states(mesh: Mesh, scales: Scales, lift: float, vortex: bool, walls: WallData | None = None) -> np.ndarray:
    """Scaled states outside every boundary face.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    scales : Scales
        Scales of the freestream.
    lift : float
        CL times chord [m].
    vortex : bool
        Whether the vortex is added.
    walls : WallData, optional
        Conditions of the walls; plain ones without it.

    Returns
    -------
    (n_boundary, m) array

    Notes
    -----
    They are those of the freestream with the vortex of a lifting section in compressible subsonic flow, whose pressure
    and temperature keep total enthalpy and entropy. Rows of symmetry and of slip are 0 (see `set_curved_wall_normals`).
    The row of a wall holds its velocity, its temperature (0: adiabatic) and the shift of the wall distance by its
    roughness.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> mesh, air = mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.5)
    >>> outside = exterior_states(mesh, Scales.of(air), 0.0, False)
    >>> outside[-1]
    array([ 0. ,  0.5, -0. ,  0. ,  1. ])
    """
    ni = mesh.n_interior
    states = np.tile(scales.freestream, (mesh.n_faces - ni, 1))
    if vortex and lift != 0.0:
        mach, gamma = scales.mach, scales.gamma
        dx, _, dz = (mesh.face_centroid[ni:] - np.asarray(mesh.reference.point)).T
        alpha = math.atan2(scales.freestream[3], scales.freestream[1])
        r, theta = np.hypot(dx, dz), np.arctan2(dz, dx)
        r[mesh.faces_of("wall", "ground") - ni] = np.inf  # the vortex is for the farfield only
        beta = math.sqrt(1.0 - mach**2)
        around = 0.5 * lift * mach * beta / (2.0 * math.pi * r * (1.0 - (mach * np.sin(theta - alpha)) ** 2))
        states[:, 1] += around * np.sin(theta)
        states[:, 3] -= around * np.cos(theta)
        speed2 = np.einsum("ij,ij->i", states[:, 1:4], states[:, 1:4])
        states[:, 4] = 1.0 + 0.5 * (gamma - 1.0) * (mach**2 - speed2)
        states[:, 0] = (states[:, 4] ** (gamma / (gamma - 1.0)) - 1.0) / gamma
    wall = mesh.faces_of("wall", "ground") - ni
    states[wall] = states[mesh.faces_of("slip", "symmetry") - ni] = 0.0
    if walls is not None:
        states[wall, 1:4] = walls.velocity[wall] / scales.speed
        states[wall, 4] = walls.temperature[wall] / scales.temperature
        states[wall, 5:6] = ROUGH_SHIFT * walls.roughness[wall, None]
    return states
