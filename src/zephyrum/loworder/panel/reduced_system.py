"""Newton's equations of all stations of a section, reduced to one unknown a station.

The momentum and third equations give momentum thickness and third unknown along the flow; what is left are the energy
equations and the edge velocities that follow the mass defects of all stations. Verified by
tests/test_viscous_panels.py.
"""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import serial
from zephyrum.loworder.panel.falkner_skan import SHAPE_AT_STAGNATION
from zephyrum.loworder.panel.layer_equations import interval_derivatives, theta_at_stagnation

DISTANCE, GAP, SHARE, STIFFNESS, THICKNESS, VELOCITY = range(6)  # columns of `Stations`
STAGNATION, TAIL = -1, -2  # in place of the station before: the layer begins at the stagnation point, or as a wake


class Stations(NamedTuple):
    """Stations in the order of the nodes: section from the upper to the lower tail, then wake.

    Attributes
    ----------
    chain : (k,) int array
        Stations in the order of the flow: upper side, lower side, wake.
    before : (k,) int array
        Station before each; `STAGNATION` or `TAIL`.
    kinds : (k,) int array
        Laminar, turbulent, wake or not solved yet.
    values : (k, 4) array
        Third unknown, momentum thickness, displacement thickness, edge velocity.
    columns : (k, 6) array
        `DISTANCE` from the stagnation point [m]; `GAP`, height of dead air in the wake [m]; `SHARE` of the interval
        before that lies before transition. For the march, the interaction law: `STIFFNESS`, change of the edge velocity
        with the displacement thickness [1/s], about the values `THICKNESS` [m] and `VELOCITY` [m/s].
    """

    chain: np.ndarray
    before: np.ndarray
    kinds: np.ndarray
    values: np.ndarray
    columns: np.ndarray


class StagnationPanel(NamedTuple):
    """Flow about the stagnation point.

    Attributes
    ----------
    viscosity : float
        Kinematic [m^2/s].
    gradient : float
        Of the edge velocity at the stagnation point [1/s].
    length : float
        Of the panel with the stagnation point [m].
    by_upper, by_lower : float
        Displacement of the stagnation point along the section for unit changes of the edge velocities beside it.
    split : int
        Last station of the upper side, from the stagnation point.
    tail : int
        Last station of the lower side.
    """

    viscosity: float
    gradient: float
    length: float
    by_upper: float
    by_lower: float
    split: int
    tail: int


@dataclass(frozen=True)
class Coupling:
    """How edge velocities follow mass defects, to first order.

    Attributes
    ----------
    matrix : (k, k) array
        Edge velocities for unit defects.
    mismatch : (k,) array
        Velocities that the defects give less those of the stations.
    """

    matrix: np.ndarray
    mismatch: np.ndarray


class Rows(NamedTuple):
    """What the elimination makes; see `eliminated`."""

    energy: np.ndarray
    others: np.ndarray
    residuals: np.ndarray


@serial
def _at_stagnation(i, values, panel, made):
    """The layer of the stagnation point."""
    third, theta, delta, edge = values[i, 0], values[i, 1], values[i, 2], values[i, 3]
    count, k = len(values), panel.split
    own = theta_at_stagnation(panel.gradient, panel.viscosity)
    made.residuals[i, 0] = np.log(theta / own)
    made.residuals[i, 1] = delta / theta - SHAPE_AT_STAGNATION
    made.residuals[i, 2] = third
    # the gradient follows both nodes beside the stagnation point
    factor = 0.5 / (panel.gradient * panel.length)
    made.others[i, 1, count + k] = made.others[i, 1, count + k + 1] = -theta * factor
    made.others[i, 1, 2 * count] = -theta * made.residuals[i, 0]
    made.others[i, 0, 2 * count] = -third
    made.energy[i, i], made.energy[i, count + i] = 1.0 / edge, -delta / (theta * edge)
    made.energy[i, 2 * count] = -made.residuals[i, 1]


