"""Propeller disks: momentum theory of a disk alone, swirl behind one on a pod, the Skerry with power off and on."""

import time
from importlib import resources
from types import SimpleNamespace

import numpy as np

import zephyrum as zy
from zephyrum.flow import FlowProblem, solve_steady
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
from zephyrum.mesh import mesh_from_quads
from zephyrum.mesh.structured.outline_grid import WEDGE
from zephyrum.mesh.structured.spacing import geometric
from zephyrum.solver.propellers import momentum_speed, propeller_sources

LOADING = 0.8  # thrust over dynamic pressure and area of the disk alone


def open_air(n: int) -> zy.Mesh:
    """Axisymmetric mesh of a stream without a body, n cells to a radius of 1."""
    h, count = 1.0 / n, int(1.5 * n)
    r = np.r_[h * np.arange(count + 1), 1.5 + geometric(h, 30.0, count)[1:]]
    x = np.r_[
        -0.5 - geometric(h, 30.0, count)[:0:-1], np.arange(-0.5, 6.0 + 1e-9, h), 6.0 + geometric(h, 30.0, count)[1:]
    ]
    node = np.arange(len(x) * len(r)).reshape(len(x), len(r))
    quads = np.stack([node[:-1, :-1], node[1:, :-1], node[1:, 1:], node[:-1, 1:]], axis=-1).reshape(-1, 4)
    sides = [np.stack([line[:-1], line[1:]], axis=1) for line in (node[0], node[:, -1], node[-1])]
    edges = [("farfield", "farfield", np.concatenate(sides[:2])), ("behind", "outflow", sides[2])]
    plane = np.stack(np.meshgrid(x, r, indexing="ij"), axis=-1).reshape(-1, 2)
    reference = zy.Reference(np.pi, 2.0, 2.0, (0.0, 0.0, 0.0))
    return mesh_from_quads(plane, quads, edges, wedge=float(WEDGE), reference=reference)


def disk_in_open_air(n: int, disk: zy.PropellerDisk, air: zy.Freestream):
    """(mesh, flow, sources) of a disk without a body, which `Case` does not take."""
    mesh = open_air(n)
    case = SimpleNamespace(mesh=mesh, air=air, computed=air, propellers={"disk": disk})
    sources = propeller_sources(case)
    return mesh, solve_steady(FlowProblem(mesh, air, mesh.reference, disks=sources)), sources(mesh)


def disk_alone():
    """Thrust, power and far slipstream of an ideal disk at Mach 0.08: momentum theory (Glauert 1935)."""
    air = zy.Freestream(mach=0.08, pressure=1e5, temperature=288.0)
    thrust = LOADING * air.dynamic_pressure * np.pi
    disk = zy.PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, hub_diameter=0.0, thrust=thrust)
    induced = momentum_speed(thrust, disk.area, air.speed, air.density)
    rows = []
    for n in (10, 20):
        begin = time.perf_counter()
        mesh, flow, sources = disk_in_open_air(n, disk, air)
        seconds = time.perf_counter() - begin
        unit = air.density * air.sound_speed**2 * mesh.multiples[0][0]
        power = float(sources.work_on(flow.q).sum()) * unit * air.sound_speed
        c = mesh.cell_centroid
        far = (np.abs(c[:, 0] - 5.5) < 1.0 / n) & (c[:, 2] < 0.5)
        speed = float(flow.q[far, 1].mean()) * air.sound_speed
        label = f"propeller disk alone ({flow.outcome})"
        last = mesh.n_cells, seconds
        rows += [
            (label, "thrust over that given", 0.99, 1.01, float(sources.force[:, 0].sum()) * unit / thrust, *last),
            (label, "power over thrust and speed", 0.99, 1.01, power / (thrust * (air.speed + induced)), *last),
            (label, "speed far behind over theory", 0.99, 1.01, speed / (air.speed + 2.0 * induced), *last),
        ]
    return rows


def angular_momentum(solution: zy.Solution, x: float) -> float:
    """Angular momentum about the x axis, clockwise seen from behind, through the faces between the cells on both sides
    of a plane [N m].
    """
    mesh, air = solution.mesh, solution.air
    problem = DiscreteProblem(solution.case.problem())
    now = problem.evaluate(solution.flow.q)
    ni = mesh.n_interior
    flux = problem.residual.fluxes(now.state, now.exterior)[:ni, 1:4]
    behind = mesh.cell_centroid[:, 0] > x
    through = behind[mesh.right].astype(float) - behind[mesh.left[:ni]]
    arm = mesh.face_centroid[:ni]
    turning = arm[:, 2] * flux[:, 1] - arm[:, 1] * flux[:, 2]
    return float(through @ turning) * air.density * air.sound_speed**2


def disk_with_swirl():
    """Angular momentum of the slipstream of a disk on a pod against the torque of its shaft."""
    widths = ((0.0, 0.0), (0.4, 0.5), (2.0, 0.6), (3.5, 0.0))
    pod = zy.Body(rings=tuple(zy.Ring(x=x, width=width) for x, width in widths))
    disk = zy.PropellerDisk(position=(-0.1, 0.0, 0.0), diameter=2.4, thrust=3000.0, power=2.6e5, speed=1700.0)
    craft = zy.Aircraft(name="tractor pod", parts={"pod": pod}, propellers={"tractor": disk})
    reference = zy.Reference(1.0, 3.5, 2.4, (0.0, 0.0, 0.0))
    air, rows = zy.Freestream(mach=0.2, pressure=1e5, temperature=288.0), []
    for cells in (100_000, 200_000):
        mesh = zy.mesh_aircraft(craft, cells=cells, farfield=5.0, reference=reference)
        begin = time.perf_counter()
        found = zy.solve(mesh, air, propellers=craft.propellers, numerics=zy.Numerics(residual_drop=5.0))
        seconds = time.perf_counter() - begin
        torque = found.thrust_account().disks[0].torque
        flux = angular_momentum(found, 1.0)
        label = f"propeller disk with swirl on a pod ({found.outcome})"
        rows.append((label, "angular momentum behind over torque", 0.995, 1.005, flux / torque, mesh.n_cells, seconds))
    return rows


def skerry_under_power():
    """The Skerry with power off and on (4 kN a side), inviscid, on one mesh: what the slipstream adds."""
    with resources.as_file(resources.files("zephyrum") / "data" / "skerry-mailplane.toml") as file:
        craft = zy.Aircraft.read(file).changed({"propellers.propeller.thrust": 4000.0})
    mesh = zy.mesh_aircraft(craft, cells=120_000)
    air = zy.Freestream(mach=0.2, alpha=4.0, altitude=1524.0)
    begin, found = time.perf_counter(), {}
    for name, disks in (("off", {}), ("on", craft.propellers)):
        found[name] = zy.solve(mesh, air, propellers=disks, numerics=zy.Numerics(residual_drop=4.0))
    last = mesh.n_cells, time.perf_counter() - begin
    off, on = (one.forces.coefficients() for one in found.values())
    label = f"Skerry, power off ({found['off'].outcome}) and on ({found['on'].outcome})"
    thrust = found["on"].thrust_account().net_thrust
    return [
        (label, "rise of CL by the slipstream", 0.0, 0.2, on["CL"] - off["CL"], *last),
        (label, "change of CM by the slipstream", -0.2, 0.2, on["CM"] - off["CM"], *last),
        (label, "net thrust [N]", 7900.0, 8000.0, thrust, *last),
    ]
