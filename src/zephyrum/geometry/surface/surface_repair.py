"""Surfaces from outside repaired: welded, cleaned, turned the right way, holes filled, shells united, each defect
reported.

The order is: weld, degenerate and duplicate triangles, points on edges, sheets cut apart where more than two triangles
meet, orientation, holes, separate and inner shells, union of overlapping shells, and the proof at the end. What can't
be repaired within the volume error allowed is refused with its positions. Holes are filled by the triangulation of
least area (Barequet and Sharir 1995, Comput. Aided Geom. Des. 12:207). Verified by tests/test_adopt.py.
"""

from dataclasses import dataclass, field as dataclass_field, replace

import numpy as np

from zephyrum._core.validation import number, takes
from zephyrum.errors import InputError
from zephyrum.geometry.surface.defects import Defect, NotRepairable, defect_at, defect_of_pieces
from zephyrum.geometry.surface.hole_filling import Hole, fill_hole, hole_boundaries
from zephyrum.geometry.surface.labels import label_by_shell
from zephyrum.geometry.surface.self_intersection import crossing_triangles
from zephyrum.geometry.surface.solids import solid, union
from zephyrum.geometry.surface.surface_cleaning import (
    check_connected,
    clean_triangles,
    orient_triangles,
    split_edges,
    split_sheets,
)
from zephyrum.geometry.surface.triangulation import Surface

SMALL_PIECE_SIZE = 1e-3  # of the volume of the largest shell: smaller ones that touch nothing are listed and left out
ALLOWED_CHANGE = 1e-3  # of the volume: what filled holes may be wrong by together


@dataclass(frozen=True)
class RepairedSurface:
    """A closed surface and the defects that were repaired.

    Attributes
    ----------
    surface : Surface
        The surface.
    defects : tuple[Defect, ...]
        What was found.
    patched : float
        Fraction of the area that is new.
    uncertainty : float
        Volume by which the patches may be wrong [m^3].
    notes : tuple[str, ...]
        Sentences.

    Examples
    --------
    >>> from zephyrum import Body
    >>> repaired = repair_surface(Body.box(1.0, 1.0, 1.0).surface())
    >>> repaired.surface.watertight, repaired.defects
    (True, ())
    """

    surface: Surface
    defects: tuple[Defect, ...]
    patched: float = 0.0
    uncertainty: float = 0.0
    notes: tuple[str, ...] = dataclass_field(default=())

    def report(self) -> str:
        """All defects, a line each.

        Examples
        --------
        >>> import zephyrum as zy
        >>> print(zy.repair_surface(zy.Body.capsule(3.0, 1.0).surface()).report())
          no defects
        """
        lines = [f"  {one}" for one in self.defects] or ["  no defects"]
        if self.patched:
            lines.append(
                f"  {100 * self.patched:.2g} % of the area lies on filled holes, which may change the volume by "
                f"{100 * self.uncertainty:.2g} %"
            )
        return "\n".join([*lines, *(f"  note: {note}" for note in self.notes)])


@takes(surface=Surface, weld_distance=float)
def repair_surface(
    surface: Surface,
    weld_distance: float | None = None,
    flat_holes: bool = False,
    keep_separate: bool = False,
    label_shells: bool = False,
) -> RepairedSurface:
    """Make a closed surface of consistent orientation from what a file holds.

    Parameters
    ----------
    surface : Surface
        Surface as read [m].
    weld_distance : float, optional
        Points nearer than this [m] are one; found from the gaps without it.
    flat_holes : bool, optional
        Fill large holes flat without asking what was there.
    keep_separate : bool, optional
        Keep small shells that touch nothing.
    label_shells : bool, optional
        Label each shell before they are united.

    Raises
    ------
    NotRepairable
        An InputError; no closed surface can be made.

    Examples
    --------
    >>> import zephyrum as zy
    >>> box = zy.Body.box(1.0, 1.0, 1.0).surface()
    >>> torn = box.selected(slice(1, None))  # a triangle is missing
    >>> zy.repair_surface(torn).surface.watertight
    True
    """
    if weld_distance is not None:
        number("weld_distance", weld_distance, 0.0, 0.1 * surface.size)
    found: list[Defect] = []
    made, gap = clean_triangles(surface, weld_distance, found)
    check_connected(made)
    made = split_edges(made, found)
    made = split_sheets(made, found)
    made = orient_triangles(made, found)
    made, uncertainty, patched = _fill_holes(made, flat_holes, found)
    if label_shells:
        made = label_by_shell(made)
    try:
        made, notes = _shells(made, keep_separate, found)
        _verify(made, 4.0 * gap)
    except NotRepairable:
        raise
    except InputError as cause:  # the kernel of the union refuses a shell
        pairs = crossing_triangles(made)
        positions = made.centres[pairs[:, 0]] if len(pairs) else made.midpoint[None]
        raise NotRepairable(
            made,
            defect_at("places where sheets touch or cut each other", positions, made.size, ""),
            f"separate them where the shape was made ({cause})",
        ) from cause
    return RepairedSurface(made, tuple(found), patched, uncertainty, tuple(notes))


