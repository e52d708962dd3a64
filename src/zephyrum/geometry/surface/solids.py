"""Solids united, cut in half and projected, with labels kept; the booleans are those of the package manifold3d.

Verified by tests/test_solids.py: volumes by inclusion and exclusion, areas of labels summing to the total.
"""

from dataclasses import replace

import numpy as np

from zephyrum.errors import InputError
from zephyrum.geometry.surface.nearest_point import distances
from zephyrum.geometry.surface.triangulation import WELD_TOLERANCE, Surface

SYMMETRY_TOLERANCE = 1e-3  # of its size: how far a surface from outside may be from its mirror image
EXACT_TOLERANCE = 1e-6  # the same of a described aircraft, whose sides are made from the same numbers


def boolean_kernel():
    """The package manifold3d; InputError says how to install it.

    Examples
    --------
    >>> boolean_kernel().__name__
    'manifold3d'
    """
    try:
        import manifold3d
    except ImportError:
        raise InputError("solids need the package manifold3d; install it with: pip install manifold3d.") from None
    return manifold3d


def solid(surface: Surface, first: int = 0):
    """Solid of a closed surface, for the package of triangle booleans.

    Parameters
    ----------
    surface : Surface
        Closed surface.
    first : int, optional
        Number of its first triangle.

    Raises
    ------
    InputError
        The surface is not closed.

    Examples
    --------
    >>> from zephyrum import Body
    >>> round(solid(Body.box(1.0, 2.0, 3.0).surface()).volume(), 6)
    6.0
    """
    m3 = boolean_kernel()
    m = len(surface.triangles)
    made = m3.Manifold(
        m3.Mesh64(
            vert_properties=np.array(surface.points),
            tri_verts=surface.triangles.astype(np.uint64),
            face_id=np.arange(first, first + m, dtype=np.uint64),
        )
    )
    status = str(made.status()).split(".")[-1]
    if status != "NoError":
        position = surface.points[surface.open_edges[0]].mean(axis=0) if len(surface.open_edges) else surface.midpoint
        raise InputError(
            f"surface {surface.name!r} is not closed ({status}), first near {np.round(position, 4)}; repair it first."
        )
    return made


def _surface_of(made, sources: list[Surface], name: str) -> Surface:
    """A Surface of the kernel's solid, labels from the triangles that its own came from."""
    mesh = made.to_mesh64()
    face = np.asarray(mesh.face_id, dtype=np.int64)
    names = np.concatenate([one.label_names for one in sources])
    order = tuple(dict.fromkeys(names.tolist()))
    code = {key: k for k, key in enumerate(order)}
    label = np.array([code[key] for key in names.tolist()])[np.clip(face, 0, len(names) - 1)]
    triangles = np.asarray(mesh.tri_verts, dtype=np.int64)
    return Surface(np.asarray(mesh.vert_properties)[:, :3], triangles, label, order, name).selected(slice(None))


def union(surfaces: list[Surface], name: str = "aircraft") -> Surface:
    """Unite closed surfaces; what lies inside another is gone, labels are kept.

    Parameters
    ----------
    surfaces : list[Surface]
        Closed surfaces.
    name : str, optional
        Name of the union.

    Raises
    ------
    InputError
        A surface is not closed.

    Examples
    --------
    >>> import zephyrum as zy
    >>> box = zy.Body.box(1.0, 1.0, 1.0).surface()
    >>> round(union([box, box.transformed(np.eye(3), (0.5, 0.0, 0.0))]).volume, 6)
    1.5
    """
    if len(surfaces) == 1:
        return surfaces[0]
    m3 = boolean_kernel()
    starts = np.cumsum([0, *(len(one.triangles) for one in surfaces)])
    solids = [solid(one, int(at)) for one, at in zip(surfaces, starts)]
    made = m3.Manifold.batch_boolean(solids, m3.OpType.Add)
    return _surface_of(made, surfaces, name)


