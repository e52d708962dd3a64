"""Speeds along a section and its wake that the displacement of boundary layers gives: linear in the mass defect.

The defect of mass flow m = u delta* of a layer acts on the flow outside like a source of density dm/ds at the wall and
in the wake (Lighthill 1958). Densities are difference quotients at the middle of every panel and vary linearly from one
middle to the next, so that the speeds answer also to defects that alternate from node to node. Verified by
tests/test_viscous_panels.py.
"""

import functools
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from scipy.linalg import lu_factor, lu_solve

from zephyrum._core.geometric_steps import growth_ratio
from zephyrum.geometry import Airfoil
from zephyrum.geometry.airfoil.section import clustered
from zephyrum.loworder.panel.inviscid import PanelSection, panel_section
from zephyrum.loworder.panel.stream_function import source_velocity, surface_sources, wake_sources


@dataclass(frozen=True)
class PanelLayout:
    """Panels of a section with layers, and of its wake.

    Attributes
    ----------
    panels : int
        On the section. CL and CD of NACA 4412 at 8 deg, Re 6e6 are 1.2727 and 0.01025 with 140, 1.2727 and 0.01026 with
        320; of NACA 0012 at 4 deg, Re 3e6 0.4223 and 0.00662, 0.4213 and 0.00663.
    nose, tail : float
        Their length at the nose and at the tail over the mean. The tail is fine since the last panels of a laminar
        side hold its transition.
    radius : float
        Largest length of the panels at the nose over its radius.
    wake_nodes : int
        Along the wake, growing from the length of the panels at the tail.
    wake_length : float
        [chords]
    wake_substeps : int
        Steps between two nodes along the streamline of a wake that passes other elements.

    Examples
    --------
    >>> PanelLayout(panels=120).panels
    120
    """

    panels: int = 140
    nose: float = 0.15
    tail: float = 0.12
    radius: float = 0.08
    wake_nodes: int = 25
    wake_length: float = 1.0
    wake_substeps: int = 8


@dataclass(frozen=True)
class Response:
    """Speeds along a section and its wake at one angle of attack, for given mass defects.

    Attributes
    ----------
    inviscid : (k,) array
        Speed without layers: along the section from the upper to the lower tail, clockwise positive, then along the
        wake.
    matrix : (k, k) array
        Change of these speeds with the defects of mass flow u delta*, taken with the sign of the speed.
    distance : (k,) array
        Arc length along the section, and along the wake from the tail [m].
    wake : (m, 2) array
        Nodes of the wake [m].
    """

    inviscid: np.ndarray
    matrix: np.ndarray
    distance: np.ndarray
    wake: np.ndarray


class DisplacedSection:
    """A section, alone or one of several elements, whose flow is displaced by layers and a wake.

    Parameters
    ----------
    foil : Airfoil
        Section.
    layout : PanelLayout
        Panels.

    Examples
    --------
    >>> section = DisplacedSection(Airfoil.naca("0012"), PanelLayout(panels=60))
    >>> section.response(2.0).matrix.shape
    (86, 86)
    """

    def __init__(self, foil: Airfoil, layout: PanelLayout):
        self.foil, self.layout = foil, layout
        self.points = _panelled(foil, layout)
        self.count = len(self.points)
        self.arc = _lengths(self.points)
        self.density = -_source_density(self.arc)  # arc length runs against the speed
        self.elements, self.index = DisplacedElements({foil.name: self}), 0
        base = float(np.linalg.norm(self.points[0] - self.points[-1]))
        self.gap = base if self.elements.panels._is_blunt(0) else 0.0

    @property
    def panels(self) -> PanelSection:
        """Panels of all elements."""
        return self.elements.panels

    def response(self, alpha: float) -> Response:
        """Speeds without layers and their change with defects, at an angle of attack; of several elements with the
        present defects of the others.

        Parameters
        ----------
        alpha : float
            [deg]

        Examples
        --------
        >>> section = DisplacedSection(Airfoil.naca("0012"), PanelLayout(panels=60))
        >>> bool(section.response(0.0).matrix.diagonal()[1:60].min() > 0.0)  # a bump speeds up the flow on top of it
        True
        """
        return self.elements.response(self.index, alpha)


@dataclass(frozen=True)
class _Displaced:
    """Flow about all elements at one angle of attack: of every element nodes of its wake, lengths along it, speeds
    without layers, and their change (rows) with the defects of every element (columns).
    """

    wakes: list[np.ndarray]
    arcs: list[np.ndarray]
    inviscid: list[np.ndarray]
    matrix: list[list[np.ndarray]]


