"""Surfaces from outside mended: welded, cleaned, turned the right way, holes filled, shells united, each defect reported.

The order is: weld, degenerate and duplicate triangles, points on edges, sheets cut apart where more than two triangles
meet, orientation, holes, stray and inner shells, union of overlapping shells, and the proof at the end. What can't be
mended within the volume error allowed is refused with its places. Holes are filled by the triangulation of least area
(Barequet and Sharir 1995, Comput. Aided Geom. Des. 12:207). Verified by tests/test_adopt.py.
"""

import heapq
from dataclasses import dataclass, replace
from dataclasses import field as dataclass_field

import numpy as np
from numba import njit
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from zephyrum.errors import InputError
from zephyrum.shape.crossings import crossing_triangles
from zephyrum.shape.holes import Hole, fill_hole, rims
from zephyrum.shape.labels import by_shell
from zephyrum.shape.solids import solid, united
from zephyrum.shape.surface import SAME, Surface, pairs_within

STRAY = 1e-3  # of the volume of the largest shell: smaller ones that touch nothing are listed and left out
TORN = 0.5  # of all sides of triangles: with more open ones a surface does not hang together
ALLOWED = 1e-3  # of the volume: what filled holes may be wrong by together


@dataclass(frozen=True)
class Defect:
    """One kind of defect: how many, up to ten places (k, 3) [m], their largest size [m], what was done."""

    kind: str
    count: int
    places: np.ndarray
    size: float
    done: str

    def __str__(self) -> str:
        spots = "; ".join("({:.4g}, {:.4g}, {:.4g})".format(*spot) for spot in self.places[:3])
        more = ", ..." if self.count > 3 else ""
        return f"{self.count} {self.kind}, at {spots}{more} m, up to {self.size:.3g} m: {self.done}"


@dataclass(frozen=True)
class Mended:
    """A closed surface and the defects that were mended. patched: share of the area that is new."""

    surface: Surface
    defects: tuple[Defect, ...]
    patched: float = 0.0
    doubt: float = 0.0
    notes: tuple[str, ...] = dataclass_field(default=())

    def report(self) -> str:
        """All defects, a line each."""
        lines = [f"  {one}" for one in self.defects] or ["  no defects"]
        if self.patched:
            lines.append(
                f"  {100 * self.patched:.2g} % of the area lies on filled holes, which may change the volume by {100 * self.doubt:.2g} %"
            )
        return "\n".join([*lines, *(f"  note: {note}" for note in self.notes)])


class NotMended(InputError):
    """A surface that can't be mended; `defect` holds the places, `surface` what was made so far."""

    def __init__(self, surface: Surface, defect: Defect, advice: str):
        self.surface, self.defect = surface, defect
        spots = "; ".join("({:.4g}, {:.4g}, {:.4g})".format(*spot) for spot in defect.places[:5])
        super().__init__(
            f"surface {surface.name!r} can't be mended: {defect.count} {defect.kind} at {spots} m, up to {defect.size:.3g} m; {advice}."
        )


def _found(kind: str, places: np.ndarray, size: float, done: str, count: int | None = None) -> Defect:
    places = np.asarray(places, dtype=float).reshape(-1, 3)
    return Defect(kind, len(places) if count is None else count, places[:10], float(size), done)


def _pieces(kind: str, pieces: list, done: str) -> Defect:
    """A defect of whole shells or holes: their middles and the largest size."""
    return _found(kind, np.array([one.middle for one in pieces]), max(one.size for one in pieces), done)


def mend(
    surface: Surface,
    weld_distance: float | None = None,
    flat_holes: bool = False,
    keep_stray: bool = False,
    label_shells: bool = False,
) -> Mended:
    """A closed surface of consistent orientation from what a file holds; NotMended (an InputError) if that can't be had.

    weld_distance [m]: points nearer are one; found from the gaps if None. flat_holes: fill large holes flat without asking
    what was there. keep_stray: keep small shells that touch nothing. label_shells: a label for each shell, before they are united.
    """
    found: list[Defect] = []
    made, gap = _clean(surface, weld_distance, found)
    _hangs_together(made)
    made = _split_edges(made, found)
    made = _cut_apart(made, found)
    made = _turned(made, found)
    made, doubt, patched = _filled(made, flat_holes, found)
    if label_shells:
        made = by_shell(made)
    try:
        made, notes = _shells(made, keep_stray, found)
        _prove(made, 4.0 * gap)
    except NotMended:
        raise
    except InputError as cause:  # the kernel of the union refuses a shell
        pairs = crossing_triangles(made)
        places = made.centres[pairs[:, 0]] if len(pairs) else made.middle[None]
        raise NotMended(made, _found("places where sheets touch or cut each other", places, made.size, ""),
                        f"separate them where the shape was made ({cause})") from cause  # fmt: skip
    return Mended(made, tuple(found), patched, doubt, tuple(notes))


