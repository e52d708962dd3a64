"""Meshes that only verification needs: boxes (smooth, perturbed), a wedge channel, planar meshes made wide."""

import numpy as np

from zephyrum.mesh import Mesh, mesh_from_quads
from zephyrum.mesh.construction import mesh_from_faces


def box(n: int, perturbed: float = 0.0, smooth: float = 0.0, role: str = "imposed", seed: int = 1) -> Mesh:
    """Unit square of n x n quads; `smooth` bends it, `perturbed` shifts every inner node by up to that share of a
    cell.
    """
    t = np.linspace(0.0, 1.0, n + 1)
    x, z = np.meshgrid(t, t, indexing="ij")
    bend = smooth * np.sin(np.pi * x) * np.sin(np.pi * z)
    x, z = x + bend * np.cos(np.pi * z), z + bend * np.cos(2 * np.pi * x)
    rng = np.random.default_rng(seed)
    shift = (rng.random((2, n + 1, n + 1)) - 0.5) * 2.0 * perturbed / n
    shift[:, [0, -1]] = 0.0
    shift[:, :, [0, -1]] = 0.0
    return of_grid(x + shift[0], z + shift[1], {"edge": role})


def of_grid(x: np.ndarray, z: np.ndarray, roles: dict[str, str], **extra) -> Mesh:
    """Mesh of a node grid (ni + 1, nj + 1); roles for "edge", or for "low", "high" (in j), "left", "right" (in i)."""
    ni, nj = x.shape[0] - 1, x.shape[1] - 1
    node = np.arange((ni + 1) * (nj + 1)).reshape(ni + 1, nj + 1)
    quads = np.stack([node[:-1, :-1], node[1:, :-1], node[1:, 1:], node[:-1, 1:]], axis=-1).reshape(-1, 4)
    rows = {"low": node[:, 0], "high": node[:, -1], "left": node[0], "right": node[-1]}
    pairs = {name: np.stack([row[:-1], row[1:]], axis=1) for name, row in rows.items()}
    if "edge" in roles:
        edges = [("edge", roles["edge"], np.concatenate(list(pairs.values())))]
    else:
        edges = [(name, roles[name], pair) for name, pair in pairs.items()]
    return mesh_from_quads(np.stack([x.ravel(), z.ravel()], axis=1), quads, edges, **extra)


def wedge(n: int, angle: float) -> Mesh:
    """Channel over a ramp of `angle` [deg] that starts at x = 0.5; n cells a unit length."""
    x = np.linspace(0.0, 1.5, 3 * n // 2 + 1)
    floor = np.maximum(x - 0.5, 0.0) * np.tan(np.radians(angle))
    t = np.linspace(0.0, 1.0, n + 1)
    z = floor[:, None] + (1.0 - floor)[:, None] * t
    return of_grid(
        np.repeat(x[:, None], n + 1, axis=1),
        z,
        {"low": "wall", "high": "farfield", "left": "farfield", "right": "farfield"},
    )


def widened(mesh: Mesh, layers: int, width: float) -> Mesh:
    """The two-dimensional `mesh` as one in space: `layers` of its cells beside each other over `width` [m] along y,
    slip walls at the sides.
    """
    used, edge = np.unique(mesh.edges, return_inverse=True)
    edge = edge.reshape(-1, 2)
    rings, start = mesh.cell_rings
    rings = np.searchsorted(used, rings)
    n, cells, faces = len(used), mesh.n_cells, mesh.n_faces
    points = np.tile(mesh.points[used], (layers + 1, 1))
    points[:, 1] = np.repeat(np.linspace(0.0, width, layers + 1), n)
    a, b = edge.T
    across = np.stack([a, a + n, b + n, b], axis=1)  # as in mesh_from_quads, which leave the left cell
    other = np.full(faces, -1, dtype=np.int64)
    other[: mesh.n_interior] = mesh.right
    tag = np.full(faces, -1, dtype=np.int64)
    for k, group in enumerate(mesh.groups):
        tag[group.faces] = k
    pieces, counts, left, right, tags = [], [], [], [], []
    for k in range(layers):
        pieces.append((across + k * n).ravel())
        counts.append(np.full(faces, 4))
        left.append(mesh.left + k * cells)
        right.append(np.where(other >= 0, other + k * cells, -1))
        tags.append(tag)
    # rings run counter-clockwise seen from the front (y towards the back): their area vectors point to the front
    for k in range(layers + 1):
        pieces.append(rings + k * n)
        counts.append(np.diff(start))
        own = np.arange(cells) + min(k, layers - 1) * cells
        first, last = k == 0, k == layers
        if last:  # reversed, out of the back
            ring = np.split(rings + k * n, start[1:-1])
            pieces[-1] = np.concatenate([one[::-1] for one in ring])
        left.append(own)
        right.append(np.full(cells, -1) if first or last else own - cells)
        tags.append(np.full(cells, len(mesh.groups) if first else len(mesh.groups) + 1))
    groups = [(group.name, group.role) for group in mesh.groups] + [("front", "slip"), ("back", "slip")]
    return mesh_from_faces(
        points,
        np.r_[0, np.cumsum(np.concatenate(counts))],
        np.concatenate(pieces),
        np.concatenate(left),
        np.concatenate(right),
        np.concatenate(tags),
        groups,
        3,
    )
