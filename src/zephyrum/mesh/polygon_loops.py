"""Polygons of fluid in a rectangle that a surface crosses: chains of its edges are joined along the perimeter.

Every edge runs with the fluid on its left. A chain enters and leaves through the perimeter; from its end the polygon
goes on along the perimeter, counter-clockwise, to the start of the next chain. Positions are compared exactly: a point
lies on the perimeter if its coordinate was set to that of a side. One algorithm serves the faces of three-dimensional
cells and the cells of two-dimensional meshes. Verified by tests/test_clipped.py.
"""

from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import exact, inner_exact

CLOSED, OPEN_END, CONFLICT = 0, 1, 2  # outcomes: well, a chain ends inside, in and out contradict each other
MAX_LOOPS = 1024  # points of all loops of one rectangle


class FluidEdges(NamedTuple):
    """Edges that the surface leaves in a rectangle.

    Attributes
    ----------
    tail, head : array
        Points; the first `n_edges` entries are used.
    n_edges : int
        Number of edges.
    """

    tail: np.ndarray
    head: np.ndarray
    n_edges: int


class Rectangle(NamedTuple):
    """A rectangle and its points.

    Attributes
    ----------
    u, v : array (n_points,)
        Coordinates of all points.
    box : array (4,)
        Low u, high u, low v, high v.
    perimeter : array (m,)
        Points on the perimeter: corners and hanging ones.
    positions : array (m,)
        Their positions along it, rising from 0 to 4 (see `perimeter_position`).
    """

    u: np.ndarray
    v: np.ndarray
    box: np.ndarray
    perimeter: np.ndarray
    positions: np.ndarray


class Loops(NamedTuple):
    """Room for the result.

    Attributes
    ----------
    points : array
        Points of loop k are points[start[k]:start[k + 1]].
    start : array
    inside : array (m,) of bool
        Which points of the perimeter are in the fluid.
    """

    points: np.ndarray
    start: np.ndarray
    inside: np.ndarray

    @classmethod
    def empty(cls, perimeter: int) -> "Loops":
        """Room for the loops of a rectangle.

        Parameters
        ----------
        perimeter : int
            Number of points on its perimeter.
        """
        return cls(
            np.empty(MAX_LOOPS, dtype=np.int64),
            np.empty(MAX_LOOPS, dtype=np.int64),
            np.zeros(perimeter, dtype=np.bool_),
        )


@exact
def perimeter_position(u: float, v: float, box: np.ndarray):
    """Position along the perimeter of a box, from 0 to 4; -1 inside.

    Parameters
    ----------
    u, v : float
        Coordinates.
    box : (4,) array
        Low and high u, low and high v.

    Examples
    --------
    >>> box = np.array([0.0, 1.0, 0.0, 1.0])
    >>> perimeter_position(0.5, 0.0, box), perimeter_position(0.5, 0.5, box)
    (0.5, -1.0)
    """
    if v == box[2]:
        return (u - box[0]) / (box[1] - box[0])
    if u == box[1]:
        return 1.0 + (v - box[2]) / (box[3] - box[2])
    if v == box[3]:
        return 2.0 + (box[1] - u) / (box[1] - box[0])
    if u == box[0]:
        return 3.0 + (box[3] - v) / (box[3] - box[2])
    return -1.0


@exact
def fluid_polygon_loops(edges: FluidEdges, rectangle: Rectangle, loops: Loops):
    """Find the polygons of fluid of a rectangle that curves pass.

    Parameters
    ----------
    edges : FluidEdges
        Directed edges with the fluid on their left.
    rectangle : Rectangle
        The rectangle.
    loops : Loops
        Written.

    Returns
    -------
    outcome, count : int
        Outcome and number of loops.

    Notes
    -----
    Loops that touch no perimeter follow those that do. A hole is joined by a bridge there and back to the polygon round
    it.
    """
    n = edges.n_edges
    follow, first = np.full(n, -1, dtype=np.int64), np.ones(n, dtype=np.bool_)
    _link_edges(edges, follow, first)
    begin, ends = np.empty(n, dtype=np.int64), np.empty((n, 2))
    chains = _find_chains(edges, rectangle, follow, first, begin, ends)
    if chains < 0:
        return OPEN_END, 0
    used = np.zeros(n, dtype=np.bool_)
    for k in range(len(rectangle.perimeter)):
        loops.inside[k] = False
    loops.start[0] = 0
    events = _perimeter_events(rectangle, ends, chains)
    made = np.int64(0)
    for c in range(chains):
        if used[begin[c]]:
            continue
        if not _trace_loop(c, edges, rectangle, (begin, follow, used), events, loops, made):
            return CONFLICT, made
        made += 1
    return _add_inner_loops(edges, rectangle, (follow, used), chains, loops, made)


