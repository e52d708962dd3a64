"""Propeller disks of a case: their forces on the cells of a mesh. Verified by tests/test_propellers.py."""

import functools
import math
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.validation import taken
from zephyrum.conditions.axes import turned_body
from zephyrum.errors import InputError
from zephyrum.flow.discretization.disk_sources import DiskSources
from zephyrum.geometry import PropellerDisk
from zephyrum.geometry.aircraft.propeller import ON_PLANE, one_sided
from zephyrum.loworder.propeller.blade_elements import DiskLoading, disk_loading
from zephyrum.mesh import Mesh

if TYPE_CHECKING:
    from zephyrum.solver.case import Case

LEAST_CELLS, FEW_CELLS = 6, 12  # across the diameter of a disk below which a mesh is refused, and reported
SAMPLES = np.array([-1.0, 0.0, 1.0]) / 3.0  # positions in a cell, in its size, that its share of a disk is taken at


def named_propellers(propellers: Mapping[str, PropellerDisk] | None, mesh: Mesh) -> dict[str, PropellerDisk]:
    """Propeller disks by name in sorted order, mirror images apart.

    Parameters
    ----------
    propellers : Mapping[str, PropellerDisk] or None
        By name.
    mesh : Mesh
        Mesh.

    Raises
    ------
    InputError
        A mesh cannot hold such disks.

    Examples
    --------
    >>> from zephyrum import Outline, mesh_revolved
    >>> disk = PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, thrust=10.0)
    >>> list(named_propellers({"tractor": disk}, mesh_revolved(Outline.circle(1.0), 32, 8)))
    ['tractor']
    """
    given = {} if propellers is None else taken("propellers", propellers, Mapping)
    out: dict[str, PropellerDisk] = {}
    for name in sorted(given):
        disk = taken(f"propellers[{name!r}]", given[name], PropellerDisk)
        out |= {} if disk.idle else disk.placed(name)
    if not out:
        return {}
    if mesh.dimension == 2:
        raise InputError("propellers: a section has no propeller disk; mesh an aircraft or a body of revolution.")
    axial = mesh.wedge or mesh.sectors > 1
    for name, disk in out.items():
        off = math.hypot(*disk.position[1:]) > ON_PLANE * disk.diameter or disk.pitch or disk.yaw
        if axial and off:
            raise InputError(f"propellers: {name!r} must lie on the x axis of an axisymmetric mesh or a sector.")
        if mesh.wedge and disk.swirls:
            raise InputError(f"propellers: {name!r} gives swirl, which an axisymmetric mesh has not; leave out speed.")
    if mesh.mirrored:
        _refuse_one_sided(out)
    return out


def _refuse_one_sided(disks: dict[str, PropellerDisk]) -> None:
    """InputError if disks have no mirror image, on a half model."""
    if name := one_sided(disks):
        raise InputError(
            f"propellers: {name!r} has no mirror image at the plane of symmetry of this half model, with the opposite "
            f"sense of rotation if it gives swirl; mesh the whole aircraft (half = False), or set counter_rotating, or "
            f"leave out speed."
        )


def propeller_sources(case: "Case") -> Callable[[Mesh], DiskSources | None] | None:
    """Function from a mesh of the family of a case to the sources of its propeller disks; None without any.

    Parameters
    ----------
    case : Case
        The case.
    """
    if not case.propellers:
        return None
    finest = case.mesh.n_cells

    @functools.cache
    def sources(level: Mesh) -> DiskSources | None:
        made = [
            _disk_sources(case, level, k, name, level.n_cells == finest) for k, name in enumerate(case.propellers or ())
        ]
        made = [one for one in made if one is not None]
        return DiskSources(*(np.concatenate(columns) for columns in zip(*made, strict=True))) if made else None

    return sources


def loading_of(case: "Case", name: str) -> DiskLoading:
    """Loading of a disk in the stream of a case.

    Parameters
    ----------
    case : Case
        The case.
    name : str
        Name of the disk.
    """
    disk = case.propellers[name]
    return disk_loading(disk, _speed_along(case, disk), case.air.density)


def _speed_along(case: "Case", disk: PropellerDisk) -> float:
    """Speed of the stream along the axis of a disk [m/s]."""
    return case.air.speed * float(disk.axis @ np.asarray(case.air.wind))


def propeller_notes(case: "Case") -> list[str]:
    """Sentences on what momentum theory gives for each propeller disk.

    Parameters
    ----------
    case : Case
        The case.
    """
    air, out = case.air, []
    for name, disk in (case.propellers or {}).items():
        loading = loading_of(case, name)
        axial = _speed_along(case, disk)
        induced = momentum_speed(loading.thrust, disk.area, axial, air.density)
        ideal = loading.thrust * (axial + induced)
        power = ideal if math.isnan(loading.power) else loading.power
        efficiency = f", efficiency {loading.thrust * axial / power:.3f}" if power > 0.0 else ""
        share = disk_cells(case, name)
        if 0.0 < share < FEW_CELLS:
            out.append(f"only {share:.1f} cells lie across the propeller disk {name}: its slipstream is smeared out.")
        out.append(
            f"{name} is a propeller disk of {disk.diameter:.4g} m: thrust {loading.thrust:.4g} N, power {power:.4g} W"
            f"{efficiency}; by momentum theory {axial + induced:.4g} m/s through it and {axial + 2.0 * induced:.4g} "
            f"m/s far behind, ideal power {ideal:.4g} W."
        )
    return out


def disk_cells(case: "Case", name: str) -> float:
    """Cells across the diameter of a disk of a case; 0 where its mesh has none of it.

    Parameters
    ----------
    case : Case
        The case.
    name : str
        Name of the disk.
    """
    disk, mesh = case.propellers[name], case.mesh
    return _cells_across(mesh, disk, _cells_of_disk(mesh, disk)[0])


