"""Surface results of a flow in space: pressures in sections across the body, and how the lift is spread over the span.

A section is where a plane y = constant meets the triangles of the walls, on which Cp is linear and across whose edges
it is continuous (`wall_interpolation`); its lift is the sum of pressure over the pieces, so that it can be checked
against the span loading, which spreads the force of every triangle exactly over the strips that it reaches into.
Induced drag: that of the trailing vortices of that loading in the plane far behind (Glauert 1926, The Elements of
Aerofoil and Airscrew Theory, ch. 11; series fitted as by Multhopp 1938).
Verified by tests/test_space.py.
"""

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import number, whole
from zephyrum.errors import InputError
from zephyrum.mesh.polygons import fan_triangles
from zephyrum.results.wall_interpolation import WallInterpolation, wall_faces

if TYPE_CHECKING:
    from zephyrum.results.solution import Solution

STRIP_COUNT = 60
MIN_ASPECT_RATIO = 0.25  # span over length below which a body is no wing
# of the span: standard deviation of the height of the load in a strip from which wings lie above each other
STACKED = 0.03
SIDEWARD = 0.25  # side force of a half wing over its lift above which its wake is not plane
# of the series of the loading; the rolled-up vortices at the tips are not of it, so more terms only follow them
TERMS = 7
EFFICIENCY_ERROR = 2  # terms more and fewer, between which the induced drag is doubtful


@dataclass(frozen=True, eq=False)
class _WallTriangles:
    """Triangles of the walls: x, y, z [m], Cp and, with friction, Cf at their corners (m, 3, 4 or 5), unit normals out
    of the body (m, 3), part and upper side or not (m,).
    """

    corner: np.ndarray
    normal: np.ndarray
    part: np.ndarray
    upper: np.ndarray

    @classmethod
    def of(cls, solution: "Solution", part: str | None) -> "_WallTriangles":
        mesh = solution.mesh
        walls = WallInterpolation.of(mesh, part)
        local, pressure, friction = walls.faces - mesh.n_interior, solution.air.dynamic_pressure, solution.wall_friction
        columns = [*walls.points.T, walls.at_nodes(solution.wall_pressure[local] / pressure)]
        if friction is not None:
            columns.append(walls.at_nodes(np.linalg.norm(friction[local], axis=1) / pressure))
        corner = np.stack(columns, axis=1)[walls.triangles]
        normal = -np.cross(corner[:, 1, :3] - corner[:, 0, :3], corner[:, 2, :3] - corner[:, 0, :3])
        normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
        upper = mesh.face_area[walls.faces[walls.owner], 2] < 0.0  # triangles of a bent face may look the other way
        return cls(corner, normal, np.array(walls.names)[walls.part[walls.owner]], upper)


def cut_table(solution: "Solution", at: float | list[float], part: str | None = None, axis: str = "y") -> pd.DataFrame:
    """Tabulate Cp (and Cf) where planes meet the walls.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    at : float or sequence
        Positions of the planes [m].
    part : str, optional
        One wall; without it all.
    axis : str
        "y" (sections of wings) or "x" (rings of bodies).

    Returns
    -------
    pandas.DataFrame
        Columns as in `Solution.cuts`.

    Raises
    ------
    InputError
        A plane meets no wall.
    """
    if solution.mesh.planar:
        raise InputError("cuts are for meshes in space; a section has its table in surface().")
    if axis not in ("x", "y"):
        raise InputError(
            f"axis = {axis!r}: cuts lie across y (sections of wings) or x (rings of bodies); give one of these."
        )
    walls = _WallTriangles.of(solution, part)
    k = "xyz".index(axis)
    frames = []
    for position in [at] if np.isscalar(at) else at:  # type: ignore[union-attr]
        position = number("at", position)
        s = walls.corner[:, :, k] - position
        hit = np.flatnonzero((s.min(axis=1) < 0.0) & (s.max(axis=1) >= 0.0))
        if not len(hit):
            reach = f"{walls.corner[:, :, k].min():.4g} to {walls.corner[:, :, k].max():.4g} m"
            raise InputError(
                f"{axis} = {position:g} m meets no wall{f' of part {part!r}' if part else ''}; they reach from {reach}."
            )
        pair = _segments(walls.corner[hit], s[hit])
        loops = _loops(pair[:, :, :3], walls.part[hit])
        for loop in range(loops.max() + 1):
            own = loops == loop
            frames.append(_curve_table(walls, hit[own], pair[own], {"loop": loop, axis: position}))
    return pd.concat(frames, ignore_index=True)


