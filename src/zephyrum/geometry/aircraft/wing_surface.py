"""The triangulated surface of a wing: sections sampled alike, turned into place, controls deflected, tips closed.

Every section has the same points: equal chord fractions up to the hinge line, equal parts of the length behind it.
Verified by tests/test_wings.py.
"""

import itertools
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from zephyrum.errors import InputError
from zephyrum.geometry.aircraft.loft import lofted, positions, sagitta_spacing
from zephyrum.geometry.aircraft.stations import interpolate_airfoils, panel_of, span_lengths
from zephyrum.geometry.airfoil.section import Airfoil
from zephyrum.geometry.surface.triangulation import Surface

if TYPE_CHECKING:
    from zephyrum.geometry.aircraft.wing import Wing


TIP_RINGS = 6  # round tips: steps from the section to its centre line
HINGE = 0.75  # of the chord: where the grid's hinge line lies without controls


def wing_surfaces(wing: "Wing", name: str, tolerance: float = 2e-4, largest: float = 0.25) -> list[Surface]:
    """Closed surfaces of a wing: one if its halves meet or it is not symmetric, else one for each half.

    Parameters
    ----------
    wing : Wing
        The wing.
    name : str
        Prefix of the labels.
    tolerance : float, optional
        Distance of the triangles from the section, in chords.
    largest : float, optional
        Longest edge, in chords.

    Notes
    -----
    Labels: name/upper, /lower, /tail, /tip, /root, and for each control name/<control> upper and lower.

    Examples
    --------
    >>> from zephyrum.geometry import Planform, Wing
    >>> wing = Wing(planform=Planform(span=6.0, area=6.0), airfoil=Airfoil.naca("0012"))
    >>> [surface.watertight for surface in wing_surfaces(wing, "wing", tolerance=0.005)]
    [True]
    """
    if not 1e-6 <= tolerance <= 0.02:
        raise InputError(
            f"tolerance = {tolerance:g} chords is out of range; it must be at least 1e-6 and at most 0.02."
        )
    grid, split = _chord_places(wing, tolerance, largest)
    if not wing.symmetric:
        return [_half(wing, name, grid, split, largest, 1.0, False)]
    if wing.centred:
        return [_half(wing, name, grid, split, largest, 1.0, True)]
    return [_half(wing, name, grid, split, largest, sign, False) for sign in (1.0, -1.0)]


def _chord_places(wing, tolerance: float, largest: float) -> tuple[np.ndarray, int]:
    """Fractions t of both parts of a side: (n,) from nose 0 over the hinge 1 to the tail 2, and the hinge's index."""
    dense = np.r_[np.linspace(0.0, 1.0, 161) ** 2, 1.0 + np.linspace(0.0, 1.0, 81)[1:]]
    h, s = np.full(len(dense), np.inf), np.zeros(len(dense))
    hinge = hinge_line(wing, np.array([0.5]))[0]
    for foil in {id(one.airfoil): normalized_section(one.airfoil, wing.tail_gap) for one in wing.sections}.values():
        for side in section_points(foil, dense, hinge, None):
            own, length = sagitta_spacing(side, tolerance, largest)
            h, s = np.minimum(h, own), np.maximum(s, length)
    # the nose is smooth: curvature there is that of its neighbours on either side
    t = positions(dense, h, s, fixed=(1.0,))
    return t, int(np.argmin(np.abs(t - 1.0)))


def normalized_section(foil: Airfoil, gap: float | None) -> Airfoil:
    """Section of unit chord along x from the origin, its tail opened or closed.

    Parameters
    ----------
    foil : Airfoil
        Section.
    gap : float or None
        Height of the tail [chords]; None keeps it.

    Examples
    --------
    >>> foil = normalized_section(Airfoil.naca("0012").scaled(3.0).rotated(5.0), None)
    >>> round(foil.chord, 6)
    1.0
    """
    if gap is not None:
        foil = foil.closed() if gap == 0.0 else foil.blunted(gap)
    tilt = foil.measures.incidence
    if abs(tilt) > 1e-9:
        foil = foil.rotated(-tilt, tuple(foil.nose))
    points = (foil.points - foil.nose) / foil.chord
    return replace(foil, points=points, notes=())


