"""The one mesh type: polyhedral cells known by their faces, in two or three dimensions.

Two dimensions are the x-z plane, one cell thick along y, with no faces on the two sides. A mesh about the x axis is a
wedge one cell thick, with faces on its two sides. Interior faces come first,
sorted by (left, right) with left < right; boundary faces follow, one run a group, sorted by cell within it. So a mesh
that is written and read again is the same mesh, and loops over faces walk memory forwards.
Verified by tests/test_mesh.py.
"""

import functools
import hashlib
from dataclasses import dataclass, field, replace

import numpy as np
from scipy.spatial import cKDTree

from zephyrum._core.jit import read_only
from zephyrum.conditions import Reference
from zephyrum.errors import InputError, MeshError
from zephyrum.geometry.surface.nearest_point import distances
from zephyrum.mesh.layer_heights import distances_along_layers, parent_cells, wall_faces_of_cells
from zephyrum.mesh.polygons import CellFaces, area_tensors, bulges, cell_geometry, fan_triangles, polygon_geometry

SIDES = ("front side", "back side")  # of a wedge, role symmetry
GEOMETRY = ("n_cells", "_face_geometry", "_cell_geometry", "face_bulge")  # what is derived without the roles
ROLES = ("wall", "ground", "slip", "symmetry", "farfield", "outflow", "imposed", "periodic", "exhaust", "intake")


@dataclass(frozen=True)
class Group:
    """A run of boundary faces [start, stop) that share one role.

    Attributes
    ----------
    name : str
        Name.
    role : str
        One of `ROLES`.
    start, stop : int
        First face and the one after the last.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> [(group.name, group.role) for group in mesh.groups]
    [('airfoil', 'wall'), ('farfield', 'farfield')]
    """

    name: str
    role: str
    start: int
    stop: int

    def __post_init__(self) -> None:
        if self.role not in ROLES:
            raise InputError(f"group {self.name!r} has the role {self.role!r}; choose one of: {', '.join(ROLES)}.")

    @property
    def faces(self) -> slice:
        """Its place in the face arrays."""
        return slice(self.start, self.stop)