class DisplacedElements:
    """Elements whose flow is displaced by their layers and wakes.

    Layers and wakes of one element move those of the others only by their sources: a wake and a layer that merge are
    not modelled.

    Parameters
    ----------
    sections : mapping of DisplacedSection
        By name; the chord is that of the first.

    Attributes
    ----------
    defects : list of array
        Of every element the defects of mass flow u delta* along it and its wake, with the sign of the speed; None
        before they are known.

    Examples
    --------
    >>> foil, layout = Airfoil.naca("0012"), PanelLayout(panels=60)
    >>> low, high = (DisplacedSection(foil.moved(0.0, z), layout) for z in (0.0, 1.0))
    >>> pair = DisplacedElements({"low": low, "high": high})
    >>> pair.response(1, 2.0).matrix.shape
    (86, 86)
    """

    def __init__(self, sections: Mapping[str, DisplacedSection]):
        self.sections = list(sections.values())
        whole = panel_section({name: section.foil for name, section in sections.items()}, 20)
        self.panels = PanelSection(
            tuple(section.points for section in self.sections), tuple(sections), whole.chord, whole.centre
        )
        self.defects: list[np.ndarray | None] = [None] * len(sections)
        self._solved: tuple[float, _Displaced] | None = None
        for index, section in enumerate(self.sections):
            section.elements, section.index = self, index

    @functools.cached_property
    def _factors(self):
        return lu_factor(self.panels.equations()[0])

    @functools.cached_property
    def _starts(self) -> np.ndarray:
        return np.r_[0, np.cumsum([section.count for section in self.sections])]

    def _vorticity(self, stream_function: np.ndarray) -> np.ndarray:
        """Vorticity (n, k) that holds the stream function constant on the elements against one (n, k) given."""
        n = len(stream_function)
        right = np.zeros((n + len(self.sections), stream_function.shape[1]))
        right[:n] = -stream_function
        right[self.panels.equations()[1]] = 0.0
        return lu_solve(self._factors, right)[:n]

    def _stream_function(self, own: int, of_own: np.ndarray, ends: tuple, density: np.ndarray) -> np.ndarray:
        """Stream function (n, k) at all nodes of sources on panels with `ends` for unit defects, that on the element
        they belong to being known: along the others it is their flux, which no branch cut crosses.
        """
        return np.concatenate(
            [
                of_own if other == own else _flux(section.points, ends) @ density
                for other, section in enumerate(self.sections)
            ]
        )

    @functools.cached_property
    def _of_surfaces(self) -> list[np.ndarray]:
        """Of every element the vorticity (n, count) for unit defects at its nodes, with the sign of the speed."""
        made = []
        for own, section in enumerate(self.sections):
            ends = _halves(section.points)
            of_own = _at_ends(*surface_sources(section.points, *ends)) @ section.density
            made.append(self._vorticity(self._stream_function(own, of_own, ends, section.density)))
        return made

    def _velocity(self, points: np.ndarray) -> np.ndarray:
        """Complex velocity (k, n) at points for unit vorticity at the nodes of all elements."""
        return 1j * np.concatenate(
            [_at_ends(*source_velocity(points, s.points[:-1], s.points[1:])) for s in self.sections], axis=1
        )

    def _wake(self, section: DisplacedSection, gamma: np.ndarray, stream: complex) -> tuple[np.ndarray, np.ndarray]:
        """Nodes (m, 2) and tangents (m, 2) of the streamline that leaves the tail."""
        p, layout = section.points, section.layout
        sides = [(p[0] - p[1]), (p[-1] - p[-2])]
        first = 0.5 * sum(float(np.linalg.norm(side)) for side in sides)
        length, steps = layout.wake_length * self.panels.chord, layout.wake_nodes - 1
        growth = growth_ratio(first, length, steps)

        def direction(point: np.ndarray) -> np.ndarray:
            w = complex((self._velocity(point[None]) @ gamma)[0]) + stream
            return np.array([w.real, -w.imag]) / abs(w)

        leaving = sum(side / np.linalg.norm(side) for side in sides)
        nodes, tangents = [0.5 * (p[0] + p[-1])], [leaving / np.linalg.norm(leaving)]
        parts = 1 if len(self.sections) == 1 else layout.wake_substeps
        for step in first * growth ** np.arange(steps):
            point, tangent = nodes[-1], tangents[-1]
            for _ in range(parts):  # Heun's method
                ahead = direction(point + step / parts * tangent)
                mean = tangent + ahead
                point, tangent = point + step / parts * mean / np.linalg.norm(mean), ahead
            nodes.append(point)
            tangents.append(tangent)
        return np.array(nodes), np.array(tangents)

    def _at(self, alpha: float) -> _Displaced:
        """Flow about all elements at an angle of attack [deg]."""
        if self._solved is not None and self._solved[0] == alpha:
            return self._solved[1]
        a, many = np.radians(alpha), range(len(self.sections))
        stream = complex(np.exp(-1j * a))
        gamma = self.panels.basis @ [np.cos(a), np.sin(a)]
        wakes, along, arcs, densities, vorticity = [], [], [], [], []
        for own, section in enumerate(self.sections):
            nodes, tangents = self._wake(section, gamma, stream)
            arcs.append(_lengths(nodes))
            densities.append(_source_density(arcs[-1]))
            ends = _halves(nodes)
            of_own = _at_ends(*wake_sources(section.points, *ends)) @ densities[-1]
            of_wake = self._vorticity(self._stream_function(own, of_own, ends, densities[-1]))
            vorticity.append(np.concatenate([self._of_surfaces[own], of_wake], axis=1))
            wakes.append(nodes)
            along.append((tangents[:, 0] + 1j * tangents[:, 1])[:, None])
        inviscid, matrix = [], []
        for k in many:
            own = slice(self._starts[k], self._starts[k + 1])
            vortices, rows = self._velocity(wakes[k]), []
            for f, other in enumerate(self.sections):
                sources = [
                    _at_ends(*source_velocity(wakes[k], *_halves(other.points))) @ other.density,
                    _at_ends(*source_velocity(wakes[k], *_halves(wakes[f]))) @ densities[f],
                ]
                in_wake = ((np.concatenate(sources, axis=1) + vortices @ vorticity[f]) * along[k]).real
                on_surface = vorticity[f][own]
                # at the tail, where the velocity of the panels is singular, the wake has the mean of both sides
                in_wake[0] = 0.5 * (on_surface[0] - on_surface[-1])
                rows.append(np.concatenate([on_surface, in_wake]))
            behind = ((vortices @ gamma + stream) * along[k][:, 0]).real
            behind[0] = 0.5 * (gamma[own][0] - gamma[own][-1])
            inviscid.append(np.concatenate([gamma[own], behind]))
            matrix.append(rows)
        made = _Displaced(wakes, arcs, inviscid, matrix)
        self._solved = alpha, made
        return made

    def response(self, index: int, alpha: float) -> Response:
        """Speeds along an element and its wake with the present defects of the others, and their change with its own.

        Parameters
        ----------
        index : int
            Number of the element.
        alpha : float
            [deg]
        """
        flow = self._at(alpha)
        speeds = flow.inviscid[index].copy()
        for other, defects in enumerate(self.defects):
            if other != index and defects is not None:
                speeds += flow.matrix[index][other] @ defects
        arc = np.concatenate([self.sections[index].arc, flow.arcs[index]])
        return Response(speeds, flow.matrix[index][index], arc, flow.wakes[index])


