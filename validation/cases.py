"""Every validation case: a function that returns rows (case, quantity, band low, band high, value, mesh, seconds)."""

import time

import numpy as np

from validation import (
    aircraft_families,
    clipped,
    curved_walls,
    extruded,
    far_field,
    ground,
    integral_layers,
    lifting_surfaces,
    manufactured,
    panel_sections,
    powered,
    propellers,
    section_elements,
    section_polars,
    skerry_chart,
    space,
    stability,
    viscous,
)
from validation.grids import box, wedge
from validation.potential import MappedAirfoil
from zephyrum.conditions import Freestream, Reference
from zephyrum.flow import FlowProblem, Numerics, solve_steady
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.residual import Residual
from zephyrum.flow.discretization.scheme import Scheme
from zephyrum.flow.physics.boundary_conditions import exterior_states
from zephyrum.flow.physics.gas_model import GasModel, Scales
from zephyrum.geometry import Airfoil
from zephyrum.mesh import mesh_airfoil
from zephyrum.results import solve


def freestream_preserved():
    """Residual of a uniform stream on meshes without a wall."""
    rows = []
    c_mesh = mesh_airfoil(Airfoil.naca("2412", "blunt"), 128, 32, topology="C").with_roles(airfoil="farfield")
    for name, mesh in (("C mesh, blunt tail", c_mesh), ("perturbed box", box(32, 0.35, 0.1, "farfield"))):
        begin, worst = time.perf_counter(), 0.0
        for mach, alpha in ((0.05, 3.0), (0.8, 40.0), (3.0, -75.0)):
            scales = Scales.of(Freestream(mach=mach, alpha=alpha))
            residual = Residual(
                FaceData.of(mesh), Scheme(), GasModel(1.4), mach, exterior_states(mesh, scales, 0.0, False)
            )
            R = residual(np.tile(scales.freestream, (mesh.n_cells, 1)))
            size = np.bincount(mesh.left, residual.domain.faces.area, mesh.n_cells)
            flux = mach * (2.5 + 0.5 * mach**2)  # the largest of the freestream's own fluxes
            worst = max(worst, float(np.abs(R / size[:, None]).max()) / flux)
        rows.append(
            (
                f"free stream, {name}",
                "residual / flux through the faces",
                0.0,
                1e-13,
                worst,
                mesh.n_cells,
                time.perf_counter() - begin,
            )
        )
    return rows


def manufactured_euler():
    """Order of accuracy on smooth and on perturbed meshes."""
    rows = []
    for name, low, high, sizes, kind in (
        ("smooth", 1.9, 2.1, (128, 256, 512), {"perturbed": 0.0, "smooth": 0.08}),
        ("perturbed 25 %", 1.7, 3.0, (32, 64, 128), {"perturbed": 0.25, "smooth": 0.0}),
    ):
        begin = time.perf_counter()
        order, _ = manufactured.orders(sizes, **kind)
        seconds = time.perf_counter() - begin
        for k, unknown in enumerate(("p", "u", "w", "T")):
            rows.append(
                (f"manufactured Euler, {name}", f"L1 order of {unknown}", low, high, order[k], sizes[-1] ** 2, seconds)
            )
    return rows


def _mapped(name: str, shape: MappedAirfoil, alpha: float):
    """Cp, CL and CD on O meshes, at Mach 0 by extrapolation in M^2 from Mach 0.05 and 0.10 (the rest is of order
    M^4).
    """
    rows = []
    _, points = shape.surface(1601)
    foil = Airfoil(points, name)
    exact_points, exact_cp, exact_cl = shape.flow(alpha, 40001)
    nose = int(np.argmin(exact_points[:, 0]))
    begin = time.perf_counter()
    cp_error, drag = [], 0.0
    for around, outward in ((128, 32), (256, 64)):
        mesh = mesh_airfoil(foil, around, outward, farfield=200.0, topology="O")
        slow, fast = (solve(mesh, Freestream(mach=mach, alpha=alpha)) for mach in (0.05, 0.10))
        table = slow.cp()
        table["Cp"] -= (fast.cp()["Cp"] - table["Cp"]) / 3.0
        lift = slow.forces.CL - (fast.forces.CL - slow.forces.CL) / 3.0
        drag = max(abs(slow.forces.CD), abs(fast.forces.CD))
        gaps = []
        for side, part in (("upper", slice(0, nose + 1)), ("lower", slice(nose, None))):
            # away from the nose, where x does not tell the place, and from the singular tail
            own = table[(table["side"] == side) & (table["x"] > 0.02) & (table["x"] < 0.98)]
            order = np.argsort(exact_points[part, 0])
            gaps.append(own["Cp"].to_numpy() - np.interp(own["x"], exact_points[part, 0][order], exact_cp[part][order]))
        cp_error.append(np.abs(np.concatenate(gaps)).mean())
    seconds = time.perf_counter() - begin
    label = f"{name}, M 0.05-0.1, alpha {alpha:g}"
    rows.append(
        (label, "Cp error order, 128 x 32 to 256 x 64", 1.8, 4.0, np.log2(cp_error[0] / cp_error[1]), 16384, seconds)
    )
    rows.append((label, "mean Cp error at 256 x 64", 0.0, 0.01, cp_error[1], 16384, seconds))
    rows.append((label, "CL error at 256 x 64 [%]", -0.5, 0.5, 100.0 * (lift / exact_cl - 1.0), 16384, seconds))
    rows.append((label, "abs(CD) at 256 x 64", 0.0, 1e-4, drag, 16384, seconds))
    return rows


