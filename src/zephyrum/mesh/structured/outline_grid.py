"""Structured meshes of shapes other than airfoils, in exactly nested families: plain outlines, plate, body of
revolution.

Verified by tests/test_mesh.py and validation/viscous.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum._core.geometric_steps import growth_ratio
from zephyrum._core.validation import number, takes, whole
from zephyrum.conditions import Reference
from zephyrum.errors import InputError
from zephyrum.geometry import Airfoil, Outline
from zephyrum.mesh.core import Mesh
from zephyrum.mesh.structured.airfoil_grid import BASE_CELLS, closed_curve
from zephyrum.mesh.structured.blocks import BlockBoundary, StructuredGrid, nested_family
from zephyrum.mesh.structured.hyperbolic import march_grid
from zephyrum.mesh.structured.spacing import geometric

WEDGE = np.radians(1.0)  # half the angle between the sides of an axisymmetric mesh
EDGE = 2e-3  # plate lengths: cells along the stream at its leading edge
PLATE_APPROACH = 0.5  # plate lengths of free stream ahead of it


@takes(outline=Outline)
def mesh_outline(
    outline: Outline, around: int = 192, outward: int = 96, farfield: float = 60.0, first_height: float | None = None
) -> Mesh:
    """An O mesh about a circle, an ellipse or a rounded rectangle; lengths in lengths of the outline along x.

    Parameters
    ----------
    outline : Outline
        The outline.
    around : int, optional
        Cells on the surface, a multiple of 4.
    outward : int, optional
        Cells from wall to farfield.
    farfield : float, optional
        Distance of the outer boundary.
    first_height : float, optional
        Height of the wall cell; a tenth of the mean surface spacing without it.

    Raises
    ------
    InputError
        For sizes that make no mesh.

    Notes
    -----
    The reference area is length times depth: for a circle its diameter.

    Examples
    --------
    >>> import zephyrum as zy
    >>> print(zy.mesh_outline(zy.Outline.circle(1.0), around=32, outward=8).dimension)
    2
    """
    around = _quartered(around)
    surface = _closed(outline.points(around // 2)) + outline.position
    block, recipe = _wrap(surface, outline.length, outline.perimeter, around, outward, farfield, first_height)
    n = block.shape[0] - 1
    borders = (BlockBoundary(outline.name, "wall", "inner", 0, n), BlockBoundary("farfield", "farfield", "outer", 0, n))
    nose = (float(block[n // 2, 0, 0]), 0.0, 0.0)
    reference = Reference.of_section(outline.length, nose, 1.0, "measured on the outline")
    recipe = {"kind": "structured O", "section": outline.name} | recipe
    return nested_family(StructuredGrid(block, borders, closed=True), reference, recipe)


def _quartered(around: int) -> int:
    """Cells around, checked."""
    around = whole("around", around, 16, 100_000)
    if around % 4:
        raise InputError(
            f"around = {around} can't be divided by 4; give a multiple of 16, so that coarser levels exist."
        )
    return around


def _closed(half: np.ndarray) -> np.ndarray:
    """The whole curve from its upper `half` (tail to nose): lower side first, the outside on its left."""
    return np.concatenate([(half * [1.0, -1.0])[:-1], half[:0:-1]])


def _wrap(surface, length, perimeter, around, outward, farfield, first_height) -> tuple[np.ndarray, dict]:
    """Closed block (around + 1, outward + 1, 2) marched off `surface` (around, 2), and what made it."""
    outward = whole("outward", outward, 8, 100_000)
    farfield = number("farfield", farfield, 2.0, 1e5)
    first = 0.1 * perimeter / length / around
    if first_height is not None:
        first = number("first_height", first_height, 0.0, 0.1, open_low=True)
    steps = np.diff(geometric(first * length, farfield * length, outward))
    block = march_grid(surface, np.tile(steps, (len(surface), 1)), True)
    recipe = {
        "around": around,
        "outward": outward,
        "farfield_chords": farfield,
        "first_height_chords": first,
        "growth": round(growth_ratio(first, farfield, outward), 5),
    }
    return np.concatenate([block, block[:1]]), recipe


@dataclass(frozen=True, eq=False)
class _Base:
    """Blunt tail of a body of revolution.

    Attributes
    ----------
    cells, exit_cells : int
        From its corner to the axis, and how many of them lie in the exit of a nozzle.
    spacing : float, optional
        Length of the cells ahead of the corner [chords].
    fractions : array, optional
        See `closed_curve`.
    """

    cells: int
    exit_cells: int
    spacing: float | None
    fractions: np.ndarray | None

    @classmethod
    def of(cls, body: Airfoil, cells: int | None, exit_radius: float | None) -> "_Base":
        """Base of a meridian."""
        if not body.is_blunt:
            if (cells, exit_radius) != (None, None):
                raise InputError(f"base_cells and exit_radius are for blunt tails; {body.name!r} has none.")
            return cls(0, 0, None, None)
        radius = 0.5 * float(np.linalg.norm(np.subtract(*body.curve(np.array([0.0, body.length])))))
        count = BASE_CELLS // 2 if cells is None else whole("base_cells", cells, 2, 10_000)
        if count % 2:
            raise InputError(f"base_cells = {count} is odd; give an even number, so that coarser levels exist.")
        half, inner = np.linspace(0.0, 0.5, count + 1), 0
        if exit_radius is not None:
            share = number("exit_radius", exit_radius, 0.0, radius, open_low=True) / radius
            if count < 4 and share < 1.0:
                raise InputError(f"base_cells = {count} does not hold a base and an exit; give 4 or more.")
            inner = count if share == 1.0 else min(max(2 * round(0.5 * share * count), 2), count - 2)
            outer = np.linspace(0.0, 0.5 * (1.0 - share), count - inner + 1)
            half = np.r_[outer[:-1], np.linspace(outer[-1], 0.5, inner + 1)]
        spacing = None if cells is None else radius / body.chord * 2.0 * float(half[1])
        return cls(count, inner, spacing, np.r_[half, 1.0 - half[-2::-1]])

    def borders(self, n: int) -> list[BlockBoundary]:
        """Walls of a block of n cells along the meridian, the axis last."""
        ends = [("body", n - self.cells), ("base", n - self.exit_cells), ("exit", n)]
        low, out = 0, []
        for name, high in ends:
            if high > low:
                out.append(BlockBoundary(name, "wall", "inner", low, high))
            low = high
        return out


@takes(body=(Outline, Airfoil))
def mesh_revolved(
    body: Outline | Airfoil,
    around: int = 192,
    outward: int = 96,
    farfield: float = 60.0,
    first_height: float | None = None,
    base_cells: int | None = None,
    exit_radius: float | None = None,
) -> Mesh:
    """An axisymmetric mesh about a body of revolution, a wedge one cell thick; lengths in body lengths.

    Parameters
    ----------
    body : Outline or Airfoil
        An outline, or a symmetric airfoil as the meridian; it is revolved about the x axis.
    around : int, optional
        Cells along the whole outline, half of which are used.
    outward : int, optional
        Cells from wall to farfield.
    farfield : float, optional
        Distance of the outer boundary.
    first_height : float, optional
        Height of the wall cell; a tenth of the mean surface spacing without it.
    base_cells : int, optional
        Even number of cells from the corner of a blunt tail to the axis, with cells of their size ahead of the corner;
        4 without it.
    exit_radius : float, optional
        Radius [m] of a nozzle exit in the middle of a blunt tail.

    Raises
    ------
    InputError
        For sizes that make no mesh.

    Notes
    -----
    The walls are "body", of a blunt tail "base", and "exit" of a nozzle in it: give what it blows with `Case.powered`.
    The stream must lie along x. The reference area is the frontal area, its length the diameter; forces are those of
    the whole body.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.mesh_revolved(zy.Outline.circle(1.0), around=32, outward=8).wedge > 0.0
    True
    """
    around = _quartered(around)
    if isinstance(body, Airfoil):
        length, perimeter = body.chord, body.length
        first = 0.1 * perimeter / length / around if first_height is None else first_height
        tail = _Base.of(body, base_cells, exit_radius)
        surface = closed_curve(body, around, first, None, tail.spacing, tail.fractions) - body.nose
        end = around + tail.cells
        bent = np.abs(surface[1 : around // 2, 1] + surface[around - 1 : around // 2 : -1, 1]).max()
        if bent > 1e-4 * length or abs(body.nose[1] - body.tail[1]) > 1e-4 * length:
            raise InputError(
                f"{body.name!r} is not symmetric about its chord line along x, so it is no meridian of a body of "
                f"revolution."
            )
        name = body.name
    else:
        if body.position != (0.0, 0.0):
            raise InputError(
                f"{body.name!r} was moved; a body of revolution lies on the x axis: give the outline as it was."
            )
        if (base_cells, exit_radius) != (None, None):
            raise InputError(f"base_cells and exit_radius are for blunt tails; {body.name!r} has none: leave them out.")
        length, perimeter, name, end = body.length, body.perimeter, body.name, around
        tail = _Base(0, 0, None, None)
        surface = _closed(body.points(around // 2) + np.array([0.5 * length, 0.0]))
    block, recipe = _wrap(surface, length, perimeter, around, outward, farfield, first_height)
    block = block[around // 2 : end + 1]
    block[[0, -1], :, 1] = 0.0
    n = len(block) - 1
    borders = (*tail.borders(n), BlockBoundary("farfield", "farfield", "outer", 0, n))
    top = float(block[:, 0, 1].max())
    # the Reynolds number of a body of revolution, and its moments, refer to its diameter
    reference = Reference(np.pi * top**2, 2.0 * top, 2.0 * top, (0.25 * length, 0.0, 0.0), "measured on the meridian")
    recipe = {"kind": "axisymmetric O", "section": f"{name} revolved"} | recipe
    return nested_family(StructuredGrid(block, borders), reference, recipe, wedge=float(WEDGE))


def mesh_plate(
    length: float = 1.0,
    along: int = 128,
    ahead: int = 32,
    outward: int = 96,
    first_height: float = 1e-5,
    height: float = 1.0,
) -> Mesh:
    """Mesh of the upper side of a flat plate 0 <= x <= length in a stream; other lengths in plate lengths.

    Parameters
    ----------
    length : float, optional
        [m]
    along, ahead : int, optional
        Cells along the plate and ahead of it; they shrink towards the leading edge.
    outward : int, optional
        Cells from the plate to the farfield.
    first_height : float, optional
        Height of the wall cell.
    height : float, optional
        Distance of the farfield.

    Notes
    -----
    A symmetry plane half a length long lies ahead of the plate, an outflow at its end. The reference area is length
    times depth.

    Examples
    --------
    >>> import zephyrum as zy
    >>> print(zy.mesh_plate(along=32, outward=16).dimension)
    2
    """
    length = number("length", length, 0.0, open_low=True)
    along, ahead = whole("along", along, 8, 100_000), whole("ahead", ahead, 8, 100_000)
    outward = whole("outward", outward, 8, 100_000)
    height = number("height", height, 0.05, 1e3)
    first = number("first_height", first_height, 0.0, 0.1, open_low=True)
    front = -geometric(EDGE, PLATE_APPROACH, ahead)[:0:-1]
    x = np.concatenate([front, geometric(EDGE, 1.0, along)]) * length
    z = geometric(first, height, outward) * length
    block = np.stack(np.meshgrid(x, z, indexing="ij"), axis=-1)
    n, m = along + ahead, outward
    borders = (
        BlockBoundary("ahead", "symmetry", "inner", 0, ahead),
        BlockBoundary("plate", "wall", "inner", ahead, n),
        BlockBoundary("farfield", "farfield", "outer", 0, n),
        BlockBoundary("farfield", "farfield", "first", 0, m),
        BlockBoundary("behind", "outflow", "last", 0, m),
    )
    reference = Reference.of_section(length, (0.0, 0.0, 0.0), 1.0, "measured on the plate")
    recipe = {
        "kind": "structured plate",
        "section": "plate",
        "along": along,
        "ahead": ahead,
        "outward": outward,
        "first_height_chords": first,
        "growth": round(growth_ratio(first, height, outward), 5),
    }
    return nested_family(StructuredGrid(block, borders), reference, recipe)
