"""The one triangulated surface: points, triangles, and a label on every triangle.

Triangles run counter-clockwise seen from outside, so that a closed surface has a positive volume. Area vectors, volume
and centroid are exact for the triangulation (divergence theorem; Mirtich 1996, J. Graphics Tools 1(2)). Verified by
tests/test_solids.py.
"""

import functools
import hashlib
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import Many, takes
from zephyrum.errors import InputError
from zephyrum.geometry.surface.surface_writer import write_surface

WELD_TOLERANCE = 1e-9  # of the size of a shape: points nearer than this are one


@dataclass(frozen=True, eq=False)
class Surface:
    """Triangles in space.

    Attributes
    ----------
    points : (n, 3) array
        [m]
    triangles : (m, 3) array
        Points, counter-clockwise seen from outside.
    label : (m,) array
        Index into `labels`.
    labels : tuple[str, ...]
        Names such as "wing/upper": the part, and which of its faces.
    name : str
        Name.
    notes : tuple[str, ...]
        What was recognised or changed.

    Examples
    --------
    >>> import zephyrum as zy
    >>> box = zy.Body.box(2.0, 1.0, 0.5).surface()
    >>> print(box.watertight, round(box.volume, 6))
    True 1.0
    """

    points: np.ndarray
    triangles: np.ndarray
    label: np.ndarray | None = None
    labels: tuple[str, ...] = ("surface",)
    name: str = "surface"
    notes: tuple[str, ...] = field(default=())

    def __post_init__(self) -> None:
        points = np.ascontiguousarray(self.points, dtype=float)
        triangles = np.ascontiguousarray(self.triangles, dtype=np.int64)
        if points.ndim != 2 or points.shape[1:] != (3,):
            raise InputError(f"surface {self.name!r} has points of shape {points.shape}; give rows of x, y, z.")
        if triangles.ndim != 2 or triangles.shape[1:] != (3,):
            raise InputError(f"surface {self.name!r} has triangles of shape {triangles.shape}; give rows of three.")
        if not np.isfinite(points).all():
            row = int(np.argmax(~np.isfinite(points).all(axis=1)))
            raise InputError(f"surface {self.name!r}: point {row} is not finite: {points[row]}.")
        if len(triangles) and (triangles.min() < 0 or triangles.max() >= len(points)):
            raise InputError(f"surface {self.name!r}: a triangle names a point that does not exist.")
        label = (
            np.zeros(len(triangles), dtype=np.int64) if self.label is None else np.asarray(self.label, dtype=np.int64)
        )
        if label.shape != (len(triangles),) or (len(label) and not 0 <= label.min() <= label.max() < len(self.labels)):
            raise InputError(f"surface {self.name!r}: give one label a triangle, below {len(self.labels)}.")
        for name, value in (("points", points), ("triangles", triangles), ("label", label)):
            value.setflags(write=False)
            object.__setattr__(self, name, value)

    __repr__ = short_repr

    def __str__(self) -> str:
        size = " x ".join(f"{v:.4g}" for v in np.ptp(self.bounds, axis=0)) if len(self.points) else "0"
        labels = f", {len(self.labels)} labels" if len(self.labels) > 1 else ""
        return (
            f"{self.name}, {len(self.triangles):,} triangles{labels}, {size} m, "
            f"{'open' if len(self.open_edges) else 'closed'}"
        )

    # -- files ------------------------------------------------------------------------------------------------
    def write(self, path: Path, unit: str = "m") -> Path:
        """Write a .stl, .obj, .ply, .vtu or .step file; labels are kept where the format has room for them.

        Parameters
        ----------
        path : path
            File.
        unit : str, optional
            Unit of the file.

        Examples
        --------
        >>> import tempfile
        >>> from zephyrum import Body
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     _ = Body.box(1.0, 1.0, 1.0).surface().write(f"{folder}/box.obj", unit="mm")
        """
        return write_surface(self, path, unit)

    # -- geometry ---------------------------------------------------------------------------------------------
    @functools.cached_property
    def area_vectors(self) -> np.ndarray:
        """(m, 3) outward area vectors [m^2].

        Examples
        --------
        >>> from zephyrum import Body
        >>> Body.box(1.0, 2.0, 3.0).surface().area_vectors.sum(axis=0).round(9) + 0.0  # closed
        array([0., 0., 0.])
        """
        a, b, c = (self.points[self.triangles[:, k]] for k in range(3))
        return 0.5 * np.cross(b - a, c - a)

    @functools.cached_property
    def areas(self) -> np.ndarray:
        """(m,) areas [m^2].

        Examples
        --------
        >>> from zephyrum import Body
        >>> round(float(Body.box(1.0, 2.0, 3.0).surface().areas.sum()), 6)
        22.0
        """
        return np.linalg.norm(self.area_vectors, axis=1)

    @functools.cached_property
    def normals(self) -> np.ndarray:
        """(m, 3) outward unit normals; zero on triangles without area.

        Examples
        --------
        >>> from zephyrum import Body
        >>> length = np.linalg.norm(Body.capsule(3.0, 1.0).surface().normals, axis=1)
        >>> bool(np.allclose(length, 1.0))
        True
        """
        return self.area_vectors / np.maximum(self.areas, 1e-300)[:, None]

    @property
    def centres(self) -> np.ndarray:
        """(m, 3) centroids of the triangles [m].

        Examples
        --------
        >>> points = np.array([[0.0, 0.0, 0.0], [3.0, 0.0, 0.0], [0.0, 3.0, 0.0]])
        >>> Surface(points, np.array([[0, 1, 2]])).centres
        array([[1., 1., 0.]])
        """
        return self.points[self.triangles].mean(axis=1)

    def area(self, part: str | None = None) -> float:
        """Area of all, or of some labels.

        Parameters
        ----------
        part : str, optional
            Label, or the part that labels lie within.

        Returns
        -------
        float
            [m^2]

        Examples
        --------
        >>> import zephyrum as zy
        >>> round(zy.Body.box(2.0, 1.0, 0.5).surface().area(), 6)
        7.0
        """
        return float(self.areas.sum() if part is None else self.areas[self.belongs(part)].sum())

    @functools.cached_property
    def volume(self) -> float:
        """Enclosed volume [m^3]; only of a closed surface a meaningful number.

        Examples
        --------
        >>> from zephyrum import Body
        >>> round(Body.box(1.0, 2.0, 3.0).surface().volume, 6)
        6.0
        """
        p = self.points - self.midpoint
        a, b, c = (p[self.triangles[:, k]] for k in range(3))
        return float(np.einsum("ij,ij->", a, np.cross(b, c)) / 6.0)

    @property
    def centroid(self) -> np.ndarray:
        """(3,) centroid of the enclosed volume [m].

        Examples
        --------
        >>> from zephyrum import Body
        >>> Body.box(1.0, 2.0, 3.0).surface().centroid.round(6) + 0.0
        array([0.5, 0. , 0. ])
        """
        p = self.points - self.midpoint
        a, b, c = (p[self.triangles[:, k]] for k in range(3))
        weight = np.einsum("ij,ij->i", a, np.cross(b, c)) / 6.0
        return self.midpoint + (weight[:, None] * (a + b + c)).sum(axis=0) / (4.0 * weight.sum())

    @functools.cached_property
    def bounds(self) -> np.ndarray:
        """(2, 3) lowest and highest coordinates of the points in use [m].

        Examples
        --------
        >>> from zephyrum import Body
        >>> Body.box(1.0, 2.0, 3.0).surface().bounds
        array([[ 0. , -1. , -1.5],
               [ 1. ,  1. ,  1.5]])
        """
        own = np.zeros(len(self.points), dtype=bool)
        own[self.triangles] = True
        used = self.points[own]
        return np.array([used.min(axis=0), used.max(axis=0)])

    @functools.cached_property
    def midpoint(self) -> np.ndarray:
        """(3,) centre of the bounding box [m].

        Examples
        --------
        >>> from zephyrum import Body
        >>> Body.box(1.0, 2.0, 3.0).surface().midpoint.round(6) + 0.0
        array([0.5, 0. , 0. ])
        """
        return self.bounds.mean(axis=0)

    @functools.cached_property
    def size(self) -> float:
        """Diagonal of the bounding box [m].

        Examples
        --------
        >>> from zephyrum import Body
        >>> round(Body.box(1.0, 2.0, 2.0).surface().size, 6)
        3.0
        """
        return float(np.linalg.norm(np.ptp(self.bounds, axis=0)))

    # -- connections ------------------------------------------------------------------------------------------
    @functools.cached_property
    def _edge_table(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """Unique edges (k, 2) low point first, edge of each side (3 m,), uses of each edge forwards and backwards."""
        t = self.triangles
        sides = np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]])
        forward = sides[:, 0] < sides[:, 1]
        key = np.where(forward, sides[:, 0], sides[:, 1]) * len(self.points) + np.where(
            forward, sides[:, 1], sides[:, 0]
        )
        unique, which = np.unique(key, return_inverse=True)
        edges = np.stack([unique // len(self.points), unique % len(self.points)], axis=1)
        n = len(edges)
        return edges, which, np.bincount(which[forward], minlength=n), np.bincount(which[~forward], minlength=n)

    @property
    def open_edges(self) -> np.ndarray:
        """(k, 2) edges that are not used as often one way as the other: rims of holes, turned-over triangles.

        Examples
        --------
        >>> from zephyrum import Body
        >>> box = Body.box(1.0, 1.0, 1.0).surface().welded()
        >>> len(box.selected(slice(1, None)).open_edges)
        3
        """
        edges, _, there, back = self._edge_table
        return edges[there != back]

    @property
    def crowded_edges(self) -> np.ndarray:
        """(k, 2) edges that more than two triangles share.

        Examples
        --------
        >>> from zephyrum import Body
        >>> len(Body.capsule(3.0, 1.0).surface().crowded_edges)
        0
        """
        edges, _, there, back = self._edge_table
        return edges[there + back > 2]

    @property
    def watertight(self) -> bool:
        """Whether every edge is shared by exactly two triangles that run along it in opposite ways.

        Examples
        --------
        >>> from zephyrum import Body
        >>> box = Body.box(1.0, 1.0, 1.0).surface().welded()
        >>> box.watertight, box.selected(slice(1, None)).watertight
        (True, False)
        """
        _, _, there, back = self._edge_table
        return bool(len(self.triangles) and (there == 1).all() and (back == 1).all())

    @functools.cached_property
    def edge_sides(self) -> np.ndarray:
        """(e, 2) both sides of triangles that each edge is: k m + t is side k (0-1, 1-2, 2-0) of triangle t of m.

        The second one is -1 where an edge is not that of two triangles.

        Examples
        --------
        >>> points = np.array([[0.0, 0.0, 0.0], [3.0, 0.0, 0.0], [0.0, 3.0, 0.0], [3.0, 3.0, 0.0]])
        >>> Surface(points, np.array([[0, 1, 2], [1, 3, 2]])).edge_sides.tolist()
        [[0, -1], [4, -1], [2, 5], [1, -1], [3, -1]]
        """
        _, which, there, back = self._edge_table
        order = np.argsort(which, kind="stable")
        total = there + back
        start = np.cumsum(total) - total
        pair = total == 2
        out = np.full((len(total), 2), -1)
        out[:, 0] = order[start]
        out[pair, 1] = order[start[pair] + 1]
        return out

    @functools.cached_property
    def neighbours(self) -> np.ndarray:
        """(m, 3) the triangle across each side (0-1, 1-2, 2-0); -1 where there is none or more than one.

        Examples
        --------
        >>> points = np.array([[0.0, 0.0, 0.0], [3.0, 0.0, 0.0], [0.0, 3.0, 0.0], [3.0, 3.0, 0.0]])
        >>> Surface(points, np.array([[0, 1, 2], [1, 3, 2]])).neighbours
        array([[-1,  1, -1],
               [-1, -1,  0]])
        """
        m = len(self.triangles)
        one, two = self.edge_sides[self.edge_sides[:, 1] >= 0].T
        out = np.full(3 * m, -1)
        out[one], out[two] = two % m, one % m
        return out.reshape(3, m).T.copy()

    def shells(self) -> tuple[int, np.ndarray]:
        """(count, shell of each triangle): groups connected through edges.

        Examples
        --------
        >>> from zephyrum import Body
        >>> count, shell = Body.capsule(3.0, 1.0).surface().shells()
        >>> count
        1
        """
        _, which, _, _ = self._edge_table
        m = len(self.triangles)
        link = coo_matrix((np.ones(3 * m), (np.tile(np.arange(m), 3), m + which)), shape=(m + which.max() + 1,) * 2)
        label = connected_components(link, directed=False)[1][:m]
        unique, label = np.unique(label, return_inverse=True)
        return len(unique), label

    # -- labels -----------------------------------------------------------------------------------------------
    def belongs(self, part: str) -> np.ndarray:
        """Triangles whose label is a part, or lies within it.

        Parameters
        ----------
        part : str
            Label or part.

        Returns
        -------
        (m,) array of bool

        Raises
        ------
        InputError
            There is no such label; those there are are listed.

        Notes
        -----
        "wing" holds "wing/upper"; "wing/flap" holds both its sides.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Body.box(2.0, 1.0, 0.5).surface("box").belongs("box").all().item()
        True
        """
        inner = part + (" " if "/" in part else "/")
        own = [k for k, name in enumerate(self.labels) if name == part or name.startswith(inner)]
        if not own:
            raise InputError(f"surface {self.name!r} has no label {part!r}; it has: {', '.join(self.labels)}.")
        return np.isin(self.label, own)

    @property
    def parts(self) -> tuple[str, ...]:
        """Names of the parts, in order: labels up to the first stroke.

        Examples
        --------
        >>> from zephyrum import Aircraft, Body
        >>> Aircraft(name="pod", parts={"pod": Body.capsule(3.0, 1.0)}).surface().parts
        ('pod',)
        """
        return tuple(dict.fromkeys(name.split("/")[0] for name in self.labels))

    def labelled(self, names: np.ndarray | list[str] | str) -> "Surface":
        """The same surface with other labels.

        Parameters
        ----------
        names : array or list[str] or str
            One for each triangle (m,), or one for all.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Body.box(2.0, 1.0, 0.5).surface().labelled("box").labels
        ('box',)
        """
        names = np.broadcast_to(np.asarray(names, dtype=object), (len(self.triangles),))
        unique = tuple(dict.fromkeys(names.tolist()))
        code = {name: k for k, name in enumerate(unique)}
        return replace(self, label=np.array([code[name] for name in names.tolist()], dtype=np.int64), labels=unique)

    @property
    def label_names(self) -> np.ndarray:
        """(m,) label name of each triangle.

        Examples
        --------
        >>> from zephyrum import Aircraft, Body
        >>> surface = Aircraft(name="pod", parts={"pod": Body.capsule(3.0, 1.0)}).surface()
        >>> sorted(set(surface.label_names))
        ['pod/side']
        """
        return np.array(self.labels, dtype=object)[self.label]

    # -- changes ----------------------------------------------------------------------------------------------
    def selected(self, which: np.ndarray | slice) -> "Surface":
        """Some triangles, without unused points and labels.

        Parameters
        ----------
        which : array or slice
            Mask or indices.

        Examples
        --------
        >>> import zephyrum as zy
        >>> len(zy.Body.box(2.0, 1.0, 0.5).surface().selected(slice(3)).triangles)
        3
        """
        triangles, label = self.triangles[which], self.label[which]
        used, inverse = np.unique(triangles, return_inverse=True)
        stored, code = np.unique(label, return_inverse=True)
        return replace(
            self,
            points=self.points[used],
            triangles=inverse.reshape(-1, 3),
            label=code,
            labels=tuple(self.labels[k] for k in stored),
        )

    def flipped(self) -> "Surface":
        """Inside out.

        Examples
        --------
        >>> from zephyrum import Body
        >>> round(Body.box(1.0, 1.0, 1.0).surface().flipped().volume, 6)
        -1.0
        """
        return replace(self, triangles=self.triangles[:, ::-1])

    def outward(self) -> "Surface":
        """Turned so that the enclosed volume is positive.

        Examples
        --------
        >>> from zephyrum import Body
        >>> round(Body.box(1.0, 1.0, 1.0).surface().flipped().outward().volume, 6)
        1.0
        """
        return self.flipped() if self.volume < 0.0 else self

    def mirrored(self) -> "Surface":
        """Reflected in the plane y = 0.

        Examples
        --------
        >>> from zephyrum import Body
        >>> box = Body.box(1.0, 1.0, 1.0).surface().transformed(np.eye(3), (0.0, 2.0, 0.0))
        >>> box.mirrored().midpoint.round(6) + 0.0
        array([ 0.5, -2. ,  0. ])
        """
        return replace(self, points=self.points * [1.0, -1.0, 1.0], triangles=self.triangles[:, ::-1])

    def transformed(
        self, matrix: np.ndarray, shift: np.ndarray | tuple[float, float, float] = (0.0, 0.0, 0.0)
    ) -> "Surface":
        """The surface with its points multiplied by a matrix and shifted; a mirroring matrix turns the triangles over
        as well.

        Parameters
        ----------
        matrix : (3, 3) array
        shift : array or tuple[float, float, float], optional
            (3,) [m].

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Body.box(2.0, 1.0, 0.5).surface().transformed(np.eye(3), (1.0, 0.0, 0.0)).bounds.round(6).tolist()
        [[1.0, -0.5, -0.25], [3.0, 0.5, 0.25]]
        """
        matrix = np.asarray(matrix, dtype=float)
        triangles = self.triangles if np.linalg.det(matrix) > 0.0 else self.triangles[:, ::-1]
        return replace(self, points=self.points @ matrix.T + np.asarray(shift, dtype=float), triangles=triangles)

    def scaled(self, factor: float) -> "Surface":
        """The surface with all coordinates scaled.

        Parameters
        ----------
        factor : float
            Scale factor.

        Examples
        --------
        >>> import zephyrum as zy
        >>> round(zy.Body.box(1.0, 1.0, 1.0).surface().scaled(2.0).volume, 6)
        8.0
        """
        return replace(self, points=self.points * factor)

    def welded(self, distance: float | None = None, near: tuple[np.ndarray, np.ndarray] | None = None) -> "Surface":
        """The surface with near points made one; triangles without three points are left out.

        Parameters
        ----------
        distance : float, optional
            Largest distance [m]; 1e-9 of the size without it.
        near : tuple[array, array], optional
            `pairs_within` of a distance at least as long, if known.

        Examples
        --------
        >>> import zephyrum as zy
        >>> len(zy.Body.box(2.0, 1.0, 0.5).surface().welded(1e-3).open_edges)
        0
        """
        merged = weld(self.points, WELD_TOLERANCE * self.size if distance is None else distance, near)
        triangles = merged[self.triangles]
        good = (triangles != np.roll(triangles, 1, axis=1)).all(axis=1)
        return replace(self, triangles=triangles[good], label=self.label[good]).selected(slice(None))

    @property
    def fingerprint(self) -> str:
        """Twelve characters that change with any point, triangle or label.

        Examples
        --------
        >>> from zephyrum import Body
        >>> len(Body.capsule(3.0, 1.0).surface().fingerprint)
        12
        """
        text = hashlib.sha256()
        for part in (self.points, self.triangles, self.label):
            text.update(np.ascontiguousarray(part).tobytes())
        text.update("|".join(self.labels).encode())
        return text.hexdigest()[:12]


@takes(surfaces=Many(Surface))
def joined(surfaces: list[Surface], name: str = "surface") -> Surface:
    """Several surfaces side by side in one; nothing is united.

    Parameters
    ----------
    surfaces : list[Surface]
        Surfaces.
    name : str, optional
        Name of the result.

    Examples
    --------
    >>> import zephyrum as zy
    >>> ball = zy.Body.ellipsoid(1.0, 1.0).surface()
    >>> print(len(zy.joined([ball, ball]).triangles) == 2 * len(ball.triangles))
    True
    """
    if not surfaces:
        raise InputError("surfaces is empty; give at least one Surface.")
    names = tuple(dict.fromkeys(label for one in surfaces for label in one.labels))
    code = {label: k for k, label in enumerate(names)}
    starts = np.cumsum([0, *(len(one.points) for one in surfaces)])
    return Surface(
        np.concatenate([one.points for one in surfaces]),
        np.concatenate([one.triangles + at for one, at in zip(surfaces, starts)]),
        np.concatenate([np.array([code[label] for label in one.labels])[one.label] for one in surfaces]),
        names,
        name,
        tuple(note for one in surfaces for note in one.notes),
    )


def pairs_within(points: np.ndarray, distance: float) -> tuple[np.ndarray, np.ndarray]:
    """Pairs of points nearer to each other than a distance.

    Parameters
    ----------
    points : (n, 3) array
        [m]
    distance : float
        [m]

    Returns
    -------
    pairs : (k, 2) array
    distances : (k,) array
        [m]

    Examples
    --------
    >>> pairs, distance = pairs_within(np.array([[0.0, 0.0, 0.0], [0.1, 0.0, 0.0], [1.0, 0.0, 0.0]]), 0.2)
    >>> pairs.tolist()
    [[0, 1]]
    """
    pairs = cKDTree(points).query_pairs(distance, output_type="ndarray")
    return pairs, np.linalg.norm(points[pairs[:, 0]] - points[pairs[:, 1]], axis=1)


def weld(points: np.ndarray, distance: float, near: tuple[np.ndarray, np.ndarray] | None = None) -> np.ndarray:
    """First point of the cluster of each point; a cluster is connected by gaps below a distance.

    Parameters
    ----------
    points : (n, 3) array
        [m]
    distance : float
        [m]
    near : tuple[array, array], optional
        `pairs_within` of a distance at least as long, if known.

    Returns
    -------
    (n,) array
        Indices of points.

    Examples
    --------
    >>> import numpy as np
    >>> weld(np.array([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [1.0, 0.0, 1e-6]]), 1e-3).tolist()
    [0, 1, 1]
    """
    pairs, length = pairs_within(points, distance) if near is None else near
    pairs = pairs[length <= distance]
    n = len(points)
    cluster = connected_components(coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(n, n)))[1]
    first = np.full(n, n)
    np.minimum.at(first, cluster, np.arange(n))
    return first[cluster]
