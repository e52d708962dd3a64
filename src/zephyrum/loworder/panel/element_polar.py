"""Polars of sections with several elements by panels, each element with its boundary layers and wake.

The layers of an element and the flow about it are solved together by Newton's method, with the displacement of the
other elements held; elements take turns until their displacement rests (block Gauss-Seidel, as in Stevens, Goradia and
Braden 1971, NASA CR-1843). Wakes and layers that merge, and the dead air of a cove, are not modelled: gaps of a few per
cent of the chord and smooth elements are needed. Verified by tests/test_viscous_panels.py and
validation/section_elements.py.
"""

import functools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from threadpoolctl import threadpool_limits

from zephyrum._core.representation import short_repr
from zephyrum.errors import FlowError, InputError
from zephyrum.geometry import Airfoil
from zephyrum.loworder.panel.angle_march import (
    checked_angles,
    checked_stream,
    new_layers,
    over_angles,
    started,
    zero_lift,
)
from zephyrum.loworder.panel.coupled_layers import CoupledLayers
from zephyrum.loworder.panel.displacement import DisplacedElements, DisplacedSection
from zephyrum.loworder.panel.layer_options import LayerOptions
from zephyrum.loworder.panel.layered_flow import LayeredFlow, flow_of
from zephyrum.loworder.panel.polar import PolarOfFlows

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class ElementsFlow:
    """Flow about several elements with their layers, at one angle of attack.

    Attributes
    ----------
    alpha : float
        [deg]
    elements : dict of LayeredFlow
        By name; their coefficients are on their own chords.
    chord : float
        Chord of the coefficients: that of the first element [m].
    rounds : int
        Turns of the elements.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Airfoil.naca("2412")
    >>> flap = zy.Airfoil.naca("0012").scaled(0.3).moved(1.02, -0.08)
    >>> flow = zy.panel_polar({"wing": wing, "flap": flap}, [2.0], 3e6).flows[0]
    >>> round(flow.share("wing", "cl") + flow.share("flap", "cl") - flow.cl, 9)
    0.0
    """

    alpha: float
    elements: dict[str, LayeredFlow]
    chord: float
    rounds: int

    __repr__ = short_repr

    def __str__(self) -> str:
        parts = ", ".join(f"{name} {self.share(name, 'cl'):.4f}" for name in self.elements)
        return f"alpha {self.alpha:g} deg: cl {self.cl:.4f} ({parts}), cd {self.cd:.5f}, cm {self.cm:+.4f}"

    def share(self, name: str, coefficient: str) -> float:
        """Coefficient of an element on the common chord.

        Parameters
        ----------
        name : str
            Of the element.
        coefficient : str
            "cl", "cd", "cd_friction" or "cm".
        """
        flow = self.elements[name]
        return getattr(flow, coefficient) * (flow.foil.chord / self.chord) ** (2 if coefficient == "cm" else 1)

    def _sum(self, coefficient: str) -> float:
        return sum(self.share(name, coefficient) for name in self.elements)

    @property
    def cl(self) -> float:
        """Lift coefficient, from the pressures."""
        return self._sum("cl")

    @property
    def cd(self) -> float:
        """Drag coefficient, from the ends of the wakes (Squire and Young 1938)."""
        return self._sum("cd")

    @property
    def cd_friction(self) -> float:
        """Part of the drag that is friction."""
        return self._sum("cd_friction")

    @property
    def cm(self) -> float:
        """Moment coefficient about the quarter chord of the first element, nose-up positive."""
        return self._sum("cm")

    @functools.cached_property
    def table(self) -> "pd.DataFrame":
        """One row a station, as that of a `LayeredFlow`, with the column "element"."""
        import pandas as pd

        tables = []
        for name, flow in self.elements.items():
            own = flow.table
            own.insert(0, "element", name)
            tables.append(own)
        return pd.concat(tables, ignore_index=True)


@dataclass(frozen=True)
class ElementsPolar(PolarOfFlows):
    """Polar of a section with several elements.

    Attributes
    ----------
    foils : dict of Airfoil
        Elements by name, at their places.
    reynolds, mach : float
        Of the stream, on the chord of the first element.
    alphas : (n,) array
        Angles asked for [deg].
    flows : tuple of ElementsFlow
        Flows that converged, by rising angle.

    Examples
    --------
    >>> import zephyrum as zy
    >>> pair = {"low": zy.Airfoil.naca("0012"), "high": zy.Airfoil.naca("0012").moved(0.0, 1.0)}
    >>> print(zy.panel_polar(pair, [0.0, 2.0], 3e6))
    polar of low, high at Re 3e+06: 2 angles
    """

    foils: dict[str, Airfoil]
    reynolds: float
    mach: float
    alphas: np.ndarray
    flows: tuple[ElementsFlow, ...]

    __repr__ = short_repr

    @property
    def title(self) -> str:
        """Names of the elements."""
        return ", ".join(self.foils)

    def _places(self, flow: ElementsFlow) -> dict[str, float]:
        made: dict[str, float] = {}
        for name, own in flow.elements.items():
            made |= {f"CL_{name}": flow.share(name, "cl"), f"CD_{name}": flow.share(name, "cd")}
            for side, transition, separation in zip(("upper", "lower"), own.transition, own.separation):
                made |= {f"transition_{name}_{side}": transition, f"separation_{name}_{side}": separation}
        return made


