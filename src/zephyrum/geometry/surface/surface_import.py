"""Import of a surface file: unit and axes stated once, repair, check that the nose is in front, labels.

Verified by tests/test_adopt.py.
"""

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum._core.units import quantity
from zephyrum._core.validation import PATH, choice, number, takes
from zephyrum.errors import InputError
from zephyrum.geometry.surface.labels import label_by_edges
from zephyrum.geometry.surface.nearest_point import distances
from zephyrum.geometry.surface.solids import simplified
from zephyrum.geometry.surface.surface_reader import UNITS, read_triangles
from zephyrum.geometry.surface.surface_repair import RepairedSurface, repair_surface
from zephyrum.geometry.surface.triangulation import Surface

AXIS_NAMES = {"+x": (1, 0, 0), "-x": (-1, 0, 0), "+y": (0, 1, 0), "-y": (0, -1, 0), "+z": (0, 0, 1), "-z": (0, 0, -1)}
LARGEST_AIRCRAFT = 200.0  # m: no aircraft is larger
LABELS = ("file", "shell", "edges")
# unevenness across one axis over that across the other, and over the size, from which the axes are taken for
# exchanged
MAX_SPAN = 0.1
SYMMETRY_SAMPLES = 2000  # points that are compared with the mirror image
FIN_HEIGHT = 0.3  # width of a fin over its height, at most


@dataclass(frozen=True)
class ImportedSurface:
    """A surface from outside, in x aft, y starboard, z up and metres.

    Attributes
    ----------
    surface : Surface
        Repaired surface.
    raw : Surface
        Triangles as in the file.
    repaired : RepairedSurface
        What was repaired.
    notes : tuple[str, ...]
        What looks odd.

    Examples
    --------
    >>> import tempfile
    >>> from zephyrum import Body
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     _ = Body.box(1.0, 1.0, 1.0).surface().write(f"{folder}/box.stl")
    ...     imported = import_surface(f"{folder}/box.stl", unit="m")
    >>> round(imported.surface.volume, 6)
    1.0
    """

    surface: Surface
    raw: Surface
    repaired: RepairedSurface
    notes: tuple[str, ...]

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"{self.surface}; {len(self.repaired.defects)} kinds of defect, {len(self.notes)} notes"

    def report(self) -> str:
        """What was found and done, a line each.

        Examples
        --------
        >>> import tempfile, zephyrum as zy
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     path = zy.Body.capsule(3.0, 1.0).surface().write(folder + "/pod.stl")
        ...     print(zy.import_surface(path, unit="m").report().strip())
        no defects
        """
        return "\n".join([self.repaired.report(), *(f"  note: {note}" for note in self.notes)])


def axes_matrix(nose: str, up: str) -> np.ndarray:
    """Rotation from the axes of a model to x aft, y starboard, z up.

    Parameters
    ----------
    nose : str
        Axis of the model that the nose looks along, such as "-x".
    up : str
        Axis of the model that looks up.

    Returns
    -------
    (3, 3) array

    Raises
    ------
    InputError
        Both are the same axis, or no axes.

    Examples
    --------
    >>> (axes_matrix("-x", "+z") + 0.0).tolist()
    [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]]
    """
    choice("nose", nose, tuple(AXIS_NAMES))
    choice("up", up, tuple(AXIS_NAMES))
    ahead, above = np.array(AXIS_NAMES[nose], dtype=float), np.array(AXIS_NAMES[up], dtype=float)
    if abs(ahead @ above) > 0.5:
        raise InputError(f"nose = {nose!r} and up = {up!r} lie along the same axis; give two different ones.")
    return np.stack([-ahead, np.cross(ahead, above), above])


def sizes_by_unit(surface: Surface) -> str:
    """The size in every candidate unit, in words.

    Parameters
    ----------
    surface : Surface
        Surface in the unit of its file.

    Examples
    --------
    >>> import zephyrum as zy
    >>> sizes_by_unit(zy.Body.box(2000.0, 1000.0, 500.0).surface())[:40]
    'unit="m": 2000 x 1000 x 500 m; unit="mm"'
    """
    size = np.ptp(surface.bounds, axis=0)
    lines = []
    for unit in UNITS:
        x, y, z = size * quantity("unit", f"1 {unit}", "m")
        lines.append(f'unit="{unit}": {x:.4g} x {y:.4g} x {z:.4g} m')
    return "; ".join(lines)


