"""Newton's equations of all stations of a section, reduced to one unknown a station.

The momentum and third equations give momentum thickness and third unknown along the flow; what is left are the energy
equations and the edge velocities that follow the mass defects of all stations. Verified by
tests/test_viscous_panels.py.
"""

from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import serial
from zephyrum.loworder.panel.falkner_skan import SHAPE_AT_STAGNATION
from zephyrum.loworder.panel.layer_equations import interval_derivatives, theta_at_stagnation

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
        Laminar, turbulent or wake.
    distance : (k,) array
        From the stagnation point [m].
    gaps : (k,) array
        Heights of dead air in the wake [m].
    share : (k,) array
        Part of an interval that ends in transition before it.
    values : (k, 4) array
        Third unknown, momentum thickness, displacement thickness, edge velocity.
    """

    chain: np.ndarray
    before: np.ndarray
    kinds: np.ndarray
    distance: np.ndarray
    gaps: np.ndarray
    share: np.ndarray
    values: np.ndarray


class Coupling(NamedTuple):
    """How edge velocities follow mass defects, to first order.

    Attributes
    ----------
    viscosity : float
        Kinematic [m^2/s].
    gradient : float
        Of the edge velocity at the stagnation point [1/s].
    tails : (2,) int array
        Last stations of both sides.
    split : int
        Last station of the upper side, from the stagnation point.
    length : float
        Of the panel with the stagnation point [m].
    shift : (2,) array
        Displacement of the stagnation point along the section for unit changes of the edge velocities beside it.
    matrix : (k, k) array
        Edge velocities for unit defects.
    mismatch : (k,) array
        Velocities that the defects give less those of the stations.
    """

    viscosity: float
    gradient: float
    tails: np.ndarray
    split: int
    length: float
    shift: np.ndarray
    matrix: np.ndarray
    mismatch: np.ndarray


class Rows(NamedTuple):
    """What the elimination makes; see `eliminated`."""

    energy: np.ndarray
    others: np.ndarray
    residuals: np.ndarray


class Workspace(NamedTuple):
    """Arrays of one interval: kinds, stations, gaps, residuals and derivatives, and its three rows (3, 2 k + 3)."""

    kinds: np.ndarray
    x: np.ndarray
    gaps: np.ndarray
    found: np.ndarray
    slopes: np.ndarray
    rows: np.ndarray


@serial
def _at_stagnation(i, stations, coupling, made):
    """The layer of the stagnation point."""
    y = stations.values
    third, theta, delta, edge = y[i, 0], y[i, 1], y[i, 2], y[i, 3]
    count, k = len(stations.chain), coupling.split
    own = theta_at_stagnation(coupling.gradient, coupling.viscosity)
    made.residuals[i, 0] = np.log(theta / own)
    made.residuals[i, 1] = delta / theta - SHAPE_AT_STAGNATION
    made.residuals[i, 2] = third
    # the gradient follows both nodes beside the stagnation point
    factor = 0.5 / (coupling.gradient * coupling.length)
    made.others[i, 1, count + k] = made.others[i, 1, count + k + 1] = -theta * factor
    made.others[i, 1, 2 * count] = -theta * made.residuals[i, 0]
    made.others[i, 0, 2 * count] = -third
    made.energy[i, i], made.energy[i, count + i] = 1.0 / edge, -delta / (theta * edge)
    made.energy[i, 2 * count] = -made.residuals[i, 1]


@serial
def _at_tail(i, stations, coupling, made):
    """The wake begins with the layers of both sides and the base between them."""
    y, others, energy = stations.values, made.others, made.energy
    third, theta, delta = y[i, 0], y[i, 1], y[i, 2]
    count = len(stations.chain)
    up, low = coupling.tails[0], coupling.tails[1]
    whole = y[up, 1] + y[low, 1]
    made.residuals[i, 0] = theta - whole
    made.residuals[i, 1] = delta - y[up, 2] - y[low, 2] - stations.gaps[i]
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
def _upstream(i, coupling, count):
    """First and last of the stations that a station depends on: those upstream, and both beside the stagnation point."""
    if i > coupling.tails[1]:
        return 0, count
    return (i, coupling.split + 2) if i <= coupling.split else (coupling.split, i + 1)


@serial
def _linearized_interval(i, stations, coupling, changed, work):
    """Equations between station i and the one before, for changes of q and of edge velocities."""
    y, j, count = stations.values, stations.before[i], len(stations.chain)
    slopes, rows = work.slopes, work.rows
    for k in range(4):
        work.x[k], work.x[5 + k] = y[j, k], y[i, k]
    work.x[4], work.x[9] = stations.distance[j], stations.distance[i]
    work.kinds[0], work.kinds[1] = stations.kinds[j], stations.kinds[i]
    work.gaps[0], work.gaps[1] = stations.gaps[j], stations.gaps[i]
    interval_derivatives(work.kinds, work.x, work.gaps, coupling.viscosity, stations.share[i], work.found, slopes)
    first, last = _upstream(i, coupling, count)
    for r in range(3):
        for s in range(first, last):
            rows[r, s] = rows[r, count + s] = 0.0
        for s in range(2 * count, 2 * count + 3):
            rows[r, s] = 0.0
    k = coupling.split
    moved = -1.0 if k < i <= coupling.tails[1] else 1.0  # change of the distance with the place of the stagnation point
    for r in range(3):
        rows[r, j] = slopes[r, 2] * y[j, 1] / y[j, 3]
        rows[r, i] = slopes[r, 7] * y[i, 1] / y[i, 3]
        rows[r, count + j] = slopes[r, 3] - slopes[r, 2] * y[j, 2] / y[j, 3]
        rows[r, count + i] = slopes[r, 8] - slopes[r, 7] * y[i, 2] / y[i, 3]
        by_place = (slopes[r, 4] + slopes[r, 9]) * moved
        rows[r, count + k] += by_place * coupling.shift[0]
        rows[r, count + k + 1] += by_place * coupling.shift[1]
        rows[r, 2 * count] = -work.found[r]
        for c in range(2):
            if changed[c] == i:
                rows[r, 2 * count + 1 + c] = -slopes[r, 10]


@serial
def _along_interval(i, j, y, coupling, work, made):
    """Third unknown and momentum thickness from the momentum and third equations, and the energy equation."""
    others, slopes, rows = made.others, work.slopes, work.rows
    count = len(y)
    first, last = _upstream(i, coupling, count)
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
    for r in range(3):
        made.residuals[i, r] = work.found[r]
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
def eliminated(stations, coupling, changed):
    """Third unknown and momentum thickness of every station from the products q = H u, and what is left.

    The momentum and third equations are solved along the flow. With H u given, not the mass defect, errors decay on the
    way: at a given displacement thickness the momentum equation of a laminar layer amplifies them.

    Parameters
    ----------
    stations : Stations
    coupling : Coupling
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
    count = len(stations.chain)
    width = 2 * count + 3
    made = Rows(np.zeros((count, width)), np.zeros((count, 2, width)), np.zeros((count, 3)))
    work = Workspace(
        np.empty(2, np.int64), np.empty(10), np.empty(2), np.empty(3), np.empty((3, 11)), np.empty((3, width))
    )
    for i in stations.chain:
        before = stations.before[i]
        if before == STAGNATION:
            _at_stagnation(i, stations, coupling, made)
        elif before == TAIL:
            _at_tail(i, stations, coupling, made)
        else:
            _linearized_interval(i, stations, coupling, changed, work)
            _along_interval(i, before, stations.values, coupling, work, made)
    return made.energy, made.others, made.residuals


