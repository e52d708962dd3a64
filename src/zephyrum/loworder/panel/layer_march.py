"""March of the layers of a section along the flow, station by station, with their transition.

Every station is solved by Newton's method with an edge velocity that follows its own displacement thickness to first
order. With such an interaction law the equations have no singularity at separation (Veldman 1981). The march is used
in two ways. Along the flow without layers, with bounds on the shape factors, it is the first guess. Between two steps
of Newton's method for all stations it makes layers and transition consistent with the edge velocities just found. The
exponent of waves is continuous where transition passes a station. Verified by tests/test_viscous_panels.py.
"""

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
from zephyrum.loworder.panel.reduced_system import (
    DISTANCE,
    GAP,
    SHARE,
    STAGNATION,
    STIFFNESS,
    TAIL,
    THICKNESS,
    VELOCITY,
)

EDGE = 1e-5  # share of an interval that transition keeps from its stations
LEAST_SHAPES = np.array([1.5, 1.02, 1.00005])  # of laminar and turbulent layers and of wakes, during the solution
LARGEST_STEP = 0.3  # relative change of a thickness in a step at one station
ITERATIONS = 20  # at one station
UNBOUNDED = 1e3  # shape factor


@serial
def _growth_behind(v, length, part, viscosity):
    """Growth over a part of an interval behind two stations v (10,): the rate of the second, and its change."""
    before = local_growth(v[1], v[2], v[3], viscosity)
    rate = local_growth(v[6], v[7], v[8], viscosity)
    change = 0.5 * (rate - before) * length / (v[9] - v[4])
    if change.real > rate.real:
        change = rate
    elif change.real < -0.5 * rate.real:
        change = -0.5 * rate
    return (rate + change * part) * part * length


@serial
def _exponent(v, length, part, viscosity):
    """Exponent at a part of the interval behind three laminar stations v (15,); see `exponent_in_interval`."""
    begin = v[5] + _growth_behind(v[:10], v[14] - v[9], 1.0 + 0.0j, viscosity)
    return (1.0 - part) * begin + part * v[10] + _growth_behind(v[5:], length + 0.0j, part, viscosity)


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
        found = _exponent(v, length, part, viscosity)
        if j < 15:
            v[j] = x[j]
        derivatives[j] = found.imag / (STEP * size)
        value = found.real
    return value


@serial
def last_laminar(own, place, values, columns, x):
    """Copy the last three stations up to a number of a side.

    Parameters
    ----------
    own : (n,) int array
        Stations of the side.
    place : int
        Number of the last one.
    values : (k, 4) array
    columns : (k, 6) array
        Of `Stations`.
    x : (15,) array
        Output: values and distances.
    """
    for k in range(3):
        r = place - 2 + k
        i = own[max(r, 0)]
        for q in range(4):
            x[5 * k + q] = values[i, q]
        # in front of the first station the layer is that of the stagnation point
        x[5 * k + 4] = columns[i, DISTANCE] * (1.0 if r >= 0 else r + 1.0)


@serial
def _determinant(a, b, c):
    """Of three columns (3,)."""
    return a[0] * (b[1] * c[2] - b[2] * c[1]) - b[0] * (a[1] * c[2] - a[2] * c[1]) + c[0] * (a[1] * b[2] - a[2] * b[1])


@serial
def _solve_station(x, kinds, gaps, viscosity, share, law):
    """Newton's method for the second of two stations x (10,), with its interaction law: stiffness, displacement
    thickness, edge velocity and largest shape factor; whether it converged.
    """
    kind, v, m = kinds[1], x.astype(np.complex128), np.empty((4, 3))
    for _ in range(ITERATIONS):
        v[8] = law[2] + law[0] * (v[7].real - law[1])
        if v[8].real < 1e-4 or v[7].real - gaps[1] > law[3] * v[6].real:
            return False
        for j in range(3):  # derivatives by relative changes are columns of m, less the residuals the last one
            own, edge, size = v[5 + j], v[8], max(abs(v[5 + j].real), 1e-10)
            v[5 + j] += 1j * STEP * size
            if j == 2:
                v[8] += 1j * STEP * size * law[0]
            found = interval_residuals(kinds, v, gaps, viscosity, share + 0.0j)
            v[5 + j], v[8] = own, edge
            for i in range(3):
                m[j, i], m[3, i] = found[i].imag / STEP, -found[i].real
        whole = _determinant(m[0], m[1], m[2])
        if whole == 0.0:
            return False
        third = _determinant(m[3], m[1], m[2]) / whole
        theta = _determinant(m[0], m[3], m[2]) / whole
        thick = _determinant(m[0], m[1], m[3]) / whole
        size = max(abs(theta), abs(thick), abs(law[0] * v[7].real * thick / v[8].real))
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
        if size < 1e-7:
            for q in range(3):
                x[5 + q] = v[5 + q].real
            x[8] = (law[2] + law[0] * (v[7] - law[1])).real
            return True
    return False