def joukowski():
    """Cusped tail."""
    return _mapped("Joukowski", MappedAirfoil(0.1, 0.1, 0.0), 2.0)


def karman_trefftz():
    """Finite tail angle."""
    return _mapped("Karman-Trefftz", MappedAirfoil(0.1, 0.05, 12.0), 3.0)


def naca_bands():
    """Published Euler bands for NACA 0012."""
    rows = []
    for mach, alpha, cl, cd in (
        (0.80, 1.25, (0.345, 0.370), (0.0218, 0.0236)),
        (0.63, 2.0, (0.326, 0.338), (-1e-4, 0.001)),
        (0.85, 1.0, (0.33, 0.39), (0.0545, 0.0590)),
    ):
        begin = time.perf_counter()
        mesh = mesh_airfoil(Airfoil.naca("0012"), 256, 64, topology="O")
        solution = solve(mesh, Freestream(mach=mach, alpha=alpha))
        seconds = time.perf_counter() - begin
        label = f"NACA 0012 Euler, M {mach:g}, alpha {alpha:g} ({solution.outcome})"
        rows.append((label, "CL", *cl, solution.forces.CL, mesh.n_cells, seconds))
        rows.append((label, "CD", *cd, solution.forces.CD, mesh.n_cells, seconds))
    return rows


def oblique_shock(n: int = 96):
    """10 deg wedge at Mach 2 (theta-beta-M relation)."""
    begin = time.perf_counter()
    mesh = wedge(n, 10.0)
    air = Freestream(mach=2.0)
    flow = solve_steady(FlowProblem(mesh, air, Reference(1.0, 1.0, 1.0, (0.0, 0.0, 0.0)), Numerics(vortex=False)))
    seconds = time.perf_counter() - begin
    x, z = mesh.cell_centroid[:, 0], mesh.cell_centroid[:, 2]
    q = flow.q
    ratio = 1.0 + 1.4 * q[:, 0]
    behind = (
        (x > 1.0)
        & (x < 1.3)
        & (z - np.tan(np.radians(10)) * (x - 0.5) > 0.05)
        & (z < 0.6 * np.tan(np.radians(39.31)) * (x - 0.5))
    )
    mach = np.linalg.norm(q[:, 1:4], axis=1) / np.sqrt(q[:, 4])
    # the shock: height at which the pressure is halfway, column by column
    heights, positions = [], []
    for column in np.unique(np.round(x, 9)):
        own = np.flatnonzero(np.abs(x - column) < 1e-9)
        own = own[np.argsort(z[own])]
        if 0.8 < column < 1.4:
            level = 0.5 * (1.0 + 1.7066)
            k = np.flatnonzero((ratio[own][:-1] >= level) & (ratio[own][1:] < level))
            if k.size:
                a, b = own[k[-1]], own[k[-1] + 1]
                heights.append(z[a] + (ratio[a] - level) / (ratio[a] - ratio[b]) * (z[b] - z[a]))
                positions.append(column)
    angle = np.degrees(np.arctan(np.polyfit(positions, heights, 1)[0]))
    label = f"10 deg wedge, M 2 ({flow.outcome})"
    return [
        (label, "shock angle [deg]", 39.31 - 0.3, 39.31 + 0.3, angle, mesh.n_cells, seconds),
        (label, "p2/p1", 1.7066 * 0.995, 1.7066 * 1.005, float(ratio[behind].mean()), mesh.n_cells, seconds),
        (label, "M2", 1.6405 * 0.995, 1.6405 * 1.005, float(mach[behind].mean()), mesh.n_cells, seconds),
    ]


CASES = (
    freestream_preserved,
    manufactured_euler,
    joukowski,
    karman_trefftz,
    naca_bands,
    oblique_shock,
    viscous.manufactured_navier_stokes,
    viscous.manufactured_turbulence,
    viscous.channel,
    viscous.blasius,
    viscous.cylinder,
    viscous.laminar_airfoil,
    viscous.sphere,
    viscous.vortex_street,
    stability.onset_behind_circle,
    stability.modes_in_time,
    stability.attached_section,
    viscous.turbulent_plate,
    viscous.supersonic_plate,
    viscous.turbulent_airfoil,
    clipped.clipped_euler,
    clipped.clipped_turbulent,
    clipped.clipped_manufactured,
    clipped.clipped_spheroids,
    curved_walls.curved_walls,
    extruded.extruded_section,
    extruded.extruded_normals,
    far_field.far_field_sections,
    far_field.far_field_wings,
    far_field.far_field_aircraft,
    far_field.wing_drag,
    powered.nozzle,
    powered.jet_cells,
    powered.rocket_sectors,
    powered.intakes,
    propellers.disk_alone,
    propellers.disk_with_swirl,
    propellers.skerry_under_power,
    ground.ground_and_mirror,
    ground.section_over_a_belt,
    ground.wing_near_the_ground,
    lifting_surfaces.lifting_surfaces,
    panel_sections.panel_sections,
    integral_layers.integral_layers,
    section_elements.section_elements,
    section_polars.section_polars,
    section_polars.section_families,
    skerry_chart.skerry_chart,
    space.thin_wings,
    space.cone,
    space.plate_in_space,
    aircraft_families.skerry_inviscid,
    aircraft_families.skerry_turbulent,
    aircraft_families.fleet_inviscid,
    aircraft_families.fleet_turbulent,
)
