"""Speeds along a section and its wake that the displacement of boundary layers gives: linear in the mass defect.

The defect of mass flow m = u delta* of a layer acts on the flow outside like a source of density dm/ds at the wall and
in the wake (Lighthill 1958). Densities are difference quotients at the middle of every panel and vary linearly from one
middle to the next, so that the speeds answer also to defects that alternate from node to node. Verified by
tests/test_viscous_panels.py.
"""

import functools
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
    """A section whose flow is displaced by layers and a wake.

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
        whole = panel_section(foil, 20)
        points = _panelled(foil, layout)
        self.panels = PanelSection((points,), whole.names, whole.chord, whole.centre)
        self.points, self.count = points, len(points)
        self.arc = _lengths(points)
        self.gap = float(np.linalg.norm(points[0] - points[-1])) if self.panels._is_blunt(0) else 0.0

    @functools.cached_property
    def _factors(self):
        return lu_factor(self.panels.equations()[0])

    def _vorticity(self, stream_function: np.ndarray) -> np.ndarray:
        """Vorticity (n, k) that holds the stream function constant on the section against one (n, k) given."""
        right = np.zeros((self.count + 1, stream_function.shape[1]))
        right[: self.count] = -stream_function
        right[self.panels.equations()[1]] = 0.0
        return lu_solve(self._factors, right)[: self.count]

    @functools.cached_property
    def _of_surface(self) -> np.ndarray:
        """(n, n) vorticity for unit defects at the nodes, with the sign of the speed."""
        first, last = surface_sources(self.points, *_halves(self.points))
        return self._vorticity(_at_ends(first, last) @ self._surface_density)

    @functools.cached_property
    def _surface_density(self) -> np.ndarray:
        return -_source_density(self.arc)  # arc length runs against the speed

    def _wake(self, gamma: np.ndarray, stream: complex) -> tuple[np.ndarray, np.ndarray]:
        """Nodes (m, 2) and tangents (m, 2) of the streamline that leaves the tail."""
        p, layout = self.points, self.layout
        sides = [(p[0] - p[1]), (p[-1] - p[-2])]
        first = 0.5 * sum(float(np.linalg.norm(side)) for side in sides)
        length, steps = layout.wake_length * self.panels.chord, layout.wake_nodes - 1
        growth = growth_ratio(first, length, steps)

        def direction(point: np.ndarray) -> np.ndarray:
            a, b = source_velocity(point[None], p[:-1], p[1:])
            w = complex((1j * (a @ gamma[:-1] + b @ gamma[1:]))[0]) + stream
            return np.array([w.real, -w.imag]) / abs(w)

        leaving = sum(side / np.linalg.norm(side) for side in sides)
        nodes, tangents = [0.5 * (p[0] + p[-1])], [leaving / np.linalg.norm(leaving)]
        for step in first * growth ** np.arange(steps):  # Heun's method
            ahead = direction(nodes[-1] + step * tangents[-1])
            mean = tangents[-1] + ahead
            nodes.append(nodes[-1] + step * mean / np.linalg.norm(mean))
            tangents.append(ahead)
        return np.array(nodes), np.array(tangents)

    def response(self, alpha: float) -> Response:
        """Speeds without layers and their change with defects, at an angle of attack.

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
        a, p = np.radians(alpha), self.points
        stream = complex(np.exp(-1j * a))
        gamma = self.panels.basis @ [np.cos(a), np.sin(a)]
        nodes, tangents = self._wake(gamma, stream)
        arc = _lengths(nodes)
        density = _source_density(arc)
        of_wake = self._vorticity(_at_ends(*wake_sources(p, *_halves(nodes))) @ density)
        on_surface = np.concatenate([self._of_surface, of_wake], axis=1)
        vortices = 1j * _at_ends(*source_velocity(nodes, p[:-1], p[1:]))
        sources = [
            _at_ends(*source_velocity(nodes, *_halves(p))) @ self._surface_density,
            _at_ends(*source_velocity(nodes, *_halves(nodes))) @ density,
        ]
        along = (tangents[:, 0] + 1j * tangents[:, 1])[:, None]
        in_wake = ((np.concatenate(sources, axis=1) + vortices @ on_surface) * along).real
        inviscid = ((vortices @ gamma + stream) * along[:, 0]).real
        # at the tail, where the velocity of the panels is singular, the wake has the mean of both sides
        in_wake[0], inviscid[0] = 0.5 * (on_surface[0] - on_surface[-1]), 0.5 * (gamma[0] - gamma[-1])
        return Response(
            np.concatenate([gamma, inviscid]),
            np.concatenate([on_surface, in_wake]),
            np.concatenate([self.arc, arc]),
            nodes,
        )


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