def _fill_holes(surface: Surface, flat: bool, found: list[Defect]) -> tuple[Surface, float, float]:
    """Holes filled; (surface, volume that the patches may be wrong by over all of it, their fraction of the area)."""
    holes = hole_boundaries(surface)
    if not holes:
        return surface, 0.0, 0.0
    made, warnings_found, patches = surface, [], []
    points, triangles = surface.points, [surface.triangles]
    on_rim = np.zeros(len(points), dtype=bool)
    on_rim[np.concatenate([hole.loop for hole in holes])] = True
    beside = on_rim[surface.triangles].sum(axis=1) >= 2
    rim = replace(surface, triangles=surface.triangles[beside], label=surface.label[beside])
    bad: list[Hole] = []
    for hole in holes:
        patch = fill_hole(rim, hole)
        if patch is None:
            bad.append(hole)
            continue
        new, uncertainty = patch
        triangles.append(new)
        warnings_found.append(uncertainty)
        patches.append(hole)
    if bad:
        raise NotRepairable(
            surface,
            defect_of_pieces("holes with a rim that crosses itself", bad, ""),
            "close them where the shape was made",
        )
    names = np.concatenate([surface.label_names, np.full(sum(len(t) for t in triangles[1:]), "patch", dtype=object)])
    made = Surface(points, np.concatenate(triangles), name=surface.name).labelled(names)
    uncertainty = float(np.sum(warnings_found)) / max(abs(made.volume), 1e-300)
    large = [k for k, one in enumerate(warnings_found) if one > 0.2 * ALLOWED_CHANGE * abs(made.volume)]
    if uncertainty > ALLOWED_CHANGE and not flat:
        which = large or [int(np.argmax(warnings_found))]
        worst = [patches[k] for k in which]
        raise NotRepairable(
            surface,
            defect_of_pieces("holes too large to guess what was there", worst, ""),
            f"filling them flat may change the volume by {100 * uncertainty:.2g} %: close them where the shape was "
            f"made, or say flat_holes=True if they are flat",
        )
    small = sum(1 for h in holes if len(h.loop) <= 4)
    done = f"filled ({small} of up to four sides)" if small < len(holes) else "filled"
    found.append(defect_of_pieces("holes", holes, done))
    return made, uncertainty, made.area("patch") / made.area()


def _shells(surface: Surface, keep_separate: bool, found: list[Defect]) -> tuple[Surface, list[str]]:
    """Stray shells listed and left out, the others united."""
    count, shell = surface.shells()
    if count == 1:
        return surface, []
    pieces = [surface.selected(shell == k) for k in range(count)]
    volumes = np.array([one.volume for one in pieces])
    notes: list[str] = []
    # two triangles back to back have the volume of rounding
    solids = (volumes > 0.0) & np.array([len(one.triangles) >= 4 for one in pieces])
    if not solids.all():
        flat = [one for one, kept in zip(pieces, solids) if not kept]
        found.append(defect_of_pieces("shells that enclose nothing", flat, "left out"))
        pieces, volumes = [one for one, kept in zip(pieces, solids) if kept], volumes[solids]
    order = np.argsort(-volumes)
    pieces = [pieces[k] for k in order]
    boxes = np.array([one.bounds for one in pieces])
    # shells are connected where their boxes meet: separate ones are small and meet nothing
    low, high = boxes[:, 0], boxes[:, 1]
    meets = ((low[:, None] <= high[None]) & (high[:, None] >= low[None])).all(axis=2)
    alone = (meets.sum(axis=1) == 1) & (volumes[order] < SMALL_PIECE_SIZE * volumes.max())
    if alone.any() and not keep_separate:
        lost = [one for one, drop in zip(pieces, alone) if drop]
        found.append(defect_of_pieces("separate shells", lost, "left out (keep_separate keeps them)"))
        pieces = [one for one, drop in zip(pieces, alone) if not drop]
    if len(pieces) == 1:
        return pieces[0], notes
    total = sum(one.volume for one in pieces)
    made = union(pieces, surface.name)
    apart = made.shells()[0]
    if made.volume < (1.0 - 1e-9) * total or apart < len(pieces):
        found.append(
            defect_at(
                "overlapping shells",
                np.array([one.midpoint for one in pieces]),
                surface.size,
                f"united, {total - made.volume:.3g} m^3 counted twice before",
            )
        )
    if apart > 1:
        notes.append(f"{apart} solids that touch nothing of each other are left")
    return made, notes


def _verify(surface: Surface, noise: float) -> None:
    """NotMended unless the surface is closed, positive and free of crossings deeper than `noise` [m]."""
    if not surface.watertight:
        edges = surface.open_edges
        raise NotRepairable(
            surface,
            defect_at(
                "open edges",
                surface.points[edges].mean(axis=1) if len(edges) else surface.midpoint[None],
                surface.size,
                "",
            ),
            "close the shape where it was made",
        )
    if not surface.volume > 0.0:
        raise NotRepairable(
            surface, defect_at("shells without volume", surface.midpoint[None], surface.size, ""), "give a solid"
        )
    solid(surface)
    pairs = crossing_triangles(surface, noise)
    if len(pairs):
        size = np.sqrt(surface.areas[pairs[:, 0]].max())
        raise NotRepairable(
            surface,
            defect_at("triangles that cut through each other", surface.centres[pairs[:, 0]], size, ""),
            "separate the sheets where the shape was made",
        )
