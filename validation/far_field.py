"""Far-field drag on coarse meshes against fine meshes, shocks, lifting-line theory and Prandtl's biplane."""

import time
from importlib import resources

import numpy as np

from validation import space
from zephyrum.conditions import Freestream
from zephyrum.flow import Numerics
from zephyrum.geometry import Aircraft, Airfoil, Planform, Wing
from zephyrum.mesh import mesh_aircraft, mesh_airfoil
from zephyrum.results import solve

AIR = Freestream(mach=0.2, alpha=4.0)
EFFICIENCY = 0.954  # of a rectangular wing of aspect ratio 6 by lifting-line theory (Glauert 1926)
RECTANGLE = Planform(span=6.0, root_chord=1.0, taper=1.0)
BESIDE = 0.12  # [m] by which the rounded tips make it wider


def far_field_sections():
    """NACA 0012 on 4,608 and 6,912 cells; references: the same scheme on 51,200 and 48,000 cells."""
    section, rows = Airfoil.naca("0012"), []
    for mach, alpha, reference in ((0.8, 1.25, 0.02282), (0.85, 1.0, 0.05879)):
        begin = time.perf_counter()
        mesh = mesh_airfoil(section, 96, 48, topology="O")
        drag = solve(mesh, Freestream(mach=mach, alpha=alpha)).far_field_drag()
        seconds = time.perf_counter() - begin
        label = f"NACA 0012 Euler, M {mach:g}, alpha {alpha:g}, far field"
        lost, shocks = drag.estimates["CD"]
        rows.append((label, "wave CD over that of a fine mesh", 0.96, 1.04, drag.CD / reference, mesh.n_cells, seconds))
        rows.append((label, "surface less spurious CD over that of shocks", 0.98, 1.02, lost / shocks, 0, seconds))
    begin = time.perf_counter()
    mesh = mesh_airfoil(section, 96, 48, y_plus=1.0, reynolds=6e6)
    drag = solve(mesh, Freestream(mach=0.2, alpha=4.0, reynolds=6e6), "sa").far_field_drag()
    label = "NACA 0012 SA, M 0.2, alpha 4, Re 6e6, far field"
    seconds = time.perf_counter() - begin
    rows.append((label, "CD over that of a fine mesh", 0.99, 1.01, drag.CD / 0.008706, mesh.n_cells, seconds))
    return rows


def far_field_wings():
    """Induced drag on coarse meshes over theory."""
    wing = Wing(planform=RECTANGLE, airfoil="NACA 0012")
    single = Aircraft(name="wing", parts={"wing": wing})
    upper = Wing(planform=RECTANGLE, airfoil="NACA 0012", position=(0.0, 0.0, 1.0))
    double = Aircraft(name="biplane", parts={"lower": wing, "upper": upper})
    span = RECTANGLE.span + BESIDE
    gap = 1.0 / span
    mutual = (1.0 - 0.66 * gap) / (1.05 + 3.7 * gap)  # Prandtl (1924), NACA TN 182
    rows = []
    for aircraft, factor, resolutions, low, high in (
        (single, 1.0 / EFFICIENCY, (2.6, 1.6, 1.0), 0.95, 1.05),
        (double, 0.5 * (1.0 + mutual), (2.2, 1.4), 0.93, 1.07),
    ):
        for resolution in resolutions:
            begin = time.perf_counter()
            mesh = mesh_aircraft(aircraft, resolution, half=True)
            solution = solve(mesh, AIR, numerics=Numerics(residual_drop=4.0))
            drag = solution.far_field_drag()
            seconds = time.perf_counter() - begin
            theory = factor * solution.forces.CL**2 * solution.reference.area / (np.pi * span**2)
            label = f"{aircraft.name}, NACA 0012 AR 6 Euler, far field ({solution.outcome})"
            cells = mesh.n_cells
            rows.append((label, "far-field CD over theory", low, high, drag.CD / theory, cells, seconds))
            off = abs(drag.CD - theory) / max(drag.uncertainty, 1e-9)
            rows.append((label, "error of far-field CD over its bar", 0.0, 1.0, off, cells, seconds))
            rows.append((label, "near-field CD over theory", 0.9, 3.0, drag.near_field / theory, cells, seconds))
    return rows


