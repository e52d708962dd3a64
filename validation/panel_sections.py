"""Panels about sections against conformal maps."""

import time

import numpy as np

from validation.potential import MappedAirfoil
from zephyrum.loworder.panel.inviscid import PanelSection

ALPHA = 4.0  # deg


def panel_sections():
    """Lift and Cp of cusped and wedge tails on 200 panels, and their orders."""
    rows = []
    for label, section in (
        ("Joukowski", MappedAirfoil(0.1, 0.05, 0.0)),
        ("Karman-Trefftz, tail of 15 deg", MappedAirfoil(0.08, 0.06, 15.0)),
    ):
        begin, lift, pressure, ahead = time.perf_counter(), {}, {}, {}
        for count in (100, 200, 400):
            points, cp, cl = section.flow(ALPHA, count + 1)
            found = PanelSection((points,), (label,), 1.0, (0.25, 0.0)).solve(ALPHA)
            lift[count] = abs(found.cl / cl - 1.0)
            error = found.cp - cp
            pressure[count] = float(np.sqrt(np.mean(error[2:-2] ** 2)))
            ahead[count] = float(np.sqrt(np.mean(error[points[:, 0] < 0.98] ** 2)))
        name, seconds = f"panels, {label}, alpha {ALPHA:g}", time.perf_counter() - begin
        rows += [
            (name, "error of cl", 0.0, 0.003, lift[200], 200, seconds),
            (name, "Cp error, root mean square", 0.0, 0.005, pressure[200], 200, seconds),
            (name, "order of cl", 1.8, 2.3, float(np.log2(lift[100] / lift[400]) / 2.0), 400, seconds),
            (name, "order of Cp, x < 0.98", 1.8, 2.3, float(np.log2(ahead[100] / ahead[400]) / 2.0), 400, seconds),
        ]
    return rows
