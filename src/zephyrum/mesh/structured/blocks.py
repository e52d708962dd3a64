"""Structured grids as meshes: one block wrapped round a body or laid on a plate, and its exactly nested coarser levels.

Every second node of a grid makes the next coarser one. Verified by tests/test_mesh.py.
"""

from dataclasses import dataclass, replace

import numpy as np

from zephyrum.conditions import Reference
from zephyrum.mesh.construction import mesh_from_quads
from zephyrum.mesh.core import Mesh

MIN_BLOCK_CELLS = 24  # cells along the wall below which no coarser relative is made
MIN_LAYER_CELLS = 8  # the same across


@dataclass(frozen=True)
class BlockBoundary:
    """Part of a block's edge.

    Attributes
    ----------
    name : str
        Boundary group.
    role : str
        Its role.
    row : str
        "inner", "outer", "first" or "last".
    low, high : int
        First and last node.
    """

    name: str
    role: str
    row: str
    low: int
    high: int


@dataclass(frozen=True)
class StructuredGrid:
    """Nodes of one level of a structured mesh.

    Attributes
    ----------
    block : (n_i, n_j, 2) array
        x and z [m]; lines leave the wall along j, the outside to their left.
    borders : tuple[BlockBoundary, ...]
        Boundaries.
    closed : bool
        Whether the last line is the first one.
    wake : int
        Cells along which the first and the last lines of a C-shaped block touch.
    strip : (wake + 1, n_k, 2) array
        Block between them behind a blunt tail.
    """

    block: np.ndarray
    borders: tuple[BlockBoundary, ...]
    closed: bool = False
    wake: int = 0
    strip: np.ndarray | None = None

    @property
    def _sizes(self) -> list[int]:
        """Every count that has to be even for the grid to be halved."""
        sizes = [self.block.shape[0] - 1, self.block.shape[1] - 1, self.wake]
        if self.strip is not None:
            sizes.append(self.strip.shape[1] - 1)
        return sizes + [position for b in self.borders for position in (b.low, b.high)]

    def can_halve(self) -> bool:
        """Whether a coarser relative can be made and is worth it."""
        walls = sum(b.high - b.low for b in self.borders if b.role == "wall")
        fine = walls // 2 >= MIN_BLOCK_CELLS and (self.block.shape[1] - 1) // 2 >= MIN_LAYER_CELLS
        return fine and all(size % 2 == 0 for size in self._sizes)

    def halved(self) -> "StructuredGrid":
        """The grid of every second node."""
        borders = tuple(replace(b, low=b.low // 2, high=b.high // 2) for b in self.borders)
        strip = None if self.strip is None else self.strip[::2, ::2]
        return StructuredGrid(self.block[::2, ::2], borders, self.closed, self.wake // 2, strip)

    def parents(self) -> np.ndarray:
        """Cell of the halved grid that holds each cell."""
        ni, nj = self.block.shape[0] - 1, self.block.shape[1] - 1
        i, j = np.divmod(np.arange(ni * nj), nj)
        parent = (i // 2) * (nj // 2) + j // 2
        if self.strip is not None:
            nk = self.strip.shape[1] - 1
            i, k = np.divmod(np.arange(self.wake * nk), nk)
            parent = np.r_[parent, (ni // 2) * (nj // 2) + (i // 2) * (nk // 2) + k // 2]
        return parent

    def mesh(self, **extra) -> Mesh:
        """Join the blocks into a Mesh; cells are numbered along lines that leave the wall."""
        ni, nj, w = self.block.shape[0] - 1, self.block.shape[1] - 1, self.wake
        node = np.arange((ni + 1) * (nj + 1)).reshape(ni + 1, nj + 1)
        plane = self.block.reshape(-1, 2)
        if self.closed:
            node[ni] = node[0]
        elif w and self.strip is None:
            node[ni - w :, 0] = node[w::-1, 0][: w + 1]
        quads = _quads(node)
        rows = {"inner": node[:, 0], "outer": node[:, nj], "first": node[0], "last": node[ni]}
        edges: dict = {(b.name, b.role): [] for b in self.borders}
        for b in self.borders:
            edges[b.name, b.role].append(_pairs(rows[b.row][b.low : b.high + 1]))
        if self.strip is not None:
            nk = self.strip.shape[1] - 1
            strip = len(plane) + np.arange((w + 1) * (nk + 1)).reshape(w + 1, nk + 1)
            plane = np.concatenate([plane, self.strip.reshape(-1, 2)])
            strip[:, 0], strip[:, nk] = node[w::-1, 0], node[ni - w :, 0]
            quads = np.concatenate([quads, _quads(strip)])
            # the base belongs to the wall, the strip's end to the farfield
            for row, role in ((strip[0], "wall"), (strip[w], "farfield")):
                next(pairs for key, pairs in edges.items() if key[1] == role).append(_pairs(row))
        used, quads = np.unique(quads, return_inverse=True)
        renumber = np.full(len(plane), -1)
        renumber[used] = np.arange(len(used))
        named = [(name, role, renumber[np.concatenate(pairs)]) for (name, role), pairs in edges.items()]
        return mesh_from_quads(plane[used], quads.reshape(-1, 4), named, **extra)


def _quads(node: np.ndarray) -> np.ndarray:
    return np.stack([node[:-1, :-1], node[1:, :-1], node[1:, 1:], node[:-1, 1:]], axis=-1).reshape(-1, 4)


def _pairs(row: np.ndarray) -> np.ndarray:
    return np.stack([row[:-1], row[1:]], axis=1)


def nested_family(grid: StructuredGrid, reference: Reference, recipe: dict, **extra) -> Mesh:
    """Mesh of a structured grid with all its coarser levels.

    Parameters
    ----------
    grid : StructuredGrid
        Grid.
    reference : Reference
        Reference quantities.
    recipe : dict
        How the mesh was made.
    """
    levels = [grid]
    while levels[-1].can_halve():
        levels.append(levels[-1].halved())
    mesh = None
    for depth, level in reversed(list(enumerate(levels))):
        parent = None if mesh is None else level.parents()
        mesh = level.mesh(
            reference=reference, recipe=recipe | {"halvings": depth}, coarser=mesh, parent=parent, **extra
        )
    return mesh