def _clean(surface: Surface, distance: float | None, found: list[Defect]) -> tuple[Surface, float]:
    """Welded, without triangles of no area and without doubles; and the distance [m] below which points became one."""
    gap = distance or SAME * surface.size
    exact = surface.welded(SAME * surface.size)
    dropped = len(surface.triangles) - len(exact.triangles)
    made = exact if distance is None else surface.welded(distance)
    if distance is None and len(exact.open_edges):
        # noise opens nearly every edge: the least distance that closes nearly all of them is the one
        edges, _, _, _ = exact._edge_table
        shortest = np.percentile(np.linalg.norm(exact.points[edges[:, 0]] - exact.points[edges[:, 1]], axis=1), 2)
        best = len(exact.open_edges)
        trials = surface.size * 10.0 ** np.arange(-8.0, -3.4, 0.5)
        trials = trials[trials <= 0.2 * shortest]
        near = pairs_within(exact.points, trials[-1]) if len(trials) else None
        for tolerance in trials:
            trial = exact.welded(tolerance, near)
            left = len(trial.open_edges)
            if left < 0.7 * best:
                best, made = left, trial
                gap = tolerance
        if made is not exact:
            apart = len(np.unique(exact.triangles)) - len(np.unique(made.triangles))
            opened = exact.points[exact.open_edges[:, 0]]
            found.append(_found("points apart by noise", opened, gap, "welded", apart))
    if dropped:
        flat = surface.triangles[surface.areas <= 0.0]
        found.append(
            _found(
                "triangles with fewer than three corners",
                surface.points[flat].mean(axis=1) if len(flat) else surface.middle[None],
                0.0,
                "left out",
                dropped,
            )
        )
    if len(made.open_edges):
        # three corners in a line: what they held together is joined again by points on edges
        p = made.points[made.triangles]
        longest = np.linalg.norm(np.roll(p, -1, axis=1) - p, axis=2).max(axis=1)
        flat = 2.0 * made.areas < SAME * made.size * longest
        if flat.any():
            found.append(_found("triangles without area", made.centres[flat], longest[flat].max(), "left out"))
            made = made.selected(~flat)
    key = np.sort(made.triangles, axis=1)
    _, first, inverse, counts = np.unique(key, axis=0, return_index=True, return_inverse=True, return_counts=True)
    if (counts > 1).any():
        net = np.bincount(inverse.ravel(), _parity(made.triangles), len(counts))
        keep = np.zeros(len(key), dtype=bool)
        keep[first] = True
        keep[first[_sheets(key[first], (counts > 1) & (net == 0) & (counts % 2 == 0))]] = False
        twice = made.centres[first[counts > 1]]
        found.append(
            _found(
                "triangles given more than once",
                twice,
                np.sqrt(made.areas[first[counts > 1]].max()),
                "kept once",
                int((counts[counts > 1] - 1).sum()),
            )
        )
        made = made.selected(keep)
    return made, gap