def _segments(corner: np.ndarray, s: np.ndarray) -> np.ndarray:
    """Ends (m, 2, k) of the line where each triangle (m, 3, k) meets the plane: their positions and what else varies
    linearly; s (m, 3): distances of the corners from the plane.
    """
    ends = []
    for j in range(3):
        a, b = s[:, j], s[:, (j + 1) % 3]
        fraction = np.where((a < 0.0) != (b < 0.0), a / np.where(a == b, 1.0, a - b), np.nan)
        ends.append(corner[:, j] + fraction[:, None] * (corner[:, (j + 1) % 3] - corner[:, j]))
    stacked = np.stack(ends, axis=1)
    return stacked[~np.isnan(stacked[:, :, 0])].reshape(len(s), 2, -1)


def _curve_table(walls: _WallTriangles, rows: np.ndarray, pair: np.ndarray, where: dict) -> pd.DataFrame:
    """Table of one closed curve: the triangles `rows` (m,) that it passes along the segments (m, 2, 4 or 5)."""
    axis = list(where)[-1]
    midpoint, length = pair.mean(axis=1), np.linalg.norm(pair[:, 1, :3] - pair[:, 0, :3], axis=1)
    cp = midpoint[:, 3]
    n = walls.normal[rows]
    # a strip of unit width has this much wall along the segment
    wide = length / np.sqrt(np.maximum(1.0 - n[:, "xyz".index(axis)] ** 2, 1e-6))
    x = pair[:, :, 0]
    chord = max(float(np.ptp(x)), 1e-12)
    columns = {"part": walls.part[rows[0]]} | where
    columns |= {
        "x": midpoint[:, 0],
        "y": midpoint[:, 1],
        "z": midpoint[:, 2],
        "fraction": (midpoint[:, 0] - x.min()) / chord,
        "side": np.where(walls.upper[rows], "upper", "lower"),
        "Cp": cp,
    }
    if midpoint.shape[1] > 4:
        columns["Cf"] = midpoint[:, 4]
    force = -cp[:, None] * n * wide[:, None]
    frame = pd.DataFrame(columns | {"chord": chord, "cx": force[:, 0] / chord, "cz": force[:, 2] / chord})
    return frame.sort_values(["side", "fraction"], ignore_index=True)


def _loops(pair: np.ndarray, names: np.ndarray) -> np.ndarray:
    """(m,) number of the closed curve that each piece (m, 2, 3) of a section is of, from the foremost one on; pieces of
    two parts are never of one.

    So wing and tail that share a label have each its own chord.
    """
    scale = 1e-7 * max(float(np.ptp(pair.reshape(-1, 3), axis=0).max()), 1e-12)
    corner = np.unique(np.round(pair.reshape(-1, 3) / scale).astype(np.int64), axis=0, return_inverse=True)[1].reshape(
        -1, 2
    )
    code = np.unique(names, return_inverse=True)[1]
    node = np.unique(corner + code[:, None] * (corner.max() + 1), return_inverse=True)[1].reshape(-1, 2)
    graph = coo_matrix((np.ones(len(node)), (node[:, 0], node[:, 1])), shape=(node.max() + 1,) * 2)
    found = connected_components(graph, directed=False)[1][node[:, 0]]
    first = np.full(found.max() + 1, np.inf)
    np.minimum.at(first, found, pair[:, :, 0].min(axis=1))
    rank = np.empty(len(first), dtype=np.int64)
    rank[np.argsort(first, kind="stable")] = np.arange(len(first))
    return rank[found]


@dataclass(frozen=True, eq=False)
class SpanLoading:
    """Lift along the span, and the drag that comes with it.

    Attributes
    ----------
    table : pd.DataFrame
        y of the centroids of the strips [m], "width" [m], "cl c" [m] (lift over dynamic pressure and width), "cd c" [m]
        of the surface, "load" (cl c over its mean).
    CL : float
        Sum.
    induced : float
        CD of the trailing vortices.
    uncertainty : float
        Of `induced`.
    efficiency : float
        CL^2 / (pi aspect ratio induced).
    span : float
        [m]
    note : str
        Why there is no induced drag.

    Notes
    -----
    Induced drag and efficiency are NaN, with the reason in `note`, where the load is not that of one wing: the formula
    is for a plane wake.
    """

    table: pd.DataFrame
    CL: float
    induced: float
    uncertainty: float
    efficiency: float
    span: float
    note: str = ""

    __repr__ = short_repr

    def __str__(self) -> str:
        if self.note:
            return f"CL {self.CL:.4f}, span {self.span:.4g} m; no induced drag: {self.note}"
        return (
            f"CL {self.CL:.4f}, induced CD {self.induced:.5f} +- {self.uncertainty:.1g} (span efficiency "
            f"{self.efficiency:.3f}), span {self.span:.4g} m"
        )