class CoupledElements:
    """Layers of all elements at one angle of attack, with the methods of `CoupledLayers` that a polar needs.

    Parameters
    ----------
    group : DisplacedElements
        Elements.
    reynolds : float
        On the chord of the first.
    options : LayerOptions
    """

    def __init__(self, group: DisplacedElements, reynolds: float, options: LayerOptions):
        self.group, self.options = group, options
        self.viscosity = group.panels.chord / reynolds
        self.layers: list[CoupledLayers] = []
        self.rounds = 0

    @property
    def steps_taken(self) -> int:
        """Newton steps of all elements."""
        return sum(own.steps_taken for own in self.layers)

    @steps_taken.setter
    def steps_taken(self, steps: int) -> None:
        for own in self.layers:
            own.steps_taken = steps

    @property
    def alpha(self) -> float:
        """Angle of attack [deg]."""
        return self.layers[0].alpha

    def start(self, alpha: float) -> bool:
        """Solve an angle from nothing: one element after the other, then all in turns; whether they converged.

        Parameters
        ----------
        alpha : float
            [deg]
        """
        before = self.group.defects  # of other layers of the group, which may go on
        self.layers, self.group.defects = [], [None] * len(self.group.sections)
        for k, section in enumerate(self.group.sections):
            own = new_layers(section, alpha, self.viscosity, self.options)
            if not started(own):
                break
            self.layers.append(own)
            self.group.defects[k] = own.defects
        if len(self.layers) == len(self.group.sections) and self._take_turns():
            return True
        self.group.defects = before
        return False

    def advance(self, alpha: float, depth: int = 1) -> bool:
        """Go on to another angle of attack; whether it converged. If not, nothing is changed.

        Parameters
        ----------
        alpha : float
            [deg]
        depth : int
            How often a step may be halved.
        """
        before = self.state()
        for k, own in enumerate(self.layers):
            if not own.advance(alpha, depth):
                self.restore(before)
                return False
            self.group.defects[k] = own.defects
        if self._take_turns():
            return True
        self.restore(before)
        return False

    def _take_turns(self) -> bool:
        """Solve the elements in turns until their displacement rests; whether it does."""
        coupling = self.options.elements
        for turn in range(coupling.rounds):
            change = 0.0
            for k, own in enumerate(self.layers):
                own.follow(own.section.response(own.alpha))
                if not own.solve():
                    return False
                before = self.group.defects[k]
                assert before is not None
                change = max(change, float(np.abs(own.defects - before).max()))
                self.group.defects[k] = before + coupling.relaxation * (own.defects - before)
            if change < coupling.tolerance * self.group.panels.chord:
                self.rounds = turn + 1
                return all(own.plausible() for own in self.layers)
        return False

    def state(self) -> tuple:
        """All that a step changes."""
        return [own.state() for own in self.layers], list(self.group.defects), self.rounds

    def restore(self, state: tuple) -> None:
        """Go back to a state.

        Parameters
        ----------
        state : tuple
            Of `state`.
        """
        for own, kept in zip(self.layers, state[0]):
            own.restore(kept)
        self.group.defects, self.rounds = list(state[1]), state[2]

    def flow(self, reynolds: float, mach: float) -> ElementsFlow:
        """The flow that has been solved.

        Parameters
        ----------
        reynolds, mach : float
            Of the stream; Reynolds number on the chord of the first element.
        """
        chord, made = self.group.panels.chord, {}
        for name, own in zip(self.group.panels.names, self.layers):
            made[name] = flow_of(own, reynolds * own.section.foil.chord / chord, mach)
        return ElementsFlow(self.alpha, made, chord, self.rounds)


def elements_polar(
    foils: Mapping[str, Airfoil],
    alphas: float | Sequence[float] | np.ndarray,
    reynolds: float,
    mach: float = 0.0,
    options: LayerOptions | None = None,
) -> ElementsPolar:
    """Polar of a section with several elements; `panel_polar` calls it.

    Parameters
    ----------
    foils : mapping of Airfoil
        Elements by name, at their places.
    alphas : float or sequence of float
        Angles of attack [deg].
    reynolds : float
        On the chord of the first element.
    mach : float, optional
        Of the stream, up to 0.5.
    options : LayerOptions, optional
    """
    if not foils:
        raise InputError("there is no element; give one section at least.")
    alphas, (reynolds, mach) = checked_angles(alphas), checked_stream(reynolds, mach)
    options = options or LayerOptions()
    group = DisplacedElements({name: DisplacedSection(foil, options.panels) for name, foil in foils.items()})

    def fresh(alpha: float) -> CoupledElements | None:
        layers = CoupledElements(group, reynolds, options)
        return layers if layers.start(alpha) else None

    with threadpool_limits(1):
        found = over_angles(alphas, zero_lift(group), fresh, lambda layers: layers.flow(reynolds, mach))
    flows = tuple(sorted(found, key=lambda flow: flow.alpha))
    if not flows:
        raise FlowError(
            f"{', '.join(foils)}: no angle from {alphas[0]:g} to {alphas[-1]:g} deg converged at Re {reynolds:.3g}; "
            "try others, and look at coves, gaps below 1 % of the chord and flaps beyond 30 deg: separated flow "
            "between elements has no solution here. Solve it on a mesh of `mesh_bodies`."
        )
    return ElementsPolar(dict(foils), reynolds, mach, alphas, flows)