@inner_exact
def _link_edges(edges, follow, first):
    """Set the edge that follows each one (-1: none), and whether an edge follows no other."""
    for i in range(edges.n_edges):
        for j in range(edges.n_edges):
            if j != i and edges.tail[j] == edges.head[i] and first[j]:
                follow[i] = j
                first[j] = False
                break


@inner_exact
def _find_chains(edges, rectangle, follow, first, begin, ends):
    """Number of chains, with the first edge of each and the positions of both its ends; -1 if one ends inside."""
    chains, u, v = 0, rectangle.u, rectangle.v
    for i in range(edges.n_edges):
        if not first[i]:
            continue
        last = i
        while follow[last] >= 0:
            last = follow[last]
        begin[chains] = i
        a, b = edges.tail[i], edges.head[last]
        ends[chains, 0] = perimeter_position(u[a], v[a], rectangle.box)
        ends[chains, 1] = perimeter_position(u[b], v[b], rectangle.box)
        if ends[chains, 0] < 0.0 or ends[chains, 1] < 0.0:
            return -1
        chains += 1
    return chains


@inner_exact
def _perimeter_events(rectangle, ends, chains):
    """Events along the perimeter: (order, rank of each, kind, index).

    Kind 0 is a point of the perimeter, 1 the start of a chain, 2 its end; the index is that of the point or chain.
    """
    m = len(rectangle.perimeter)
    total = m + 2 * chains
    position, kind, index = np.empty(total), np.empty(total, dtype=np.int64), np.empty(total, dtype=np.int64)
    for k in range(m):
        position[k], kind[k], index[k] = rectangle.positions[k], 0, k
    for c in range(chains):
        for side in range(2):
            k = m + 2 * c + side
            position[k], kind[k], index[k] = ends[c, side], 1 + side, c
    order, rank = np.arange(total), np.empty(total, dtype=np.int64)
    for k in range(1, total):  # insertion sort: a few events, and numpy's sorts take seconds to compile
        event, i = order[k], k
        while i > 0 and position[order[i - 1]] > position[event]:
            order[i] = order[i - 1]
            i -= 1
        order[i] = event
    for k in range(total):
        rank[order[k]] = k
    return order, rank, kind, index


@inner_exact
def _trace_loop(chain, edges, rectangle, links, events, loops, made):
    """Write loop number `made`, which starts with a chain; whether it closes."""
    begin, follow, used = links
    order, rank, kind, index = events
    m, count, here = len(rectangle.perimeter), loops.start[made], chain
    while True:
        e = begin[here]
        if used[e]:
            return False
        last = e
        while e >= 0:
            used[e] = True
            loops.points[count] = edges.tail[e]
            count += 1
            last, e = e, follow[e]
        if count + m + 2 >= len(loops.points):
            return False
        loops.points[count] = edges.head[last]
        count += 1
        k = rank[m + 2 * here + 1]
        while True:
            k = (k + 1) % len(order)
            event = order[k]
            if kind[event] != 0:
                break
            loops.points[count] = rectangle.perimeter[index[event]]
            loops.inside[index[event]] = True
            count += 1
        if kind[event] == 2:
            return False
        here = index[event]
        if here == chain:
            break
    loops.start[made + 1] = _without_doubles(loops.points, loops.start[made], count)
    return True


@inner_exact
def _without_doubles(points, low, high):
    """End of a loop points[low:high] after points that equal the one before them are removed.

    A chain that starts where the last one ended gives its point twice.
    """
    stored = low
    for k in range(low, high):
        if k == low or points[k] != points[stored - 1]:
            points[stored] = points[k]
            stored += 1
    if stored - low > 1 and points[stored - 1] == points[low]:
        stored -= 1
    return stored