def _hangs_together(surface: Surface) -> None:
    """NotMended if most sides have no neighbour: points meant to be one are farther apart than any gap that could be welded."""
    sides = 3 * len(surface.triangles)
    if len(surface.open_edges) > TORN * sides:
        edges = surface.open_edges
        length = np.linalg.norm(surface.points[edges[:, 0]] - surface.points[edges[:, 1]], axis=1)
        raise NotMended(surface, _found("sides of triangles without a neighbour", surface.points[edges[:: max(1, len(edges) // 10)]].mean(axis=1),
                                        length.max(), "", len(edges)),
                        f"that is most of {sides}: points meant to be one lie too far apart; say weld_distance=... [m]")  # fmt: skip


def _sheets(triangles: np.ndarray, both_ways: np.ndarray) -> np.ndarray:
    """Of the triangles given `both_ways`, those of sheets without thickness: taken back one by one, where most sides are open,

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


def _split_edges(surface: Surface, found: list[Defect]) -> Surface:
    """Open edges with an open point in their middle are split there (T-joints)."""
    made, total, spots, size = surface, 0, [], 0.0
    for _ in range(8):
        edges, _, there, back = made._edge_table
        rim = edges[there + back == 1]
        if not len(rim):
            break
        edge_length = np.linalg.norm(made.points[rim[:, 0]] - made.points[rim[:, 1]], axis=1)
        own = np.unique(rim)
        tree = cKDTree(made.points[own])
        tolerance = max(1e-5 * float(np.median(edge_length)), 10.0 * SAME * made.size)
        splits = {}
        middle = 0.5 * (made.points[rim[:, 0]] + made.points[rim[:, 1]])
        for k, near in enumerate(tree.query_ball_point(middle, 0.5 * edge_length + tolerance)):
            a, b = rim[k]
            along = made.points[b] - made.points[a]
            for point in own[near]:
                if point in (a, b):
                    continue
                share = (made.points[point] - made.points[a]) @ along / (along @ along)
                off = np.linalg.norm(made.points[point] - made.points[a] - share * along)
                if (
                    1e-6 < share < 1.0 - 1e-6
                    and off < tolerance
                    and ((a, b) not in splits or abs(share - 0.5) < splits[a, b][0])
                ):
                    splits[a, b] = (abs(share - 0.5), point)
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
                spots.append(made.points[point[1]])
                size = max(size, float(np.linalg.norm(made.points[i] - made.points[j])))
        if not done:
            break
        total += len(done)
        made = replace(made, triangles=np.array(triangles), label=np.array(label))
    if total:
        found.append(
            _found("points in the middle of a neighbour's edge", np.array(spots), size, "edges split there", total)
        )
    return made


def _cut_apart(surface: Surface, found: list[Defect]) -> Surface:
    """Where more than two triangles share an edge, they are paired in order round it and get edges of their own."""
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
        links += _paired(surface, edges[e], sides % m)
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
            _found(
                "edges shared by more than two triangles",
                surface.points[crowded].mean(axis=1),
                length.max(),
                "sheets cut apart",
            )
        )
    return made


def _paired(surface: Surface, edge: np.ndarray, around: np.ndarray) -> list[tuple[int, int, int, int]]:
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


@njit(cache=True, error_model="numpy")
def _spread(start, neighbour, clash, m):
    """(turn (m,) bool, shell (m,)): walks from triangle to triangle, turning those that clash with where one comes from."""
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


def _turned(surface: Surface, found: list[Defect]) -> Surface:
    """Triangles of each shell turned alike, and each closed shell outwards."""
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
    turn, shell = _spread(np.r_[0, np.cumsum(np.bincount(away, minlength=m))], to[rank], hurts[rank], m)
    torn = (turn[one] ^ turn[two]) != clash
    if torn.any():
        raise NotMended(surface, _found("places of a one-sided surface", surface.centres[one[torn]], surface.size, ""),
                        "a surface with one side only has no inside; separate its sheets")  # fmt: skip
    # the fewer triangles of a shell are the wrong ones; whether all of it is inside out shows its volume
    count = int(shell.max()) + 1
    turn ^= (2 * np.bincount(shell, turn, count) > np.bincount(shell, minlength=count))[shell]
    made = replace(surface, triangles=np.where(turn[:, None], t[:, ::-1], t))
    p = made.points - made.middle
    a, b, c = (p[made.triangles[:, k]] for k in range(3))
    volume = np.bincount(shell, np.einsum("ij,ij->i", a, np.cross(b, c)) / 6.0, count)
    inside_out = volume < 0.0
    made = replace(made, triangles=np.where(inside_out[shell][:, None], made.triangles[:, ::-1], made.triangles))
    if turn.any():
        found.append(
            _found("triangles turned over", surface.centres[turn], np.sqrt(surface.areas[turn].max()), "turned back")
        )
    if inside_out.any():
        first = np.unique(shell, return_index=True)[1][inside_out]
        found.append(_found("shells inside out", surface.centres[first], surface.size, "turned"))
    return made


def _filled(surface: Surface, flat: bool, found: list[Defect]) -> tuple[Surface, float, float]:
    """Holes filled; (surface, volume that the patches may be wrong by over all of it, their share of the area)."""
    holes = rims(surface)
    if not holes:
        return surface, 0.0, 0.0
    made, doubts, patches = surface, [], []
    points, triangles = surface.points, [surface.triangles]
    on_rim = np.zeros(len(points), dtype=bool)
    on_rim[np.concatenate([hole.loop for hole in holes])] = True
    beside = on_rim[surface.triangles].sum(axis=1) >= 2
    rim = replace(surface, triangles=surface.triangles[beside], label=surface.label[beside])
    bad: list[Hole] = []
    for hole in holes:
        patch = fill_hole(rim, hole)
        if patch is None:
            bad.append(hole)
            continue
        new, doubt = patch
        triangles.append(new)
        doubts.append(doubt)
        patches.append(hole)
    if bad:
        raise NotMended(surface, _pieces("holes with a rim that crosses itself", bad, ""),
                        "close them where the shape was made")  # fmt: skip
    names = np.concatenate([surface.label_names, np.full(sum(len(t) for t in triangles[1:]), "patch", dtype=object)])
    made = Surface(points, np.concatenate(triangles), name=surface.name).labelled(names)
    doubt = float(np.sum(doubts)) / max(abs(made.volume), 1e-300)
    large = [k for k, one in enumerate(doubts) if one > 0.2 * ALLOWED * abs(made.volume)]
    if doubt > ALLOWED and not flat:
        which = large or [int(np.argmax(doubts))]
        worst = [patches[k] for k in which]
        raise NotMended(
            surface, _pieces("holes too large to guess what was there", worst, ""),
            f"filling them flat may change the volume by {100 * doubt:.2g} %: close them where the shape was made, or say flat_holes=True if they are flat",
        )  # fmt: skip
    small = sum(1 for h in holes if len(h.loop) <= 4)
    done = f"filled ({small} of up to four sides)" if small < len(holes) else "filled"
    found.append(_pieces("holes", holes, done))
    return made, doubt, made.area("patch") / made.area()


def _shells(surface: Surface, keep_stray: bool, found: list[Defect]) -> tuple[Surface, list[str]]:
    """Stray shells listed and left out, the others united."""
    count, shell = surface.shells()
    if count == 1:
        return surface, []
    pieces = [surface.selected(shell == k) for k in range(count)]
    volumes = np.array([one.volume for one in pieces])
    notes: list[str] = []
    if (volumes <= 0.0).any():
        flat = [one for one, v in zip(pieces, volumes) if v <= 0.0]
        found.append(_pieces("shells that enclose nothing", flat, "left out"))
        pieces, volumes = [one for one, v in zip(pieces, volumes) if v > 0.0], volumes[volumes > 0.0]
    order = np.argsort(-volumes)
    pieces = [pieces[k] for k in order]
    boxes = np.array([one.bounds for one in pieces])
    # shells hang together where their boxes meet: strays are small and meet nothing
    low, high = boxes[:, 0], boxes[:, 1]
    meets = ((low[:, None] <= high[None]) & (high[:, None] >= low[None])).all(axis=2)
    alone = (meets.sum(axis=1) == 1) & (volumes[order] < STRAY * volumes.max())
    if alone.any() and not keep_stray:
        lost = [one for one, drop in zip(pieces, alone) if drop]
        found.append(_pieces("stray shells", lost, "left out (keep_stray keeps them)"))
        pieces = [one for one, drop in zip(pieces, alone) if not drop]
    if len(pieces) == 1:
        return pieces[0], notes
    total = sum(one.volume for one in pieces)
    made = united(pieces, surface.name)
    apart = made.shells()[0]
    if made.volume < (1.0 - 1e-9) * total or apart < len(pieces):
        found.append(_found("overlapping shells", np.array([one.middle for one in pieces]), surface.size,
                            f"united, {total - made.volume:.3g} m^3 counted twice before"))  # fmt: skip
    if apart > 1:
        notes.append(f"{apart} solids that touch nothing of each other are left")
    return made, notes


def _prove(surface: Surface, noise: float) -> None:
    """NotMended unless the surface is closed, positive and free of crossings deeper than `noise` [m]."""
    if not surface.watertight:
        edges = surface.open_edges
        raise NotMended(surface, _found("open edges", surface.points[edges].mean(axis=1) if len(edges) else surface.middle[None], surface.size, ""),
                        "close the shape where it was made")  # fmt: skip
    if not surface.volume > 0.0:
        raise NotMended(
            surface, _found("shells without volume", surface.middle[None], surface.size, ""), "give a solid"
        )
    solid(surface)
    pairs = crossing_triangles(surface, noise)
    if len(pairs):
        size = np.sqrt(surface.areas[pairs[:, 0]].max())
        raise NotMended(surface, _found("triangles that cut through each other", surface.centres[pairs[:, 0]], size, ""),
                        "separate the sheets where the shape was made")  # fmt: skip
