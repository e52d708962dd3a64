"""Inviscid flow about sections by panels with linear vorticity: any number of elements, sharp or blunt tails.

The stream function is constant on every element, and the flow leaves each tail smoothly (Kutta). A blunt base sends out
the air between the two streamlines that leave its corners. Second order in Cp; verified against conformal maps by
tests/test_panel.py and validation/panel_sections.py.
"""

import functools
import itertools
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from scipy.linalg import lu_factor, lu_solve

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import number, whole
from zephyrum.errors import InputError
from zephyrum.geometry import Airfoil
from zephyrum.geometry.airfoil.polygon import inside_polygon
from zephyrum.loworder.panel.stream_function import source_panels, vortex_panels

if TYPE_CHECKING:
    import pandas as pd

BLUNT = 1e-5  # chords: a smaller gap at the tail is a sharp tail


@dataclass(frozen=True)
class PanelSection:
    """Sections as panels, their equations factorised once.

    Attributes
    ----------
    points : tuple of (n, 2) array
        Nodes of each element, from the tail over the upper side to the tail [m].
    names : tuple[str, ...]
        Names of the elements.
    chord : float
        Reference length [m].
    centre : tuple[float, float]
        Point about which moments are taken [m].

    Examples
    --------
    >>> import zephyrum as zy
    >>> flow = panel_section(zy.Airfoil.naca("0012")).solve(4.0)
    >>> round(flow.cl, 2)
    0.48
    """

    points: tuple[np.ndarray, ...]
    names: tuple[str, ...]
    chord: float
    centre: tuple[float, float]

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"{sum(len(p) - 1 for p in self.points)} panels on {', '.join(self.names)}"

    @functools.cached_property
    def _starts(self) -> np.ndarray:
        return np.r_[0, np.cumsum([len(p) for p in self.points])]

    def _is_blunt(self, k: int) -> bool:
        p = self.points[k]
        return bool(np.linalg.norm(p[0] - p[-1]) > BLUNT * np.ptp(p[:, 0]))

    @functools.cached_property
    def influence(self) -> np.ndarray:
        """(n, n) stream function at every node of unit vorticity at every node, bases included."""
        nodes = np.concatenate(self.points)
        matrix = np.zeros((len(nodes), len(nodes)))
        for k, p in enumerate(self.points):
            a, b = self._starts[k], self._starts[k + 1] - 1
            first, last = vortex_panels(nodes, p[:-1], p[1:])
            matrix[:, a:b] += first
            matrix[:, a + 1 : b + 1] += last
            if self._is_blunt(k):
                column = self._base_influence(nodes, p)
                matrix[:, a] += column
                matrix[:, b] -= column
        return matrix

    @staticmethod
    def _base_influence(nodes: np.ndarray, p: np.ndarray) -> np.ndarray:
        """Stream function of the base for unit vorticity at the upper corner; minus that for the lower corner."""
        gap = p[0] - p[-1]
        height = np.linalg.norm(gap)
        wake = (p[0] - p[1]) / np.linalg.norm(p[0] - p[1]) + (p[-1] - p[-2]) / np.linalg.norm(p[-1] - p[-2])
        wake /= np.linalg.norm(wake)
        across = abs(gap[0] * wake[1] - gap[1] * wake[0]) / height
        along = float(gap @ wake) / height
        first, last = vortex_panels(nodes, p[-1:], p[:1])
        # speed at the corners times the component of the base across the wake leaves as a source; that along it is the
        # jump of the tangential velocity, clockwise from the upper to the lower corner
        return 0.5 * (across * source_panels(nodes, p[-1:], p[:1])[:, 0] - along * (first + last)[:, 0])

    @functools.cached_property
    def basis(self) -> np.ndarray:
        """(n, 2) vorticity at the nodes for unit streams along x and along z."""
        nodes = np.concatenate(self.points)
        matrix, free = self.equations()
        right = np.zeros((len(matrix), 2))
        right[: len(nodes)] = np.stack([-nodes[:, 1], nodes[:, 0]], axis=1)
        right[free] = 0.0
        return lu_solve(lu_factor(matrix), right)[: len(nodes)]

    def equations(self) -> tuple[np.ndarray, np.ndarray]:
        """Equations of the vorticity at n nodes and of the stream function on each of m elements.

        Returns
        -------
        matrix : (n + m, n + m) array
        free : array of int
            Equations without a stream function: the conditions at the tails.

        Examples
        --------
        >>> import zephyrum as zy
        >>> panel_section(zy.Airfoil.naca("0012"), 40).equations()[0].shape
        (42, 42)
        """
        n, many = len(self.influence), len(self.points)
        matrix = np.zeros((n + many, n + many))
        matrix[:n, :n] = self.influence
        free = list(range(n, n + many))
        for k in range(many):
            a, b = self._starts[k], self._starts[k + 1] - 1
            matrix[a : b + 1, n + k] = -1.0
            matrix[n + k, [a, b]] = 1.0  # Kutta: the speeds on both sides of the tail are equal
            if not self._is_blunt(k):
                # both corners are one point: in place of its second equation, the mean of the speeds on both sides
                # goes to the tail in a straight line
                matrix[b] = 0.0
                weights = self._towards_tail(k)
                matrix[b, [a, a + 1, a + 2]] = weights[0]
                matrix[b, [b, b - 1, b - 2]] -= weights[1]
                free.append(b)
        return matrix, np.array(free)

    def _towards_tail(self, k: int) -> tuple[np.ndarray, np.ndarray]:
        """Weights of three nodes from the tail on, of either side: their sum is zero for a straight course."""
        made = []
        for side in (self.points[k], self.points[k][::-1]):
            s = np.cumsum(np.linalg.norm(np.diff(side[:3], axis=0), axis=1))
            made.append(np.array([1.0, -s[1] / (s[1] - s[0]), s[0] / (s[1] - s[0])]))
        return made[0], made[1]

    def solve(self, alpha: float, mach: float = 0.0) -> "PanelFlow":
        """Solve the flow at an angle of attack.

        Parameters
        ----------
        alpha : float
            [deg]
        mach : float, optional
            Of the stream; Cp after Karman (1941) and Tsien (1939).

        Raises
        ------
        InputError
            The Mach number is too high.

        Examples
        --------
        >>> import zephyrum as zy
        >>> flow = panel_section(zy.Airfoil.naca("2412")).solve(0.0)
        >>> round(flow.cl, 3)
        0.259
        """
        alpha = number("alpha", alpha, -90.0, 90.0)
        mach = number("mach", mach, 0.0)
        if mach > 0.7:
            raise InputError(
                f"mach = {mach:g} is too high for the correction of Karman and Tsien; it must be at most 0.7. "
                f"Solve the flow on a mesh instead."
            )
        return PanelFlow(self, alpha, mach)


