"""Stability of steady solutions: onset of shedding behind a circle, modes against runs in time that start with them."""

import time

import numpy as np
from scipy.optimize import least_squares

import zephyrum as zy

REYNOLDS = 45.0, 50.0  # on both sides of the onset
AMPLITUDE = 1e-4  # of the velocity of the mode that a run in time starts with, over the speed of the stream


def onset_behind_circle():
    """Critical Reynolds number and Strouhal number there, on two meshes.

    References
    ----------
    Jackson (1987), J. Fluid Mech. 182:23 (46.2 and 0.138 x 0.86); Sreenivasan, Strykowski and Olinger (1987) (45.9 to
    47, St 0.12).
    """
    rows = []
    for n in (1, 2):
        mesh = zy.mesh_outline(zy.Outline.circle(1.0), 96 * n, 64 * n, first_height=8e-3 / n, farfield=60.0)
        begin, modes = time.perf_counter(), []
        for reynolds in REYNOLDS:
            steady = zy.solve(mesh, zy.Freestream(mach=0.1, reynolds=reynolds), "laminar")
            modes.append(zy.linear_stability(steady, strouhal=(0.12,)).modes[0])
        seconds = time.perf_counter() - begin
        growth = [mode.growth for mode in modes]
        at = -growth[0] / (growth[1] - growth[0])
        critical = REYNOLDS[0] + at * (REYNOLDS[1] - REYNOLDS[0])
        strouhal = modes[0].strouhal + at * (modes[1].strouhal - modes[0].strouhal)
        label = "circle, laminar, M 0.1, onset of shedding by eigenvalues"
        rows.append((label, "critical Reynolds number", 45.5, 48.5, critical, mesh.n_cells, seconds))
        rows.append((label, "Strouhal number at onset", 0.116, 0.125, strouhal, mesh.n_cells, seconds))
    return rows


def _growth_in_time(series: zy.TimeSeries, steady: float, growth: float, strouhal: float):
    """(growth a chord, Strouhal number) of the exponential oscillation that fits CL best, from those of a mode."""
    x, off = series.travelled, series.CL - steady
    off = off / np.abs(off).max()

    def misfit(parameters):
        swing = np.exp((parameters[0] + 2j * np.pi * parameters[1]) * x)
        basis = np.stack([swing.real, swing.imag], axis=1)
        return basis @ np.linalg.lstsq(basis, off, rcond=None)[0] - off

    return least_squares(misfit, (growth, strouhal), x_scale=(0.01, 0.01)).x


def _against_time(label: str, mesh: zy.Mesh, air: zy.Freestream, strouhal, chords: float):
    """Rows of a mode against the first chords of a run in time that starts with it."""
    begin = time.perf_counter()
    steady = zy.solve(mesh, air, "laminar")
    found = zy.linear_stability(steady, strouhal)
    mode = found.modes[0]
    series = zy.solve_unsteady(mesh, air, "laminar", chords, 0.05, found.disturbed(AMPLITUDE))
    growth, frequency = _growth_in_time(series, steady.forces.CL, mode.growth, mode.strouhal)
    label = f"{label} ({found.outcome})"
    last = mesh.n_cells, time.perf_counter() - begin
    return [
        (label, "growth of the mode a chord of travel", 0.0, 1.0, mode.growth, *last),
        (label, "the same over that in time", 0.9, 1.1, mode.growth / growth, *last),
        (label, "Strouhal number of the mode over that in time", 0.95, 1.05, mode.strouhal / frequency, *last),
    ]


def modes_in_time():
    """Growth and frequency of the first mode against the start of a run in time: a circle, a stalled section."""
    circle = zy.mesh_outline(zy.Outline.circle(1.0), 96, 64, first_height=8e-3, farfield=60.0)
    section = zy.mesh_airfoil(zy.Airfoil.naca("4412"), 128, topology="C", first_height=4e-3, farfield=30.0)
    return [
        *_against_time("circle, laminar, Re 60", circle, zy.Freestream(mach=0.1, reynolds=60.0), (0.12,), 25.0),
        *_against_time(
            "NACA 4412, alpha 20, laminar, Re 1500",
            section,
            zy.Freestream(mach=0.1, alpha=20.0, reynolds=1500.0),
            (0.15,),
            10.0,
        ),
    ]


def attached_section():
    """NACA 0012 at 4 deg with Spalart-Allmaras: stable."""
    mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 128, topology="C", y_plus=1.0, reynolds=6e6)
    begin = time.perf_counter()
    found = zy.linear_stability(zy.solve(mesh, zy.Freestream(mach=0.15, alpha=4.0, reynolds=6e6), "sa"))
    label = f"NACA 0012, alpha 4, Re 6e6, SA ({found.outcome})"
    seconds = time.perf_counter() - begin
    return [(label, "growth a chord of travel", -10.0, 0.0, found.modes[0].growth, mesh.n_cells, seconds)]