def section_points(
    foil: Airfoil, t: np.ndarray, hinge: float, control: tuple[float, float] | None
) -> tuple[np.ndarray, np.ndarray]:
    """Points of the upper and lower side of a unit section.

    Parameters
    ----------
    foil : Airfoil
        Section of unit chord.
    t : (n,) array
        0 nose, 1 hinge, 2 tail.
    hinge : float
        Position of the hinge [chords].
    control : tuple[float, float] or None
        Angle [deg] of the deflection and height of the hinge between lower (0) and upper (1) side.

    Returns
    -------
    upper, lower : (n, 2) array
        x and z [chords].

    Notes
    -----
    Up to the hinge t is a fraction of the chord up to it, behind it of the length of the surface.
    """
    bent = foil if control is None or control[0] == 0.0 else foil.with_flap(hinge, control[0], control[1])
    nose = bent.nose_parameter
    sides = []
    for end in (0.0, bent.length):
        s = nose + (end - nose) * np.linspace(0.0, 1.0, 1201) ** 1.5
        curve = bent.curve(s)
        x = np.maximum.accumulate(curve[:, 0])
        length = np.r_[0.0, np.cumsum(np.linalg.norm(np.diff(curve, axis=0), axis=1))]
        at_hinge = float(np.interp(hinge, x + 1e-12 * np.arange(len(x)), length))
        front = np.interp(hinge * np.minimum(t, 1.0), x + 1e-12 * np.arange(len(x)), length)
        rear = at_hinge + np.maximum(t - 1.0, 0.0) * (length[-1] - at_hinge)
        corner = [
            float(np.interp(abs(c - nose), abs(s - nose), length))
            for c in bent.corner_parameters
            if (c - nose) * (end - nose) > 0
        ]
        where = np.where(t <= 1.0, front, rear)
        for c in corner:  # the fold of a deflected control is a point of the grid, its front neighbours drawn along
            k = int(np.argmin(np.abs(t - 1.0)))
            shift = c - where[k]
            where = where + shift * np.clip(1.0 - np.abs(t - 1.0) / 0.25, 0.0, 1.0)
        points = np.stack([np.interp(where, length, curve[:, k]) for k in (0, 1)], axis=1)
        points[0], points[-1] = bent.nose, bent.curve(np.array([end]))[0]
        sides.append(points)
    return sides[0], sides[1]


def hinge_line(wing, fraction: np.ndarray) -> np.ndarray:
    """Chord fraction of the hinge line, constant on a control and straight between two.

    Parameters
    ----------
    wing : Wing
        The wing.
    fraction : (n,) array
        Fractions of the span.

    Examples
    --------
    >>> from zephyrum.geometry import Control, Planform, Wing
    >>> flap = Control(start=0.1, end=0.6, hinge=0.7)
    >>> wing = Wing(planform=Planform(span=6.0, area=6.0), airfoil="NACA 0012", controls={"flap": flap})
    >>> hinge_line(wing, np.array([0.0, 0.5]))
    array([0.7, 0.7])
    """
    marks = sorted((s, c.hinge) for c in wing.controls.values() for s in (c.start, c.end))
    if not marks:
        return np.full(np.shape(fraction), HINGE)
    at, value = np.array(marks).T
    return np.interp(fraction, at + 1e-12 * np.arange(len(at)), value)


def _span_places(wing, largest: float) -> np.ndarray:
    """Fractions of the span at which to put sections: stations, ends of controls, and steps no longer than allowed."""
    tree, made = wing.span_fractions, wing.sections
    total = span_lengths(made)[-1]
    marks = set(tree.tolist())
    for c in wing.controls.values():
        for edge, inward in ((c.start, 1.0), (c.end, -1.0)):
            blend = c.seal * wing.at(edge).chord / total
            if c.end - c.start < 2.5 * blend:
                raise InputError(
                    f"a control from {c.start:g} to {c.end:g} of the span is shorter than its own seals; widen it."
                )
            marks |= {edge, edge + inward * blend}
    marks = np.array(sorted(marks))
    # two marks nearer than a thousandth of a chord are one
    near = 1e-3 * min(one.chord for one in made) / total
    keep = np.r_[True, np.diff(marks) > near]
    keep[-1] = True
    marks = marks[keep]
    out = [marks[:1]]
    for low, high in itertools.pairwise(marks):
        step = largest * 2.0 * wing.at(0.5 * (low + high)).chord / total
        turn = abs(wing.at(high).twist - wing.at(low).twist) / 2.0
        n = max(1, int(np.ceil((high - low) / step)), int(np.ceil(turn)))
        out.append(np.linspace(low, high, n + 1)[1:])
    return np.concatenate(out)


