"""Triangles from outside cleaned: welded, without doubles, joined at edges, sheets cut apart, turned alike and
outwards.

Verified by tests/test_adopt.py.
"""

import heapq
from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from zephyrum._core.jit import exact
from zephyrum.geometry.surface.defects import Defect, NotRepairable, defect_at
from zephyrum.geometry.surface.triangulation import WELD_TOLERANCE, Surface, pairs_within

MAX_OPEN_FRACTION = 0.5  # of all sides of triangles: with more open ones a surface is not connected


def clean_triangles(surface: Surface, distance: float | None, found: list[Defect]) -> tuple[Surface, float]:
    """Weld points and drop triangles without area and duplicates.

    Parameters
    ----------
    surface : Surface
    distance : float or None
        Distance [m] below which points become one; None finds it.
    found : list of Defect
        Receives what was found.

    Returns
    -------
    surface : Surface
    gap : float
        Distance [m] below which points became one.

    Examples
    --------
    >>> from zephyrum import Body
    >>> surface, distance = clean_triangles(Body.box(1.0, 1.0, 1.0).surface(), None, [])
    >>> len(surface.points)
    266
    """
    exact = surface.welded(WELD_TOLERANCE * surface.size)
    dropped = len(surface.triangles) - len(exact.triangles)
    made, gap = exact, distance or WELD_TOLERANCE * surface.size
    if distance is not None:
        made = surface.welded(distance)
    elif len(exact.open_edges):
        made, gap = _welded_within_noise(exact, surface.size, gap, found)
    if dropped:
        flat = surface.triangles[surface.areas <= 0.0]
        where = surface.points[flat].mean(axis=1) if len(flat) else surface.midpoint[None]
        found.append(defect_at("triangles with fewer than three corners", where, 0.0, "left out", dropped))
    if len(made.open_edges):
        made = _without_flat_triangles(made, found)
    return _without_duplicates(made, found), gap


def _welded_within_noise(exact: Surface, size: float, gap: float, found: list[Defect]) -> tuple[Surface, float]:
    """Weld across noise: of a series of distances the least that closes nearly all open edges; (surface, distance)."""
    made = exact
    edges, _, _, _ = exact._edge_table
    shortest = np.percentile(np.linalg.norm(exact.points[edges[:, 0]] - exact.points[edges[:, 1]], axis=1), 2)
    best = len(exact.open_edges)
    trials = size * 10.0 ** np.arange(-8.0, -3.4, 0.5)
    trials = trials[trials <= 0.2 * shortest]
    near = pairs_within(exact.points, trials[-1]) if len(trials) else None
    for tolerance in trials:
        trial = exact.welded(tolerance, near)
        left = len(trial.open_edges)
        # of the noise that one distance closes nearly all of, the next one closes the farthest points
        if left < 0.7 * best or (made is not exact and left < best and tolerance < 4.0 * gap):
            best, made = left, trial
            gap = tolerance
    if made is not exact:
        apart = len(np.unique(exact.triangles)) - len(np.unique(made.triangles))
        opened = exact.points[exact.open_edges[:, 0]]
        found.append(defect_at("points apart by noise", opened, gap, "welded", apart))
    return made, gap


def _without_flat_triangles(made: Surface, found: list[Defect]) -> Surface:
    """Drop triangles whose corners lie in a line; what they held together is joined later by points on edges."""
    p = made.points[made.triangles]
    longest = np.linalg.norm(np.roll(p, -1, axis=1) - p, axis=2).max(axis=1)
    flat = 2.0 * made.areas < WELD_TOLERANCE * made.size * longest
    if not flat.any():
        return made
    found.append(defect_at("triangles without area", made.centres[flat], longest[flat].max(), "left out"))
    return made.selected(~flat)


def _without_duplicates(made: Surface, found: list[Defect]) -> Surface:
    """Keep one of triangles on the same three points; of pairs that face each other, those of a sheet."""
    key = np.sort(made.triangles, axis=1)
    _, first, inverse, counts = np.unique(key, axis=0, return_index=True, return_inverse=True, return_counts=True)
    many = counts > 1
    if not many.any():
        return made
    net = np.bincount(inverse.ravel(), _parity(made.triangles), len(counts))
    keep = np.zeros(len(key), dtype=bool)
    keep[first] = True
    keep[first[_sheets(key[first], many & (net == 0) & (counts % 2 == 0))]] = False
    largest = np.sqrt(made.areas[first[many]].max())
    extra = int((counts[many] - 1).sum())
    found.append(defect_at("triangles given more than once", made.centres[first[many]], largest, "kept once", extra))
    return made.selected(keep)