def _sums_below(y: np.ndarray, values: np.ndarray, at: np.ndarray) -> np.ndarray:
    """(k, j) what of `values` (m, j), spread evenly over triangles, lies below each place `at` (k,); y (m, 3) of their
    corners, sorted.
    """
    a, b, c = y.T
    order = np.argsort(c)
    whole_ones = np.concatenate([np.zeros((1, values.shape[1])), np.cumsum(values[order], axis=0)])
    out = whole_ones[np.searchsorted(c[order], at, side="right")]
    for k, position in enumerate(at):
        cut = np.flatnonzero((a < position) & (c > position))
        p, q, r = a[cut], b[cut], c[cut]
        low = (position - p) ** 2 / np.maximum((q - p) * (r - p), 1e-300)
        high = 1.0 - (r - position) ** 2 / np.maximum((r - p) * (r - q), 1e-300)
        out[k] += np.where(position < q, low, high) @ values[cut]
    return out


def image_drag(n: np.ndarray, series: np.ndarray, aspect: float, height: float, points: int = 400) -> float:
    """Drag coefficient that the mirror image of the trailing vortices in the ground adds, a negative number.

    Parameters
    ----------
    n : array
        Numbers of the terms of the sine series of circulation over 2 span speed.
    series : array
        Coefficients of the terms.
    aspect : float
        Aspect ratio.
    height : float
        Of the trailing vortices over the ground, in spans.
    points : int, optional
        Number of points of the quadrature.

    References
    ----------
    Wieselsberger, C. (1921). Ueber den Fluegelwiderstand in der Naehe des Bodens. ZFM 10:145.

    Examples
    --------
    >>> image_drag(np.array([1]), np.array([0.01]), 8.0, 0.2) < 0.0
    True
    """
    theta = (np.arange(points) + 0.5) * np.pi / points
    y = 0.5 * np.cos(theta)
    gamma = 2.0 * np.sin(np.outer(theta, n)) @ series  # over span and speed
    strength = (
        2.0 * np.cos(np.outer(theta, n)) @ (n * series) * np.pi / points
    )  # of the vortex shed in each step of theta
    apart = y[:, None] - y[None, :]
    # the image has the opposite sense and lies 2 heights below: it makes upwash on the lifting line
    upwash = (strength[None, :] * apart / (apart**2 + 4.0 * height**2)).sum(axis=1) / (4.0 * np.pi)
    width = 0.5 * np.sin(theta) * np.pi / points
    return -2.0 * aspect * abs(float(np.sum(gamma * upwash * width)))


def _height_over_ground(solution, corner: np.ndarray, local: np.ndarray) -> float:
    """Height [m] of what lifts over the ground: the mean of the walls by the size of the pressure on them."""
    mesh = solution.mesh
    level = float(mesh.face_centroid[mesh.faces_of("ground")[0], 2])
    size = np.linalg.norm(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]), axis=1)
    weight = size * np.abs(solution.wall_pressure[local])
    return float(np.average(corner[:, :, 2].mean(axis=1), weights=weight)) - level


