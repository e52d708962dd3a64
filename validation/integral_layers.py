"""Integral boundary layers against exact solutions, transition on a plate, turbulent plates."""

import time

import numpy as np

from zephyrum.loworder.drag_buildup.friction import schoenherr
from zephyrum.loworder.panel.boundary_layer import march_layer

# m of u = s^m, theta sqrt(Re) at s = 1, H, Cf sqrt(Re) / 2: Rosenhead (1963), Laminar Boundary Layers, ch. 5
SIMILAR = ((0.0, 0.66411, 2.5911, 0.33206), (1.0, 0.29234, 2.2162, 1.23259))


def integral_layers():
    """Blasius, stagnation flow, near-separating flow, linearly retarded flow, e^N, plates."""
    rows = []

    def add(label, quantity, low, high, value, found, begin):
        rows.append((f"boundary layer, {label}", quantity, low, high, value, len(found.s), time.perf_counter() - begin))

    s = np.linspace(0.0, 1.0, 81)[1:]
    for m, theta, h, wall in SIMILAR:
        begin, found = time.perf_counter(), march_layer(s, s**m, 1e-4, critical=30.0, start=m)
        label = f"u = s^{m:g}"
        for quantity, value in (
            ("momentum thickness over exact", 100.0 * found.theta[-1] / theta),
            ("shape factor over exact", found.h[-1] / h),
            ("friction over exact", 50.0 * found.friction[-1] / wall),
        ):
            add(label, quantity, 0.99, 1.01, float(value), found, begin)
    begin = time.perf_counter()
    found = march_layer(s, s**-0.09, 1e-4, critical=30.0, start=-0.09)
    add("u = s^-0.09", "drift of the shape factor", -0.01, 0.01, float(found.h[-1] / found.h[0] - 1.0), found, begin)
    begin, x = time.perf_counter(), np.linspace(0.0, 0.2, 201)[1:]
    found = march_layer(x, 1.0 - x, 1e-5, critical=30.0)
    add("u = 1 - s", "separation over 0.1199", 0.98, 1.02, found.separation / 0.1199, found, begin)
    begin, x = time.perf_counter(), np.geomspace(1e-3, 5.0, 400)
    found = march_layer(x, np.ones_like(x), 1e-6)
    add("plate, N = 9", "Reynolds number of transition", 2.6e6, 3.4e6, found.transition * 1e6, found, begin)
    begin, x = time.perf_counter(), np.geomspace(3e2, 1.2e9, 400) * 1e-6
    found = march_layer(x, np.ones_like(x), 1e-6, trip=5e-3)
    for reynolds in (1e6, 1e7, 1e8, 1e9):
        mean = 2.0 * float(np.interp(reynolds * 1e-6, found.s, found.theta)) / (reynolds * 1e-6)
        label = f"turbulent plate, Re {reynolds:.0e}"
        add(label, "mean friction over Schoenherr", 0.97, 1.03, mean / schoenherr(reynolds), found, begin)
    return rows