@takes(path=PATH, unit=str, span=float)
def import_surface(
    path: str | Path,
    unit: str | None = None,
    nose: str = "-x",
    up: str = "+z",
    span: float | None = None,
    labels: str | None = None,
    angle: float = 30.0,
    simplify: float | None = None,
    **repair_options,
) -> ImportedSurface:
    """Import a surface from a .stl, .obj, .ply, .step or .vtu file: repaired, oriented, labelled.

    Parameters
    ----------
    path : path
    unit : str, optional
        Unit of its numbers ("mm", "in", ...); without it the file is refused with its size in each unit.
    nose, up : str
        Where nose and top point in the file ("-x", "+z", ...).
    span : float, optional
        Known span [m], compared with what is found.
    labels : str, optional
        "file" (its groups, the default where it has several), "shell" (parts that hung together before they were
        united) or "edges" (patches between sharp edges).
    angle : float
        Angle [deg] of sharp edges.
    simplify : float, optional
        Triangles are merged as long as the surface moves by less [m].
    repair_options
        Options of `repair_surface`.

    Returns
    -------
    ImportedSurface

    Raises
    ------
    InputError, NotRepairable
        Names what cannot be imported, with its position.

    Examples
    --------
    >>> import tempfile
    >>> import zephyrum as zy
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     file = zy.Body.box(2.0, 1.0, 0.5).surface().write(f"{folder}/box.stl", "mm")
    ...     round(zy.import_surface(file, "mm").surface.volume, 6)
    1.0
    """
    path = Path(path)
    number("angle", angle, 0.0, 180.0)
    raw = read_triangles(path)
    if path.suffix.lower() in (".step", ".stp"):
        unit = unit or "m"  # the format states its unit, the reader has applied it
    if unit is None:
        raise InputError(
            f"{path.name} states no unit and none is assumed; its size would be {sizes_by_unit(raw)}. Give the one "
            f"that is right."
        )
    factor = quantity("unit", f"1 {unit}", "m")
    raw = raw.transformed(factor * axes_matrix(nose, up))
    longest = float(np.ptp(raw.bounds, axis=0).max())
    if not 1e-3 < longest < LARGEST_AIRCRAFT:
        raise InputError(
            f"{path.name} in {unit} is {longest:.4g} m long, which no aircraft is; its size would be "
            f"{sizes_by_unit(raw.scaled(1.0 / factor))}."
        )
    direction = labels or ("file" if len(raw.labels) > 1 else None)
    if direction is not None:
        choice("labels", direction, LABELS)
    repaired = repair_surface(replace(raw, name=path.stem), label_shells=direction == "shell", **repair_options)
    made = repaired.surface
    if simplify is not None:
        made = simplified(made, number("simplify", simplify, 0.0, longest, open_low=True))
    if direction == "edges":
        made = label_by_edges(made, angle)
    return ImportedSurface(made, raw, repaired, tuple(surface_warnings(made, span)))


def surface_warnings(surface: Surface, span: float | None = None) -> list[str]:
    """Sentences on what suggests a wrong unit or axis: tail first, upside down, on its side, lopsided, a wrong span.

    Parameters
    ----------
    surface : Surface
        Surface [m].
    span : float, optional
        Known span [m].

    Examples
    --------
    >>> from zephyrum import Body
    >>> surface_warnings(Body.ellipsoid(3.0, 1.0).surface(tolerance=0.01), span=1.0)
    []
    """
    low, high = surface.bounds
    size = high - low
    found = []
    if span is not None and abs(size[1] / span - 1.0) > 0.03:
        found.append(f"the span is {size[1]:.4g} m, not {span:.4g} m as stated: look at the unit and the axes")
    if size[1] < 0.8 * size[2]:
        found.append(f"it is higher ({size[2]:.4g} m) than wide ({size[1]:.4g} m): is `up` the right axis?")
    found += _asymmetry_warning(surface)
    return found + attitude_warnings(surface)