@inner_exact
def _add_inner_loops(edges, rectangle, links, chains, loops, made):
    """Add the loops that touch no perimeter, islands of fluid first, then holes: (outcome, number of loops)."""
    follow, used = links
    n, m = edges.n_edges, len(rectangle.perimeter)
    ring, whole = np.empty(n, dtype=np.int64), chains == 0 and made == 0
    for holes in range(2):
        for i in range(n):
            if used[i]:
                continue
            size, area = _closed_ring(i, edges, rectangle, follow, ring)
            if size < 0:
                return OPEN_END, made
            if area < 0.0 and holes == 0:
                continue
            e = i
            for _ in range(size):
                used[e] = True
                e = follow[e]
            if loops.start[made] + size + m + 4 >= len(loops.points):
                return CONFLICT, made
            if area >= 0.0:
                for k in range(size):
                    loops.points[loops.start[made] + k] = ring[k]
                made += 1
                loops.start[made] = loops.start[made - 1] + size
                continue
            if whole:  # nothing cuts the perimeter: all round the hole is fluid
                _insert_perimeter(rectangle, loops, made)
                made, whole = made + 1, False
            if not _bridge_hole(ring, size, rectangle, loops, made):
                return CONFLICT, made
    return CLOSED, made


@inner_exact
def _closed_ring(i, edges, rectangle, follow, ring):
    """(points of the closed ring of edge i, twice its area), the points in `ring`; (-1, 0) if it is open."""
    u, v = rectangle.u, rectangle.v
    size, e, area = 0, i, 0.0
    while size <= edges.n_edges:
        a, b = edges.tail[e], edges.head[e]
        ring[size] = a
        area += u[a] * v[b] - u[b] * v[a]
        size += 1
        e = follow[e]
        if e < 0:
            return -1, 0.0
        if e == i:
            break
    return size, area


@inner_exact
def _insert_perimeter(rectangle, loops, made):
    """Insert the whole perimeter as the first loop."""
    m = len(rectangle.perimeter)
    for k in range(loops.start[made] - 1, -1, -1):
        loops.points[k + m] = loops.points[k]
    for k in range(made, -1, -1):
        loops.start[k + 1] = loops.start[k] + m
    loops.start[0] = 0
    for k in range(m):
        loops.points[k], loops.inside[k] = rectangle.perimeter[k], True


@inner_exact
def _bridge_hole(ring, size, rectangle, loops, made):
    """Join a hole to the smallest loop round it, where they are nearest; whether there is one."""
    u, v, points, start = rectangle.u, rectangle.v, loops.points, loops.start
    chosen = _smallest_loop_around(ring[0], rectangle, loops, made)
    if chosen < 0:
        return False
    best, at_loop, at_ring = np.inf, 0, 0
    for k in range(start[chosen], start[chosen + 1]):
        for j in range(size):
            far = (u[points[k]] - u[ring[j]]) ** 2 + (v[points[k]] - v[ring[j]]) ** 2
            if far < best:
                best, at_loop, at_ring = far, k, j
    for k in range(start[made] - 1, at_loop, -1):
        points[k + size + 2] = points[k]
    for j in range(size + 1):
        points[at_loop + 1 + j] = ring[(at_ring + j) % size]
    points[at_loop + size + 2] = points[at_loop]
    for k in range(chosen + 1, made + 1):
        start[k] += size + 2
    return True


@inner_exact
def _smallest_loop_around(point, rectangle, loops, made):
    """The smallest of the first `made` loops that a point lies in; -1 without one."""
    u, v, points, start = rectangle.u, rectangle.v, loops.points, loops.start
    x, y = u[point], v[point]
    chosen, least = -1, np.inf
    for k in range(made):
        inside, area = False, 0.0
        for i in range(start[k], start[k + 1]):
            a, b = points[i], points[i + 1 if i + 1 < start[k + 1] else start[k]]
            area += u[a] * v[b] - u[b] * v[a]
            if (v[a] > y) != (v[b] > y) and x < u[a] + (y - v[a]) / (v[b] - v[a]) * (u[b] - u[a]):
                inside = not inside
        if inside and 0.0 < area < least:
            chosen, least = k, area
    return chosen
