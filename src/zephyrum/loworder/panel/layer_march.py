"""March of the layers of a section along the flow, station by station, with their transition.

Every station is solved by Newton's method with an edge velocity that follows its own displacement thickness to first
order. With such an interaction law the equations have no singularity at separation (Veldman 1981). The march is used
in two ways: along the flow without layers, with bounds on the shape factors, it is the first guess; between two steps of
Newton's method for all stations it makes layers and transition consistent with the edge velocities just found. The
exponent of waves is continuous where transition passes a station, so that its place has no forbidden values. Verified
by tests/test_viscous_panels.py.
"""

from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import serial
from zephyrum.loworder.panel.falkner_skan import SHAPE_AT_STAGNATION
from zephyrum.loworder.panel.layer_equations import (
    LAMINAR,
    STEP,
    TURBULENT,
    WAKE,
    interval_residuals,
    local_growth,
    theta_at_stagnation,
)
from zephyrum.loworder.panel.reduced_system import STAGNATION, TAIL

EDGE = 1e-5  # share of an interval that transition keeps from its stations
LEAST_SHAPES = np.array([1.5, 1.02, 1.00005])  # of laminar and turbulent layers and of wakes, during the solution
LARGEST_STEP = 0.3  # relative change of a thickness in a step at one station
ITERATIONS = 20  # at one station
UNBOUNDED = 1e3  # shape factor


class InteractionLaw(NamedTuple):
    """How the edge velocity of a station follows its own displacement thickness, and bounds.

    Attributes
    ----------
    viscosity, gradient, critical : float
        Kinematic viscosity [m^2/s], gradient of the edge velocity at the stagnation point [1/s], critical exponent.
    reference : (k, 4) array
        Stations to which displacement thickness and edge velocity refer.
    stiffness : (k,) array
        Change of the edge velocity with the displacement thickness [1/s].
    earliest, latest : (2,) array
        Places of transition between which it is sought, upper and lower side [stations].
    largest : (3,) array
        Largest shape factor of laminar and turbulent layers and of wakes. A laminar layer beyond it becomes turbulent.
    """

    viscosity: float
    gradient: float
    critical: float
    reference: np.ndarray
    stiffness: np.ndarray
    earliest: np.ndarray
    latest: np.ndarray
    largest: np.ndarray


class Scratch(NamedTuple):
    """Arrays of one station: both stations, residuals, their derivatives, the last three laminar stations."""

    pair: np.ndarray
    residuals: np.ndarray
    slopes: np.ndarray
    laminar: np.ndarray
    derivatives: np.ndarray


@serial
def _growth_behind(v, k, length, part, viscosity):
    """Growth over a part of an interval behind two stations (at v[k] and v[k + 5]): their rate, and its change."""
    before = local_growth(v[k + 1], v[k + 2], v[k + 3], viscosity)
    rate = local_growth(v[k + 6], v[k + 7], v[k + 8], viscosity)
    change = 0.5 * (rate - before) * length / (v[k + 9] - v[k + 4])
    if change.real > rate.real:
        change = rate
    elif change.real < -0.5 * rate.real:
        change = -0.5 * rate
    return (rate + change * part) * part * length


@serial
def exponent_in_interval(x, length, viscosity, share, derivatives):
    """Exponent of the waves within the interval behind the last laminar station, and its derivatives.

    The rate of growth is that of the station, with its change over the interval before: values behind transition, where
    the shape factor falls, play no part. Continuous where transition passes a station: the exponent begins with what
    the interval before ended with, and goes over to that of the station.

    Parameters
    ----------
    x : (15,) array
        The last three laminar stations.
    length : float
        Of the interval with transition [m].
    viscosity : float
        Kinematic [m^2/s].
    share : float
        Part of the interval before the place asked for.
    derivatives : (16,) array
        Output: by the entries of x, and by the share.

    Returns
    -------
    float
    """
    v = x.astype(np.complex128)
    value = 0.0
    for j in range(16):
        size, part = 1.0, share + 0.0j
        if j == 15:
            part = share + 1j * STEP
        else:
            size = max(abs(x[j]), 1e-10)
            v[j] += 1j * STEP * size
        begin = v[5] + _growth_behind(v, 0, v[14] - v[9], 1.0 + 0.0j, viscosity)
        found = (1.0 - part) * begin + part * v[10] + _growth_behind(v, 5, length + 0.0j, part, viscosity)
        if j < 15:
            v[j] = x[j]
        derivatives[j] = found.imag / (STEP * size)
        value = found.real
    return value


