"""Solutions of a lattice for unit motions of the aircraft, and the quadratic forms of its forces.

Verified by tests/test_lattice.py.
"""

import functools
from dataclasses import dataclass

import numpy as np
from scipy.linalg import lu_factor, lu_solve

from zephyrum.loworder.vortex_lattice.far_plane import filament_widths, wake_normal_velocity
from zephyrum.loworder.vortex_lattice.influence import Filaments, induced_velocities, normal_velocities
from zephyrum.loworder.vortex_lattice.lattice import Lattice, LatticeOptions
from zephyrum.loworder.vortex_lattice.setting import LatticeSetting
from zephyrum.loworder.vortex_lattice.slender_bodies import SlenderBodies

MOTIONS = 6  # stream along x, y, z and rotation about x, y, z, of unit size


@dataclass(frozen=True)
class Factor:
    """The matrix of a lattice in one setting, factorised.

    Attributes
    ----------
    filaments : Filaments
        Vortices in the axes of Prandtl and Glauert, x over sqrt(1 - M^2).
    lu : tuple
        Factors.
    beta : float
        sqrt(1 - M^2)
    setting : LatticeSetting
        Mach number, wakes and ground.
    bodies : SlenderBodies, optional
        Bodies beside the lattice.
    """

    filaments: Filaments
    lu: tuple
    beta: float
    setting: LatticeSetting
    bodies: SlenderBodies | None = None

    @classmethod
    def of(
        cls, lattice: Lattice, options: LatticeOptions, setting: LatticeSetting, bodies: SlenderBodies | None = None
    ) -> "Factor":
        """Assemble and factorise.

        Parameters
        ----------
        lattice : Lattice
            Lattice.
        options : LatticeOptions
            Options.
        setting : LatticeSetting
            Mach number, wakes and ground.
        bodies : SlenderBodies, optional
            Bodies beside the lattice.
        """
        beta = float(np.sqrt(1.0 - setting.mach**2))
        shrink = np.array([1.0 / beta, 1.0, 1.0])
        direction = np.array(setting.wake) * shrink
        nodes = lattice.filaments
        if setting.nodes:
            nodes = np.concatenate([nodes, np.reshape(setting.nodes, (len(nodes), -1, 3))], axis=1)
        filaments = Filaments(
            nodes * shrink,
            lattice.left,
            lattice.right,
            lattice.filament_surface,
            options.core * filament_widths(lattice),
            direction / np.linalg.norm(direction),
            lattice.rows,
        )
        # mass flux through the surface: (1 - M^2) u nx + v ny + w nz with u = U / sqrt(1 - M^2) in these axes
        stretch = np.array([beta, 1.0, 1.0])
        points, normals = lattice.controls.reshape(-1, 3), lattice.normals.reshape(-1, 3)
        surface = np.repeat(lattice.surface, lattice.rows)
        matrix = normal_velocities(points * shrink, normals * stretch, surface, filaments)
        if setting.ground is not None:  # the image of the lattice: the flow at the image of the point, mirrored
            there, square = setting.reflected(points, True), setting.reflected(normals, False)
            matrix += normal_velocities(there * shrink, square * stretch, np.full(len(points), -1), filaments)
        if bodies is not None:  # doublets in the crossflow that the vortices induce at the bodies
            of_doublets = np.einsum("mi,mnik->mnk", normals * stretch, bodies.influence(points, beta))
            for k in range(3):
                unit = np.zeros_like(bodies.points)
                unit[:, k] = shrink[k]
                crossflow = normal_velocities(bodies.points * shrink, unit, np.full(len(unit), -1), filaments)
                matrix += of_doublets[:, :, k] @ crossflow
        return cls(filaments, lu_factor(matrix, overwrite_a=True, check_finite=False), beta, setting, bodies)

    def displaced(self, points: np.ndarray, crossflow: np.ndarray) -> np.ndarray:
        """(n, n_sets, 3) velocity of the doublets of the bodies at points (n, 3) in crossflows (n_slices, n_sets, 3).

        Parameters
        ----------
        points : (n, 3) array
            Body axes [m].
        crossflow : (n_slices, n_sets, 3) array
            [m/s]
        """
        if self.bodies is None:
            return np.zeros((len(points), crossflow.shape[1], 3))
        shrink = np.array([1.0 / self.beta, 1.0, 1.0])
        influence = self.bodies.influence(points, self.beta).transpose(0, 2, 1, 3).reshape(3 * len(points), -1)
        made = influence @ crossflow.transpose(0, 2, 1).reshape(influence.shape[1], -1)
        return made.reshape(len(points), 3, -1).transpose(0, 2, 1) * shrink

    def induced(self, points: np.ndarray, surface: np.ndarray, circulation: np.ndarray) -> np.ndarray:
        """(n, n_sets, 3) velocity induced at points (n, 3) on surfaces (n,) by circulation (n_panels, n_sets).

        Parameters
        ----------
        points : (n, 3) array
            Body axes [m].
        surface : (n,) array
            Number of the surface on which each point lies, -1 for none.
        circulation : (n_panels, n_sets) array
            [m^2/s]
        """
        shrink = np.array([1.0 / self.beta, 1.0, 1.0])
        strength = np.ascontiguousarray(circulation)
        made = induced_velocities(points * shrink, surface, self.filaments, strength) * shrink
        if self.setting.ground is not None:
            there = self.setting.reflected(points, True)
            image = induced_velocities(there * shrink, np.full(len(points), -1), self.filaments, strength) * shrink
            made = made + self.setting.reflected(image, False)
        return made


