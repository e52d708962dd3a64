"""Polygons of fluid in a rectangle that a surface crosses: chains of its edges are joined along the rim.

Every edge runs with the fluid on its left. A chain enters and leaves through the rim; from its end one goes on along
the rim, counter-clockwise, to the start of the next chain. Places are compared exactly: whatever lies on the rim was
put there by setting its coordinate. One algorithm serves the faces of three-dimensional cells and the cells of
two-dimensional meshes. Verified by tests/test_clipped.py.
"""

import numpy as np

from zephyrum._core.jit import exact

CLOSED, OPEN_END, CONFLICT = 0, 1, 2  # outcomes: well, a chain ends inside, in and out contradict each other
MAX_LOOPS = 1024  # points of all loops of one rectangle


@exact
def perimeter_position(u, v: np.ndarray, box):
    """Place of (u, v) along the rim of box (4,) low u, high u, low v, high v, from 0 to 4; -1 inside."""
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
def fluid_polygon_loops(
    tail: np.ndarray,
    head: np.ndarray,
    n: int,
    U: np.ndarray,
    V: np.ndarray,
    box: np.ndarray,
    rim: np.ndarray,
    at: np.ndarray,
    out: np.ndarray,
    start: np.ndarray,
    inside: np.ndarray,
):
    """(outcome, loops): polygons of fluid of a rectangle.

    tail, head (n,): points of the edges; U, V: coordinates of all points; box: see `perimeter_position`; rim, at (m,):
    points of the rim (corners and hanging ones) and their positions, rising. Points of loop k go to
    out[start[k]:start[k + 1]], and inside (m,) tells which points of the rim are in the fluid. Loops that touch no rim
    follow those that do.
    """
    m = len(rim)
    follow = np.full(n, -1, dtype=np.int64)
    first = np.ones(n, dtype=np.bool_)
    for i in range(n):
        for j in range(n):
            if j != i and tail[j] == head[i] and first[j]:
                follow[i] = j
                first[j] = False
                break
    # chains: edge it starts with, positions of both its ends
    chains = 0
    begin, where = np.empty(n, dtype=np.int64), np.empty((n, 2))
    for i in range(n):
        if not first[i]:
            continue
        last = i
        while follow[last] >= 0:
            last = follow[last]
        begin[chains] = i
        where[chains, 0] = perimeter_position(U[tail[i]], V[tail[i]], box)
        where[chains, 1] = perimeter_position(U[head[last]], V[head[last]], box)
        if where[chains, 0] < 0.0 or where[chains, 1] < 0.0:
            return OPEN_END, 0
        chains += 1
    # events along the rim: 0 a point of it, 1 a chain starts, 2 a chain ends
    total = m + 2 * chains
    position, kind, index = np.empty(total), np.empty(total, dtype=np.int64), np.empty(total, dtype=np.int64)
    for k in range(m):
        position[k], kind[k], index[k] = at[k], 0, k
        inside[k] = False
    for c in range(chains):
        position[m + 2 * c], kind[m + 2 * c], index[m + 2 * c] = where[c, 0], 1, c
        position[m + 2 * c + 1], kind[m + 2 * c + 1], index[m + 2 * c + 1] = where[c, 1], 2, c
    order = np.arange(total)
    for k in range(1, total):  # insertion sort: a few events, and numpy's sorts take seconds to compile
        event, i = order[k], k
        while i > 0 and position[order[i - 1]] > position[event]:
            order[i] = order[i - 1]
            i -= 1
        order[i] = event
    location = np.empty(total, dtype=np.int64)
    for k in range(total):
        location[order[k]] = k
    used = np.zeros(n, dtype=np.bool_)
    loops, count = 0, 0
    start[0] = 0
    for c in range(chains):
        if used[begin[c]]:
            continue
        here = c
        while True:
            e = begin[here]
            if used[e]:
                return CONFLICT, loops
            while e >= 0:
                used[e] = True
                out[count] = tail[e]
                count += 1
                last = e
                e = follow[e]
            if count + m + 2 >= len(out):
                return CONFLICT, loops
            out[count] = head[last]
            count += 1
            k = location[m + 2 * here + 1]
            while True:
                k = (k + 1) % total
                event = order[k]
                if kind[event] == 0:
                    out[count] = rim[index[event]]
                    inside[index[event]] = True
                    count += 1
                else:
                    break
            if kind[event] == 2:
                return CONFLICT, loops
            here = index[event]
            if here == c:
                break
        # a chain that starts where the last one ended gives its point twice
        stored = start[loops]
        for k in range(start[loops], count):
            if k == start[loops] or out[k] != out[stored - 1]:
                out[stored] = out[k]
                stored += 1
        if stored - start[loops] > 1 and out[stored - 1] == out[start[loops]]:
            stored -= 1
        count = stored
        loops += 1
        start[loops] = count
    # loops that touch no rim: islands of fluid, or holes, which a bridge there and back joins to the polygon round them
    ring, floor = np.empty(n, dtype=np.int64), loops
    for turn in range(2):
        for i in range(n):
            if used[i]:
                continue
            size, e, area = 0, i, 0.0
            while size <= n:
                ring[size] = tail[e]
                area += U[tail[e]] * V[head[e]] - U[head[e]] * V[tail[e]]
                size += 1
                e = follow[e]
                if e < 0:
                    return OPEN_END, loops
                if e == i:
                    break
            if area < 0.0 and turn == 0:
                continue  # holes after all islands
            e = i
            for _ in range(size):
                used[e] = True
                e = follow[e]
            if count + size + m + 4 >= len(out):
                return CONFLICT, loops
            if area >= 0.0:
                for k in range(size):
                    out[count + k] = ring[k]
                count += size
                loops += 1
                start[loops] = count
                continue
            if floor == 0 and chains == 0:  # nothing cuts the rim: all round the hole is fluid
                for k in range(count - 1, -1, -1):
                    out[k + m] = out[k]
                for k in range(loops, -1, -1):
                    start[k + 1] = start[k] + m
                start[0] = 0
                for k in range(m):
                    out[k], inside[k] = rim[k], True
                count, loops, floor = count + m, loops + 1, 1
            chosen = _add_perimeter_loop(U[ring[0]], V[ring[0]], U, V, out, start, loops)
            if chosen < 0:
                return CONFLICT, loops
            best, spot_out, spot_ring = np.inf, 0, 0
            for k in range(start[chosen], start[chosen + 1]):
                for j in range(size):
                    far = (U[out[k]] - U[ring[j]]) ** 2 + (V[out[k]] - V[ring[j]]) ** 2
                    if far < best:
                        best, spot_out, spot_ring = far, k, j
            for k in range(count - 1, spot_out, -1):
                out[k + size + 2] = out[k]
            for j in range(size + 1):
                out[spot_out + 1 + j] = ring[(spot_ring + j) % size]
            out[spot_out + size + 2] = out[spot_out]
            count += size + 2
            for k in range(chosen + 1, loops + 1):
                start[k] += size + 2
    return CLOSED, loops


@exact
def _add_perimeter_loop(u, v, U, V, out, start, loops):
    """The smallest loop that holds the position (u, v); -1 without one."""
    chosen, least = -1, np.inf
    for k in range(loops):
        held, area = False, 0.0
        for i in range(start[k], start[k + 1]):
            a, b = out[i], out[i + 1 if i + 1 < start[k + 1] else start[k]]
            area += U[a] * V[b] - U[b] * V[a]
            if (V[a] > v) != (V[b] > v) and u < U[a] + (v - V[a]) / (V[b] - V[a]) * (U[b] - U[a]):
                held = not held
        if held and 0.0 < area < least:
            chosen, least = k, area
    return chosen