@serial
def _at_tail(i, y, gap, low, made):
    """The wake begins with the layers of both sides and the base between them."""
    others, energy, up, count = made.others, made.energy, 0, len(y)
    third, theta, delta = y[i, 0], y[i, 1], y[i, 2]
    whole = y[up, 1] + y[low, 1]
    made.residuals[i, 0] = theta - whole
    made.residuals[i, 1] = delta - y[up, 2] - y[low, 2] - gap
    made.residuals[i, 2] = third * whole - y[up, 0] * y[up, 1] - y[low, 0] * y[low, 1]
    h, h_up, h_low = delta / theta, y[up, 2] / y[up, 1], y[low, 2] / y[low, 1]
    for s in range(2 * count + 3):
        known = 1.0 if s == 2 * count else 0.0
        of_up, of_low = others[up, 1, s], others[low, 1, s]
        others[i, 1, s] = of_up + of_low - known * made.residuals[i, 0]
        stress = y[up, 1] * others[up, 0, s] + y[low, 1] * others[low, 0, s]
        stress += (y[up, 0] - third) * of_up + (y[low, 0] - third) * of_low
        others[i, 0, s] = (stress - known * made.residuals[i, 2]) / whole
        thickness = h * others[i, 1, s] - h_up * of_up - h_low * of_low
        energy[i, s] = thickness if s < 2 * count else -thickness - known * made.residuals[i, 1]
    for s, sign in ((i, 1.0), (up, -1.0), (low, -1.0)):
        energy[i, s] += sign * y[s, 1] / y[s, 3]
        energy[i, count + s] -= sign * y[s, 2] / y[s, 3]


@serial
def _upstream(i, panel, count):
    """First and last of the stations that one depends on: those upstream, and both beside the stagnation point."""
    if i > panel.tail:
        return 0, count
    return (i, panel.split + 2) if i <= panel.split else (panel.split, i + 1)


@serial
def _linearized_interval(i, stations, panel, changed, slopes, rows, made):
    """Equations between station i and the one before, for changes of q and of edge velocities."""
    y, c, j, count = stations.values, stations.columns, stations.before[i], len(stations.chain)
    x, kinds, gaps, found = np.empty(10), np.empty(2, np.int64), np.empty(2), np.empty(3)
    for k in range(4):
        x[k], x[5 + k] = y[j, k], y[i, k]
    x[4], x[9], gaps[0], gaps[1] = c[j, DISTANCE], c[i, DISTANCE], c[j, GAP], c[i, GAP]
    kinds[0], kinds[1] = stations.kinds[j], stations.kinds[i]
    interval_derivatives(kinds, x, gaps, panel.viscosity, c[i, SHARE], found, slopes)
    first, last = _upstream(i, panel, count)
    k = panel.split
    moved = -1.0 if k < i <= panel.tail else 1.0  # change of the distance with the place of the stagnation point
    for r in range(3):
        for s in range(first, last):
            rows[r, s] = rows[r, count + s] = 0.0
        rows[r, j] = slopes[r, 2] * y[j, 1] / y[j, 3]
        rows[r, i] = slopes[r, 7] * y[i, 1] / y[i, 3]
        rows[r, count + j] = slopes[r, 3] - slopes[r, 2] * y[j, 2] / y[j, 3]
        rows[r, count + i] = slopes[r, 8] - slopes[r, 7] * y[i, 2] / y[i, 3]
        by_place = (slopes[r, 4] + slopes[r, 9]) * moved
        rows[r, count + k] += by_place * panel.by_upper
        rows[r, count + k + 1] += by_place * panel.by_lower
        rows[r, 2 * count], made.residuals[i, r] = -found[r], found[r]
        for side in range(2):
            rows[r, 2 * count + 1 + side] = -slopes[r, 10] if changed[side] == i else 0.0


@serial
def _along_interval(i, j, y, panel, slopes, rows, made):
    """Third unknown and momentum thickness from the momentum and third equations, and the energy equation."""
    others, count = made.others, len(y)
    first, last = _upstream(i, panel, count)
    h1, h2 = y[j, 2] / y[j, 1], y[i, 2] / y[i, 1]
    a, b = slopes[0, 5], slopes[0, 6] + slopes[0, 7] * h2
    c, e = slopes[2, 5], slopes[2, 6] + slopes[2, 7] * h2
    before0, before1, before2 = (
        slopes[0, 1] + slopes[0, 2] * h1,
        slopes[1, 1] + slopes[1, 2] * h1,
        slopes[2, 1] + slopes[2, 2] * h1,
    )
    determinant = a * e - b * c
    own_theta = slopes[1, 6] + slopes[1, 7] * h2
    for part in range(3):  # products q, edge velocities, right sides
        begin, end = (2 * count, 2 * count + 3) if part == 2 else (part * count + first, part * count + last)
        known = 1.0 if part == 2 else -1.0
        for s in range(begin, end):
            third1, theta1 = others[j, 0, s], others[j, 1, s]
            upper = known * rows[0, s] - slopes[0, 0] * third1 - before0 * theta1
            lower = known * rows[2, s] - slopes[2, 0] * third1 - before2 * theta1
            others[i, 0, s] = (e * upper - b * lower) / determinant
            others[i, 1, s] = (a * lower - c * upper) / determinant
            total = slopes[1, 0] * third1 + before1 * theta1
            total += slopes[1, 5] * others[i, 0, s] + own_theta * others[i, 1, s]
            made.energy[i, s] = rows[1, s] - known * total