def common_volume(one: Surface, two: Surface) -> float:
    """Volume that two closed surfaces share.

    Parameters
    ----------
    one, two : Surface
        Closed surfaces.

    Returns
    -------
    float
        [m^3]

    Examples
    --------
    >>> import zephyrum as zy
    >>> box = zy.Body.box(1.0, 1.0, 1.0).surface()
    >>> round(common_volume(box, box.transformed(np.eye(3), (0.5, 0.0, 0.0))), 6)
    0.5
    """
    return float((solid(one) ^ solid(two)).volume())


def asymmetry(surface: Surface) -> tuple[float, np.ndarray]:
    """Distance of a surface from its mirror image in the plane y = 0.

    Parameters
    ----------
    surface : Surface
        Surface.

    Returns
    -------
    distance : float
        Largest distance [m] of a point from the image.
    position : (3,) array
        That point [m].

    Examples
    --------
    >>> import zephyrum as zy
    >>> distance, position = asymmetry(zy.Body.box(2.0, 1.0, 0.5).surface())
    >>> round(distance, 6)
    0.0
    """
    away = distances(surface.points * [1.0, -1.0, 1.0], surface.points, surface.triangles)
    worst = int(np.argmax(away))
    return float(away[worst]), surface.points[worst]


def refuse_unsymmetric(surface: Surface, tolerance: float = SYMMETRY_TOLERANCE) -> None:
    """Refuse a surface that is not its own mirror image in the plane y = 0: no half stands for it.

    Parameters
    ----------
    surface : Surface
        Surface.
    tolerance : float, optional
        Fraction of its size.

    Raises
    ------
    InputError
        The surface is not symmetric.

    Examples
    --------
    >>> from zephyrum import Body
    >>> refuse_unsymmetric(Body.ellipsoid(1.0, 1.0).surface(tolerance=0.01))
    """
    away, position = asymmetry(surface)
    if away > tolerance * surface.size:
        raise InputError(
            f"surface {surface.name!r} is not symmetric about the plane y = 0: at {np.round(position, 3)} m its mirror "
            f"image is {away:.3g} m away, so half of it "
            "does not stand for the whole; use the whole model (half = False)."
        )


def half_surface(
    surface: Surface, name: str | None = None, keep_cap: bool = False, tolerance: float = SYMMETRY_TOLERANCE
) -> Surface:
    """Starboard half (y > 0) of a surface.

    Parameters
    ----------
    surface : Surface
        Closed surface.
    name : str, optional
        Name of the half.
    keep_cap : bool, optional
        Whether to close the half.
    tolerance : float, optional
        Fraction of the size within which the surface must be symmetric.

    Raises
    ------
    InputError
        The surface is not symmetric.

    Notes
    -----
    It is open along the plane y = 0, its rim exactly on it, or closed by a part named "cut".

    Examples
    --------
    >>> import zephyrum as zy
    >>> round(half_surface(zy.Body.box(2.0, 1.0, 0.5).surface(), keep_cap=True).volume, 6)
    0.5
    """
    refuse_unsymmetric(surface, tolerance)
    half = _surface_of(solid(surface).trim_by_plane((0.0, 1.0, 0.0), 0.0), [surface], name or surface.name)
    if not len(half.triangles):
        raise InputError(f"surface {surface.name!r} has nothing at y > 0, so it can't be halved.")
    points = half.points.copy()
    points[np.abs(points[:, 1]) < WELD_TOLERANCE * surface.size, 1] = 0.0
    half = replace(half, points=points)
    cap = (points[half.triangles][:, :, 1] == 0.0).all(axis=1)
    if not keep_cap:
        return half.selected(~cap)
    return half.labelled(np.where(cap, "cut", half.label_names))


