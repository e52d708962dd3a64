"""Moves of the places of transition in Newton's method, kept between places too far upstream and too far downstream.

Verified by tests/test_viscous_panels.py.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zephyrum.loworder.panel.layer_march import EDGE

SMALLEST_CYCLE = 1e-5  # moves below it are no cycle [stations]


@dataclass(frozen=True)
class LinearStep:
    """A step of Newton's method with transition held, and what moves of it do.

    Attributes
    ----------
    change : (k, 4, 3) array
        Changes of the stations: of the step, and for unit moves of both places of transition.
    over : (2,) array
        Exponents at transition over the critical one after the step.
    slopes : (2, 2) array
        Their change with unit moves.
    """

    change: np.ndarray
    over: np.ndarray
    slopes: np.ndarray


class TransitionSearch:
    """Place of transition of one side during Newton's method.

    The march finds it from the exponent of the waves, within a reach of what the step before predicts. Where moves
    alternate it is set here instead, between the last places too far upstream and downstream: the slope of the exponent
    jumps where transition passes a station.

    Parameters
    ----------
    reaches : sequence of float
        Stations beyond the prediction, after the first step, the second and so on.
    """

    def __init__(self, reaches: Sequence[float]):
        self.reaches = reaches
        self.predicted: float | None = None
        self.fixed = False
        self.low: tuple[float, float] | None = None
        self.high: tuple[float, float] | None = None
        self.history: list[float] = []

    def bounds(self, earliest: float, latest: float) -> tuple[float, float]:
        """Places between which the march looks for transition.

        Parameters
        ----------
        earliest, latest : float
            Bounds of the side.
        """
        if self.predicted is None:
            return earliest, latest
        place = min(max(self.predicted, earliest), latest)
        reach = 0.0 if self.fixed else self.reaches[min(len(self.history), len(self.reaches)) - 1]
        return max(earliest, place - reach), min(latest, place + reach)

    @property
    def closed(self) -> bool:
        """Whether nothing is left between the bounds."""
        return self.low is not None and self.high is not None and self.high[0] - self.low[0] < 4.0 * EDGE

    def move(self, place: float, wanted: float, over: float, slope: float, held: bool) -> float:
        """Move of transition in this step.

        Parameters
        ----------
        place : float
            Where it is.
        wanted : float
            Move of Newton's method.
        over : float
            Exponent over the critical one.
        slope : float
            Its change with the place.
        held : bool
            Transition stays at a bound.
        """
        self.history.append(wanted)
        new = place + min(max(wanted, -1.0), 1.0)
        if held or slope <= 0.0:  # on the branch of long bubbles the exponent falls with the place
            self.fixed, self.low, self.high = False, None, None
            self.predicted = place if held else new
            return self.predicted - place
        self._bracket(place, over)
        self.fixed = self.fixed or self._alternates()
        if self.fixed:
            if self.low is not None and self.high is not None and not self.low[0] < new < self.high[0]:
                (a, below), (b, above) = self.low, self.high
                inside = a - below * (b - a) / (above - below)
                if abs(inside - place) < 0.1 * abs(new - place):  # a bound of layers that had not converged
                    self.low, self.high = None, None
                else:
                    new = inside
            station = round(new)
            if abs(new - station) < 2.0 * EDGE:
                new = station + (2.0 * EDGE if new >= station else -2.0 * EDGE)
        self.predicted = new
        return new - place

    def _bracket(self, place: float, over: float) -> None:
        if over < 0.0:
            self.low = (place, over)
            if self.high is not None and self.high[0] <= place:
                self.high = None
        else:
            self.high = (place, over)
            if self.low is not None and self.low[0] >= place:
                self.low = None

    def _alternates(self) -> bool:
        """Whether the last four moves change their sign and do not fall."""
        last = self.history[-4:]
        signs = np.sign(last)
        return (
            len(last) == 4
            and bool((signs[1:] * signs[:-1] < 0.0).all())
            and abs(last[3]) > max(0.3 * abs(last[1]), SMALLEST_CYCLE)
        )

    def follow(self, moved: int) -> None:
        """Count anew when the stagnation point has passed `moved` stations.

        Parameters
        ----------
        moved : int
            Stations by which the side is longer.
        """
        self.predicted = None if self.predicted is None else self.predicted + moved
        self.low, self.high = (None if one is None else (one[0] + moved, one[1]) for one in (self.low, self.high))