@dataclass(frozen=True, eq=False)
class Mesh:
    """Cells, faces and points.

    Attributes
    ----------
    points : (n_points, 3) array
        [m]
    face_start : (n_faces + 1,) array
    face_points : array
        Face i has the points face_points[face_start[i]:face_start[i + 1]], in an order that makes its area vector leave
        `left[i]`.
    left : (n_faces,) array
        Cell that each face leaves.
    right : (n_interior,) array
        Cell on the other side.
    groups : tuple[Group, ...]
        Boundary groups; they cover the boundary faces.
    dimension : int
        2 or 3.
    wedge : float
        Half the angle between the sides of an axisymmetric mesh [rad], else 0.
    attitude : float
        Angle by which the body was turned nose-up before it was meshed, over a level ground [deg].
    reference : Reference, optional
        What the mesh generator measured.
    coarser : Mesh, optional
        Next mesh of a family.
    parent : (n_cells,) array
        Coarse cell that holds each cell, or is nearest to it.
    recipe : dict
        How the mesh was made.

    Examples
    --------
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
    >>> mesh.n_cells, [group.role for group in mesh.groups]
    (256, ['wall', 'farfield'])
    """

    points: np.ndarray
    face_start: np.ndarray
    face_points: np.ndarray
    left: np.ndarray
    right: np.ndarray
    groups: tuple[Group, ...]
    dimension: int = 3
    wedge: float = 0.0
    attitude: float = 0.0
    reference: Reference | None = None
    coarser: "Mesh | None" = None
    parent: np.ndarray | None = None
    recipe: dict = field(default_factory=dict)

    def __repr__(self) -> str:
        kind = "the plane" if self.dimension == 2 else "a wedge" if self.wedge else "space"
        names = ", ".join(f"{g.name} ({g.role}, {g.stop - g.start:,} faces)" for g in self.groups)
        coarse_levels = "".join(f", {m.n_cells:,}" for m in self.family()[1:])
        coarser = f"; starts on {coarse_levels[2:]}" if coarse_levels else ""
        return f"<Mesh in {kind}, {self.n_cells:,} cells; {names}{coarser}>"

    # -- counts -----------------------------------------------------------------------------------------------
    @functools.cached_property
    def n_cells(self) -> int:
        """Number of cells.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh_airfoil(Airfoil.naca("0012"), 32, 8, topology="O").n_cells
        256
        """
        return int(max(self.left.max(initial=-1), self.right.max(initial=-1)) + 1)

    @property
    def n_faces(self) -> int:
        """Number of faces.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O").n_faces
        544
        """
        return len(self.left)

    @property
    def n_interior(self) -> int:
        """Number of faces between two cells.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O").n_interior
        480
        """
        return len(self.right)

    def group(self, name: str) -> Group:
        """Find a boundary group.

        Parameters
        ----------
        name : str
            Name of the group.

        Raises
        ------
        InputError
            There is no such group; those there are are listed.

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
        >>> mesh.group("airfoil").role
        'wall'
        """
        for group in self.groups:
            if group.name == name:
                return group
        raise InputError(f"the mesh has no group {name!r}; it has: {', '.join(group.name for group in self.groups)}.")

    def faces_of(self, *roles: str) -> np.ndarray:
        """Indices of all boundary faces whose group has one of `roles`.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> len(mesh_airfoil(Airfoil.naca("0012"), 32, 8, topology="O").faces_of("wall"))
        32
        """
        runs = [np.arange(g.start, g.stop) for g in self.groups if g.role in roles]
        return np.concatenate(runs) if runs else np.zeros(0, dtype=np.int64)

    @property
    def planar(self) -> bool:
        """Whether all that happens lies in the x-z plane: in two dimensions and about an axis.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh_airfoil(Airfoil.naca("0012"), 32, 8).planar
        True
        """
        return self.dimension == 2 or self.wedge > 0.0

    @functools.cached_property
    def mirrored(self) -> bool:
        """Whether this is half of a mesh in space, the other half its image at the plane y = 0: forces count for
        both.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O").mirrored
        False
        """
        faces = self.faces_of("symmetry")
        if self.dimension != 3 or self.planar or not len(faces):
            return False
        across = np.linalg.norm(self.face_area[faces][:, [0, 2]], axis=1)
        level = np.abs(self.face_centroid[faces, 1]) <= 1e-9 * np.ptp(self.points[:, 1])
        return bool(level.all() and (across <= 1e-9 * np.abs(self.face_area[faces, 1])).all())

    @functools.cached_property
    def sectors(self) -> int:
        """How many of this mesh, turned about the x axis, make up the whole: 1 without periodic sides."""
        sides = [self.face_area[g.faces].sum(axis=0) for g in self.groups if g.role == "periodic"]
        if not sides:
            return 1
        if len(sides) != 2:
            raise MeshError(f"a mesh has two periodic sides or none, not {len(sides)}.")
        (_, y, z), (_, v, w) = sides
        angle = np.arctan2(
            z * v - y * w, -(y * v + z * w)
        )  # from the way into the first side to the way out of the second
        return round(2.0 * np.pi / (angle % (2.0 * np.pi)))

    @functools.cached_property
    def multiples(self) -> tuple[np.ndarray, np.ndarray]:
        """Factors (3,) on the force and on the moment about the x axis of what is meshed that give those of the whole
        body.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O").multiples
        (array([1., 1., 1.]), array([1., 1., 1.]))
        """
        if self.wedge:  # all around: only the part along the axis is left
            return np.array([np.pi / np.tan(self.wedge), 0.0, 0.0]), np.zeros(3)
        if self.sectors > 1:
            return self.sectors * np.array([1.0, 0.0, 0.0]), self.sectors * np.array([1.0, 0.0, 0.0])
        if self.mirrored:
            return np.array([2.0, 0.0, 2.0]), np.array([0.0, 2.0, 0.0])
        return np.ones(3), np.ones(3)

    # -- geometry ---------------------------------------------------------------------------------------------
    @functools.cached_property
    def _face_geometry(self) -> tuple[np.ndarray, np.ndarray]:
        return polygon_geometry(read_only(self.points), self.face_start, self.face_points)

    @property
    def face_centroid(self) -> np.ndarray:
        """(n_faces, 3) [m]

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O")
        >>> mesh.face_centroid.shape == (mesh.n_faces, 3)
        True
        """
        return self._face_geometry[0]

    @property
    def face_area(self) -> np.ndarray:
        """Area vectors (n_faces, 3) [m^2], leaving the left cell.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
        >>> mesh.face_area[mesh.n_interior :].sum(axis=0).round(9) + 0.0  # the boundary is closed
        array([0., 0., 0.])
        """
        return self._face_geometry[1]

    @functools.cached_property
    def face_bulge(self) -> np.ndarray:
        """(n_faces,) how far [m] the corners of each face lie off its mean plane, at most.

        Examples
        --------
        >>> import zephyrum as zy
        >>> bool(zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O").face_bulge.max() < 1e-12)
        True
        """
        return bulges(self.points, self.face_start, self.face_points, *self._face_geometry)

    @functools.cached_property
    def _cell_geometry(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        return cell_geometry(self._face_arrays(), self.dimension, self.dimension == 3 and not self.wedge)

    def _face_arrays(self) -> CellFaces:
        """Faces of the cells for kernels."""
        return CellFaces(*self.cell_faces, self.left, *self._face_geometry, self.face_bulge)

    def area_tensors(self) -> tuple[np.ndarray, np.ndarray]:
        """Tensors (n_cells, 3, 3) of the face areas of the cells, and half their eigenvalues (n_cells, 3) [m^2].

        Those of a box are the areas of its sides, the largest first: volume over them are its extents, the shortest
        first. In two dimensions the sides along y are no faces, and the last one is 0.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8, topology="O")
        >>> tensor, projected = mesh.area_tensors()
        >>> bool((projected[:, 0] >= projected[:, 1]).all()), bool(np.allclose(projected[:, 2], 0.0))
        (True, True)
        """
        return area_tensors(self._face_arrays())

    @property
    def cell_volume(self) -> np.ndarray:
        """(n_cells,) [m^3]

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> bool((mesh_airfoil(Airfoil.naca("0012"), 32, 8).cell_volume > 0.0).all())
        True
        """
        return self._cell_geometry[0]

    @property
    def cell_centroid(self) -> np.ndarray:
        """(n_cells, 3) [m]

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh_airfoil(Airfoil.naca("0012"), 32, 8).cell_centroid.shape
        (384, 3)
        """
        return self._cell_geometry[1]

    @property
    def cell_thin(self) -> np.ndarray:
        """(n_cells,) 1 in thin layers in space, where the mean of the faces stands for the centroid, 0 in other
        cells.
        """
        return self._cell_geometry[2]

    @functools.cached_property
    def cell_faces(self) -> tuple[np.ndarray, np.ndarray]:
        """Faces of each cell as CSR (start (n_cells + 1,), faces).

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> start, faces = mesh_airfoil(Airfoil.naca("0012"), 32, 8).cell_faces
        >>> int(np.diff(start).max())  # quadrilaterals
        4
        """
        cells = np.concatenate([self.left, self.right])
        faces = np.concatenate([np.arange(self.n_faces), np.arange(self.n_interior)])
        order = np.lexsort((faces, cells))
        start = np.zeros(self.n_cells + 1, dtype=np.int64)
        np.cumsum(np.bincount(cells, minlength=self.n_cells), out=start[1:])
        return start, faces[order].astype(np.int64)

    @functools.cached_property
    def wall_distance(self) -> np.ndarray:
        """(n_cells,) distance [m] of each cell from the nearest wall, the ground included; infinite without any.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8, first_height=1e-2)
        >>> float(mesh.wall_distance.min().round(4))  # of the centroid of the first cell
        0.0042
        """
        ground = self.faces_of("ground")
        if not len(ground):
            return self.body_distance
        height = self.cell_centroid[:, 2] - self.face_centroid[ground[0], 2]
        return np.minimum(self.body_distance, height)

    @functools.cached_property
    def body_distance(self) -> np.ndarray:
        """(n_cells,) distance [m] of each cell from the nearest wall of the body; infinite without walls.

        That of the centroid from the wall's faces, exactly; over a face that bulges by more than the layers are high,
        along the layers.

        Examples
        --------
        >>> import zephyrum as zy
        >>> bool(zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O").body_distance.min() > 0.0)
        True
        """
        walls = self.faces_of("wall")
        if self.dimension == 2:
            level = np.array([1.0, 0.0, 1.0])
            return distances(self.cell_centroid * level, self.points * level, self.edges[walls][:, [0, 1, 1]])
        return distances_along_layers(self, walls, distances(self.cell_centroid, *fan_triangles(self, walls)[:2]))

    @functools.cached_property
    def wall_face_of_cell(self) -> np.ndarray:
        """(n_cells,) the wall face on which the column of a layer's cell stands, -1 of cells that are as high as wide,
        or in no column.
        """
        return wall_faces_of_cells(self, self.faces_of("wall", "ground"))

    @functools.cached_property
    def depth(self) -> float:
        """Extent along y [m]: in two dimensions the thickness of the slab.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O").depth
        1.0
        """
        return float(np.ptp(self.points[:, 1]))

    @functools.cached_property
    def edges(self) -> np.ndarray:
        """(n_faces, 2) points on the front side of every face of a planar mesh, along the boundary seen from the left
        cell.

        Faces on the sides of a wedge have none: twice the same point.

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O")
        >>> mesh.edges.shape == (mesh.n_faces, 2)
        True
        """
        start = self.face_start
        out = np.stack([self.face_points[start[:-1]], self.face_points[start[1:] - 1]], axis=1)
        for group in self.groups:
            if self.wedge and group.name in SIDES:
                out[group.faces, 1] = out[group.faces, 0]
        return out

    @functools.cached_property
    def cell_rings(self) -> tuple[np.ndarray, np.ndarray]:
        """Corners on the front side of every cell of a planar mesh, counter-clockwise, as CSR (points, start).

        Examples
        --------
        >>> import zephyrum as zy
        >>> points, start = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O").cell_rings
        >>> len(start) - 1, set(np.diff(start).tolist())
        (256, {4})
        """
        if self.wedge:
            front = self.group(SIDES[0])
            low, high = self.face_start[front.start], self.face_start[front.stop]
            counts = np.diff(self.face_start)[front.faces]
            return self.face_points[low:high], np.r_[0, np.cumsum(counts)]
        start, faces = self.cell_faces
        edge = self.edges
        cell = np.repeat(np.arange(self.n_cells), np.diff(start))
        own = self.left[faces] == cell
        a = np.where(own, edge[faces, 0], edge[faces, 1]).tolist()
        b = np.where(own, edge[faces, 1], edge[faces, 0]).tolist()
        corners = np.empty(len(faces), dtype=np.int64)
        for k in range(self.n_cells):
            low, high = start[k], start[k + 1]
            follow = dict(zip(a[low:high], b[low:high]))
            ring = [a[low]]
            while len(ring) < high - low:
                ring.append(follow[ring[-1]])
            corners[low:high] = ring
        return corners, start

    # -- identity ---------------------------------------------------------------------------------------------
    @functools.cached_property
    def fingerprint(self) -> str:
        """Twelve hexadecimal digits that change with any point, face, group or role.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
        >>> mesh.fingerprint == mesh_airfoil(Airfoil.naca("0012"), 32, 8).fingerprint
        True
        """
        digest = hashlib.sha256()
        for array in (self.points, self.face_start, self.face_points, self.left, self.right):
            digest.update(np.ascontiguousarray(array).tobytes())
        digest.update(repr([(g.name, g.role, g.start, g.stop) for g in self.groups]).encode())
        return digest.hexdigest()[:12]

    def family(self) -> list["Mesh"]:
        """This mesh and its coarser levels, finest first.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> [mesh.n_cells for mesh in mesh_airfoil(Airfoil.naca("0012"), 64, 16, topology="O").family()]
        [1024, 256]
        """
        meshes: list[Mesh] = [self]
        while meshes[-1].coarser is not None:
            meshes.append(meshes[-1].coarser)
        return meshes

    def with_coarser(self, coarse: "Mesh") -> "Mesh":
        """The same mesh with a coarser level that it does not nest in.

        Parameters
        ----------
        coarse : Mesh
            Coarser mesh.

        Notes
        -----
        The parent of a cell is the cell with the nearest centre; in layers see `parent_cells`.
        """
        nearest = cKDTree(coarse.cell_centroid).query(self.cell_centroid, workers=-1)[1]
        return replace(self, coarser=coarse, parent=parent_cells(self, coarse, nearest.astype(np.int64)))

    def with_roles(self, **roles: str) -> "Mesh":
        """The same mesh with other roles for some groups, by name (coarser levels follow).

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
        >>> mesh.with_roles(airfoil="slip").group("airfoil").role
        'slip'
        """
        for name, role in roles.items():
            if self.group(name).role == "ground" and role == "wall":
                raise InputError(
                    f"{name} = {role!r}: the ground is no part of the body, and its forces would be added to it; what "
                    f"it does is said to solve, ground = 'belt' or 'still'."
                )
        if all(self.group(name).role == role for name, role in roles.items()):
            return self
        groups = tuple(replace(g, role=roles.get(g.name, g.role)) for g in self.groups)
        coarser = None if self.coarser is None else self.coarser.with_roles(**roles)
        made = replace(self, groups=groups, coarser=coarser)
        made.__dict__.update({name: self.__dict__[name] for name in GEOMETRY if name in self.__dict__})
        return made

    # -- trust ------------------------------------------------------------------------------------------------
    def check(self) -> "Mesh":
        """Return the mesh itself if it keeps every rule, else raise MeshError with the position of the first breach.

        Examples
        --------
        >>> from zephyrum import Airfoil, mesh_airfoil
        >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
        >>> mesh.check() is mesh
        True
        """
        nl, n = self.n_interior, self.n_cells
        if self.dimension not in (2, 3):
            raise MeshError(f"mesh dimension {self.dimension} is neither 2 nor 3.")
        if n == 0 or self.n_faces == 0:
            raise MeshError("the mesh has no cells.")
        if not np.isfinite(self.points).all():
            raise MeshError(
                f"point {int(np.argmax(~np.isfinite(self.points).all(axis=1)))} has a coordinate that is not finite."
            )
        if self.face_points.min() < 0 or self.face_points.max() >= len(self.points):
            raise MeshError("a face uses a point that does not exist.")
        if self.left.min() < 0 or (nl and self.right.min() < 0):
            raise MeshError("a face belongs to a cell that does not exist.")
        wrong = np.flatnonzero(self.left[:nl] >= self.right)
        if wrong.size:
            raise MeshError(f"face {wrong[0]} does not lie between two different cells in rising order.")
        covered = nl
        for group in self.groups:
            if group.start != covered or group.stop < group.start:
                raise MeshError(f"group {group.name!r} starts at face {group.start}, where {covered} was due.")
            covered = group.stop
        if covered != self.n_faces:
            raise MeshError(f"{self.n_faces - covered} boundary faces belong to no group.")
        start, _ = self.cell_faces
        few = np.flatnonzero(np.diff(start) < self.dimension + 1)
        if few.size:
            raise MeshError(f"cell {few[0]} at {_place(self.cell_centroid[few[0]])} has too few faces to be closed.")
        closure = _gather(self.face_area, self.left, n) - _gather(self.face_area[:nl], self.right, n)
        size = np.bincount(self.left, np.linalg.norm(self.face_area, axis=1), n)
        size += np.bincount(self.right, np.linalg.norm(self.face_area[:nl], axis=1), n)
        open_cells = np.linalg.norm(closure, axis=1) > 1e-10 * size + 1e-300
        if open_cells.any():
            worst = int(np.argmax(np.linalg.norm(closure, axis=1) / size))
            raise MeshError(
                f"{int(open_cells.sum())} cells are not closed; the worst is cell {worst} at "
                f"{_place(self.cell_centroid[worst])}.",
                self.cell_centroid[worst],
            )
        bad = np.flatnonzero(~(self.cell_volume > 0.0))
        if bad.size:
            worst = bad[np.argmin(self.cell_volume[bad])]
            raise MeshError(
                f"{bad.size} cells have no positive volume; the worst is cell {worst} ({self.cell_volume[worst]:.3g} "
                f"m^3) at {_place(self.cell_centroid[worst])}."
            )
        S, x = self.face_area[nl:], self.face_centroid[nl:]
        if self.dimension == 2:
            S = S * np.array([1.0, 0.0, 1.0])
        domain = float(np.einsum("ij,ij->", x, S)) / self.dimension
        total = float(self.cell_volume.sum())
        if abs(total - domain) > 1e-9 * abs(domain):
            raise MeshError(f"the cells fill {total:.12g} m^3, but the boundary encloses {domain:.12g} m^3.")
        return self


def _gather(values: np.ndarray, index: np.ndarray, n: int) -> np.ndarray:
    """Sum rows of `values` by `index` into (n, columns)."""
    return np.stack([np.bincount(index, values[:, k], n) for k in range(values.shape[1])], axis=1)


def _place(x: np.ndarray) -> str:
    return "(" + ", ".join(f"{value:.5g}" for value in x) + ") m"