@serial
def _station(i, kind, m, law):
    """Solve a station as a layer of a kind: from its own values, or from those of the station before. If it does not
    converge it keeps its values, or gets about the shape factor of the station before. Whether it converged.
    """
    y, j, c = m.values, m.before[i], m.columns
    x, kinds, gaps, own_law = np.empty(10), np.empty(2, np.int64), np.empty(2), np.empty(4)
    kinds[0], kinds[1], gaps[0], gaps[1] = m.kinds[j], kind, c[j, GAP], c[i, GAP]
    largest, edge = law[kind], c[i, VELOCITY]
    own_law[0], own_law[1], own_law[2], own_law[3] = c[i, STIFFNESS], c[i, THICKNESS], edge, largest
    for q in range(4):
        x[q] = y[j, q]
    x[4], x[9] = c[j, DISTANCE], c[i, DISTANCE]
    turned, own, before = kind != LAMINAR and kinds[0] == LAMINAR, m.kinds[i] == kind, (y[j, 2] - gaps[0]) / y[j, 1]
    for attempt in range(0 if own else 1, 2):
        if attempt == 0:
            for q in range(4):
                x[5 + q] = y[i, q]
        else:
            shape = 1.8 if turned else min(before, 3.0 if kind == LAMINAR else 2.2)
            x[5], x[6], x[7], x[8] = 0.05 if turned else y[j, 0], y[j, 1], shape * y[j, 1] + gaps[1], edge
        if _solve_station(x, kinds, gaps, law[3], c[i, SHARE], own_law):
            for q in range(4):
                y[i, q] = x[5 + q]
            m.kinds[i] = kind
            return True
    if largest < UNBOUNDED or not own:
        shape = before + 0.05 if kind == LAMINAR else max(before, 1.4)
        shape = min(shape, largest, 4.0 if kind == LAMINAR else 2.2)
        theta = y[j, 1] * min((y[j, 3] / edge) ** (shape + 2.0), 1.2)
        y[i, 0] = y[j, 0] if kinds[0] == kind else 0.05
        y[i, 1], y[i, 2], y[i, 3], m.kinds[i] = theta, shape * theta + gaps[1], edge, kind
    return False


@serial
def _transition_behind(x, length, viscosity, critical, low, high):
    """Share of an interval at which the exponent is critical, between two bounds; 2 if it is behind them. x (15,) are
    the last three laminar stations.
    """
    v = x.astype(np.complex128)
    below = _exponent(v, length, low + 0.0j, viscosity).real - critical
    if below >= 0.0 or high <= low:
        return low
    above = _exponent(v, length, high + 0.0j, viscosity).real - critical
    if above < 0.0:
        return 2.0
    for k in range(60):
        share = 0.5 * (low + high) if k % 2 == 0 else low - below * (high - low) / (above - below)
        found = _exponent(v, length, share + 0.0j, viscosity).real - critical
        if found < 0.0:
            low, below = share, found
        else:
            high, above = share, found
        if high - low < 1e-12 or abs(found) < 1e-12:
            break
    return share


@serial
def _march_side(own, earliest, latest, m, law):
    """Layers of one side; place of transition."""
    place, x = -1.0, np.empty(15)
    for r in range(len(own)):
        i, begin = own[r], r - 1
        if m.before[i] == STAGNATION:
            theta = theta_at_stagnation(law[4], law[3])
            m.values[i, 0], m.values[i, 1], m.values[i, 2] = 0.0, theta, SHAPE_AT_STAGNATION * theta
            m.kinds[i] = LAMINAR
            continue
        if place < 0.0:
            share = 2.0
            if begin >= int(earliest):
                last_laminar(own, begin, m.values, m.columns, x)
                low, high = min(max(EDGE, earliest - begin), 1.0 - EDGE), min(1.0 - EDGE, latest - begin)
                length = m.columns[i, DISTANCE] - m.columns[own[begin], DISTANCE]
                share = _transition_behind(x, length, law[3], law[5], low, high)
                if share > 1.0 and latest < r:
                    share = high
            if share > 1.0:
                if _station(i, np.int64(LAMINAR), m, law) or law[LAMINAR] >= UNBOUNDED:
                    continue
                share = 0.5  # separated from the flow without layers
            place = begin + share
        m.columns[i, SHARE] = place - int(place)
        _station(i, np.int64(TURBULENT), m, law)
    return place


@serial
def march(stations, counts, bounds, law, places):
    """Solve all stations one after the other, with transition where the exponent of the waves is critical.

    A station that does not converge keeps its values; with bounds on the shape factors it gets a guess.

    Parameters
    ----------
    stations : Stations
        Values, kinds and shares are changed.
    counts : (2,) int array
        Numbers of stations of both sides.
    bounds : (2, 2) array
        Earliest and latest place of transition of both sides [stations from the first].
    law : (6,) array
        Largest shape factors of laminar and turbulent layers and of wakes (a laminar layer beyond it becomes
        turbulent); kinematic viscosity [m^2/s], gradient of the edge velocity at the stagnation point [1/s], critical
        exponent.
    places : (2,) array
        Output: places of transition on both sides [stations from the first].
    """
    begin = 0
    for side in range(2):
        own = stations.chain[begin : begin + counts[side]]
        places[side] = _march_side(own, bounds[side, 0], bounds[side, 1], stations, law)
        begin += counts[side]
    y, tail = stations.values, begin - 1
    for i in range(begin, len(y)):
        if stations.before[i] == TAIL:
            theta = y[0, 1] + y[tail, 1]
            y[i, 0] = (y[0, 0] * y[0, 1] + y[tail, 0] * y[tail, 1]) / theta
            y[i, 1], y[i, 2] = theta, y[0, 2] + y[tail, 2] + stations.columns[i, GAP]
            stations.kinds[i] = WAKE
        else:
            _station(i, np.int64(WAKE), stations, law)
