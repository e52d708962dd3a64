"""Exhausts and intakes: a nozzle against one-dimensional flow, cells of an under-expanded jet, a rocket in sectors."""

import time

import numpy as np
from scipy.optimize import brentq

import zephyrum as zy
from zephyrum.mesh import mesh_from_quads
from zephyrum.mesh.structured.outline_grid import WEDGE
from zephyrum.mesh.structured.spacing import geometric

AREA_RATIO = 1.8  # of the exit of the nozzle over its throat
JET_RATIO = 3.0  # total pressure of the jet over the static pressure of the stream
COUNT = 4  # sectors


def _area_ratio(mach: float, gamma: float = 1.4) -> float:
    """Area over that at Mach 1."""
    k = 0.5 * (gamma - 1.0)
    return ((1.0 + k * mach**2) / (1.0 + k)) ** (0.25 * (gamma + 1.0) / k) / mach


def nozzle():
    """Convergent-divergent nozzle on three meshes: Mach number at the exit, mass flow and thrust.

    References
    ----------
    Liepmann and Roshko (1957), Elements of Gasdynamics, ch. 5.
    """
    x = np.linspace(0.0, 3.0, 31)
    down, up = np.clip(x, 0.0, 1.0), np.clip((x - 1.0) / 2.0, 0.0, 1.0)
    area = 1.5 + 0.5 * np.cos(np.pi * down) + 0.5 * (AREA_RATIO - 1.0) * (1.0 - np.cos(np.pi * up))
    throat, contour = np.pi * 0.15**2, np.stack([x, 0.15 * np.sqrt(area)], axis=1)
    air = zy.Freestream(mach=0.5, pressure=1e5, temperature=288.0)
    exact = brentq(lambda mach: _area_ratio(mach) - AREA_RATIO, 1.01, 4.0)
    static = 8e5 / air.gas.total_pressure_ratio(exact)
    thrust = (static * (1.0 + 1.4 * exact**2) - air.pressure) * AREA_RATIO * throat
    flow = throat * air.gas.mass_flux(1.0, 8e5, 1000.0)
    rows = []
    for n in (1, 2, 4):
        mesh = zy.mesh_duct(contour, 64 * n, 12 * n)
        begin = time.perf_counter()
        jet = zy.Exhaust(total_pressure=8e5, total_temperature=1000.0)
        found = zy.solve(mesh, air, powered={"inlet": jet})
        seconds = time.perf_counter() - begin
        faces = mesh.group("outlet").faces
        size = np.linalg.norm(mesh.face_area[faces], axis=1)
        mach = float(found.fields()["mach"][mesh.left[faces]] @ size / size.sum())
        account = found.thrust_account()
        label = f"nozzle, area ratio {AREA_RATIO:g}, pressure ratio 8 ({found.outcome})"
        last = mesh.n_cells, seconds
        rows += [
            (label, "Mach number at the exit over that in one dimension", 0.99, 1.01, mach / exact, *last),
            (label, "mass flow over that in one dimension", 0.99, 1.01, account.faces[0].mass_flow / flow, *last),
            (
                label,
                "thrust over that in one dimension",
                0.99,
                1.01,
                (account.net_thrust - account.drag) / thrust,
                *last,
            ),
        ]
    return rows