def far_field_aircraft():
    """Half Skerry: far-field CD over the squared CL on coarse meshes over that on the finest."""
    with resources.as_file(resources.files("zephyrum") / "data" / "skerry-mailplane.toml") as file:
        skerry = Aircraft.read(file)
    made = []
    for resolution in (2.0, 1.6, 1.0):
        begin = time.perf_counter()
        mesh = mesh_aircraft(skerry, resolution)
        solution = solve(mesh, AIR, numerics=Numerics(residual_drop=4.0))
        made.append((solution, solution.far_field_drag(), time.perf_counter() - begin))
    fine = made[-1][1].CD / made[-1][0].forces.CL ** 2
    rows = []
    for solution, drag, seconds in made[:-1]:
        label, cells = f"Skerry Euler, M 0.2, alpha 4, far field ({solution.outcome})", solution.mesh.n_cells
        lift = solution.forces.CL**2
        rows.append((label, "CD / CL^2 over that of 58k cells", 0.9, 1.1, drag.CD / lift / fine, cells, seconds))
        off = abs(drag.CD - fine * lift) / max(drag.uncertainty, 1e-9)
        rows.append((label, "error of far-field CD over its bar", 0.0, 1.0, off, cells, seconds))
        rows.append((label, "near-field CD over it", 1.0, 3.0, drag.near_field / (fine * lift), cells, seconds))
    return rows


def wing_drag():
    """Wings of aspect ratio 6: drag of the surface above the far-field one, lift, and an even wing without lift."""
    numerics, rows = Numerics(residual_drop=4.0), []

    def wing(sweep: float) -> Aircraft:
        planform = Planform(span=6.0, root_chord=1.0, taper=1.0, sweep=sweep)
        return Aircraft(name="wing", parts={"wing": Wing(planform=planform, airfoil="NACA 0012")})

    def solved(mesh, alpha: float):
        return solve(mesh, Freestream(mach=0.2, alpha=alpha), numerics=numerics)

    made = {}
    for sweep, cells, excess in ((0.0, 60_000, 4.0), (0.0, 250_000, 1.5), (30.0, 60_000, 6.0)):
        begin = time.perf_counter()
        mesh = mesh_aircraft(wing(sweep), cells=cells, half=True)
        solution = solved(mesh, 4.0)
        made[sweep, cells] = mesh, solution
        drag, seconds = solution.far_field_drag(), time.perf_counter() - begin
        label = f"wing of aspect ratio 6, sweep {sweep:g} deg, Euler ({solution.outcome})"
        above = 1e4 * (drag.near_field - drag.CD)
        rows.append((label, "surface above far-field CD [counts]", -1.0, excess, above, mesh.n_cells, seconds))
        rows.append((label, "spurious CD [counts]", -1.0, 99.0, 1e4 * drag.spurious, mesh.n_cells, seconds))
        rows.append((label, "far-field CD [counts]", 0.0, 99.0, 1e4 * drag.CD, mesh.n_cells, seconds))
    lift = made[0.0, 60_000][1].forces.CL / made[0.0, 250_000][1].forces.CL
    rows.append(("wing of aspect ratio 6, 60k and 250k cells", "ratio of CL", 0.995, 1.005, lift, 0, 0.0))
    slopes = {}
    for sweep in (0.0, 30.0):
        mesh, up = made[sweep, 60_000]
        theory = space.lifting_surface(6.0, sweep, 0.2)
        slopes[sweep] = (up.forces.CL - solved(mesh, -4.0).forces.CL) / np.radians(8.0) / theory
    ratio = slopes[30.0] / slopes[0.0]
    rows.append(("wing of aspect ratio 6, swept over unswept", "lift slope over theory", 0.99, 1.01, ratio, 0, 0.0))
    begin = time.perf_counter()
    mesh = mesh_aircraft(wing(0.0), cells=50_000, half=True)
    even, seconds = abs(solved(mesh, 0.0).forces.CL), time.perf_counter() - begin
    rows.append(("even wing of aspect ratio 6, alpha 0", "abs(CL)", 0.0, 5e-4, even, mesh.n_cells, seconds))
    return rows
