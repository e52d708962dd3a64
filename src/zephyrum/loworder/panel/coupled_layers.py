"""Boundary layers and wake of a section, coupled to the flow outside and solved together by Newton's method.

Edge velocities follow the mass defects by `displacement`, layers the equations of `layer_equations` (Drela and Giles
1987). Between two steps of Newton's method, `layer_march` makes layers and places of transition consistent with the
edge velocities. Where that does not converge, the critical exponent is raised from a lower one. Verified by
tests/test_viscous_panels.py.
"""

import copy
from dataclasses import dataclass

import numpy as np

from zephyrum.loworder.panel.displacement import DisplacedSection, Response
from zephyrum.loworder.panel.layer_equations import LAMINAR
from zephyrum.loworder.panel.layer_march import (
    EDGE,
    LEAST_SHAPES,
    UNBOUNDED,
    exponent_in_interval,
    last_laminar,
    march,
)
from zephyrum.loworder.panel.reduced_system import (
    SHARE,
    STAGNATION,
    TAIL,
    Coupling,
    StagnationPanel,
    Stations,
    newton_step,
)
from zephyrum.loworder.panel.transition_search import LinearStep, TransitionSearch

BOUNDED_SHAPES = np.array([3.6, 2.2, 2.2])  # largest shape factors of the first guess, by kind
UNSOLVED = -1  # kind of a station before the first march
KEPT = 0.25  # panel lengths by which the stagnation point may leave its panel before the order of stations changes


@dataclass(frozen=True)
class CouplingOptions:
    """How layers and flow are solved together.

    Attributes
    ----------
    latest : float
        Fraction of the length of a side at which its layer is turbulent at the latest. The last panels of a laminar
        side separate in the pressure rise towards the tail, and Newton's method finds no solution there (NACA 0012,
        11 deg, Re 3e6 with 0.999).
    tolerance : float
        Root mean square of the relative changes of the last step, or of the one that would follow it.
    steps : int
        Steps of Newton's method.
    stiffness : float
        Least relative change of the edge velocity with the displacement thickness in the march. Bubbles of one or two
        panels at sharp noses need it: NACA 0006 at Re 1e7 is solved at 10 of 12 angles with 0, at 16 of 16 with 0.2.
    largest_stiffness : float
        Largest one.
    reaches : tuple of float
        Stations that transition may go beyond what the step before predicts, in the second step, the third and so on;
        the last holds for all others. Without a bound transition at the nose of NACA 0012 at 15 deg, Re 1e7 comes and
        goes.
    exponents : tuple of float
        Critical exponents to begin with where the wanted one is not reached, as with long bubbles.
    work : int
        Steps for one angle of attack after which it is given up.
    exponent_tolerance : float
        Of the exponent at transition.
    largest_shape : float
        Shape factor above which a solution is refused. The table of laminar layers ends at 35 and goes on in straight
        lines over the logarithm.

    Examples
    --------
    >>> CouplingOptions().latest
    0.98
    """

    latest: float = 0.98
    tolerance: float = 1e-6
    steps: int = 30
    stiffness: float = 0.2
    largest_stiffness: float = 0.5
    reaches: tuple[float, ...] = (4.0, 4.0, 4.0, 1.5)
    exponents: tuple[float, ...] = (4.0, 2.0)
    work: int = 400
    exponent_tolerance: float = 1e-5
    largest_shape: float = 60.0