def _jet_mesh(n: int) -> zy.Mesh:
    """Axisymmetric mesh about the end of a tube of radius 1 with an exit in it and a lip, n cells over the radius."""
    h, lip = 1.0 / n, max(n // 8, 1)
    x = np.r_[-geometric(h, 3.0, 2 * n)[:0:-1], h * np.arange(16 * n + 1)]
    x = np.r_[x, x[-1] + geometric(h, 16.0, 2 * n)[1:]]
    r = np.r_[h * np.arange(3 * n + 1), 3.0 + geometric(h, 20.0, 2 * n)[1:]]
    node = np.arange(len(x) * len(r)).reshape(len(x), len(r))
    start, inner, outer = 2 * n, n, n + lip
    alive = np.ones((len(x) - 1, len(r) - 1), dtype=bool)
    alive[:start, :outer] = False
    quads = np.stack([node[:-1, :-1], node[1:, :-1], node[1:, 1:], node[:-1, 1:]], axis=-1)[alive]
    used, quads = np.unique(quads, return_inverse=True)
    number = np.full(node.size, -1)
    number[used] = np.arange(len(used))
    line = lambda nodes: np.stack([number[nodes[:-1]], number[nodes[1:]]], axis=1)  # noqa: E731
    edges = [
        ("exit", "wall", line(node[start, : inner + 1])),
        ("tube", "wall", np.concatenate([line(node[start, inner : outer + 1]), line(node[: start + 1, outer])])),
        ("farfield", "farfield", np.concatenate([line(node[0, outer:]), line(node[:, -1])])),
        ("behind", "outflow", line(node[-1])),
    ]
    plane = np.stack(np.meshgrid(x, r, indexing="ij"), axis=-1).reshape(-1, 2)[used]
    reference = zy.Reference(np.pi, 2.0, 2.0, (0.0, 0.0, 0.0))
    return mesh_from_quads(plane, quads.reshape(-1, 4), edges, wedge=float(WEDGE), reference=reference)


def jet_cells():
    """Length of the cells of an under-expanded jet: Prandtl (1904), Phys. Z. 5:599, 1.306 D sqrt(M^2 - 1).

    D and M are those of the jet expanded to the pressure outside.
    """
    air = zy.Freestream(mach=0.2, pressure=1e5, temperature=288.0)
    jet = air.gas.mach_of_pressure_ratio(JET_RATIO)
    length = 1.306 * 2.0 * np.sqrt(_area_ratio(jet)) * np.sqrt(jet**2 - 1.0)
    rows = []
    for n in (10, 20):
        mesh = _jet_mesh(n)
        begin = time.perf_counter()
        found = zy.solve(mesh, air, powered={"exit": zy.Exhaust(pressure_ratio=JET_RATIO)})
        seconds = time.perf_counter() - begin
        c = mesh.cell_centroid
        axis = np.flatnonzero((c[:, 2] < 1.0 / n) & (c[:, 0] > 0.0) & (c[:, 0] < 14.0))
        axis = axis[np.argsort(c[axis, 0])]
        mach = found.fields()["mach"][axis]
        peaks = np.flatnonzero((mach[1:-1] > mach[:-2]) & (mach[1:-1] >= mach[2:])) + 1
        spacing = float(np.diff(c[axis[peaks], 0])[:2].mean()) if len(peaks) > 2 else float("nan")
        label = f"choked jet, pressure ratio {JET_RATIO:g} ({found.outcome})"
        last = mesh.n_cells, seconds
        rows.append((label, "length of its cells over Prandtl's", 0.9, 1.1, spacing / length, *last))
    return rows


def rocket_sectors():
    """A rocket with its exhaust on: a quarter against the whole, on meshes of two sizes."""
    rings = [(0.0, 0.0), (1.0, 0.6), (2.0, 0.8), (5.0, 0.8)]
    body = zy.Body(rings=tuple(zy.Ring(x=x, width=width) for x, width in rings))
    rocket = zy.Aircraft(name="sounding rocket", parts={"rocket": body})
    reference = zy.Reference(np.pi * 0.4**2, 0.8, 0.8, (2.5, 0.0, 0.0))
    air = zy.Freestream(mach=1.5, pressure=3e4, temperature=230.0)
    jet = {"rocket/base": zy.Exhaust(mach=2.5, static_pressure=6e4, total_temperature=1500.0)}
    drags, rows = {}, []
    for cells in (20_000, 10_000):
        whole = zy.mesh_aircraft(
            rocket, cells=cells, half=False, separate=["rocket/base"], reference=reference, farfield=4.0
        )
        for name, mesh in (("whole", whole), ("quarter", zy.mesh_sector(whole, COUNT))):
            begin = time.perf_counter()
            found = zy.solve(mesh, air, powered=jet, numerics=zy.Numerics(residual_drop=4.0))
            account = found.thrust_account()
            drags[cells, name] = account.drag, account.net_thrust
            rows.append((mesh.n_cells, time.perf_counter() - begin, found.outcome))
    spread = max(abs(drags[20_000, "whole"][0] - drags[10_000, "whole"][0]), 1e-9)
    last = rows[1][0], rows[1][1]
    label = f"rocket under power, M 1.5, quarter ({rows[1][2]}) against whole ({rows[0][2]})"
    differ = abs(drags[20_000, "quarter"][0] - drags[20_000, "whole"][0])
    thrust = drags[20_000, "quarter"][1] / drags[20_000, "whole"][1]
    return [
        (label, "difference of drag over that of two meshes", 0.0, 1.0, differ / spread, *last),
        (label, "thrust over that of the whole", 0.999, 1.001, thrust, *last),
    ]


def intakes():
    """Mass flow of an intake of a pod against what is asked for, and the balance of thrust and drag."""
    body = zy.Body(rings=tuple(zy.Ring(x=x, width=w) for x, w in ((0.0, 0.8), (0.5, 1.0), (1.6, 1.0), (2.2, 0.7))))
    pod = zy.Aircraft(name="engine pod", parts={"pod": body})
    faces, unit = ["pod/front", "pod/base"], zy.Reference(1.0, 1.0, 1.0, (0.0, 0.0, 0.0))
    mesh = zy.mesh_aircraft(pod, cells=30_000, separate=faces, reference=unit, farfield=6.0)
    air = zy.Freestream(mach=0.5, alpha=2.0, pressure=1e5, temperature=288.0)
    rows = []
    for flow in (60.0, 80.0):  # with less the flow round the sharp lip separates, and the run oscillates
        begin = time.perf_counter()
        engine = {"pod/front": zy.Intake(mass_flow=flow), "pod/base": zy.Exhaust(pressure_ratio=1.6)}
        found = zy.solve(mesh, air, powered=engine, numerics=zy.Numerics(residual_drop=6.0))
        made = next(face.mass_flow for face in found.thrust_account().faces if face.kind == "intake")
        label = f"pod with an intake of {flow:g} kg/s ({found.outcome})"
        last = mesh.n_cells, time.perf_counter() - begin
        rows.append((label, "mass flow over that asked for, less 1", -1e-6, 1e-6, made / flow - 1.0, *last))
    return rows