def span_loading(solution: "Solution", strips: int = STRIP_COUNT, part: str | None = None) -> SpanLoading:
    """Lift along the span; see `Solution.span_loading`.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    strips : int, optional
        Number of strips.
    part : str, optional
        Wall; all without it.
    """
    mesh, air, reference = solution.mesh, solution.air, solution.reference
    if mesh.planar:
        raise InputError("a span loading needs a mesh in space.")
    whole("strips", strips, 4, 2000)
    faces, _ = wall_faces(mesh, part)
    local = faces - mesh.n_interior
    points, t, owner = fan_triangles(mesh, faces)
    corner = points[t]
    area = 0.5 * np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    local = local[owner]
    force = solution.wall_pressure[local, None] * area
    if solution.viscous:
        size = np.linalg.norm(area, axis=1)
        fraction = size / np.bincount(owner, size)[owner]
        whole_area = np.linalg.norm(mesh.face_area[faces], axis=1)[owner]
        force = force + solution.wall_friction[local] * (fraction * whole_area)[:, None]
    wind = force @ solution.computed.axes.T / air.dynamic_pressure  # drag, side, lift
    y = np.sort(corner[:, :, 1], axis=1)
    if mesh.mirrored:
        y, wind = np.concatenate([y, -y[:, ::-1]]), np.concatenate([wind, wind])
    low, high = float(y.min()), float(y.max())
    span, midpoint = high - low, 0.5 * (low + high)
    theta = np.linspace(np.pi, 0.0, strips + 1)
    edges = midpoint + 0.5 * span * np.cos(theta)
    each = np.diff(_sums_below(y, wind[:, ::2], edges[1:]), axis=0, prepend=0.0)
    width = np.diff(edges)
    load = each[:, 1] / width
    # circulation: Gamma / (2 b V) = sum A_n sin(n theta), by least squares over the strips' own widths
    at = np.arccos(np.clip((0.5 * (edges[1:] + edges[:-1]) - midpoint) / (0.5 * span), -1.0, 1.0))
    weight = np.sqrt(width)
    lift = float(each[:, 1].sum() / reference.area)
    aspect = span**2 / reference.area

    def drag(terms: int) -> float:
        n = np.arange(1, min(terms, strips // 2) + 1)
        series = np.linalg.lstsq(np.sin(np.outer(at, n)) * weight[:, None], load / (4.0 * span) * weight, rcond=None)[0]
        return float(np.pi * aspect * np.sum(n * series**2))

    induced, uncertainty = drag(TERMS), abs(drag(TERMS + EFFICIENCY_ERROR) - drag(TERMS - EFFICIENCY_ERROR))
    if solution.case.ground is not None:
        height = _height_over_ground(solution, corner, local)
        n = np.arange(1, min(TERMS, strips // 2) + 1)
        series = np.linalg.lstsq(np.sin(np.outer(at, n)) * weight[:, None], load / (4.0 * span) * weight, rcond=None)[0]
        induced += image_drag(n, series, aspect, height / span)
    table = pd.DataFrame(
        {
            "y": 0.5 * (edges[1:] + edges[:-1]),
            "width": width,
            "cl c": load,
            "cd c": each[:, 0] / width,
            "load": load * span / max(each[:, 1].sum(), 1e-300),
        }
    )
    efficiency = lift**2 / (np.pi * aspect * induced) if induced > 0.0 else float("nan")
    if note := _not_one_wing(corner, wind[: len(corner), 1:], span):
        return SpanLoading(table, lift, float("nan"), float("nan"), float("nan"), span, note)
    return SpanLoading(table, lift, induced, uncertainty, efficiency, span)


def _not_one_wing(corner: np.ndarray, force: np.ndarray, span: float) -> str:
    """Why the load of triangles (m, 3, 3) with side force and lift (m, 2) is not that of one plane wing; "" if it is.

    The lift of every strip of the span is taken at its mean height; wings above each other, wings whose halves push
    aside, as with plates at their tips or much dihedral, and bodies that are longer than wide have no plane wake.
    """
    midpoint, lift = corner.mean(axis=1), force[:, 1]
    length = float(np.ptp(corner[:, :, 0]))
    if span < MIN_ASPECT_RATIO * length:
        return f"the body is {length / span:.1f} times as long as wide, which is no wing"
    up = lift > 0.0 if lift.sum() > 0.0 else lift < 0.0
    if not up.any():
        return ""
    weight, y, z = np.abs(lift[up]), midpoint[up, 1], midpoint[up, 2]
    strip = np.digitize(y, np.linspace(y.min(), y.max(), 21)[1:-1])
    total = np.maximum(np.bincount(strip, weight, 20), 1e-300)
    mean = np.bincount(strip, weight * z, 20) / total
    spread = float(np.sqrt(np.sum(weight * (z - mean[strip]) ** 2) / weight.sum()))
    if spread > STACKED * span:
        return f"the load of a strip is spread over {spread:.3g} m of height: wings above each other have no plane wake"
    half = midpoint[:, 1] > 0.0
    aside = abs(force[half, 0].sum()) / max(abs(lift[half].sum()), 1e-300)
    if aside > SIDEWARD:
        return f"the side force of a half is {aside:.2g} of its lift: plates at tips, or dihedral, have no plane wake"
    return ""