def _deflection(wing, fraction: float, port: bool) -> tuple[float, float]:
    """(angle [deg], height of the hinge) of the control at a fraction of the span; 0 where there is none."""
    total = span_lengths(wing.sections)[-1]
    for c in wing.controls.values():
        if c.start - 1e-9 <= fraction <= c.end + 1e-9:
            blend = c.seal * wing.at(fraction).chord / total
            fade = min(1.0, (fraction - c.start) / blend + 1e-9, (c.end - fraction) / blend + 1e-9)
            angle = c.deflection * (-1.0 if port and c.opposite else 1.0)
            return (angle * fade if fade > 1e-3 else 0.0), c.height
    return 0.0, 0.5


class _Sampled:
    """Sections of a wing at any fraction of the span, those of the stations shaped and sampled once."""

    def __init__(self, wing, t: np.ndarray):
        self.wing, self.t = wing, t
        known: dict[int, Airfoil] = {}
        for one in wing.sections:
            if id(one.airfoil) not in known:
                known[id(one.airfoil)] = normalized_section(one.airfoil, wing.tail_gap)
        self.foils = [known[id(one.airfoil)] for one in wing.sections]
        self.done: dict[tuple, tuple[np.ndarray, np.ndarray]] = {}

    def _plain(self, foil: Airfoil, hinge: float) -> tuple[np.ndarray, np.ndarray]:
        key = (id(foil), round(hinge, 9))
        if key not in self.done:
            self.done[key] = section_points(foil, self.t, hinge, None)
        return self.done[key]

    def at(self, fraction: float, control: tuple[float, float]) -> tuple[np.ndarray, np.ndarray]:
        """Upper and lower points (n, 2) of the unit section, its control deflected."""
        k, f = panel_of(self.wing.span_fractions, fraction)
        a, b = self.foils[k], self.foils[k + 1]
        hinge = float(hinge_line(self.wing, np.array([fraction]))[0])
        if control[0] != 0.0:
            return section_points(interpolate_airfoils(a, b, f), self.t, hinge, control)
        one, two = self._plain(a, hinge), self._plain(b, hinge)
        return (1.0 - f) * one[0] + f * two[0], (1.0 - f) * one[1] + f * two[1]


def _half(wing, name: str, t: np.ndarray, split: int, largest: float, sign: float, both: bool) -> Surface:
    """The starboard half (sign 1), its mirror image (-1), or both halves through the plane of symmetry."""
    fractions = _span_places(wing, largest)
    if both:
        order = [(-1.0, s) for s in fractions[:0:-1]] + [(1.0, s) for s in fractions]
    else:
        order = [(sign, s) for s in (fractions if sign > 0 else fractions[::-1])]
    frames = section_frames(wing, fractions, order, both)
    rings, sampled = [], _Sampled(wing, t)
    for (side, fraction), (up, mitre) in zip(order, frames):
        one = wing.at(fraction)
        upper, lower = sampled.at(fraction, _deflection(wing, fraction, side < 0))
        a = np.radians(one.twist)
        turn = np.array([[np.cos(a), np.sin(a)], [-np.sin(a), np.cos(a)]])
        pivot = np.array([wing.twist_at, 0.0])
        location = np.array(one.position) * [1.0, side, 1.0]
        loop = np.concatenate([upper[::-1], lower[1:]])
        loop = one.chord * ((loop - pivot) @ turn.T + pivot)
        rings.append(location + loop[:, :1] * [1.0, 0.0, 0.0] + loop[:, 1:] * mitre * up)
    n = len(t)
    faces = _face_names(wing, name, fractions, order, n, split)
    ends = (
        "root" if order[0][1] == fractions[0] and not both else "tip",
        "root" if order[-1][1] == fractions[0] else "tip",
    )
    caps: list[str | None] = [f"{name}/{end}" for end in ends]
    if wing.tip == "round":
        for at, end in ((0, ends[0]), (-1, ends[1])):
            if end != "tip":
                continue
            extra = _round(rings[at], rings[1 if at == 0 else -2])
            label = np.full((len(extra), faces.shape[1]), f"{name}/tip", dtype=object)
            label[:, -1] = f"{name}/tail"
            rings = [*extra[::-1], *rings] if at == 0 else [*rings, *extra]
            faces = np.concatenate([label, faces] if at == 0 else [faces, label])
            caps[at] = None
    return lofted(np.array(rings), faces, name, tuple(caps))  # type: ignore[arg-type]


