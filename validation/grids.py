"""Meshes that only verification needs: boxes (smooth, perturbed) and a wedge channel."""

import numpy as np

from zephyrum.mesh import Mesh, mesh_from_quads


def box(n: int, perturbed: float = 0.0, smooth: float = 0.0, role: str = "imposed", seed: int = 1) -> Mesh:
    """Unit square of n x n quads; `smooth` bends it, `perturbed` shifts every inner node by up to that share of a cell."""
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