@dataclass(frozen=True)
class PanelFlow:
    """Inviscid flow about sections at one angle of attack.

    Attributes
    ----------
    section : PanelSection
        Panels.
    alpha : float
        [deg]
    mach : float
        Of the stream.

    Examples
    --------
    >>> import zephyrum as zy
    >>> flow = panel_section(zy.Airfoil.naca("0012")).solve(0.0)
    >>> abs(round(flow.cl, 6))
    0.0
    """

    section: PanelSection
    alpha: float
    mach: float = 0.0

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"alpha {self.alpha:g} deg: cl {self.cl:.4f}, cm {self.cm:+.4f}"

    @functools.cached_property
    def speed(self) -> np.ndarray:
        """(n,) speed at the nodes over that of the stream, clockwise positive, incompressible."""
        a = np.radians(self.alpha)
        return self.section.basis @ [np.cos(a), np.sin(a)]

    @functools.cached_property
    def cp(self) -> np.ndarray:
        """(n,) pressure coefficient at the nodes."""
        return karman_tsien(self.speed, self.mach)

    def _forces(self) -> tuple[np.ndarray, float]:
        """Force (2,) and nose-up moment about the centre, over the dynamic pressure [m, m^2]."""
        force, moment = np.zeros(2), 0.0
        for k, p in enumerate(self.section.points):
            cp = self.cp[self.section._starts[k] : self.section._starts[k + 1]]
            of_element = pressure_forces(p, cp, self.section.centre)
            force, moment = force + of_element[0], moment + of_element[1]
        return force, moment

    @functools.cached_property
    def cl(self) -> float:
        """Lift coefficient: from the circulation at Mach 0, else from the pressures."""
        if self.mach == 0.0:
            total = 0.0
            for k, p in enumerate(self.section.points):
                own = self.speed[self.section._starts[k] : self.section._starts[k + 1]]
                total += float((0.5 * (own[1:] + own[:-1]) * np.linalg.norm(np.diff(p, axis=0), axis=1)).sum())
            return 2.0 * total / self.section.chord
        a = np.radians(self.alpha)
        return float(self._forces()[0] @ [-np.sin(a), np.cos(a)]) / self.section.chord

    @property
    def cm(self) -> float:
        """Moment coefficient about the centre, nose-up positive."""
        return self._forces()[1] / self.section.chord**2

    @property
    def table(self) -> "pd.DataFrame":
        """One row a node: element, x, z [m], speed, Cp."""
        import pandas as pd

        nodes = np.concatenate(self.section.points)
        names = np.repeat(self.section.names, [len(p) for p in self.section.points])
        return pd.DataFrame(
            {"element": names, "x_m": nodes[:, 0], "z_m": nodes[:, 1], "speed": self.speed, "Cp": self.cp}
        )