def section_frames(wing, fractions, order, both) -> list[tuple[np.ndarray, float]]:
    """Direction across the chord and the span at each section.

    Parameters
    ----------
    wing : Wing
        The wing.
    fractions : (n,) array
        Fractions of the span.
    order : list of (float, float)
        Side (1 starboard, -1 port) and fraction of the span of each section.
    both : bool
        Whether they run through the plane of symmetry.

    Returns
    -------
    list of (array, float)
        Unit vector up through the section (3,), and its stretch at a kink of the span.

    Examples
    --------
    >>> from zephyrum.geometry import Planform, Wing
    >>> wing = Wing(planform=Planform(span=6.0, area=6.0), airfoil="NACA 0012")
    >>> up, stretch = section_frames(wing, np.array([0.0, 1.0]), [(1.0, 0.0), (1.0, 1.0)], False)[0]
    >>> (up + 0.0).tolist(), float(stretch)
    ([0.0, 0.0, 1.0], 1.0)
    """
    yz = np.array([np.array(wing.at(s).position)[1:] * [side, 1.0] for side, s in order])
    step = np.diff(yz, axis=0)
    step /= np.linalg.norm(step, axis=1)[:, None]
    before, after = np.concatenate([step[:1], step]), np.concatenate([step, step[-1:]])
    mean = before + after
    if wing.symmetric and not both and abs(yz[:, 0]).min() < 1e-9:
        mean[np.argmin(abs(yz[:, 0]))] = [1.0, 0.0]
    mean /= np.linalg.norm(mean, axis=1)[:, None]
    cosine = np.clip(np.einsum("ij,ij->i", mean, after), 0.5, 1.0)
    return [(np.array([0.0, -m[1], m[0]]), 1.0 / c) for m, c in zip(mean, cosine)]


def _face_names(wing, name, fractions, order, n, split) -> np.ndarray:
    """Labels (rings - 1, 2 n - 1) of the strips between sections."""
    loop = 2 * n - 1
    out = np.full((len(order) - 1, loop), f"{name}/upper", dtype=object)
    out[:, n - 1 :] = f"{name}/lower"
    out[:, -1] = f"{name}/tail"
    for k, (one, two) in enumerate(itertools.pairwise(order)):
        midpoint = 0.5 * (one[0] * one[1] + two[0] * two[1])
        for key, c in wing.controls.items():
            if c.start < abs(midpoint) < c.end:
                side = f"{key} port" if midpoint < 0.0 and wing.symmetric else key
                out[k, : n - 1 - split] = f"{name}/{side} upper"
                out[k, n - 1 + split : -1] = f"{name}/{side} lower"
    return out


def _round(tip: np.ndarray, inner: np.ndarray) -> list[np.ndarray]:
    """Rings beyond a tip: half circles over the thickness, from the section to its centre line."""
    outwards = tip.mean(axis=0) - inner.mean(axis=0)
    outwards[0] = 0.0
    outwards /= np.linalg.norm(outwards)
    midpoint, half = 0.5 * (tip + tip[::-1]), 0.5 * (tip - tip[::-1])
    size = np.linalg.norm(half, axis=1)[:, None]
    rings = []
    for angle in np.linspace(0.0, 0.5 * np.pi, TIP_RINGS + 1)[1:]:
        last = angle > 0.5 * np.pi - 1e-9
        rings.append(midpoint + (0.0 if last else np.cos(angle)) * half + np.sin(angle) * size * outwards)
    return rings