def deflected_normals(lattice: Lattice, angles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Normals at the control points with controls deflected, and their derivatives.

    Parameters
    ----------
    lattice : Lattice
        Lattice.
    angles : (n_controls,) array
        Deflections [deg].

    Returns
    -------
    normals : (n_strips, rows, 3) array
        Unit normals turned about the hinge lines; the lattice itself stays in place.
    slopes : (n_strips, rows, 3) array
        Their derivative with the deflection of the control of each strip [1/rad].

    Examples
    --------
    >>> import zephyrum as zy
    >>> from zephyrum.loworder.vortex_lattice.lattice import build_lattice
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012",
    ...                controls={"flap": zy.Control(start=0.1, end=0.6)})
    >>> lattice = build_lattice(zy.Aircraft(name="plank", parts={"wing": wing}))
    >>> normals, slopes = deflected_normals(lattice, np.array([90.0]))
    >>> bool(np.allclose(normals[lattice.control == 0][:, -1], [1.0, 0.0, 0.0], atol=1e-6))
    True
    """
    normals, slopes = lattice.normals.copy(), np.zeros_like(lattice.normals)
    for strip in np.nonzero(lattice.control >= 0)[0]:
        front, axis = lattice.front[strip], lattice.hinge_axis[strip]
        angle = np.radians(angles[lattice.control[strip]]) * lattice.sense[strip]
        share = np.r_[lattice.constants[strip, 1], np.ones(lattice.rows - front)][:, None]
        n = lattice.normals[strip, front - 1 :]
        across, along = np.cross(axis, n), axis * (n @ axis)[:, None]
        turned = n * np.cos(angle) + across * np.sin(angle) + along * (1.0 - np.cos(angle))
        slope = -n * np.sin(angle) + across * np.cos(angle) + along * np.sin(angle)
        normals[strip, front - 1 :] += share * (turned - n)
        slopes[strip, front - 1 :] = share * slope * lattice.sense[strip]
    return normals, slopes


def motion_velocities(points: np.ndarray, centre: np.ndarray) -> np.ndarray:
    """Velocity of the air past points of a body that moves in six ways of unit size.

    Parameters
    ----------
    points : (..., 3) array
        [m]
    centre : (3,) array
        Point about which the body turns [m].

    Returns
    -------
    (..., 6, 3) array
        For a stream along x, y, z and rotations of the body about x, y, z.

    Examples
    --------
    >>> motion_velocities(np.array([1.0, 0.0, 0.0]), np.zeros(3))[4].tolist()  # nose-up: the tail goes down
    [0.0, 0.0, 1.0]
    """
    arm = points - centre
    out = np.zeros((*points.shape[:-1], MOTIONS, 3))
    for k in range(3):
        out[..., k, k] = 1.0
        out[..., 3 + k, :] = -np.cross(np.eye(3)[k], arm) + 0.0
    return out


@dataclass(frozen=True)
class Basis:
    """Solutions of unit motions and what follows from them.

    Attributes
    ----------
    lattice : Lattice
        Lattice.
    factor : Factor
        Matrix at one Mach number.
    centre : (3,) array
        Point about which the aircraft turns and about which moments are taken [m].
    angles : (n_controls,) array
        Deflections [deg].
    controls : tuple[int, ...]
        Controls whose derivatives there are.
    circulation : (n_panels, n_sets) array
        Circulation of the rings: of the six motions, and six derivatives for each of `controls`.
    velocity : (n_panels, n_sets, 3) array
        At the bound vortices, without the component normal to the surface.
    suction : (n_strips, n_sets) array
        Coefficient G of the vorticity at the leading edge, gamma = G / sqrt(x / c).
    crossflow : (n_slices, n_sets, 3) array
        Velocities at the slices of bodies.

    Notes
    -----
    All for a stream of unit speed and density; sets 6 + 6 j + k are derivatives of set k with the deflection of control
    `controls[j]` [1/rad].
    """

    lattice: Lattice
    factor: Factor
    centre: np.ndarray
    angles: np.ndarray
    controls: tuple[int, ...]
    circulation: np.ndarray
    velocity: np.ndarray
    suction: np.ndarray
    crossflow: np.ndarray

    @classmethod
    def of(
        cls,
        lattice: Lattice,
        factor: Factor,
        centre: np.ndarray,
        angles: np.ndarray,
        controls: tuple[int, ...] = (),
    ) -> "Basis":
        """Solve for all unit motions.

        Parameters
        ----------
        lattice : Lattice
            Lattice.
        factor : Factor
            Its matrix.
        centre : (3,) array
            Point about which the aircraft turns [m].
        angles : (n_controls,) array
            Deflections [deg].
        controls : tuple[int, ...], optional
            Numbers of the controls whose derivatives are wanted.
        """
        normals, slopes = deflected_normals(lattice, angles)
        onset = motion_velocities(lattice.controls, centre)
        slices = np.zeros((0, 3)) if factor.bodies is None else factor.bodies.points
        given = motion_velocities(slices, centre)
        controls_at = lattice.controls.reshape(-1, 3)
        # the mass flux of the doublets in terms of a velocity, as that of the stream
        wash = factor.displaced(controls_at, given) * [factor.beta**2, 1.0, 1.0]
        onset = onset + wash.reshape(*lattice.controls.shape[:2], MOTIONS, 3)
        sides = [-np.einsum("srmk,srk->srm", onset, normals)]
        for control in controls:
            own = slopes * (lattice.control == control)[:, None, None]
            sides.append(-np.einsum("srmk,srk->srm", onset, own))
        right = np.concatenate(sides, axis=2).reshape(lattice.n_panels, -1)
        circulation = lu_solve(factor.lu, right, check_finite=False)
        points, surface = lattice.bound.reshape(-1, 3), np.repeat(lattice.surface, lattice.rows)
        crossflow = factor.induced(slices, np.full(len(slices), -1), circulation)
        crossflow[:, :MOTIONS] += given
        velocity = factor.induced(points, surface, circulation) + factor.displaced(points, crossflow)
        velocity[:, :MOTIONS] += motion_velocities(points, centre)
        n = lattice.bound_normals.reshape(-1, 3)
        velocity -= np.einsum("pmk,pk->pm", velocity, n)[:, :, None] * n[:, None, :]
        # mass flux through the leading edge that the lattice leaves over
        wash = factor.induced(lattice.leading, lattice.surface, circulation)
        wash = (wash + factor.displaced(lattice.leading, crossflow)) * [factor.beta**2, 1.0, 1.0]
        wash[:, :MOTIONS] += motion_velocities(lattice.leading, centre)
        residual = np.einsum("smk,sk->sm", wash, lattice.leading_normals)
        cosine = 1.0 / np.sqrt(1.0 + (1.0 / lattice.sweep**2 - 1.0) / factor.beta**2)  # in the axes of the factor
        suction = residual * (cosine / (lattice.constants[:, 0] * factor.beta))[:, None]
        return cls(lattice, factor, centre, angles, controls, circulation, velocity, suction, crossflow)

    @functools.cached_property
    def rings(self) -> np.ndarray:
        """(n_strips, rows, n_sets) circulation of the rings."""
        return self.circulation.reshape(len(self.lattice.left), self.lattice.rows, -1)

    @functools.cached_property
    def panel_forces(self) -> np.ndarray:
        """(n_strips, rows, n_sets, n_sets, 3) forces of bound vortices of one set in the velocity of another."""
        lattice = self.lattice
        net = np.diff(self.rings, axis=1, prepend=0.0)
        segment = lattice.filaments[lattice.right, :-1] - lattice.filaments[lattice.left, :-1]
        velocity = self.velocity.reshape(*net.shape, 3)
        return net[:, :, :, None, None] * np.cross(velocity, segment[:, :, None, :])[:, :, None, :, :]

    @functools.cached_property
    def suction_forces(self) -> np.ndarray:
        """(n_strips, n_sets, n_sets, 3) suction of the leading edge."""
        lattice, cosine = self.lattice, self.lattice.sweep
        mach_square = 1.0 - self.factor.beta**2
        size = 0.25 * np.pi * lattice.chord * lattice.width * np.sqrt(1.0 - mach_square * cosine**2) / cosine**2
        g = self.suction * np.sqrt(size)[:, None]
        return (g[:, :, None] * g[:, None, :])[..., None] * lattice.suction[:, None, None, :]

    @functools.cached_property
    def side_forces(self) -> tuple[np.ndarray, np.ndarray]:
        """Points (n_filaments, rows, 3) of the segments along the chord and their forces (..., n_sets, n_sets, 3)."""
        lattice = self.lattice
        nodes = lattice.filaments
        along = np.zeros((len(nodes), lattice.rows, self.rings.shape[2]))
        np.add.at(along, lattice.right, self.rings)
        np.subtract.at(along, lattice.left, self.rings)
        middle, segment = 0.5 * (nodes[:, 1:] + nodes[:, :-1]), nodes[:, 1:] - nodes[:, :-1]
        onset = np.cross(motion_velocities(middle, self.centre), segment[:, :, None, :])
        force = np.zeros((*along.shape, along.shape[2], 3))
        force[:, :, :, :MOTIONS] = along[:, :, :, None, None] * onset[:, :, None, :, :]
        return middle, force

    @functools.cached_property
    def loads(self) -> tuple[np.ndarray, np.ndarray]:
        """Force and moment of each part, (n_parts, n_sets, n_sets, 3) both: quadratic forms in the sets."""
        lattice = self.lattice
        n_parts, n_sets = len(lattice.parts), self.circulation.shape[1]
        force = np.zeros((n_parts, n_sets, n_sets, 3))
        moment = np.zeros_like(force)
        part_of_filament = np.zeros(len(lattice.filaments), dtype=int)
        for side in (lattice.right, lattice.left):
            part_of_filament[side] = lattice.part
        side_points, side = self.side_forces
        for owner, points, forces in (
            (np.repeat(lattice.part, lattice.rows), lattice.bound, self.panel_forces),
            (lattice.part, lattice.leading, self.suction_forces),
            (np.repeat(part_of_filament, lattice.rows), side_points, side),
        ):
            flat = forces.reshape(-1, n_sets, n_sets, 3)
            arm = points.reshape(-1, 3) - self.centre
            np.add.at(force, owner, flat)
            np.add.at(moment, owner, np.cross(arm[:, None, None, :], flat))
        if (bodies := self.factor.bodies) is None:
            return force, moment
        of_bodies = bodies.loads(self.crossflow, motion_velocities(bodies.points, self.centre), self.centre)
        return np.concatenate([force, of_bodies[0]]), np.concatenate([moment, of_bodies[1]])

    @property
    def part_names(self) -> tuple[str, ...]:
        """Names of the parts of `loads`: surfaces, then bodies."""
        return self.lattice.parts + (() if self.factor.bodies is None else self.factor.bodies.names)

    @functools.cached_property
    def far_drag(self) -> np.ndarray:
        """(n_parts, n_sets, n_sets) induced drag in the far plane: quadratic forms in the sets; none of bodies."""
        lattice = self.lattice
        shed = self.rings[:, -1]
        wash = wake_normal_velocity(lattice, shed, self.factor.filaments.core, self.factor.setting)
        out = np.zeros((len(self.part_names), shed.shape[1], shed.shape[1]))
        np.add.at(out, lattice.part, -0.5 * shed[:, :, None] * wash[:, None, :])
        return out

    @functools.cached_property
    def hinge_moments(self) -> np.ndarray:
        """(n_controls, n_sets, n_sets) moment about each hinge line, tail-down positive: quadratic forms.

        Of controls whose halves move in opposite directions, on the half that moves as its deflection says.
        """
        lattice = self.lattice
        n_sets = self.circulation.shape[1]
        out = np.zeros((len(lattice.control_names), n_sets, n_sets))
        for strip in np.nonzero((lattice.control >= 0) & (lattice.sense > 0.0))[0]:
            rear = slice(lattice.front[strip], None)
            arm = lattice.bound[strip, rear] - lattice.hinge[strip]
            lever = np.cross(lattice.hinge_axis[strip], arm)  # axis . (arm x F) = (axis x arm) . F
            out[lattice.control[strip]] += np.einsum("rk,rabk->ab", lever, self.panel_forces[strip, rear])
        return out
