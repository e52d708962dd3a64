"""Structured C and O meshes about one airfoil, in exactly nested families.

The section's surface is divided by a two-ended stretching, the grid marched off it (see `hyperbolic`), the layers grow
by one ratio from wall to farfield. A C mesh follows the wake; behind a blunt tail it carries a strip of cells as high
as the base. Verified by tests/test_mesh.py.
"""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d

from zephyrum._core.geometric_steps import growth_ratio
from zephyrum._core.validation import choice, number, refuse_unknown, set_fields, taken, takes, whole
from zephyrum.conditions import Reference
from zephyrum.errors import InputError, MeshError
from zephyrum.geometry import Airfoil
from zephyrum.mesh.core import Mesh
from zephyrum.mesh.layer_spacing import first_height as height_for
from zephyrum.mesh.structured.blocks import BlockBoundary, StructuredGrid, nested_family
from zephyrum.mesh.structured.hyperbolic import march_grid
from zephyrum.mesh.structured.spacing import geometric, steps_for, two_ended

BASE_CELLS = 8
WAKE_FAIRING = 0.5  # chords over which the wake line turns from the tail's direction to the chord's
WALL_FAIRING = 0.12  # of the square root of the chord
WAKE_LEVELLING = 0.1  # of the square root of the chord: how far layers are pushed out where the first is high
WAKE_LAYERS = 15.0
WAKE_SPREAD = 0.01  # height of the first wake cell per distance behind the tail


