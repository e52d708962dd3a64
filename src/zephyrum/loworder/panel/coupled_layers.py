"""Boundary layers and wake of a section, coupled to the flow outside and solved together by Newton's method.

Edge velocities follow the mass defects by `displacement`, layers the equations of `layer_equations` (Drela and Giles
1987). The places of transition are two more unknowns, solved with the layers; where that does not converge, the
critical exponent is raised from a lower one, or layers are solved with transition held and its place is moved from
outside. Verified by tests/test_viscous_panels.py.
"""

import copy
from dataclasses import dataclass

import numpy as np

from zephyrum.loworder.panel.displacement import DisplacedSection
from zephyrum.loworder.panel.falkner_skan import SHAPE_AT_STAGNATION
from zephyrum.loworder.panel.layer_equations import (
    LAMINAR,
    TURBULENT,
    WAKE,
    growth_to_transition,
    interval_derivatives,
    stress_after_transition,
    theta_at_stagnation,
    wave_growth,
)
from zephyrum.loworder.panel.reduced_system import STAGNATION, TAIL, Coupling, Stations, newton_step
from zephyrum.loworder.panel.transition_search import EDGE, LinearStep, TransitionSearch

LEAST_SHAPES = np.array([2.0, 1.02, 1.00005])  # of laminar and turbulent layers and of wakes, during the solution
LARGEST_LAMINAR_GUESS, LARGEST_TURBULENT_GUESS = 3.6, 2.2  # shape factors of the first guess


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
        Root mean square of the relative changes of a step.
    steps : int
        Steps with layers and transition together.
    reach : float
        Stations that transition moves in a step at most.
    short_reach : float
        The same on the branch of long bubbles.
    moves : int
        Moves of transition where it is sought from upstream.
    overshoot : float
        Exponent over the critical one from which such a move is taken back: a bubble has burst.
    upstream : tuple of float
        Stations from which it is sought upstream of the first guess, one after the other.
    exponents : tuple of float
        Critical exponents to begin with where the wanted one is not reached: NACA 4412 at Re 1e5 converges at 14 of 15
        angles, without them at 3 of 4.
    work : int
        Steps for one angle of attack after which it is given up.
    largest_shape : float
        Shape factor above which a solution is refused: the table of laminar layers ends at 35.

    Examples
    --------
    >>> CouplingOptions().latest
    0.98
    """

    latest: float = 0.98
    tolerance: float = 1e-6
    steps: int = 25
    reach: float = 3.0
    short_reach: float = 0.25
    moves: int = 40
    overshoot: float = 6.0
    upstream: tuple[float, ...] = (2.5, 8.0)
    exponents: tuple[float, ...] = (4.0, 2.0)
    work: int = 400
    largest_shape: float = 35.0


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
        self.values, self.kinds, self.share = np.zeros((count, 4)), np.zeros(count, dtype=np.int64), np.full(count, 0.5)
        self.kinds[section.count :] = WAKE
        self.place = [0.0, 0.0]  # of transition, in stations from the first of the side
        self.gaps = np.zeros(count)
        if section.gap > 0.0:  # the dead air behind a base closes within 2.5 of its heights
            t = np.clip(self.response.distance[section.count :] / (2.5 * section.gap), 0.0, 1.0)
            self.gaps[section.count :] = section.gap * (1.0 - t) ** 2 * (1.0 + 2.0 * t)
        self.steps_taken = self.work = 0
        self.limit = options.work
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

    def _lay_out(self, speeds: np.ndarray) -> None:
        """Stagnation point, distances and order of the stations for speeds (k,), clockwise positive."""
        n, arc, count = self.section.count, self.section.arc, len(speeds)
        gamma = speeds[:n]
        crossings = np.flatnonzero((gamma[:-1] > 0.0) & (gamma[1:] <= 0.0))
        if not len(crossings):
            return
        k = self.split = int(crossings[np.argmin(np.abs(crossings - getattr(self, "split", crossings[0])))])
        length = arc[k + 1] - arc[k]
        share = float(np.clip(gamma[k] / (gamma[k] - gamma[k + 1]), 1e-6, 1.0 - 1e-6))
        self.stagnation, self.gradient = float(arc[k] + share * length), float((gamma[k] - gamma[k + 1]) / length)
        self.sign = np.ones(count)
        self.sign[k + 1 : n] = -1.0
        self.distance = np.concatenate([np.abs(arc - self.stagnation), self.stagnation + self.response.distance[n:]])
        self.sides = [np.arange(k, -1, -1), np.arange(k + 1, n)]
        before = np.empty(count, dtype=np.int64)
        for side in self.sides:
            before[side[0]], before[side[1:]] = STAGNATION, side[:-1]
            # no logarithm of a distance close to zero: the next station has the layer of the stagnation point too
            if self.distance[side[0]] < 0.3 * abs(arc[side[1]] - arc[side[0]]):
                before[side[1]] = STAGNATION
        before[n], before[n + 1 :] = TAIL, np.arange(n, count - 1)
        self.before, self.chain = before, np.concatenate([*self.sides, np.arange(n, count)])
        self.latest, self.earliest = [], []
        for side, (own, trip) in enumerate(zip(self.sides, self.trip_arcs)):
            at = min(
                self.options.latest * self.distance[own[-1]], (self.stagnation - trip) * (1.0 if side == 0 else -1.0)
            )
            self.earliest.append(EDGE + (1.0 if before[own[1]] == STAGNATION else 0.0))
            latest = min(float(np.interp(at, self.distance[own], np.arange(len(own)))), len(own) - 1.5)
            self.latest.append(max(latest, self.earliest[side]))

    def _classify(self) -> None:
        """Kinds of the stations from the places of transition."""
        y = self.values
        for side, own in enumerate(self.sides):
            place = self.within(side, self.place[side])
            first = int(place) + 1
            share = min(max(place - first + 1, EDGE), 1.0 - EDGE)
            self.place[side], self.share[own] = first - 1 + share, share
            for r, i in enumerate(own):
                if r < first and self.kinds[i] != LAMINAR:
                    self.kinds[i], y[i, 0] = LAMINAR, 0.0
                    if r > 0:  # the shape of the laminar layer before it
                        j = own[r - 1]
                        y[i, 2] = y[i, 1] * y[j, 2] / y[j, 1]
                        y[i, 0] = y[j, 0] + self._growth(int(j), int(i))
                elif r >= first and self.kinds[i] == LAMINAR:
                    self.kinds[i] = TURBULENT
                    theta, delta, edge = y[i, 1] + 0j, max(y[i, 2], 1.2 * y[i, 1]) + 0j, y[i, 3] + 0j
                    y[i, 0] = min(stress_after_transition(theta, delta, edge, self.viscosity).real, 0.3)

    def _growth(self, j: int, i: int) -> float:
        pair = np.array([*self.values[j], self.distance[j], *self.values[i], self.distance[i]], dtype=complex)
        return wave_growth(pair, self.viscosity).real

    # -- a first guess ----------------------------------------------------------------------------------------
    def begin(self) -> None:
        """March all layers along the inviscid flow, with bounds on their shape factors."""
        y, n = self.values, self.section.count
        edge = self.sign * self.response.inviscid
        for own in self.sides:  # without layers the flow stagnates at the tail
            near = self.distance[own] > 0.97 * self.distance[own[-1]]
            edge[own[near]] = np.maximum(edge[own[near]], edge[own[~near][-1]])
        edge[n:] = np.maximum(edge[n:], 0.5 * (edge[0] + edge[n - 1]))
        y[:, 3] = np.maximum(edge, 1e-6)
        for side, own in enumerate(self.sides):
            for r, i in enumerate(own):
                self._march(int(i), r, self.latest[side])
            self.place[side] = int(np.argmax(self.kinds[own] == TURBULENT)) - 0.5
        for i in range(n, len(y)):
            self._march(i, 0, 0.0)
        self._classify()

    def _march(self, i: int, r: int, latest: float) -> None:
        """Station i from the one before; r is its number on its side."""
        y, j = self.values, self.before[i]
        if j == STAGNATION:
            theta = theta_at_stagnation(self.gradient, self.viscosity)
            y[i, :3], self.kinds[i] = (0.0, theta, SHAPE_AT_STAGNATION * theta), LAMINAR
            return
        if j == TAIL:
            up, low = y[0], y[self.section.count - 1]
            theta = up[1] + low[1]
            y[i, :3] = (up[0] * up[1] + low[0] * low[1]) / theta, theta, up[2] + low[2] + self.gaps[i]
            return
        self.kinds[i] = self.kinds[j] if self.kinds[i] != WAKE else WAKE
        if self.kinds[i] == LAMINAR:
            attached = self._solve_station(i, j, LARGEST_LAMINAR_GUESS)
            y[i, 0] = y[j, 0] + max(self._growth(j, i), 0.0)
            if attached and y[i, 0] < self.critical and r < latest:
                return
            self.kinds[i] = TURBULENT
        self._solve_station(i, j, LARGEST_TURBULENT_GUESS)

    def _solve_station(self, i: int, j: int, largest: float) -> bool:
        """Newton's method for one station at its edge velocity; a bounded shape factor and False where it separates."""
        y, kinds, gaps = self.values, self.kinds[[j, i]], self.gaps[[j, i]]
        third, theta, h = y[j, 0], y[j, 1], min((y[j, 2] - gaps[0]) / y[j, 1], largest)
        if kinds[1] != LAMINAR and kinds[0] == LAMINAR:
            third, h = 0.05, 1.8
        x = np.array([*y[j], self.distance[j], 0.0, 0.0, 0.0, y[i, 3], self.distance[i]])
        residuals, slopes = np.empty(3), np.empty((3, 11))
        for _ in range(25):
            x[5:8] = third, theta, h * theta + gaps[1]
            interval_derivatives(kinds, x, gaps, self.viscosity, self.share[i], residuals, slopes)
            matrix = np.column_stack([slopes[:, 5], slopes[:, 6] + h * slopes[:, 7], theta * slopes[:, 7]])
            try:
                step = -np.linalg.solve(matrix, residuals)
            except np.linalg.LinAlgError:
                break
            size = np.abs(step / [1.0 if kinds[1] == LAMINAR else third, theta, 1.0])
            if not np.isfinite(size).all():
                break
            damp = min(1.0, 0.3 / max(size[1:].max(), 1e-300))
            third, theta, h = third + damp * step[0], theta + damp * step[1], h + damp * step[2]
            if kinds[1] != LAMINAR:
                third = min(max(third, 1e-3), 0.2)
            if not 1.02 < h < largest:
                break
            if size.max() < 1e-6:
                y[i, :3] = third, theta, h * theta + gaps[1]
                return True
        before = (y[j, 2] - gaps[0]) / y[j, 1]
        h = min(max(before, 1.4), largest) if kinds[1] != LAMINAR else min(before + 0.05, largest)
        theta = y[j, 1] * min((y[j, 3] / y[i, 3]) ** (h + 2.0), 1.2)
        third = y[j, 0] if kinds[0] == kinds[1] else 0.05
        y[i, :3] = third, theta, h * theta + gaps[1]
        return False

    # -- Newton's method --------------------------------------------------------------------------------------
    def stations(self) -> Stations:
        """All stations as the kernels take them."""
        return Stations(self.chain, self.before, self.kinds, self.distance, self.gaps, self.share, self.values)

    def coupling(self) -> Coupling:
        """Edge velocities to first order in the mass defects."""
        y, sign, k, n = self.values, self.sign, self.split, self.section.count
        matrix = sign[:, None] * self.response.matrix * sign
        mismatch = sign * self.response.inviscid + matrix @ (y[:, 2] * y[:, 3]) - y[:, 3]
        length = float(self.section.arc[k + 1] - self.section.arc[k])
        upper, lower = y[k, 3], y[k + 1, 3]
        shift = length * np.array([lower, -upper]) / (upper + lower) ** 2
        tails = np.array([0, n - 1])
        return Coupling(self.viscosity, self.gradient, tails, k, length, shift, matrix, mismatch)

    def _linearized(self) -> LinearStep:
        """Newton step with transition held, and what moving it does."""
        changed = np.array([own[int(place) + 1] for own, place in zip(self.sides, self.place)])
        change = newton_step(self.stations(), self.coupling(), changed)
        y = self.values
        edge = np.maximum(y[:, 3], 0.02)[:, None]  # of the mass defect to the displacement thickness
        change[:, 2] = np.where(y[:, 3:] > 0.02, (change[:, 2] - y[:, 2:3] * change[:, 3]) / edge, 0.0)
        return LinearStep(change, *self._exponents(change))

    def _exponents(self, change: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Exponents at transition over the critical one after a step, and their change with the places."""
        over, slopes = np.zeros(2), np.zeros((2, 2))
        for side in (0, 1):
            excess, derivatives, before, j = self.excess(side)
            moved = change[j, 0] + derivatives[1:4] @ change[before, 1:] + derivatives[6:9] @ change[j, 1:]
            over[side], slopes[side] = excess + moved[0], moved[1:]
            slopes[side, side] += derivatives[10]
        return over, slopes

    def excess(self, side: int) -> tuple[float, np.ndarray, int, int]:
        """Exponent at transition over the critical one, derivatives of its growth, the last two laminar stations."""
        own, place = self.sides[side], int(self.place[side])
        before, j, i = int(own[max(place - 1, 0)]), int(own[place]), int(own[place + 1])
        first = self.distance[before] if before != j else 0.0
        pair = np.array([*self.values[before], first, *self.values[j], self.distance[j]])
        derivatives = np.empty(11)
        length = float(self.distance[i] - self.distance[j])
        growth = growth_to_transition(pair, length, self.viscosity, self.share[i], derivatives)
        return float(self.values[j, 0] + growth - self.critical), derivatives, before, j

    def _held(self, over: np.ndarray) -> list[bool]:
        """Whether transition stays at a bound."""
        return [
            (self.place[k] >= self.latest[k] - 1e-6 and over[k] < 0.0)
            or (self.place[k] <= self.earliest[k] + 1e-6 and over[k] > 0.0)
            for k in (0, 1)
        ]

    def _apply(self, change: np.ndarray) -> tuple[float, float]:
        """Add a step (k, 4), shortened where it is too large; root mean square of its relative changes, and the factor
        by which it was shortened.
        """
        y, n = self.values, self.section.count
        self.work += 1
        turbulent = self.kinds != LAMINAR
        relative = np.empty_like(change)
        relative[:, 0] = np.where(turbulent, change[:, 0] / np.maximum(y[:, 0], 1e-9), 0.0)
        relative[:, 1:3] = change[:, 1:3] / y[:, 1:3]
        relative[:, 3] = change[:, 3] / 0.25
        damp = 1.0 / max(1.0, float((relative / 1.5).max()), float((-relative / 0.5).max()))
        y += damp * change
        y[turbulent, 0] = np.clip(y[turbulent, 0], 1e-5, 0.3)
        least = LEAST_SHAPES[self.kinds]
        y[:, 2] = np.maximum(y[:, 2], least * y[:, 1] + self.gaps)
        split = self.split
        speeds = self.sign * y[:, 3]
        self._lay_out(speeds)
        self._follow(self.split - split)
        y[:n, 3] = np.maximum((self.sign * speeds)[:n], 1e-9)
        self._classify()
        return float(np.sqrt(np.mean(relative**2))), damp

    def _follow(self, moved: int) -> None:
        """Places of transition counted anew when the stagnation point has passed `moved` stations."""
        self.place = [self.place[0] + moved, self.place[1] - moved]

    def within(self, side: int, place: float) -> float:
        """A place of transition between its bounds."""
        return min(max(place, self.earliest[side]), self.latest[side])

    def _with_moves(self, found: LinearStep, moves: np.ndarray) -> np.ndarray:
        """Changes (k, 4) of Newton's step with those of the moves that stay in their interval."""
        change = found.change[:, :, 0].copy()
        for k in (0, 1):
            if int(self.place[k] + moves[k]) == int(self.place[k]):
                change += found.change[:, :, 1 + k] * moves[k]
        return change

    def _move(self, found: LinearStep, moves: np.ndarray) -> float:
        """Take a step with moves of transition, both shortened alike; root mean square of its relative changes."""
        size, damp = self._apply(self._with_moves(found, moves))
        self.steps_taken += 1
        if np.isfinite(size):
            self.place = [self.place[k] + damp * moves[k] for k in (0, 1)]
            self._classify()
        return size

    def together(self, reach: float, bounded: bool = True) -> bool:
        """Solve layers and places of transition at once, moving them at most `reach` stations a step; whether it
        converged. Not `bounded`, the places take the plain steps of Newton's method.
        """
        search = TransitionSearch(reach, bounded)
        for step in range(self.options.steps):
            split = self.split
            try:
                found = self._linearized()
            except np.linalg.LinAlgError:
                return False
            held = self._held(found.over)
            moves = search.moves(self, found, held)
            if moves is None:
                return False
            size = self._move(found, moves)
            search.follow(self.split - split)
            if not np.isfinite(size):
                return False
            done = all(held[k] or abs(found.over[k]) < 1e-5 or search.closed(k) for k in (0, 1))
            if size < self.options.tolerance and done:
                return self.plausible()
            if step == 12 and size > 0.1:  # far from a solution
                return False
            if step > 6:
                search.reach = max(0.05, search.reach * (0.8 if step < 15 else 0.7))
        return False

    def plausible(self) -> bool:
        """Whether shape factors are within the closures."""
        shape = self.values[: self.section.count, 2] / self.values[: self.section.count, 1]
        return bool(np.isfinite(self.values).all() and shape.max() < self.options.largest_shape)

    def converge_layers(self, steps: int = 12) -> bool:
        """Solve the layers with transition held; whether it converged."""
        sizes: list[float] = []
        for _ in range(steps):
            try:
                size, _ = self._apply(self._linearized().change[:, :, 0])
            except np.linalg.LinAlgError:
                return False
            self.steps_taken += 1
            if not np.isfinite(size):
                return False
            if size < 1e-5:
                return True
            sizes.append(size)
            if len(sizes) >= 6 and min(sizes[-3:]) > 0.5 * max(sizes[:3]):
                return False
        return False

    def stepwise(self) -> bool:
        """Move transition downstream, solving the layers again after every move; whether the exponent of the waves
        reaches the critical one.
        """
        largest = 1.0
        for _ in range(self.options.moves):
            if self.work > self.limit:
                return False
            before = self.state()
            found = self._linearized()
            held = self._held(found.over)
            if all(held[k] or abs(found.over[k]) < 1e-3 for k in (0, 1)):
                return self.plausible()
            moves = np.zeros(2)
            for k in (0, 1):
                if not held[k] and abs(found.over[k]) >= 1e-3:
                    slope = found.slopes[k, k]
                    wanted = -found.over[k] / slope if slope > 1e-3 else -np.sign(found.over[k])
                    wanted = min(max(wanted, -largest), largest)
                    moves[k] = self.within(k, self.place[k] + wanted) - self.place[k]
            self._apply(self._with_moves(found, moves))
            self.place = [self.place[k] + moves[k] for k in (0, 1)]
            self._classify()
            if (
                self.converge_layers()
                and self.plausible()
                and max(self.excess(k)[0] for k in (0, 1)) < self.options.overshoot
            ):
                largest = min(1.5 * largest, 1.0)
                continue
            self.restore(before)
            largest *= 0.35
            if largest < 2e-3:
                if all(held[k] or self.at_station(k) for k in (0, 1)):
                    return self.plausible()
                # a bubble as long as it can be at a given place of transition: the solution lies on the other branch
                return self.together(self.options.short_reach, bounded=False)
        return False

    def at_station(self, side: int) -> bool:
        """Whether transition is at a station, where the exponent may pass the critical one in a jump."""
        share = self.place[side] - int(self.place[side])
        return min(share, 1.0 - share) < 3.0 * EDGE or abs(self.excess(side)[0]) < 1e-2

    def state(self) -> dict:
        """All that a step changes."""
        kept = ("section", "options", "response", "work", "limit")
        own = {name: value for name, value in self.__dict__.items() if name not in kept}
        return copy.deepcopy(own) | {"response": self.response}

    def restore(self, state: dict) -> None:
        """Go back to a state."""
        self.__dict__.update({name: copy.deepcopy(v) if name != "response" else v for name, v in state.items()})

    def _move_upstream(self, stations: np.ndarray) -> None:
        """Move both places of transition, and give the layers that are turbulent now a turbulent shape."""
        laminar = self.kinds == LAMINAR
        self.place = [place - by for place, by in zip(self.place, stations)]
        self._classify()
        rough = laminar & (self.kinds == TURBULENT)
        self.values[rough, 2] = np.minimum(self.values[rough, 2], LARGEST_TURBULENT_GUESS * self.values[rough, 1])

    def solve(self) -> bool:
        """Solve layers and transition; whether they converged. If not, nothing is changed.

        Notes
        -----
        With transition too far downstream laminar layers separate, and the exponent of waves there grows without bound;
        upstream it falls steadily. So transition is sought from there where the first attempt fails.
        """
        first, self.limit = self.state(), self.work + self.options.work
        if self.together(self.options.reach):
            return True
        if self.steps_taken > 0 and self._begun_anew():
            return True
        if self._raised():
            return True
        for stations in self.options.upstream:
            self.restore(first)
            self._move_upstream(np.full(2, stations))
            if self.converge_layers(20) and self.stepwise():
                return True
        self.restore(first)
        return False

    def _raised(self) -> bool:
        """Solve with a lower critical exponent and raise it: it rises steadily along the branch of bubbles, also
        beyond their fold, where the place of transition does not.
        """
        wanted = self.critical
        for start in self.options.exponents:
            self.critical = min(start, wanted)
            self.begin()
            if self.together(self.options.reach):
                break
        else:
            self.critical = wanted
            return False
        good, rise = self.state(), 2.0
        while self.critical < wanted - 1e-9 and self.work < self.limit:
            self.critical = min(wanted, good["critical"] + rise)
            steps = self._plain()
            if steps:
                good = self.state()
                rise *= 2.0 if steps <= 4 else 1.2 if steps == 5 else 0.8
            else:
                self.restore(good)
                rise *= 0.4
                if rise < 0.03:
                    break
        done = self.critical == wanted
        self.critical = wanted
        return done

    def _plain(self) -> int:
        """Newton's method with the places of transition among the unknowns; its steps, 0 if it does not converge."""
        sizes: list[float] = []
        for step in range(15):
            try:
                found = self._linearized()
                held = self._held(found.over)
                free, moves = [k for k in (0, 1) if not held[k]], np.zeros(2)
                if free:
                    moves[free] = -np.linalg.solve(found.slopes[np.ix_(free, free)], found.over[free])
            except np.linalg.LinAlgError:
                return 0
            if not np.isfinite(moves).all():
                return 0
            moves = moves / max(1.0, 0.5 * float(np.abs(moves).max()))
            moves = np.array([self.within(k, self.place[k] + moves[k]) - self.place[k] for k in (0, 1)])
            size = self._move(found, moves)
            if not np.isfinite(size):
                return 0
            if size < self.options.tolerance and all(held[k] or abs(found.over[k]) < 1e-5 for k in (0, 1)):
                return step + 1 if self.plausible() else 0
            sizes.append(size)
            if step >= 3 and size > 0.3 * max(sizes[:2]):
                return 0
        return 0

    def _begun_anew(self) -> bool:
        """Solve from a first guess: another solution, as where transition leaves for the tail, is far from this one."""
        self.begin()
        return self.together(self.options.reach)

    def advance(self, alpha: float, depth: int = 1) -> bool:
        """Go on to another angle of attack, by halves where a step is too long; whether it converged."""
        before = self.state()
        old, start, split = self.response, self.alpha, self.split
        self.response, self.alpha = self.section.response(alpha), alpha
        shape = self.values[:, 2] / self.values[:, 1]
        speeds = self.sign * self.values[:, 3] + self.response.inviscid - old.inviscid
        self._lay_out(speeds)
        self._follow(self.split - split)
        self.values[:, 3] = np.maximum(self.sign * speeds, 1e-3)
        self.values[:, 2] = shape * self.values[:, 1]
        self._classify()
        if self.solve():
            return True
        self.restore(before)
        if depth > 0 and self.advance(0.5 * (start + alpha), depth - 1) and self.advance(alpha, depth - 1):
            return True
        self.restore(before)
        return False