def _flux(points: np.ndarray, ends: tuple[np.ndarray, np.ndarray]) -> np.ndarray:
    """(n, m + 1) stream function along nodes (n, 2), from the first on, of sources of unit density at the ends of m
    panels in a row elsewhere: what flows through the line between the nodes, by Gauss's rule.
    """
    places, weights = np.polynomial.legendre.leggauss(4)
    step = np.diff(points, axis=0)
    total = np.zeros((len(step), len(ends[0]) + 1))
    for place, weight in zip(places, weights):
        velocity = _at_ends(*source_velocity(points[:-1] + 0.5 * (1.0 + place) * step, *ends))
        total += 0.5 * weight * (velocity.real * step[:, 1:] + velocity.imag * step[:, :1])  # u dz - w dx
    return np.concatenate([np.zeros((1, total.shape[1])), np.cumsum(total, axis=0)])


def _panelled(foil: Airfoil, layout: PanelLayout) -> np.ndarray:
    """Nodes of the panels, from the upper to the lower tail."""
    nose, end = foil.nose_parameter, foil.length
    mean, upper = end / layout.panels, layout.panels // 2
    at_nose, at_tail = min(layout.nose * mean, layout.radius * foil.nose_radius), layout.tail * mean
    above = clustered(upper, at_tail / nose, at_nose / nose) * nose
    below = clustered(layout.panels - upper, at_nose / (end - nose), at_tail / (end - nose)) * (end - nose)
    s = np.concatenate([above, nose + below[1:]])
    points = foil.curve(s)
    points[0], points[-1] = foil.points[0], foil.points[-1]
    return points


def _lengths(points: np.ndarray) -> np.ndarray:
    return np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])


def _halves(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """First and last ends (2 n - 2, 2) of the halves of the panels between nodes (n, 2)."""
    both = np.empty((2 * len(points) - 1, 2))
    both[::2], both[1::2] = points, 0.5 * (points[1:] + points[:-1])
    return both[:-1], both[1:]


def _at_ends(of_first: np.ndarray, of_last: np.ndarray) -> np.ndarray:
    """(n, m + 1) influence of the densities at the ends of m panels in a row."""
    out = np.zeros((of_first.shape[0], of_first.shape[1] + 1), dtype=of_first.dtype)
    out[:, :-1] += of_first
    out[:, 1:] += of_last
    return out


def _source_density(arc: np.ndarray) -> np.ndarray:
    """(2 n - 1, n) densities at nodes and middles of panels for unit defects at nodes at arc lengths (n,)."""
    n, h = len(arc), np.diff(arc)
    quotient = np.zeros((n - 1, n))
    k = np.arange(n - 1)
    quotient[k, k], quotient[k, k + 1] = -1.0 / h, 1.0 / h
    out = np.zeros((2 * n - 1, n))
    out[1::2] = quotient
    share = (h[:-1] / (h[:-1] + h[1:]))[:, None]
    out[2:-1:2] = (1.0 - share) * quotient[:-1] + share * quotient[1:]
    out[0], out[-1] = quotient[0], quotient[-1]
    return out