@serial
def last_laminar(own, place, stations, x):
    """Copy the last three stations up to number `place` of a side (n,) to x (15,)."""
    for k in range(3):
        r = place - 2 + k
        i = own[max(r, 0)]
        for q in range(4):
            x[5 * k + q] = stations.values[i, q]
        # in front of the first station the layer is that of the stagnation point
        x[5 * k + 4] = stations.distance[i] if r >= 0 else stations.distance[i] * (r + 1.0)


@serial
def _determinant(a, b, c):
    """Of three columns (3,)."""
    return (
        a[0] * (b[1] * c[2] - b[2] * c[1]) - b[0] * (a[1] * c[2] - a[2] * c[1]) + c[0] * (a[1] * b[2] - a[2] * b[1])
    )


@serial
def _station_step(kinds, v, gaps, viscosity, share, stiffness, scratch):
    """Newton's step (3,) of one station, relative; the edge velocity follows. Zero determinant: not a number."""
    residuals, slopes = scratch.residuals, scratch.slopes
    for j in range(3):
        k = 5 + j
        size, own, edge = max(abs(v[k].real), 1e-10), v[k], v[8]
        v[k] += 1j * STEP * size
        if j == 2:
            v[8] += 1j * STEP * size * stiffness
        found = interval_residuals(kinds, v, gaps, viscosity, share + 0.0j)
        v[k], v[8] = own, edge
        for i in range(3):
            slopes[j, i], residuals[i] = found[i].imag / STEP, -found[i].real
    a, b, c = slopes[0], slopes[1], slopes[2]
    whole = _determinant(a, b, c)
    if whole == 0.0:
        return np.nan, np.nan, np.nan
    return _determinant(residuals, b, c) / whole, _determinant(a, residuals, c) / whole, _determinant(a, b, residuals) / whole


@serial
def _solve_station(i, j, kind, stations, law, scratch):
    """Newton's method for station i of a kind behind station j, from its values in `scratch.pair`; whether it converged,
    which writes them to the station."""
    x, kinds, gaps = scratch.pair, np.empty(2, np.int64), np.empty(2)
    kinds[0], kinds[1], gaps[0], gaps[1] = stations.kinds[j], kind, stations.gaps[j], stations.gaps[i]
    for q in range(4):
        x[q] = stations.values[j, q]
    x[4], x[9] = stations.distance[j], stations.distance[i]
    stiffness, delta, edge = law.stiffness[i], law.reference[i, 2], law.reference[i, 3]
    v = x.astype(np.complex128)
    v[8] = edge + stiffness * (v[7].real - delta)
    for _ in range(ITERATIONS):
        if v[8].real < 1e-4 or (v[7].real - gaps[1]) > law.largest[kind] * v[6].real:
            return False
        third, theta, thick = _station_step(kinds, v, gaps, law.viscosity, stations.share[i], stiffness, scratch)
        size = max(abs(theta), abs(thick), abs(stiffness * v[7].real * thick / v[8].real))
        if kind != LAMINAR:
            size = max(size, abs(third))
        if not np.isfinite(size):
            return False
        damp = min(1.0, LARGEST_STEP / max(size, 1e-300))
        v[5] += damp * third * max(abs(v[5].real), 1e-10)
        v[6] += damp * theta * v[6].real
        v[7] += damp * thick * v[7].real
        if kind != LAMINAR:
            v[5] = min(max(v[5].real, 1e-5), 0.3)
        v[7] = max(v[7].real, LEAST_SHAPES[kind] * v[6].real + gaps[1])
        v[8] = edge + stiffness * (v[7].real - delta)
        if size < 1e-7:
            for q in range(4):
                stations.values[i, q] = v[5 + q].real
            stations.kinds[i] = kind
            return True
    return False


@serial
def _station(i, j, kind, stations, law, scratch):
    """Solve a station from its own values, or from those of the station before; whether it converged."""
    x, y, gap = scratch.pair, stations.values, stations.gaps[i]
    if stations.kinds[i] == kind:
        for q in range(4):
            x[5 + q] = y[i, q]
        if _solve_station(i, j, kind, stations, law, scratch):
            return True
    shape = min((y[j, 2] - stations.gaps[j]) / y[j, 1], 3.0 if kind == LAMINAR else 2.2)
    turned = kind != LAMINAR and stations.kinds[j] == LAMINAR
    if turned:
        shape = 1.8
    x[5], x[6], x[7], x[8] = 0.05 if turned else y[j, 0], y[j, 1], shape * y[j, 1] + gap, law.reference[i, 3]
    return _solve_station(i, j, kind, stations, law, scratch)


