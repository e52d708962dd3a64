"""How good a mesh is: numbers, and the worst cells with their positions.

Non-orthogonality: angle between a face's normal and the line between its two centroids [deg]. Skewness: distance of
the face centroid from where that line crosses the face, over the line's length. Size jump: ratio of neighbouring cell
volumes. Aspect ratio: square of a cell's mean radius over its inradius-like height (surface over volume).
Verified by tests/test_mesh.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum._core.validation import takes
from zephyrum.mesh.core import Mesh

# (measure, unit, value above which a cell deserves a look)
MEASURES = (
    ("non-orthogonality", "deg", 70.0),
    ("skewness", "-", 1.0),
    ("size jump", "-", 4.0),
    ("aspect ratio", "-", 1e4),
)


@dataclass(frozen=True)
class Quality:
    """Quality of a mesh.

    Attributes
    ----------
    cells : int
        Number of cells.
    rows : tuple[tuple, ...]
        For each measure: (name, unit, median, 99th percentile, worst, x, y, z of the worst, limit, cells beyond it).

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> found = quality(mesh_airfoil(Airfoil.naca("0012"), 32, 8))
    >>> found.cells, found.passed
    (384, False)
    """

    cells: int
    rows: tuple[tuple, ...]

    @property
    def passed(self) -> bool:
        """Whether no cell is beyond a limit.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.quality(zy.mesh_outline(zy.Outline.circle(1.0), around=64, outward=32)).passed
        True
        """
        return all(row[-1] == 0 for row in self.rows)

    def __str__(self) -> str:
        flat = len({row[6] for row in self.rows}) == 1  # a section: all cells have one y
        locations = [
            f"({x:.4g}, {z:.4g})" if flat else f"({x:.4g}, {y:.4g}, {z:.4g})" for *_, x, y, z, _, _ in self.rows
        ]
        position = "at x, z [m]" if flat else "at x, y, z [m]"
        wide = max(map(len, [position, *locations])) + 3
        lines = [
            f"{'measure':<20}{'unit':>5}{'median':>10}{'99 %':>10}{'worst':>11}   {position:<{wide}}beyond the limit"
        ]
        for (name, unit, median, high, worst, *_, limit, beyond), location in zip(self.rows, locations, strict=True):
            lines.append(
                f"{name:<20}{unit:>5}{median:>10.3g}{high:>10.3g}{worst:>11.4g}   {location:<{wide}}{beyond:,} cells "
                f"or faces > {limit:g}"
            )
        return "\n".join(lines)


@takes(mesh=Mesh)
def quality(mesh: Mesh) -> Quality:
    """Measure every cell of a mesh.

    Parameters
    ----------
    mesh : Mesh
        Mesh.

    Examples
    --------
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
    >>> zy.quality(mesh).cells
    256
    """
    ni = mesh.n_interior
    S, x, c = mesh.face_area[:ni], mesh.face_centroid[:ni], mesh.cell_centroid
    left, right = mesh.left[:ni], mesh.right
    d = c[right] - c[left]
    length = np.linalg.norm(d, axis=1)
    area = np.linalg.norm(S, axis=1)
    cosine = np.clip(np.einsum("ij,ij->i", S, d) / (area * length), -1.0, 1.0)
    crossing = np.einsum("ij,ij->i", x - c[left], S) / np.einsum("ij,ij->i", d, S)
    skew = np.linalg.norm(c[left] + crossing[:, None] * d - x, axis=1) / length
    v = mesh.cell_volume
    jump = np.maximum(v[left] / v[right], v[right] / v[left])
    surface = np.bincount(mesh.left, np.linalg.norm(mesh.face_area, axis=1), mesh.n_cells)
    surface += np.bincount(mesh.right, area, mesh.n_cells)
    # a box of sides a >> b (one cell thick if 2-D): surface^2 / volume ~ 4 a / b in two dimensions
    if mesh.dimension == 2:
        aspect = np.maximum((surface / mesh.depth) ** 2 / (4.0 * v / mesh.depth) / 2.0 - 1.0, 1.0)
        aspect = aspect + np.sqrt(np.maximum(aspect**2 - 1.0, 0.0))
    else:
        aspect = np.maximum((surface / 6.0) ** 1.5 / v, 1.0)
    rows = []
    fields = (np.degrees(np.arccos(cosine)), skew, jump, aspect)
    for (name, unit, limit), values in zip(MEASURES, fields, strict=True):
        worst = int(np.argmax(values))
        position = x[worst] if len(values) == ni else c[worst]
        rows.append(
            (
                name,
                unit,
                float(np.median(values)),
                float(np.percentile(values, 99)),
                float(values[worst]),
                *map(float, position),
                limit,
                int(np.count_nonzero(values > limit)),
            )
        )
    return Quality(mesh.n_cells, tuple(rows))