def karman_tsien(speed: np.ndarray, mach: float) -> np.ndarray:
    """Pressure coefficients of a subsonic stream (Karman 1941, Tsien 1939).

    Parameters
    ----------
    speed : (n,) array
        Incompressible, over that of the stream.
    mach : float
        Of the stream.

    Examples
    --------
    >>> karman_tsien(np.array([0.0, 1.0]), 0.0)
    array([1., 0.])
    """
    low = 1.0 - speed**2
    beta = np.sqrt(1.0 - mach**2)
    return low / (beta + 0.5 * mach**2 / (1.0 + beta) * low)


def pressure_forces(points: np.ndarray, cp: np.ndarray, centre: tuple[float, float]) -> tuple[np.ndarray, float]:
    """Force and moment of pressures that vary linearly along the panels of an element, its base included.

    Parameters
    ----------
    points : (n, 2) array
        From the tail over the upper side to the tail [m].
    cp : (n,) array
        Pressure coefficients.
    centre : tuple[float, float]
        Point of the moment [m].

    Returns
    -------
    force : (2,) array
        Over the dynamic pressure [m].
    moment : float
        Nose-up, over the dynamic pressure [m^2].

    Examples
    --------
    >>> square = np.array([[1.0, 0.0], [1.0, 1.0], [0.0, 1.0], [0.0, 0.0]])
    >>> pressure_forces(square, np.ones(4), (0.0, 0.0))[0].tolist()  # even pressure has no force
    [0.0, 0.0]
    """
    loop, around = np.concatenate([points, points[:1]]), np.r_[cp, cp[:1]]
    step = np.diff(loop, axis=0)
    mean = 0.5 * (around[1:] + around[:-1])
    # from the tail over the upper side: the fluid lies to the right of every step
    own = mean[:, None] * np.stack([-step[:, 1], step[:, 0]], axis=1)
    # where the linear pressure of a panel acts
    share = 0.5 + (around[1:] - around[:-1]) / (12.0 * np.where(np.abs(mean) > 1e-9, mean, np.inf))
    arm = loop[:-1] + share[:, None] * step - np.asarray(centre)
    return own.sum(axis=0), float((arm[:, 1] * own[:, 0] - arm[:, 0] * own[:, 1]).sum())


def panel_section(shape: Airfoil | Mapping[str, Airfoil], panels: int = 200) -> PanelSection:
    """Lay panels on a section, or on several elements.

    Parameters
    ----------
    shape : Airfoil or mapping of Airfoil
        One section, or elements by name, at their places; their chord is that of the first.
    panels : int, optional
        Panels on each element.

    Examples
    --------
    >>> import zephyrum as zy
    >>> print(panel_section(zy.Airfoil.naca("2412"), 160))
    160 panels on NACA 2412
    """
    panels = whole("panels", panels, 20)
    elements = {shape.name: shape} if isinstance(shape, Airfoil) else dict(shape)
    if not elements:
        raise InputError("there is no element; give one section at least.")
    _refuse_overlap(elements)
    first = next(iter(elements.values()))
    points = tuple(foil.resampled(panels + 1).points for foil in elements.values())
    quarter = first.nose + 0.25 * (first.tail - first.nose)
    return PanelSection(points, tuple(elements), first.chord, (float(quarter[0]), float(quarter[1])))


def _refuse_overlap(elements: Mapping[str, Airfoil]) -> None:
    """Raise an error where a point of one element lies within another."""
    for one, other in itertools.permutations(elements, 2):
        points = elements[one].points
        hit = inside_polygon(points, elements[other].points)
        if hit.any():
            x, z = points[int(np.argmax(hit))]
            raise InputError(
                f"element {one!r} reaches into {other!r} at x, z = ({x:.5g}, {z:.5g}) m; move one of them (the "
                "coordinates of elements are taken at their places and in their true size)."
            )