def _blocks(coupling: Coupling, count: int) -> list[tuple[slice, slice]]:
    """Stations of the upper side, the lower side and the wake, and those that their equations depend on."""
    k, n = coupling.split, int(coupling.tails[1]) + 1
    return [
        (slice(0, k + 1), slice(0, k + 2)),
        (slice(k + 1, n), slice(k, n)),
        (slice(n, count), slice(0, count)),
    ]


def newton_step(stations: Stations, coupling: Coupling, changed: np.ndarray) -> np.ndarray:
    """Changes of all stations by one step of Newton's method, and for moves of transition.

    Parameters
    ----------
    stations : Stations
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
    energy, others, _ = eliminated(stations, coupling, changed)
    count = len(y)
    q, u, right = slice(0, count), slice(count, 2 * count), slice(2 * count, None)
    product = (y[:, 2] * y[:, 3] / y[:, 1])[:, None]
    # defects m = theta q, edge velocities u = d m + mismatch
    by_q, by_u = product * others[:, 1, q], product * others[:, 1, u]
    by_q[np.arange(count), np.arange(count)] += y[:, 1]
    known, own = np.zeros((count, count + 3)), np.eye(count)
    blocks = _blocks(coupling, count)
    for rows, columns in blocks:
        known[:, columns] += d[:, rows] @ by_q[rows, columns]
        own[:, columns] -= d[:, rows] @ by_u[rows, columns]
    known[:, count:] = d @ (product * others[:, 1, right])
    known[:, count] += coupling.mismatch
    speeds = np.linalg.solve(own, known)
    matrix, free = energy[:, q].copy(), energy[:, right].copy()
    for rows, columns in blocks:
        found = energy[rows, u][:, columns] @ speeds[columns]
        matrix[rows] += found[:, :count]
        free[rows] -= found[:, count:]
    dq = np.linalg.solve(matrix, free)
    du = speeds[:, :count] @ dq + speeds[:, count:]
    change = np.empty((count, 4, 3))
    change[:, :2] = others[:, :, q] @ dq + others[:, :, u] @ du + others[:, :, right]
    change[:, 2] = by_q @ dq + by_u @ du + product * others[:, 1, right]
    change[:, 3] = du
    return change