def outline_of(surface: Surface, along: str) -> list[np.ndarray]:
    """Outlines of the shadow of a closed surface; holes run clockwise.

    Parameters
    ----------
    surface : Surface
        Closed surface.
    along : str
        Axis "x", "y" or "z" of the light.

    Returns
    -------
    list of (n, 2) arrays
        (y, z), (x, z) or (x, y) in body axes [m].

    Notes
    -----
    Coordinates are (y, z), (x, z) and (x, y) of the body axes.

    Examples
    --------
    >>> from zephyrum import Body
    >>> outlines = outline_of(Body.box(1.0, 2.0, 3.0).surface(), "x")
    >>> [len(loop) for loop in outlines]
    [4]
    """
    axes = {"x": [1, 2, 0], "y": [2, 0, 1], "z": [0, 1, 2]}[along]
    points = surface.points[:, axes]  # a cyclic turn, so that nothing is mirrored
    turned = Surface(points, surface.triangles, name=surface.name)
    rims = [np.asarray(rim) for rim in solid(turned).project().to_polygons()]
    # grazing triangles leave small cells
    rims = [rim for rim in rims if np.ptp(rim, axis=0).min() > 1e-3 * surface.size]
    return [rim[:, ::-1] for rim in rims] if along == "y" else rims


def projection(surface: Surface, along: str) -> float:
    """Area of the shadow of a closed surface.

    Parameters
    ----------
    surface : Surface
        Closed surface.
    along : str
        "x" (frontal), "y" (side) or "z" (planform).

    Returns
    -------
    float
        [m^2]

    Examples
    --------
    >>> import zephyrum as zy
    >>> round(projection(zy.Body.box(2.0, 1.0, 0.5).surface(), "x"), 6)
    0.5
    """
    axes = {"x": [1, 2, 0], "y": [2, 0, 1], "z": [0, 1, 2]}[along]
    turned = Surface(surface.points[:, axes], surface.triangles, name=surface.name)
    return float(solid(turned).project().area())


def section_area(surface: Surface, x: np.ndarray) -> np.ndarray:
    """Areas of the cuts of a closed surface by planes across x.

    Parameters
    ----------
    surface : Surface
        Closed surface.
    x : (n,) array
        Positions [m].

    Returns
    -------
    (n,) array
        [m^2]

    Examples
    --------
    >>> import zephyrum as zy
    >>> section_area(zy.Body.box(2.0, 1.0, 0.5).surface(), np.array([1.0])).round(6).tolist()
    [0.5]
    """
    turned = Surface(surface.points[:, [1, 2, 0]], surface.triangles, name=surface.name)
    made = solid(turned)
    return np.array([float(made.slice(float(at)).area()) for at in np.atleast_1d(x)])


def difference(one: Surface, others: list[Surface]) -> Surface:
    """Part of a closed surface that lies outside others.

    Parameters
    ----------
    one : Surface
        Closed surface.
    others : list[Surface]
        Closed surfaces.

    Examples
    --------
    >>> import zephyrum as zy
    >>> box = zy.Body.box(1.0, 1.0, 1.0).surface()
    >>> round(difference(box, [box.transformed(np.eye(3), (0.5, 0.0, 0.0))]).volume, 6)
    0.5
    """
    starts = np.cumsum([0, *(len(s.triangles) for s in (one, *others))])
    solids = [solid(s, int(at)) for s, at in zip((one, *others), starts)]
    made = boolean_kernel().Manifold.batch_boolean(solids, boolean_kernel().OpType.Subtract)
    return _surface_of(made, [one, *others], one.name)


def simplified(surface: Surface, distance: float) -> Surface:
    """Surface of fewer triangles; edges between labels stay.

    Parameters
    ----------
    surface : Surface
        Closed surface.
    distance : float
        Largest shift of the surface [m].

    Examples
    --------
    >>> from zephyrum import Body
    >>> ball = Body.ellipsoid(1.0, 1.0).surface(tolerance=0.001)
    >>> len(simplified(ball, 0.01).triangles) < len(ball.triangles)
    True
    """
    m3 = boolean_kernel()
    made = m3.Manifold(
        m3.Mesh64(
            vert_properties=np.array(surface.points),
            tri_verts=surface.triangles.astype(np.uint64),
            face_id=surface.label.astype(np.uint64),
        )
    )
    mesh = made.simplify(distance).to_mesh64()
    label = np.asarray(mesh.face_id, dtype=np.int64)
    triangles = np.asarray(mesh.tri_verts, dtype=np.int64)
    return replace(surface, points=np.asarray(mesh.vert_properties)[:, :3], triangles=triangles, label=label).selected(
        slice(None)
    )