def check_connected(surface: Surface) -> None:
    """Refuse a surface most of whose edges are open: its points are farther apart than any gap that could be welded.

    Parameters
    ----------
    surface : Surface
        Welded surface.

    Raises
    ------
    NotRepairable
        With the places.

    Examples
    --------
    >>> from zephyrum import Body
    >>> check_connected(Body.box(1.0, 1.0, 1.0).surface().welded())
    """
    sides = 3 * len(surface.triangles)
    if len(surface.open_edges) > MAX_OPEN_FRACTION * sides:
        edges = surface.open_edges
        length = np.linalg.norm(surface.points[edges[:, 0]] - surface.points[edges[:, 1]], axis=1)
        raise NotRepairable(
            surface,
            defect_at(
                "sides of triangles without a neighbour",
                surface.points[edges[:: max(1, len(edges) // 10)]].mean(axis=1),
                length.max(),
                "",
                len(edges),
            ),
            f"that is most of {sides}: points meant to be one lie too far apart; say weld_distance=... [m]",
        )


def _sheets(triangles: np.ndarray, both_ways: np.ndarray) -> np.ndarray:
    """Of the triangles given `both_ways`, those of sheets without thickness: taken back one by one, where most sides
    are open,

    until no side is open that one of them would close; what is left closes nothing.
    """
    own = np.flatnonzero(both_ways)
    if not len(own):
        return own
    sides = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
    _, edge = np.unique(sides[:, 0] * (triangles.max() + 1) + sides[:, 1], return_inverse=True)
    edge = edge.reshape(3, -1)
    uses = np.bincount(edge[:, ~both_ways].ravel(), minlength=edge.max() + 1)
    at: dict[int, list[int]] = {}
    for k in own.tolist():
        for e in edge[:, k].tolist():
            at.setdefault(e, []).append(k)
    queue = [(-int((uses[edge[:, k]] % 2).sum()), k) for k in own.tolist()]
    heapq.heapify(queue)
    left = set(own.tolist())
    while queue:
        count, k = heapq.heappop(queue)
        now = int((uses[edge[:, k]] % 2).sum())
        if k not in left or now != -count or now == 0:
            continue
        left.remove(k)
        uses[edge[:, k]] += 1
        for e in edge[:, k].tolist():
            for other in at[e]:
                if other in left:
                    heapq.heappush(queue, (-int((uses[edge[:, other]] % 2).sum()), other))
    return np.array(sorted(left), dtype=int)


def _parity(triangles: np.ndarray) -> np.ndarray:
    """+1 if the corners are in the cyclic order of their numbers, else -1."""
    a, b, c = triangles.T
    return np.where((a < b) ^ (b < c) ^ (c < a), 1, -1)


def split_edges(surface: Surface, found: list[Defect]) -> Surface:
    """Split open edges that have an open point between their ends (T-joints).

    Parameters
    ----------
    surface : Surface
        Welded surface.
    found : list[Defect]
        Receives what was found.

    Examples
    --------
    >>> from zephyrum import Body
    >>> found = []
    >>> surface = split_edges(Body.box(1.0, 1.0, 1.0).surface().welded(), found)
    >>> found
    []
    """
    made, total, locations, size = surface, 0, [], 0.0
    for _ in range(8):
        edges, _, there, back = made._edge_table
        rim = edges[there + back == 1]
        if not len(rim):
            break
        edge_length = np.linalg.norm(made.points[rim[:, 0]] - made.points[rim[:, 1]], axis=1)
        own = np.unique(rim)
        tree = cKDTree(made.points[own])
        tolerance = max(1e-5 * float(np.median(edge_length)), 10.0 * WELD_TOLERANCE * made.size)
        splits: dict = {}
        midpoint = 0.5 * (made.points[rim[:, 0]] + made.points[rim[:, 1]])
        for k, near in enumerate(tree.query_ball_point(midpoint, 0.5 * edge_length + tolerance)):
            a, b = rim[k]
            along = made.points[b] - made.points[a]
            for point in own[near]:
                if point in (a, b):
                    continue
                fraction = (made.points[point] - made.points[a]) @ along / (along @ along)
                off = np.linalg.norm(made.points[point] - made.points[a] - fraction * along)
                if (
                    1e-6 < fraction < 1.0 - 1e-6
                    and off < tolerance
                    and ((a, b) not in splits or abs(fraction - 0.5) < splits[a, b][0])
                ):
                    splits[a, b] = (abs(fraction - 0.5), point)
        if not splits:
            break
        triangles, label = made.triangles.tolist(), made.label.tolist()
        done = set()
        for k, (a, b, c) in enumerate(made.triangles.tolist()):
            for i, j, m in ((a, b, c), (b, c, a), (c, a, b)):
                point = splits.get((min(i, j), max(i, j)))
                if point is None or k in done or point[1] == m:
                    continue
                triangles[k] = [i, point[1], m]
                triangles.append([point[1], j, m])
                label.append(label[k])
                done.add(k)
                locations.append(made.points[point[1]])
                size = max(size, float(np.linalg.norm(made.points[i] - made.points[j])))
        if not done:
            break
        total += len(done)
        made = replace(made, triangles=np.array(triangles), label=np.array(label))
    if total:
        found.append(
            defect_at(
                "points in the middle of a neighbour's edge", np.array(locations), size, "edges split there", total
            )
        )
    return made


def split_sheets(surface: Surface, found: list[Defect]) -> Surface:
    """Separate the sheets where more than two triangles share an edge; they are paired in order round it.

    Parameters
    ----------
    surface : Surface
        Welded surface.
    found : list[Defect]
        Receives what was found.

    Examples
    --------
    >>> from zephyrum import Body
    >>> found = []
    >>> surface = split_sheets(Body.box(1.0, 1.0, 1.0).surface().welded(), found)
    >>> found
    []
    """
    crowded = surface.crowded_edges
    edges, which, there, back = surface._edge_table
    m = len(surface.triangles)
    total = there + back
    order = np.argsort(which, kind="stable")
    start = np.r_[0, np.cumsum(total)]
    links: list[tuple[int, int, int, int]] = []  # (triangle, triangle, point, point) joined across an edge
    plain = np.flatnonzero(total == 2)
    one, two = order[start[plain]] % m, order[start[plain] + 1] % m
    for e in np.flatnonzero(total > 2):
        sides = order[start[e] : start[e + 1]]
        links += _paired_triangles(surface, edges[e], sides % m)
    a = np.r_[one, [link[0] for link in links]].astype(int)
    b = np.r_[two, [link[1] for link in links]].astype(int)
    p = np.r_[edges[plain, 0], [link[2] for link in links]].astype(int)
    q = np.r_[edges[plain, 1], [link[3] for link in links]].astype(int)
    corner = surface.triangles

    def node(triangle: np.ndarray, point: np.ndarray) -> np.ndarray:
        return 3 * triangle + np.argmax(corner[triangle] == point[:, None], axis=1)

    rows, cols = np.r_[node(a, p), node(a, q)], np.r_[node(b, p), node(b, q)]
    fan = connected_components(coo_matrix((np.ones(len(rows)), (rows, cols)), shape=(3 * m, 3 * m)), directed=False)[1]
    used, first = np.unique(fan, return_index=True)
    copies = len(used) - len(np.unique(corner))
    if not copies:
        return surface
    code = np.empty(fan.max() + 1, dtype=int)
    code[used] = np.arange(len(used))
    made = replace(surface, points=surface.points[corner.ravel()[first]], triangles=code[fan].reshape(-1, 3))
    if len(crowded):
        length = np.linalg.norm(surface.points[crowded[:, 0]] - surface.points[crowded[:, 1]], axis=1)
        found.append(
            defect_at(
                "edges shared by more than two triangles",
                surface.points[crowded].mean(axis=1),
                length.max(),
                "sheets cut apart",
            )
        )
    return made


def _paired_triangles(surface: Surface, edge: np.ndarray, around: np.ndarray) -> list[tuple[int, int, int, int]]:
    """Triangles round one edge joined two by two: those that enclose solid between them, by their angle."""
    a, b = surface.points[edge]
    axis = (b - a) / max(np.linalg.norm(b - a), 1e-300)
    frame = np.linalg.svd(axis[None])[2][1:]
    if np.linalg.det(np.stack([*frame, axis])) < 0.0:
        frame = frame[::-1]
    corner = surface.triangles[around]
    free = np.array([next(v for v in row if v not in edge) for row in corner.tolist()])
    arm = (surface.points[free] - a) @ frame.T
    angle = np.arctan2(arm[:, 1], arm[:, 0])
    forward = np.array([(row.index(edge[0]) + 1) % 3 == row.index(edge[1]) for row in corner.tolist()])
    turn = np.argsort(angle)
    n = len(turn)
    out = []
    left = list(turn)
    # a triangle that runs along the edge has its solid on the side of lower angle: its partner is the next below it
    for k in range(n):
        here = turn[k]
        if not forward[here] or here not in left:
            continue
        for step in range(1, n):
            other = turn[(k - step) % n]
            if other in left and not forward[other]:
                out.append((int(around[here]), int(around[other]), int(edge[0]), int(edge[1])))
                left.remove(here)
                left.remove(other)
                break
    # what is turned over is joined to its neighbour by angle; orientation comes later
    for one, two in zip(left[::2], left[1::2]):
        out.append((int(around[one]), int(around[two]), int(edge[0]), int(edge[1])))
    return out


@exact
def _propagate_orientation(start, neighbour, clash, m):
    """(turn (m,) bool, shell (m,)): walks from triangle to triangle, turning those that clash with where one comes
    from.
    """
    turn = np.zeros(m, dtype=np.bool_)
    shell = np.full(m, -1)
    queue = np.empty(m, dtype=np.int64)
    count = 0
    for first in range(m):
        if shell[first] >= 0:
            continue
        queue[0], head, tail = first, 0, 1
        shell[first] = count
        while head < tail:
            here = queue[head]
            head += 1
            for k in range(start[here], start[here + 1]):
                other = neighbour[k]
                if shell[other] < 0:
                    shell[other] = count
                    turn[other] = turn[here] ^ clash[k]
                    queue[tail] = other
                    tail += 1
        count += 1
    return turn, shell


def orient_triangles(surface: Surface, found: list[Defect]) -> Surface:
    """Orient the triangles of each shell alike, and each closed shell outwards.

    Parameters
    ----------
    surface : Surface
        Welded surface.
    found : list[Defect]
        Receives what was found.

    Raises
    ------
    NotRepairable
        The surface has one side only.

    Examples
    --------
    >>> from zephyrum import Body
    >>> inside_out = Body.box(1.0, 1.0, 1.0).surface().welded().flipped()
    >>> round(orient_triangles(inside_out, []).volume, 6)
    1.0
    """
    _, which, _, _ = surface._edge_table
    m = len(surface.triangles)
    t = surface.triangles
    along = np.concatenate([t[:, 0] < t[:, 1], t[:, 1] < t[:, 2], t[:, 2] < t[:, 0]])
    order = np.argsort(which, kind="stable")
    pair = np.flatnonzero(np.diff(which[order]) == 0)
    one, two = order[pair], order[pair + 1]
    clash = along[one] == along[two]  # neighbours that run along their edge the same way
    one, two = one % m, two % m
    away, to, hurts = np.r_[one, two], np.r_[two, one], np.r_[clash, clash]
    rank = np.argsort(away, kind="stable")
    turn, shell = _propagate_orientation(np.r_[0, np.cumsum(np.bincount(away, minlength=m))], to[rank], hurts[rank], m)
    torn = (turn[one] ^ turn[two]) != clash
    if torn.any():
        raise NotRepairable(
            surface,
            defect_at("places of a one-sided surface", surface.centres[one[torn]], surface.size, ""),
            "a surface with one side only has no inside; separate its sheets",
        )
    # the fewer triangles of a shell are the wrong ones; whether all of it is inside out shows its volume
    count = int(shell.max()) + 1
    turn ^= (2 * np.bincount(shell, turn, count) > np.bincount(shell, minlength=count))[shell]
    made = replace(surface, triangles=np.where(turn[:, None], t[:, ::-1], t))
    p = made.points - made.midpoint
    a, b, c = (p[made.triangles[:, k]] for k in range(3))
    volume = np.bincount(shell, np.einsum("ij,ij->i", a, np.cross(b, c)) / 6.0, count)
    inside_out = volume < 0.0
    made = replace(made, triangles=np.where(inside_out[shell][:, None], made.triangles[:, ::-1], made.triangles))
    if turn.any():
        found.append(
            defect_at("triangles turned over", surface.centres[turn], np.sqrt(surface.areas[turn].max()), "turned back")
        )
    if inside_out.any():
        first = np.unique(shell, return_index=True)[1][inside_out]
        found.append(defect_at("shells inside out", surface.centres[first], surface.size, "turned"))
    return made