def momentum_speed(thrust: float, area: float, airspeed: float, density: float) -> float:
    """Speed that an ideal disk induces in its plane [m/s] (Glauert 1935).

    Parameters
    ----------
    thrust : float
        [N]
    area : float
        [m^2]
    airspeed : float
        Of the stream along the axis [m/s].
    density : float
        [kg/m^3]

    Examples
    --------
    >>> induced = momentum_speed(1000.0, 2.0, 50.0, 1.2)
    >>> round(2.0 * 1.2 * 2.0 * (50.0 + induced) * induced, 6)
    1000.0
    """
    return -0.5 * airspeed + math.sqrt(max(0.25 * airspeed**2 + 0.5 * thrust / (density * area), 0.0))


def _disk_sources(case: "Case", mesh: Mesh, number: int, name: str, finest: bool) -> DiskSources | None:
    """Sources of one disk, scaled so that their sums are thrust and power; None where the mesh has none of it."""
    disk, air, loading = case.propellers[name], case.computed, loading_of(case, name)
    share = 1.0
    if mesh.mirrored:
        if disk.position[1] < -ON_PLANE * disk.diameter:
            return None
        share = 0.5 if disk.position[1] <= ON_PLANE * disk.diameter else 1.0
    elif mesh.wedge or mesh.sectors > 1:
        share = 1.0 / mesh.multiples[0][0]
    cells, weight, radius, around = _cells_of_disk(mesh, disk)
    if finest:
        _refuse_coarse(mesh, disk, name, cells)
    if not len(cells):
        return None
    fraction = radius / disk.radius
    axial = np.interp(fraction, loading.fraction, loading.axial)
    sum_axial = float(weight @ axial)
    if sum_axial == 0.0:
        return None
    scale = share / (air.density * air.sound_speed**2)
    axial = axial * (loading.thrust / sum_axial) * weight * scale
    force = axial[:, None] * turned_body(disk.axis, mesh.attitude)
    work = np.full(len(cells), np.nan)
    if loading.work is not None:
        density = np.interp(fraction, loading.fraction, loading.work)
        total = float(weight @ density)
        work = density * (loading.power / total if total else 0.0) * weight * scale / air.sound_speed
        if loading.tangential.any():
            torque = loading.power * 30.0 / (math.pi * disk.speed)
            own = np.interp(fraction, loading.fraction, loading.tangential) * weight
            own *= torque / float(own @ radius)
            force = force + disk.sense * scale * own[:, None] * around
    return DiskSources(cells, force, work, np.full(len(cells), number))


def _cells_of_disk(mesh: Mesh, disk: PropellerDisk) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Cells of a disk, the volume of each in it by a weight along the axis, distance from the axis, way round it."""
    axis, centre = (turned_body(np.asarray(one), mesh.attitude) for one in (disk.axis, disk.position))
    length = disk.thickness * disk.diameter
    from_centre = mesh.cell_centroid - centre
    size = _cell_sizes(mesh)
    along = from_centre @ axis
    far = np.linalg.norm(from_centre - along[:, None] * axis, axis=1)
    near = np.flatnonzero((np.abs(along) < length + size) & (far < disk.radius + size))
    offsets = np.array(np.meshgrid(SAMPLES, (0.0,) if mesh.planar else SAMPLES, SAMPLES)).reshape(3, -1).T
    weight = np.zeros(len(near))
    for offset in offsets:
        r = from_centre[near] + offset * size[near, None]
        s = r @ axis
        part = np.linalg.norm(r - s[:, None] * axis, axis=1) / disk.radius
        inside = (part >= disk.hub_diameter) & (part <= 1.0) & (np.abs(s) < length)
        weight += np.where(inside, 0.5 * (1.0 + np.cos(np.pi * s / length)), 0.0)
    weight *= mesh.cell_volume[near] / len(offsets)
    cells, weight = near[weight > 0.0], weight[weight > 0.0]
    out = from_centre[cells] - along[cells, None] * axis
    radius = np.maximum(np.linalg.norm(out, axis=1), 1e-3 * disk.radius)
    return cells, weight, radius, np.cross(axis, out) / radius[:, None]


def _cell_sizes(mesh: Mesh) -> np.ndarray:
    """(n,) size of the cells [m]: the side of a cube, in an axisymmetric mesh of a square in its plane."""
    if not mesh.wedge:
        return np.cbrt(mesh.cell_volume)
    width = 2.0 * np.tan(mesh.wedge) * np.maximum(mesh.cell_centroid[:, 2], 1e-300)
    return np.sqrt(mesh.cell_volume / width)


def _cells_across(mesh: Mesh, disk: PropellerDisk, cells: np.ndarray) -> float:
    """Cells across the diameter of a disk, by the median size of its cells."""
    return disk.diameter / float(np.median(_cell_sizes(mesh)[cells])) if len(cells) else 0.0


def _refuse_coarse(mesh: Mesh, disk: PropellerDisk, name: str, cells: np.ndarray) -> None:
    """InputError if the cells of a disk are too large for it."""
    across = _cells_across(mesh, disk, cells)
    if across < LEAST_CELLS:
        found = f"{across:.1f} cells lie across it" if len(cells) else "no cell lies in it"
        raise InputError(
            f"propellers: the mesh is too coarse for {name!r}, {found}; give at least {LEAST_CELLS}: mesh with zones = "
            f"[Zone(size={disk.diameter / 20.0:.3g}, start=..., end=..., radius=...)] about it, or describe it in the "
            f"aircraft, whose meshes have it."
        )