@serial
def _guess_station(i, j, kind, stations, law):
    """Values of a station that does not converge: about the shape factor of the one before."""
    y, gap = stations.values, stations.gaps[i]
    shape = (y[j, 2] - stations.gaps[j]) / y[j, 1]
    shape = shape + 0.05 if kind == LAMINAR else max(shape, 1.4)
    shape = min(shape, law.largest[kind], 4.0 if kind == LAMINAR else 2.2)
    theta = y[j, 1] * min((y[j, 3] / law.reference[i, 3]) ** (shape + 2.0), 1.2)
    y[i, 0] = y[j, 0] if stations.kinds[j] == kind else 0.05
    y[i, 1], y[i, 2], y[i, 3] = theta, shape * theta + gap, law.reference[i, 3]
    stations.kinds[i] = kind


@serial
def _transition_behind(own, r, earliest, latest, stations, law, scratch):
    """Share of the interval behind station r of a side at which its layer becomes turbulent; -1 if it does not."""
    low, high = min(max(EDGE, earliest - r), 1.0 - EDGE), min(1.0 - EDGE, latest - r)
    if r < int(earliest):
        return -1.0
    x, slopes = scratch.laminar, scratch.derivatives
    last_laminar(own, r, stations, x)
    length = stations.distance[own[r + 1]] - stations.distance[own[r]]
    below = exponent_in_interval(x, length, law.viscosity, low, slopes) - law.critical
    above = exponent_in_interval(x, length, law.viscosity, high, slopes) - law.critical
    if below >= 0.0 or high <= low:
        return low
    if above < 0.0:
        return high if latest < r + 1 else -1.0
    for k in range(60):
        share = 0.5 * (low + high) if k % 2 == 0 else low - below * (high - low) / (above - below)
        found = exponent_in_interval(x, length, law.viscosity, share, slopes) - law.critical
        if found < 0.0:
            low, below = share, found
        else:
            high, above = share, found
        if high - low < 1e-12 or abs(found) < 1e-12:
            break
    return share


@serial
def _march_side(own, earliest, latest, stations, law, scratch):
    """Layers of one side; place of transition."""
    place = -1.0
    for r in range(len(own)):
        i, j = own[r], stations.before[own[r]]
        if j == STAGNATION:
            theta = theta_at_stagnation(law.gradient, law.viscosity)
            stations.values[i, 0], stations.values[i, 1] = 0.0, theta
            stations.values[i, 2], stations.kinds[i] = SHAPE_AT_STAGNATION * theta, LAMINAR
            continue
        if place < 0.0:
            share = _transition_behind(own, r - 1, earliest, latest, stations, law, scratch)
            if share < 0.0:
                same = stations.kinds[i] == LAMINAR
                if _station(i, j, LAMINAR, stations, law, scratch):
                    continue
                if law.largest[LAMINAR] >= UNBOUNDED:  # keep what there is
                    if not same:
                        _guess_station(i, j, LAMINAR, stations, law)
                    continue
                share = 0.5
            place = r - 1 + share
        stations.share[i] = place - int(place)
        same = stations.kinds[i] == TURBULENT
        if not _station(i, j, TURBULENT, stations, law, scratch) and not same:
            _guess_station(i, j, TURBULENT, stations, law)
    return place


@serial
def _march_wake(own, tail, stations, law, scratch):
    """The wake, from the layers of the upper tail (station 0) and of the lower one."""
    y, bounded = stations.values, law.largest[WAKE] < UNBOUNDED
    for i in own:
        j = stations.before[i]
        if j == TAIL:
            theta = y[0, 1] + y[tail, 1]
            y[i, 0] = (y[0, 0] * y[0, 1] + y[tail, 0] * y[tail, 1]) / theta
            y[i, 1], y[i, 2] = theta, y[0, 2] + y[tail, 2] + stations.gaps[i]
            stations.kinds[i] = WAKE
        elif not _station(i, j, WAKE, stations, law, scratch) and bounded:
            _guess_station(i, j, WAKE, stations, law)


@serial
def march(stations, sides, law, places):
    """Solve all stations one after the other, with transition where the exponent of the waves is critical.

    A station that does not converge keeps its values; with bounds on the shape factors it gets a guess.

    Parameters
    ----------
    stations : Stations
        Values, kinds and shares are changed.
    sides : (3,) int array
        Numbers of stations of the upper side, the lower side and the wake, which follow one another in the chain.
    law : InteractionLaw
    places : (2,) array
        Output: places of transition on both sides [stations from the first].
    """
    scratch = Scratch(np.empty(10), np.empty(3), np.empty((3, 3)), np.empty(15), np.empty(16))
    begin = 0
    for side in range(2):
        own = stations.chain[begin : begin + sides[side]]
        places[side] = _march_side(own, law.earliest[side], law.latest[side], stations, law, scratch)
        begin += sides[side]
    _march_wake(stations.chain[begin:], sides[0] + sides[1] - 1, stations, law, scratch)