class CoupledLayers:
    """Layers and wake at one angle of attack; `solve` solves them.

    Parameters
    ----------
    section : DisplacedSection
    alpha : float
        [deg]
    viscosity : float
        Kinematic, for unit speed of the stream [m].
    critical : float
        Exponent N of the amplitude of waves at transition.
    trips : tuple of float
        Chord fractions at which the upper and the lower side are turbulent at the latest.
    options : CouplingOptions
    """

    def __init__(self, section: DisplacedSection, alpha: float, viscosity: float, critical: float, trips, options):
        self.section, self.viscosity, self.critical, self.options = section, viscosity, critical, options
        self.alpha, self.response = alpha, section.response(alpha)
        self.trip_arcs = [self._arc_of(trip, side) for side, trip in enumerate(trips)]
        count = len(self.response.inviscid)
        self.values, self.share = np.zeros((count, 4)), np.full(count, 0.5)
        self.kinds = np.full(count, UNSOLVED)
        self.place = [0.0, 0.0]  # of transition, in stations from the first of the side
        self.gaps = np.zeros(count)
        if section.gap > 0.0:  # the dead air behind a base closes within 2.5 of its heights
            t = np.clip(self.response.distance[section.count :] / (2.5 * section.gap), 0.0, 1.0)
            self.gaps[section.count :] = section.gap * (1.0 - t) ** 2 * (1.0 + 2.0 * t)
        self.steps_taken = self.work = 0
        self.limit = options.work
        self.skipped = [False, False]
        self._lay_out(self.response.inviscid)

    # -- layout -----------------------------------------------------------------------------------------------
    def _arc_of(self, fraction: float, side: int) -> float:
        """Arc length along the section at a chord fraction of a side."""
        foil, n = self.section.foil, self.section.count
        along = (foil.tail - foil.nose) / foil.chord
        x = (self.section.points - foil.nose) @ along / foil.chord
        nose = int(np.argmin(x))
        own = slice(nose, None, -1) if side == 0 else slice(nose, n)
        return float(np.interp(fraction, np.maximum.accumulate(x[own]), self.section.arc[own]))

    def _lay_out(self, speeds: np.ndarray, fresh: bool = False) -> None:
        """Stagnation point, distances and order of the stations for speeds (k,), clockwise positive.

        The order is kept, if not `fresh`, while the stagnation point is within `KEPT` of its panel: a change of it
        changes the equations, and Newton's method could go to and fro between the two.
        """
        n, arc, count = self.section.count, self.section.arc, len(speeds)
        gamma = speeds[:n]
        before = None if fresh else getattr(self, "split", None)
        split = _panel_of_stagnation(gamma, before)
        if split is None:
            return
        k = self.split = split
        length = arc[k + 1] - arc[k]
        share = float(np.clip(gamma[k] / (gamma[k] - gamma[k + 1]), -KEPT, 1.0 + KEPT))
        self.stagnation, self.gradient = float(arc[k] + share * length), float((gamma[k] - gamma[k + 1]) / length)
        self.sign = np.ones(count)
        self.sign[k + 1 : n] = -1.0
        along = self.sign[:n] * (self.stagnation - arc)
        self.distance = np.concatenate([along, self.stagnation + self.response.distance[n:]])
        self.sides = [np.arange(k, -1, -1), np.arange(k + 1, n)]
        for side, own in enumerate(self.sides):
            # no logarithm of a distance close to zero: the next station has the layer of the stagnation point too
            near = self.distance[own[0]] / abs(arc[own[1]] - arc[own[0]])
            self.skipped[side] = near < (0.3 if split != before else 0.45 if self.skipped[side] else 0.2)
        self._order()

    def _order(self) -> None:
        """Station before each, order of the flow, and bounds of transition."""
        n, count = self.section.count, len(self.values)
        before = np.empty(count, dtype=np.int64)
        for side, skipped in zip(self.sides, self.skipped):
            before[side[0]], before[side[1:]] = STAGNATION, side[:-1]
            if skipped:
                before[side[1]] = STAGNATION
        before[n], before[n + 1 :] = TAIL, np.arange(n, count - 1)
        self.before, self.chain = before, np.concatenate([*self.sides, np.arange(n, count)])
        self.latest, self.earliest = [], []
        for side, (own, trip) in enumerate(zip(self.sides, self.trip_arcs)):
            at = min(
                self.options.latest * self.distance[own[-1]], (self.stagnation - trip) * (1.0 if side == 0 else -1.0)
            )
            self.earliest.append(EDGE + (1.0 if self.skipped[side] else 0.0))
            latest = min(float(np.interp(at, self.distance[own], np.arange(len(own)))), len(own) - 1.5)
            self.latest.append(max(latest, self.earliest[side]))

    # -- march ------------------------------------------------------------------------------------------------
    def begin(self) -> None:
        """A first guess: march all layers along the inviscid flow, with bounds on their shape factors."""
        y, n = self.values, self.section.count
        self._lay_out(self.response.inviscid, fresh=True)
        edge = self.sign * self.response.inviscid
        for own in self.sides:  # without layers the flow stagnates at the tail
            near = self.distance[own] > 0.97 * self.distance[own[-1]]
            edge[own[near]] = np.maximum(edge[own[near]], edge[own[~near][-1]])
        edge[n:] = np.maximum(edge[n:], 0.5 * (edge[0] + edge[n - 1]))
        y[:, 3] = np.maximum(edge, 1e-6)
        self.kinds[:] = UNSOLVED
        self._march(np.zeros(len(y)), np.column_stack([self.earliest, self.latest]), BOUNDED_SHAPES)

    def _march(self, stiffness: np.ndarray, bounds: np.ndarray, largest: np.ndarray) -> None:
        """Solve the stations one after the other from their edge velocities; places of transition follow."""
        stations = self.stations(stiffness)
        law = np.array([*largest, self.viscosity, self.gradient, self.critical])
        places, counts = np.empty(2), np.array([len(own) for own in self.sides])
        march(stations, counts, bounds, law, places)
        self.share, self.place = stations.columns[:, SHARE].copy(), places.tolist()

    def _consistent(self, search: tuple[TransitionSearch, TransitionSearch]) -> None:
        """Layers and transition consistent with the edge velocities, between two steps."""
        y, options = self.values, self.options
        own = np.abs(self.response.matrix.diagonal()) * y[:, 2]  # relative, for a relative change of the thickness
        stiffness = np.clip(own, options.stiffness, options.largest_stiffness) * y[:, 3] / y[:, 2]
        bounds = np.array([one.bounds(self.earliest[k], self.latest[k]) for k, one in enumerate(search)])
        self._march(stiffness, bounds, np.full(3, UNBOUNDED))

    # -- Newton's method --------------------------------------------------------------------------------------
    def stations(self, stiffness: np.ndarray | None = None) -> Stations:
        """All stations as the kernels take them; `stiffness` (k,) is for the march."""
        y = self.values
        law = [np.zeros(len(y)) if stiffness is None else stiffness, y[:, 2], y[:, 3]]
        columns = np.column_stack([self.distance, self.gaps, self.share, *law])
        return Stations(self.chain, self.before, self.kinds, y, columns)

    def panel(self) -> StagnationPanel:
        """Flow about the stagnation point."""
        k, n, arc = self.split, self.section.count, self.section.arc
        upper, lower = float(self.values[k, 3]), float(self.values[k + 1, 3])
        length = float(arc[k + 1] - arc[k])
        by = length / (upper + lower) ** 2
        return StagnationPanel(self.viscosity, self.gradient, length, by * lower, -by * upper, k, n - 1)

    def coupling(self) -> Coupling:
        """Edge velocities to first order in the mass defects."""
        y, sign = self.values, self.sign
        matrix = sign[:, None] * self.response.matrix * sign
        return Coupling(matrix, sign * self.response.inviscid + matrix @ (y[:, 2] * y[:, 3]) - y[:, 3])

    def _linearized(self) -> LinearStep:
        """Newton step with transition held, and what moving it does."""
        changed = np.array([own[int(place) + 1] for own, place in zip(self.sides, self.place)])
        change = newton_step(self.stations(), self.panel(), self.coupling(), changed)
        y = self.values
        edge = np.maximum(y[:, 3], 0.02)[:, None]  # of the mass defect to the displacement thickness
        change[:, 2] = np.where(y[:, 3:] > 0.02, (change[:, 2] - y[:, 2:3] * change[:, 3]) / edge, 0.0)
        return LinearStep(change, *self._exponents(change))

    def _exponents(self, change: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Exponents at transition over the critical one after a step, and their change with the places."""
        over, slopes = np.zeros(2), np.zeros((2, 2))
        for side in (0, 1):
            excess, derivatives, three = self.excess(side)
            moved = sum(derivatives[5 * k : 5 * k + 4] @ change[i] for k, i in enumerate(three))
            over[side], slopes[side] = excess + moved[0], moved[1:]
            slopes[side, side] += derivatives[15]
        return over, slopes

    def excess(self, side: int) -> tuple[float, np.ndarray, np.ndarray]:
        """Exponent at transition over the critical one, its derivatives, and the last three laminar stations."""
        own, place = self.sides[side], int(self.place[side])
        x, derivatives = np.empty(15), np.empty(16)
        last_laminar(own, place, self.values, self.distance[:, None], x)
        length = float(self.distance[own[place + 1]] - self.distance[own[place]])
        share = self.place[side] - place
        found = exponent_in_interval(x, length, self.viscosity, share, derivatives) - self.critical
        return found, derivatives, own[np.maximum(place - np.array([2, 1, 0]), 0)]

    def _held(self, over: np.ndarray) -> list[bool]:
        """Whether transition stays at a bound."""
        return [
            (self.place[k] >= self.latest[k] - 1e-6 and over[k] < 0.0)
            or (self.place[k] <= self.earliest[k] + 1e-6 and over[k] > 0.0)
            for k in (0, 1)
        ]

    def _apply(self, change: np.ndarray) -> float:
        """Add a step (k, 4), shortened where it is too large; root mean square of its relative changes."""
        y, n = self.values, self.section.count
        self.work += 1
        self.steps_taken += 1
        turbulent = self.kinds != LAMINAR
        relative = np.empty_like(change)
        relative[:, 0] = np.where(turbulent, change[:, 0] / np.maximum(y[:, 0], 1e-9), 0.0)
        relative[:, 1:3] = change[:, 1:3] / y[:, 1:3]
        relative[:, 3] = change[:, 3] / 0.25
        damp = 1.0 / max(1.0, float((relative / 1.5).max()), float((-relative / 0.5).max()))
        y += damp * change
        y[turbulent, 0] = np.clip(y[turbulent, 0], 1e-5, 0.3)
        y[:, 2] = np.maximum(y[:, 2], LEAST_SHAPES[self.kinds] * y[:, 1] + self.gaps)
        self._lay_out(speeds := self.sign * y[:, 3])
        y[:n, 3] = (self.sign * speeds)[:n]
        for own in self.sides:  # the first station may lie on the other side of the stagnation point
            y[own[1:], 3] = np.maximum(y[own[1:], 3], 1e-9)
        return float(np.sqrt(np.mean(relative**2)))

    def newton(self, near: bool = False) -> bool:
        """Newton's method for layers, wake, edge velocities and places of transition; whether it converged. Transition
        is sought from the first step on `near` where it is, or anywhere.
        """
        search, last = (TransitionSearch(self.options.reaches), TransitionSearch(self.options.reaches)), np.inf
        if near:
            for k in (0, 1):
                search[k].predicted = self.place[k]
        for step in range(self.options.steps):
            self._consistent(search)
            if not (np.isfinite(self.values).all() and np.isfinite(self.place).all()):
                return False
            try:
                found = self._linearized()
                held = self._held(found.over)
                moves = _solved_moves(found, held)
            except np.linalg.LinAlgError:
                return False
            if not (np.isfinite(moves).all() and np.isfinite(found.change).all()):
                return False
            change, split, left = found.change[:, :, 0].copy(), self.split, 0.0
            for k in (0, 1):
                over, slope = float(found.over[k]), float(found.slopes[k, k])
                move = search[k].move(self.place[k], float(moves[k]), over, slope, held[k])
                change += found.change[:, :, 1 + k] * move
                left = max(left, 0.0 if held[k] or search[k].closed else abs(over))
            size = self._apply(change)
            for k, moved in enumerate((self.split - split, split - self.split)):
                self.place[k] += moved
                search[k].follow(moved)
            if not np.isfinite(size) or (step > self.options.steps // 2 and size > 0.1):
                return False
            done = size < self.options.tolerance and left < self.options.exponent_tolerance
            # with quadratic convergence the next step would be as small as this
            done |= size < 0.1 * last and size**3 / last**2 < self.options.tolerance and left < 0.01
            if done:
                self._set_places([one.predicted for one in search])
                return self.plausible()
            last = size
        return False

    def _set_places(self, places: list[float]) -> None:
        """Places of transition within the intervals whose equations were solved."""
        for k, own in enumerate(self.sides):
            station = int(self.place[k])
            self.place[k] = min(max(places[k], station + EDGE), station + 1.0 - EDGE)
            self.share[own] = self.place[k] - station

    def plausible(self) -> bool:
        """Whether shape factors are within the closures."""
        shape = self.values[: self.section.count, 2] / self.values[: self.section.count, 1]
        return bool(np.isfinite(self.values).all() and shape.max() < self.options.largest_shape)

    def solve(self) -> bool:
        """Solve layers and transition, from what there is or from a first guess; whether they converged. If not,
        nothing is changed.

        Notes
        -----
        A first guess finds solutions far from what there is, as where transition leaves for the tail.
        """
        first, self.limit = self.state(), self.work + self.options.work
        if self.kinds[0] != UNSOLVED and self.newton():
            return True
        self.begin()
        if self.newton():
            return True
        self.restore(first)
        return False

    def solve_by_exponent(self) -> bool:
        """Solve with a lower critical exponent and raise it; whether it converged. If not, nothing is changed.

        Notes
        -----
        The exponent rises steadily along the branch of bubbles, also beyond their fold, where the place of transition
        does not.
        """
        wanted, first = self.critical, self.state()
        for start in self.options.exponents:
            self.critical = min(start, wanted)
            self.begin()
            if self.newton():
                break
        else:
            self.restore(first)
            return False
        good, rise = self.state(), 2.0
        while self.critical < wanted - 1e-9 and self.work < self.limit and rise > 0.03:
            self.critical, before = min(wanted, good["critical"] + rise), self.work
            if self.newton(near=True):
                good = self.state()
                rise *= 1.7 if self.work - before <= 6 else 1.0
            else:
                self.restore(good)
                rise *= 0.4
        if self.critical == wanted:
            return True
        self.restore(first)
        return False

    def state(self) -> dict:
        """All that a step changes."""
        kept = ("section", "options", "response", "work", "limit")
        own = {name: value for name, value in self.__dict__.items() if name not in kept}
        return copy.deepcopy(own) | {"response": self.response}

    def restore(self, state: dict) -> None:
        """Go back to a state."""
        self.__dict__.update({name: copy.deepcopy(v) if name != "response" else v for name, v in state.items()})

    def follow(self, response: Response) -> None:
        """Take over another flow outside the layers, whose shape factors stay, as the start of `solve`.

        Parameters
        ----------
        response : Response
            Of the same section.
        """
        shape = self.values[:, 2] / self.values[:, 1]
        speeds = self.sign * self.values[:, 3] - self.response.inviscid + response.inviscid
        self.response = response
        self._lay_out(speeds)
        self.values[:, 3] = np.maximum(self.sign * speeds, 1e-3)
        self.values[:, 2] = shape * self.values[:, 1]

    @property
    def defects(self) -> np.ndarray:
        """(k,) defects of mass flow u delta* with the sign of the speed."""
        return self.sign * self.values[:, 2] * self.values[:, 3]

    def advance(self, alpha: float, depth: int = 1) -> bool:
        """Go on to another angle of attack, by halves where a step is too long; whether it converged."""
        before, start = self.state(), self.alpha
        self.alpha = alpha
        self.follow(self.section.response(alpha))
        if self.solve():
            return True
        self.restore(before)
        if depth > 0 and self.advance(0.5 * (start + alpha), depth - 1) and self.advance(alpha, depth - 1):
            return True
        self.restore(before)
        return False


def _panel_of_stagnation(gamma: np.ndarray, before: int | None) -> int | None:
    """Panel with the stagnation point, clockwise speeds (n,) at its nodes: the one `before` while it is near; None
    without one.
    """
    if before is not None and gamma[before] > gamma[before + 1]:
        share = gamma[before] / (gamma[before] - gamma[before + 1])
        if -KEPT < share < 1.0 + KEPT:
            return before
    crossings = np.flatnonzero((gamma[:-1] > 0.0) & (gamma[1:] <= 0.0))
    if not len(crossings):
        return before
    return int(crossings[np.argmin(np.abs(crossings - (crossings[0] if before is None else before)))])


def _solved_moves(found: LinearStep, held: list[bool]) -> np.ndarray:
    """Moves (2,) of both places of transition by Newton's method; zero where they are held."""
    free, moves = [k for k in (0, 1) if not held[k]], np.zeros(2)
    if free:
        moves[free] = -np.linalg.solve(found.slopes[np.ix_(free, free)], found.over[free])
    return moves