@serial
def eliminated(stations, panel, changed):
    """Third unknown and momentum thickness of every station from the products q = H u, and what is left.

    The momentum and third equations are solved along the flow. With H u given, not the mass defect, errors decay on the
    way: at a given displacement thickness the momentum equation of a laminar layer amplifies them.

    Parameters
    ----------
    stations : Stations
    panel : StagnationPanel
    changed : (2,) int array
        Stations before which transition lies, of both sides.

    Returns
    -------
    energy : (k, 2 k + 3) array
        Energy equations: factors of the changes of q and of the edge velocities, and three right sides: of the Newton
        step, and for unit changes of the shares of both transitions.
    others : (k, 2, 2 k + 3) array
        Changes of third unknown and momentum thickness for unit changes of q and edge velocities, and for the right
        sides.
    residuals : (k, 3) array
    """
    y, count = stations.values, len(stations.chain)
    width = 2 * count + 3
    made = Rows(np.zeros((count, width)), np.zeros((count, 2, width)), np.zeros((count, 3)))
    slopes, rows = np.empty((3, 11)), np.empty((3, width))
    for i in stations.chain:
        j = stations.before[i]
        if j == STAGNATION:
            _at_stagnation(i, y, panel, made)
        elif j == TAIL:
            _at_tail(i, y, stations.columns[i, GAP], panel.tail, made)
        else:
            _linearized_interval(i, stations, panel, changed, slopes, rows, made)
            _along_interval(i, j, y, panel, slopes, rows, made)
    return made.energy, made.others, made.residuals


def _blocks(panel: StagnationPanel, count: int) -> list[tuple[slice, slice]]:
    """Stations of the upper side, the lower side and the wake, and those that their equations depend on."""
    k, n = panel.split, panel.tail + 1
    return [
        (slice(0, k + 1), slice(0, k + 2)),
        (slice(k + 1, n), slice(k, n)),
        (slice(n, count), slice(0, count)),
    ]


def newton_step(stations: Stations, panel: StagnationPanel, coupling: Coupling, changed: np.ndarray) -> np.ndarray:
    """Changes of all stations by one step of Newton's method, and for moves of transition.

    Parameters
    ----------
    stations : Stations
    panel : StagnationPanel
    coupling : Coupling
    changed : (2,) int array
        Stations before which transition lies, of both sides.

    Returns
    -------
    (k, 4, 3) array
        Of third unknown, momentum thickness, mass defect and edge velocity: of the step, and for unit changes of the
        shares of both transitions.
    """
    y, d = stations.values, coupling.matrix
    energy, others, _ = eliminated(stations, panel, changed)
    count = len(y)
    q, u, right = slice(0, count), slice(count, 2 * count), slice(2 * count, None)
    product = (y[:, 2] * y[:, 3] / y[:, 1])[:, None]
    # defects m = theta q, edge velocities u = d m + mismatch
    by_q, by_u = product * others[:, 1, q], product * others[:, 1, u]
    by_q[np.arange(count), np.arange(count)] += y[:, 1]
    known, own = np.zeros((count, count + 3)), np.eye(count)
    blocks = _blocks(panel, count)
    for rows, columns in blocks:
        known[:, columns] += d[:, rows] @ by_q[rows, columns]
        own[:, columns] -= d[:, rows] @ by_u[rows, columns]
    known[:, count:] = d @ (product * others[:, 1, right])
    known[:, count] += coupling.mismatch
    speeds = np.linalg.solve(own, known)
    matrix, free = energy[:, q].copy(), energy[:, right].copy()
    for rows, columns in blocks:
        found = energy[rows, count + columns.start : count + columns.stop] @ speeds[columns]
        matrix[rows] += found[:, :count]
        free[rows] -= found[:, count:]
    dq = np.linalg.solve(matrix, free)
    du = speeds[:, :count] @ dq + speeds[:, count:]
    change = np.empty((count, 4, 3))
    change[:, :2] = others[:, :, q] @ dq + others[:, :, u] @ du + others[:, :, right]
    change[:, 2] = by_q @ dq + by_u @ du + product * others[:, 1, right]
    change[:, 3] = du
    return change