@dataclass(frozen=True)
class AirfoilMeshOptions:
    """Options of a structured mesh about an airfoil; lengths in chords.

    Attributes
    ----------
    around : int
        Cells on the surface, even; best a multiple of 16.
    outward : int, optional
        Cells from wall to farfield; 64, or by `growth`.
    farfield : float
        Distance of the outer boundary.
    topology : str
        "C" (cut along the wake) or "O" (wraps the tail).
    first_height : float, optional
        Height of the wall cell; a tenth of the mean surface spacing.
    growth : float, optional
        Ratio of successive layers; sets `outward` if that is None.
    wake : int, optional
        Cells along the wake of a C mesh; a quarter of `around`.
    nose_spacing, tail_spacing : float, optional
        Length of the surface cells there.
    y_plus, reynolds : float, optional
        Height of the wall cell in wall units at a Reynolds number, in place of `first_height`; growth is then 1.2
        unless given (see `wall_layers`).

    Raises
    ------
    InputError
        For a value out of its range, or for two that contradict each other.

    Examples
    --------
    >>> AirfoilMeshOptions(around=64, topology="O").outward_cells(1e-3)
    64
    """

    around: int = 256
    outward: int | None = None
    farfield: float = 100.0
    topology: str = "C"
    first_height: float | None = None
    growth: float | None = None
    wake: int | None = None
    nose_spacing: float | None = None
    tail_spacing: float | None = None
    y_plus: float | None = None
    reynolds: float | None = None

    def __post_init__(self) -> None:
        choice("topology", self.topology, ("C", "O"))
        set_fields(
            self,
            around=whole("around", self.around, 16, 100_000),
            farfield=number("farfield", self.farfield, 2.0, 1e5),
        )
        for name in ("first_height", "growth", "y_plus", "reynolds"):
            if getattr(self, name) is not None:
                set_fields(self, **{name: taken(name, getattr(self, name), float)})
        if self.around % 2:
            raise InputError(
                f"around = {self.around} is odd; give an even number, best a multiple of 16, so that coarser levels "
                f"exist."
            )
        if self.y_plus is not None:
            if self.reynolds is None or self.first_height is not None:
                raise InputError(f"y_plus = {self.y_plus:g} needs reynolds, and no first_height beside it.")
            set_fields(self, first_height=height_for(self.reynolds, self.y_plus))
            if self.growth is None and self.outward is None:
                set_fields(self, growth=1.2)
        elif self.reynolds is not None:
            raise InputError(
                f"reynolds = {self.reynolds:g} has a meaning beside y_plus only; give y_plus, or leave it out."
            )
        if self.outward is not None and self.growth is not None:
            raise InputError(
                f"outward = {self.outward} and growth = {self.growth:g} are both given; the farfield distance fixes "
                f"one by the other, so drop one."
            )
        around = self.around
        wake = (0 if self.topology == "O" else max(around // 4 // 8 * 8, 8)) if self.wake is None else self.wake
        set_fields(self, wake=whole("wake", wake, 0))
        if (self.topology == "O") != (self.wake == 0):
            raise InputError(f"wake = {self.wake} does not go with topology {self.topology!r}; leave it out.")

    def first(self, foil: Airfoil) -> float:
        """Height of the wall cell [chords].

        Parameters
        ----------
        foil : Airfoil
            Airfoil.

        Examples
        --------
        >>> import zephyrum as zy
        >>> AirfoilMeshOptions(first_height=1e-4).first(zy.Airfoil.naca("0012"))
        0.0001
        """
        if self.first_height is None:
            return 0.1 * foil.length / foil.chord / self.around
        return number("first_height", self.first_height, 0.0, 0.1, open_low=True)

    def outward_cells(self, first: float) -> int:
        """Number of cells from wall to farfield.

        Parameters
        ----------
        first : float
            Height of the wall cell [chords].

        Examples
        --------
        >>> AirfoilMeshOptions(outward=24).outward_cells(1e-3)
        24
        """
        outward = 64 if self.outward is None else self.outward
        if self.growth is not None:
            steps = steps_for(first, self.farfield, number("growth", self.growth, 1.0, 2.0, open_low=True))
            outward = -(-steps // 8) * 8
        return whole("outward", outward, 8, 100_000)


@takes(foil=Airfoil)
def mesh_airfoil(foil: Airfoil, around: int = 256, outward: int | None = None, **options) -> Mesh:
    """Structured mesh about an airfoil.

    Parameters
    ----------
    foil : Airfoil
    around : int
        Cells on the surface, even; best a multiple of 16.
    outward : int, optional
        Cells from wall to farfield; 64, or by `growth`.
    **options
        Other fields of `AirfoilMeshOptions`: farfield, topology, first_height, growth, wake, nose_spacing,
        tail_spacing, y_plus, reynolds; lengths in chords.

    Returns
    -------
    Mesh
        Its nested coarser levels follow as `mesh.coarser`.

    Raises
    ------
    InputError
        For sizes that make no mesh.
    MeshError
        If grid lines cross.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O").n_cells
    256
    """
    refuse_unknown(AirfoilMeshOptions, options, "a mesh about an airfoil")
    wanted = AirfoilMeshOptions(around, outward, **options)
    first = wanted.first(foil)
    outward = wanted.outward_cells(first)
    grid = _march_grid(foil, wanted, first, outward)
    recipe = {
        "kind": f"structured {wanted.topology}",
        "section": foil.name,
        "around": wanted.around,
        "outward": outward,
        "wake": wanted.wake,
        "farfield_chords": wanted.farfield,
        "first_height_chords": first,
        "growth": round(growth_ratio(first, wanted.farfield, outward), 5),
    }
    if wanted.y_plus is not None:
        recipe["y_plus"] = wanted.y_plus
    nose = (float(foil.nose[0]), 0.0, float(foil.nose[1]))
    reference = Reference.of_section(foil.chord, nose, 1.0, "measured on the section")
    try:
        return nested_family(grid, reference, recipe)
    except MeshError as error:
        raise MeshError(
            f"{error} Cells grow by a factor of {recipe['growth']:.3g} from one to the next: give more cells outward "
            f"than {outward} or around than {wanted.around}, or a smaller farfield than {wanted.farfield:g} chords.",
            error.position,
        ) from error


def _march_grid(foil: Airfoil, options: AirfoilMeshOptions, first: float, outward: int) -> StructuredGrid:
    """Grid with wall cells of the height `first` [chords], marched outward from the surface."""
    c, blunt = foil.chord, foil.is_blunt
    around, farfield, wake = options.around, options.farfield, options.wake
    nose_spacing, tail_spacing = options.nose_spacing, options.tail_spacing
    closed = wake == 0
    strip = None
    if closed:
        curve = closed_curve(foil, around, first, nose_spacing, tail_spacing)
        behind = np.zeros(len(curve))
    else:
        s, tail_step = _surface_parameters(foil, around, first, nose_spacing, tail_spacing, closed)
        surface = foil.curve(s)[::-1]  # lower tail, nose, upper tail: the outside is on the left
        x = geometric(tail_step * c, farfield * c, wake)
        line = _wake_line(foil, x)
        half = 0.5 * np.hypot(foil.gap, 8 * WAKE_SPREAD * 0.5 * x) if blunt else np.zeros_like(x)
        lift = np.zeros((len(x), 2))
        lift[:, 1] = half
        upper, lower = line + lift, line - lift
        # the wake starts exactly at the two tail points
        fade = np.exp(-x / (0.05 * c))[:, None]
        upper += fade * (surface[-1] - upper[0])
        lower += fade * (surface[0] - lower[0])
        if blunt:
            across = np.linspace(0.0, 1.0, BASE_CELLS + 1)[None, :, None]
            strip = lower[:, None] + across * (upper - lower)[:, None]
        curve = np.concatenate([lower[:0:-1], surface, upper[1:]])
        behind = np.r_[x[:0:-1], np.zeros(len(surface)), x[1:]] / c
    starts = np.hypot(first, WAKE_SPREAD * behind)
    if closed:
        wrap = march_grid(curve, np.tile(np.diff(geometric(first * c, farfield * c, outward)), (len(curve), 1)), True)
        wrap = np.concatenate([wrap, wrap[:1]])
    else:
        focus = foil.nose + 0.5 * foil.nose_radius * (foil.tail - foil.nose) / c
        wrap = _unwrapped(curve, starts * c, behind, outward, focus, farfield * c, np.sqrt(c))
    ni, nj = wrap.shape[0] - 1, wrap.shape[1] - 1
    borders = [
        BlockBoundary("airfoil", "wall", "inner", wake, ni - wake),
        BlockBoundary("farfield", "farfield", "outer", 0, ni),
    ]
    if not closed:
        borders += [BlockBoundary("farfield", "farfield", row, 0, nj) for row in ("first", "last")]
    return StructuredGrid(wrap, tuple(borders), closed, wake, strip)


def closed_curve(
    foil: Airfoil,
    around: int,
    first: float,
    nose_spacing: float | None = None,
    tail_spacing: float | None = None,
    base: np.ndarray | None = None,
) -> np.ndarray:
    """Nodes of an O mesh on the section: lower tail, nose, upper tail, base; the first is not repeated.

    Parameters
    ----------
    foil : Airfoil
        Airfoil.
    around : int
        Cells on the surface.
    first : float
        Height of the wall cell [chords].
    nose_spacing, tail_spacing : float or None, optional
        Length of the surface cells there [chords].
    base : (k,) array, optional
        Positions of the nodes of a blunt tail, from 0 at its upper corner to 1 at the lower one.

    Returns
    -------
    (n, 2) array
        x and z [m].

    Examples
    --------
    >>> nodes = closed_curve(Airfoil.naca("0012"), 32, 1e-2)
    >>> nodes.shape
    (32, 2)
    """
    s, _ = _surface_parameters(foil, around, first, nose_spacing, tail_spacing, True)
    surface = foil.curve(s)[::-1]
    if foil.is_blunt:
        base = np.linspace(0.0, 1.0, BASE_CELLS + 1) if base is None else base
        return np.concatenate([surface, surface[-1] + base[1:-1, None] * (surface[0] - surface[-1])])
    surface[-1] = surface[0] = foil.tail
    return surface[:-1]


def _unwrapped(
    curve: np.ndarray,
    heights: np.ndarray,
    behind: np.ndarray,
    layers: int,
    focus: np.ndarray,
    reach: float,
    scale: float,
) -> np.ndarray:
    """C-shaped block laid out in the plane of zeta = sqrt(z - focus), where section and wake are nearly a straight
    line.

    The square root opens the plane about a point just inside the nose (Jameson 1974, Comm. Pure Appl. Math. 27:283) and
    does the fanning-out that marching does badly. In that plane every line leaves the wall along its (smoothed) normal
    and turns upright within BEND; further out the lines even out their distances. Back in the physical plane they are
    parabolas, orthogonal to the layers because the map is conformal; the outer boundary is a parabola `reach` [m]
    ahead of the nose. `heights` (n,) [m] of the cells at wall and wake, `behind`
    (n,) the distance behind the tail in chords, `scale` the square root of the chord.
    """
    n = len(curve)
    z = (curve - focus) @ np.array([1.0, 1j])
    angle = np.unwrap(np.angle(z))
    angle += 2.0 * np.pi * np.round((np.pi - angle[n // 2]) / (2.0 * np.pi))
    zeta = np.sqrt(np.abs(z)) * np.exp(0.5j * angle)
    x, y, top = zeta.real, zeta.imag, np.sqrt(reach)
    level = geometric(heights.min() / (2.0 * scale), top, layers)
    height = np.tile(level, (n, 1))
    # the layers nearest to the wall are opened to the height asked; further out they soon run level again
    more = (scale / np.abs(zeta) - 1.0)[:, None]
    height += more * height / (1.0 + height * np.abs(more) / (WAKE_LEVELLING * scale))
    # in the wake they open by the same amount over the first WAKE_LAYERS of them
    shift = np.maximum(WAKE_LEVELLING * scale * (1.0 - np.exp(-behind)), 1e-300)[:, None]
    extra = ((heights - heights.min()) / (2.0 * np.abs(zeta)))[:, None]
    extra = extra / (1.0 + WAKE_LAYERS * extra / shift)
    height += shift * (1.0 - np.exp(-extra / shift * np.arange(layers + 1)))
    height *= top / height[:, -1:]
    height *= 1.0 - height / top * (y / top)[:, None]  # the outermost layer is level
    # direction of the wall's normal, smoothed over BEND so that neighbouring lines never meet
    evenly = np.linspace(x[0], x[-1], max(64, int((x[-1] - x[0]) / (0.2 * WALL_FAIRING * scale))))
    slope = gaussian_filter1d(
        np.interp(evenly, x, np.gradient(y, x)), WALL_FAIRING * scale / (evenly[1] - evenly[0]), mode="nearest"
    )
    inclination = np.interp(x, evenly, -np.arctan(slope))
    inclination[0] = inclination[-1] = 0.0
    near = WALL_FAIRING * scale * (1.0 - np.exp(-height / (WALL_FAIRING * scale)))
    even = np.cumsum(np.r_[x[0], gaussian_filter1d(np.diff(x), n / 20.0, mode="nearest")])
    even = x[0] + (even - x[0]) * (x[-1] - x[0]) / (even[-1] - x[0])
    far = 1.0 - np.exp(-((height / (2.0 * scale)) ** 2))
    across = x[:, None] + np.sin(inclination)[:, None] * near + (even - x)[:, None] * far
    up = y[:, None] + height - (1.0 - np.cos(inclination))[:, None] * near
    back = (across + 1j * up) ** 2
    out = np.stack([back.real, back.imag], axis=-1) + focus
    out[:, 0] = curve
    return out


def _surface_parameters(foil, around, first, nose_spacing, tail_spacing, closed):
    """Curve parameters (around + 1,) from the upper to the lower tail, and the tail spacing in chords."""
    mean = foil.length / foil.chord / around
    nose = 0.1 * mean if nose_spacing is None else number("nose_spacing", nose_spacing, 1e-6, 0.1)
    tail = (0.15 if closed else 0.3) * mean if tail_spacing is None else number("tail_spacing", tail_spacing, 1e-6, 0.1)
    half = around // 2
    upper, lower = foil.nose_parameter, foil.length - foil.nose_parameter
    a = two_ended(half, tail * foil.chord / upper, nose * foil.chord / upper) * upper
    b = two_ended(half, nose * foil.chord / lower, tail * foil.chord / lower) * lower + upper
    s = np.r_[a, b[1:]]
    return _through_corners(s, foil.corner_parameters), tail


def _through_corners(s: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """Shift the parameters smoothly so that a node with an index divisible by 8 falls on every corner."""
    fixed = [0]
    target = [s[0]]
    midpoint = len(s) // 2
    for corner in sorted(corners):
        k = round(float(np.interp(corner, s, np.arange(len(s)))) / 8.0) * 8
        if fixed[-1] < k < len(s) - 1 and k != midpoint:
            fixed.append(k)
            target.append(corner)
    fixed.append(len(s) - 1)
    target.append(s[-1])
    if len(fixed) == 2:
        return s
    # the warp is monotone piecewise linear in s; nodes keep their clustering
    return np.interp(s, s[fixed], target)


def _wake_line(foil: Airfoil, x: np.ndarray) -> np.ndarray:
    """Points (n, 2) at distance x [m] behind the tail: along the tail's bisector, then along the chord."""
    ends = foil.curve(np.array([0.0, foil.length]), 1)
    ends /= np.linalg.norm(ends, axis=1)[:, None]
    direction = ends[1] - ends[0]
    chordwise = (foil.tail - foil.nose) / foil.chord
    square = np.array([-chordwise[1], chordwise[0]])
    slope = float(np.clip((direction @ square) / max(direction @ chordwise, 0.2), -1.0, 1.0))
    length = WAKE_FAIRING * foil.chord
    height = slope * length * (1.0 - np.exp(-x / length))
    # far downstream the line lies along x, so that the outlet is a plane of constant x
    turn = chordwise[1] / max(chordwise[0], 0.2)
    increment_x = turn * 2 * length * (1.0 - np.exp(-x / (2 * length)))
    return foil.tail + np.stack([x, height + increment_x], axis=1)
