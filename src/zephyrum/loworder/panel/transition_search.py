"""Moves of the places of transition in Newton's method, kept between the last places too far upstream and downstream.

Verified by tests/test_viscous_panels.py.
"""

import contextlib
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from zephyrum.loworder.panel.coupled_layers import CoupledLayers

EDGE = 1e-3  # share of an interval that transition keeps from its stations
UNBOUNDED = 1e9


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
    """Moves of the places of transition, between the last places found too far upstream and too far downstream.

    Parameters
    ----------
    reach : float
        Largest move [stations].
    bounded : bool
        Whether the bounds are kept; without them the places take the steps of Newton's method.
    """

    def __init__(self, reach: float, bounded: bool):
        self.reach, self.bounded = reach, bounded
        self.low, self.high, self.tight = [-UNBOUNDED] * 2, [UNBOUNDED] * 2, [0, 0]

    def closed(self, k: int) -> bool:
        """Whether nothing is left between the bounds: the exponent passes the critical one in a jump at a station."""
        return self.high[k] == self.low[k]

    def follow(self, moved: int) -> None:
        """Count anew when the stagnation point has passed `moved` stations."""
        for bound in (self.low, self.high):
            bound[0] += moved
            bound[1] -= moved

    def moves(self, layers: "CoupledLayers", step: LinearStep, held: list[bool]) -> np.ndarray | None:
        """Moves (2,) of both places; None if there are none."""
        moves = np.zeros(2)
        free = [k for k in (0, 1) if not held[k]]
        if not free:
            return moves
        with contextlib.suppress(np.linalg.LinAlgError):
            moves[free] = -np.linalg.solve(step.slopes[np.ix_(free, free)], step.over[free])
        if not np.isfinite(moves).all() or not np.isfinite(step.over).all():
            return None
        for k in free:
            moves[k] = self._move(layers, k, float(moves[k]), float(step.over[k]), float(step.slopes[k, k]))
        return moves

    def _move(self, layers: "CoupledLayers", k: int, move: float, over: float, slope: float) -> float:
        place = layers.place[k]
        if self.low[k] == self.high[k]:
            return layers.within(k, self.low[k] + EDGE) - place
        if not self.bounded:
            move = min(max(move, -self.reach), self.reach)
            return layers.within(k, place + move) - place
        if move * over >= 0.0 or slope <= 0.0:  # waves grow downstream
            move = -0.5 * float(np.sign(over))
        move = min(max(move, -self.reach), self.reach)
        if over < 0.0:
            self.low[k] = place
            if self.high[k] <= place:
                self.high[k] = UNBOUNDED
        else:
            self.high[k] = place
            if self.low[k] >= place:
                self.low[k] = -UNBOUNDED
        if 0.0 < self.high[k] - self.low[k] < 3.0 * EDGE:
            middle = 0.5 * (self.low[k] + self.high[k])
            if abs(middle - round(middle)) < 3.0 * EDGE:  # the exponent passes in a jump
                self.low[k] = self.high[k] = round(middle)
                return layers.within(k, round(middle) + EDGE) - place
            self.low[k], self.high[k] = -UNBOUNDED, UNBOUNDED  # of layers that had not converged
        new = self._between(k, place, layers.within(k, place + move))
        if int(new) != int(place) and self.reach < 1.0:  # to the station first, then a little further
            edge = int(place) + 1 - EDGE if new > place else int(place) + EDGE
            if abs(place - edge) > 0.02:
                new = edge
        return new - place

    def _between(self, k: int, place: float, new: float) -> float:
        """Halfway to a bound in place of beyond it; a bound met three times in a row is taken as out of date."""
        for bound, sign in ((self.high, 1), (self.low, -1)):
            if sign * (new - bound[k]) >= 0.0:
                self.tight[k] = self.tight[k] + sign if self.tight[k] * sign > 0 else sign
                if abs(self.tight[k]) > 2 and not self.closed(k):
                    bound[k], self.tight[k] = sign * UNBOUNDED, 0
                    return new
                return 0.5 * (place + bound[k])
        self.tight[k] = 0
        return new