def _asymmetry_warning(surface: Surface) -> list[str]:
    """Sentences on a plane of symmetry that is not y = 0, with the likely cause."""
    low, high = surface.bounds
    size = high - low
    midpoint = 0.5 * (low + high)
    off = [_uneven(surface, k, midpoint[k]) for k in (0, 1)]
    if off[0] < MAX_SPAN * off[1] and off[1] > MAX_SPAN * size[1]:
        return [
            "its left and right lie along x, where nose and tail should: `nose` is the wrong axis, turn it by a "
            "quarter (-y or +y)"
        ]
    if abs(midpoint[1]) > 0.02 * size[1]:
        return [f"its plane of symmetry lies at y = {midpoint[1]:.4g} m instead of 0: half a model, or moved aside?"]
    if abs(surface.centroid[1]) > 0.01 * size[1]:
        return [
            f"starboard and port differ (centroid at y = {surface.centroid[1]:.4g} m): are nose and up the right axes?"
        ]
    return []


def _uneven(surface: Surface, axis: int, midpoint: float) -> float:
    """95th percentile of the distances [m] of points from the mirror image in the plane `axis` = `midpoint`."""
    mirror = surface.points.copy()
    mirror[:, axis] = 2.0 * midpoint - mirror[:, axis]
    return float(
        np.quantile(
            distances(mirror[:: max(len(mirror) // SYMMETRY_SAMPLES, 1)], surface.points, surface.triangles), 0.95
        )
    )


def attitude_warnings(surface: Surface) -> list[str]:
    """Sentences on a body that seems to stand tail first or upside down, judged by its fin.

    Parameters
    ----------
    surface : Surface
        Surface [m].

    Notes
    -----
    The fin is what stands highest, above all else, and is thin, at one end.

    Examples
    --------
    >>> from zephyrum import Body
    >>> attitude_warnings(Body.ellipsoid(3.0, 1.0).surface(tolerance=0.01))
    []
    >>> from zephyrum import Planform, Wing
    >>> attitude_warnings(Wing(planform=Planform(span=2.4, root_chord=1.0, taper=1.0), airfoil="NACA 2412").surface())
    []
    """
    low, high = surface.bounds
    size, midpoint = high - low, 0.5 * (low[1] + high[1])
    x = low[0] + size[0] * np.array([0.0, 0.3, 0.7, 1.0])
    p = surface.points[np.unique(surface.triangles)]
    near = np.abs(p[:, 1] - midpoint) < 0.1 * size[1]
    ends = [p[near & (p[:, 0] >= a) & (p[:, 0] <= b)] for a, b in ((x[0], x[1]), (x[2], x[3]))]
    if not all(len(end) for end in ends):
        return []
    found = []
    tall = [float(np.ptp(end[:, 2])) for end in ends]
    body = float(np.median(p[near][:, 2]))
    top = ends[0][ends[0][:, 2] > ends[0][:, 2].max() - 0.25 * tall[0]]
    behind = p[near & (p[:, 0] > x[1]), 2].max()  # a wing is thick in front too, but hardly higher than at mid chord
    above = ends[0][:, 2].max() > behind + 0.1 * tall[0]
    if above and tall[0] > 1.25 * tall[1] and np.ptp(top[:, 1]) < FIN_HEIGHT * tall[0]:
        found.append(
            f"a fin stands in front ({tall[0]:.3g} m high, {tall[1]:.3g} m behind): does the body stand tail first? "
            f"Turn `nose` round"
        )
    rise, drop = float(ends[1][:, 2].max() - body), float(body - ends[1][:, 2].min())
    if drop > 1.5 * rise and tall[1] > 1.1 * tall[0]:
        found.append(f"its tail reaches {drop:.3g} m down and only {rise:.3g} m up: is it, or its fin, upside down?")
    return found
