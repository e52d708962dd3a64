"""Labels for surfaces that come without: by shell, by patches between sharp edges, by a box or a plane.

Verified by tests/test_adopt.py.
"""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from zephyrum._core.validation import number
from zephyrum.errors import InputError
from zephyrum.geometry.surface.triangulation import Surface

SMALL_PATCH_FRACTION = 1e-4  # of the area: a patch below it joins the neighbour with which it shares most


def label_by_shell(surface: Surface) -> Surface:
    """Label each shell, largest first: "shell 1", "shell 2", ...

    Parameters
    ----------
    surface : Surface
        Surface.

    Examples
    --------
    >>> import zephyrum as zy
    >>> box = zy.Body.box(1.0, 1.0, 1.0).surface()
    >>> label_by_shell(zy.joined([box, box.transformed(np.eye(3), (3.0, 0.0, 0.0))])).labels
    ('shell 1', 'shell 2')
    """
    count, shell = surface.shells()
    area = np.bincount(shell, surface.areas, count)
    rank = np.empty(count, dtype=int)
    rank[np.argsort(-area, kind="stable")] = np.arange(1, count + 1)
    return surface.labelled(np.array([f"shell {k}" for k in rank], dtype=object)[shell])


def label_by_edges(surface: Surface, angle: float = 30.0) -> Surface:
    """Label each patch between sharp edges, largest first: "patch 1", ...

    Parameters
    ----------
    surface : Surface
        Surface.
    angle : float, optional
        Least angle [deg] of a sharp edge.

    Examples
    --------
    >>> import zephyrum as zy
    >>> len(label_by_edges(zy.Body.box(2.0, 1.0, 0.5).surface()).labels)
    6
    """
    number("angle", angle, 0.0, 180.0, open_low=True)
    n = surface.neighbours
    normal = surface.normals
    m = len(n)
    one = np.repeat(np.arange(m), 3)
    two = n.ravel()
    joined = two >= 0
    one, two = one[joined], two[joined]
    smooth = np.einsum("ij,ij->i", normal[one], normal[two]) > np.cos(np.radians(angle))
    link = coo_matrix((np.ones(smooth.sum()), (one[smooth], two[smooth])), shape=(m, m))
    count, patch = connected_components(link, directed=False)
    area = np.bincount(patch, surface.areas, count)
    small = area < SMALL_PATCH_FRACTION * area.sum()
    for _ in range(20):  # slivers join the patch with which they share most edges
        own = small[patch[one]] & (patch[one] != patch[two])
        if not own.any():
            break
        pairs, votes = np.unique(np.stack([patch[one[own]], patch[two[own]]], axis=1), axis=0, return_counts=True)
        best: dict[int, tuple[float, int]] = {}
        for (a, b), vote in zip(pairs.tolist(), votes.tolist()):
            best[a] = max(best.get(a, (0.0, -1)), (vote * (1.0 + area[b]), b))
        target = np.arange(count)
        for a, (_, b) in best.items():
            if target[b] == b:
                target[a] = b
        patch = target[patch]
        area = np.bincount(patch, surface.areas, count)
        small = (area < SMALL_PATCH_FRACTION * area.sum()) & (area > 0.0)
    used, patch = np.unique(patch, return_inverse=True)
    area = np.bincount(patch, surface.areas, len(used))
    rank = np.empty(len(used), dtype=int)
    rank[np.argsort(-area, kind="stable")] = np.arange(1, len(used) + 1)
    return surface.labelled(np.array([f"patch {k}" for k in rank], dtype=object)[patch])


def label_by_box(surface: Surface, name: str, low: tuple, high: tuple) -> Surface:
    """Label the triangles whose centroid lies in a box.

    Parameters
    ----------
    surface : Surface
        Surface.
    name : str
        Label.
    low, high : tuple
        Corners (3,) [m]; where both are equal the box is a plane.

    Examples
    --------
    >>> from zephyrum import Body
    >>> box = Body.box(1.0, 1.0, 1.0).surface()
    >>> surface = label_by_box(box, "front", (-0.01, -1.0, -1.0), (0.01, 1.0, 1.0))
    >>> round(surface.area("front"), 6)
    1.0
    """
    low, high = np.asarray(low, dtype=float), np.asarray(high, dtype=float)
    if low.shape != (3,) or high.shape != (3,) or not (low < high).all():
        raise InputError(f"box from {low} to {high}: give two corners (3,), the lower one first; infinity is allowed.")
    inside = ((surface.centres >= low) & (surface.centres <= high)).all(axis=1)
    if not inside.any():
        raise InputError(
            f"label {name!r}: no triangle lies in the box from {low} to {high} m; the surface lies in "
            f"{surface.bounds.round(3).tolist()}."
        )
    return surface.labelled(np.where(inside, name, surface.label_names))


def renamed(surface: Surface, names: dict[str, str]) -> Surface:
    """Rename labels; labels given the same name become one.

    Parameters
    ----------
    surface : Surface
        Surface.
    names : dict[str, str]
        New name by old name, such as {"patch 3": "wing/upper"}.

    Examples
    --------
    >>> import zephyrum as zy
    >>> renamed(label_by_edges(zy.Body.box(1.0, 1.0, 1.0).surface()), {"patch 1": "nose"}).labels[0]
    'patch 4'
    """
    for old in names:
        if old not in surface.labels:
            raise InputError(f"surface {surface.name!r} has no label {old!r}; it has: {', '.join(surface.labels)}.")
    return surface.labelled(np.array([names.get(one, one) for one in surface.labels], dtype=object)[surface.label])
