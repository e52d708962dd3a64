"""Residual cost against the memory bound, Euler airfoil to 1e-8, cold and warm start."""

import cProfile
import functools
import json
import os
import platform
import pstats
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numba
import numpy as np

from zephyrum.conditions import Freestream
from zephyrum.flow import FlowProblem, Numerics, solve_steady
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.jacobian import Jacobian
from zephyrum.flow.discretization.residual import Residual
from zephyrum.flow.discretization.scheme import Scheme
from zephyrum.flow.linear.block_ilu import Preconditioner
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
from zephyrum.flow.nonlinear.start_up import initial_state
from zephyrum.flow.physics.boundary_conditions import exterior_states
from zephyrum.flow.physics.gas_model import GasModel, Scales
from zephyrum.geometry import Airfoil
from zephyrum.mesh import mesh_airfoil
from zephyrum.results import solve

FIRST = (
    "import time; t=time.perf_counter(); import zephyrum as zy; "
    "m=zy.mesh_airfoil(zy.Airfoil.naca('0012'),64,16,topology='O'); "
    "zy.solve(m,zy.Freestream(mach=0.3),numerics=zy.Numerics(max_iterations=2)); print(time.perf_counter()-t)"
)


def best(action, repeat: int = 30) -> float:
    """Shortest time of one call [s]."""
    action()
    times = []
    for _ in range(repeat):
        begin = time.perf_counter()
        action()
        times.append(time.perf_counter() - begin)
    return min(times)


@numba.njit(parallel=True, cache=True)
def triad(a, b, c):
    """a = b + 2 c: three streams of memory."""
    for i in numba.prange(len(a)):
        a[i] = b[i] + 2.0 * c[i]


def residual_rows() -> list[tuple]:
    """us a cell of the residual, its parts and the memory bound, on 1 and 2 threads."""
    rows = []
    mesh = mesh_airfoil(Airfoil.naca("0012"), 512, 128, topology="O")
    air = Freestream(mach=0.8, alpha=1.25)
    scales, domain, n = Scales.of(air), FaceData.of(mesh), mesh.n_cells
    residual = Residual(domain, Scheme(), GasModel(1.4), 0.8, exterior_states(mesh, scales, 0.0, False))
    q = np.tile(scales.freestream, (n, 1)) * (1.0 + 1e-3 * np.sin(np.arange(5 * n)).reshape(n, 5))
    jacobian = Jacobian(residual)
    state = residual.differentiate(q)
    jacobian.linearise(state)
    jacobian.set_inertia(jacobian.wave_sum() / 100.0)
    preconditioner = Preconditioner(domain)
    preconditioner.update(jacobian)
    v = np.ones((n, 4), dtype=np.float32)
    w = np.empty_like(v)
    big = np.zeros((3, 20_000_000))
    # bytes a cell that the three sweeps must move at least once: states, gradients (written, read), weights,
    # faces, fluxes
    faces = mesh.n_faces / n
    bytes_needed = 8 * (5 + 15 + 4 * 3 + 15 + faces * (3 + 1 + 3 + 3 + 3 + 2) + faces * 5 * 2 + 5) + 4 * (
        4 + faces * 2 + 4
    )
    for threads in (1, 2):
        numba.set_num_threads(min(threads, numba.config.NUMBA_NUM_THREADS))  # type: ignore[attr-defined]
        bandwidth = 24.0 * big.shape[1] / best(lambda: triad(big[0], big[1], big[2]), 5)
        bound = bytes_needed / bandwidth
        cost = best(lambda: residual(q)) / n
        rows.append(
            (
                f"residual, 2-D Euler, {threads} thread(s)",
                f"{1e6 * cost:.3f} us/cell",
                "<= 0.35 (2 threads, RANS)",
                f"{cost / bound:.1f} x the bound of {1e6 * bound:.3f} us at {bandwidth / 1e9:.1f} GB/s",
            )
        )
        for name, action in (
            ("Jacobian product", lambda: jacobian.product(v, w)),
            ("ILU(1) solve", lambda: preconditioner.solve(v, w)),
            ("face Jacobians", lambda: jacobian.linearise(state)),
            ("assembly and factors", lambda: preconditioner.update(jacobian)),
        ):
            rows.append((f"{name}, {threads} thread(s)", f"{1e6 * best(action, 8) / n:.3f} us/cell", "", ""))
    return rows


def airfoil_rows() -> list[tuple]:
    """Euler airfoil on 16k cells, every residual down 1e-8."""
    rows = []
    mesh = mesh_airfoil(Airfoil.naca("0012"), 256, 64, topology="O")
    unit = None
    for mach, alpha in ((0.3, 2.0), (0.8, 1.25), (0.85, 1.0)):
        air = Freestream(mach=mach, alpha=alpha)
        solve(mesh, air, numerics=Numerics(residual_drop=1, max_iterations=2))
        solution = solve(mesh, air)
        history = solution.history
        krylov = int(sum(history.column("krylov", 0)))
        if unit is None:
            scales = Scales.of(air)
            residual = Residual(
                FaceData.of(mesh), Scheme(), GasModel(1.4), mach, exterior_states(mesh, scales, 0.0, False)
            )
            q = np.tile(scales.freestream, (mesh.n_cells, 1))
            unit = best(functools.partial(residual, q))
        steps = int(history.column("step", 0)[-1])
        rows.append(
            (
                f"Euler airfoil 16k cells, M {mach:g}, alpha {alpha:g}: {solution.outcome}",
                f"{solution.flow.seconds:.2f} s",
                "<= 8 s (aim 2)",
                f"{steps} steps, {krylov} Krylov iterations on the finest mesh, {solution.flow.seconds / unit:.0f} "
                f"residuals' worth",
            )
        )
    small = mesh.coarser
    begin = [solve_steady(FlowProblem(m, Freestream(mach=0.3, alpha=2.0), m.reference)).seconds for m in (small, mesh)]
    rows.append(
        (
            "growth of a solve from 4k to 16k cells",
            f"cells^{np.log(begin[1] / begin[0]) / np.log(4):.2f}",
            "<= 1.3 (aim 1.1)",
            "",
        )
    )
    return rows


def turbulent_rows() -> list[tuple]:
    """Cost of a RANS residual, of its parts and of what is done with it, in us a cell and in residuals."""
    rows = []
    mesh = mesh_airfoil(Airfoil.naca("0012"), 160, 72, farfield=20.0, first_height=5e-6, wake=32)
    n = mesh.n_cells
    for model in ("sa", "sst"):
        air = Freestream(mach=0.15, reynolds=6e6, alpha=10.0)
        level = DiscreteProblem(FlowProblem(mesh, air, mesh.reference, Numerics(), model))
        q = initial_state(mesh, level.law, level.scales.freestream, 1.0, True)
        now = level.evaluate(q)
        level.linearise(now)
        jacobian, preconditioner = level.jacobian, level.preconditioner
        jacobian.set_inertia(jacobian.wave_sum() / 100.0)
        preconditioner.update(jacobian)
        v = np.ones((n, len(level.domain.axes)), dtype=np.float32)
        w = np.empty_like(v)
        for threads in (1, 2):
            numba.set_num_threads(min(threads, numba.config.NUMBA_NUM_THREADS))  # type: ignore[attr-defined]
            unit = best(functools.partial(level.residual, q))
            target = "<= 0.35 (aim 0.15)" if threads == 2 else ""
            rows.append(
                (
                    f"residual, 2-D RANS ({model.upper()}), {threads} thread(s)",
                    f"{1e6 * unit / n:.3f} us/cell",
                    target,
                    "",
                )
            )
            costs = {
                "Jacobian product": best(functools.partial(jacobian.product, v, w), 8),
                "ILU(1) solve": best(functools.partial(preconditioner.solve, v, w), 8),
                "face and source Jacobians": best(functools.partial(level.linearise, now), 4),
                "assembly and factors": best(functools.partial(preconditioner.update, jacobian), 4),
            }
            words = ", ".join(f"{name} {cost / unit:.1f}" for name, cost in costs.items())
            rows.append((f"the same, in residuals ({model.upper()}, {threads} thread(s))", "", "", words))
    return rows


# one solve in a process of its own, so that its memory is its own
READ = """
import json, sys, time
import zephyrum as zy

def peak(what="VmHWM"):  # of this process alone [kB]; getrusage tells the parent's
    return next(int(line.split()[1]) for line in open("/proc/self/status") if line.startswith(what))
"""
REPORT_CODE = """
h = s.history
print(json.dumps({"cells": mesh.n_cells, "outcome": s.outcome, "CL": s.forces.CL, "CD": s.forces.CD, "steps":
int(h.column("step", 0)[-1]),
    "krylov": int(h.column("krylov", 0).sum()), "seconds": s.flow.seconds, "memory": (peak() - before) / 1024.0,
    **more}))
"""
# a section: argv = alpha, around, outward, wake, first height
ALONE = f"""{READ}
alpha, around, outward, wake, first = (float(word) for word in sys.argv[1:])
foil, size = zy.Airfoil.naca("0012"), (int(around), int(outward))
mesh = zy.mesh_airfoil(foil, *size, farfield=20.0, first_height=first, wake=int(wake))
before, more = peak(), {{}}
s = zy.solve(mesh, zy.Freestream(mach=0.15, reynolds=6e6, alpha=alpha), "sa")
{REPORT_CODE}"""
# the whole Skerry: argv = model, cells, y+
IN_SPACE = f"""{READ}
from importlib import resources
model, cells, y_plus = sys.argv[1], int(sys.argv[2]), float(sys.argv[3])
craft = zy.Aircraft.read(resources.files("zephyrum") / "data" / "skerry-mailplane.toml")
begin = time.perf_counter()
mesh = zy.mesh_aircraft(craft, cells=cells, **({{"y_plus": y_plus, "reynolds": 8e6}} if model != "euler" else {{}}))
more = {{"made": time.perf_counter() - begin, "mesher": peak() / 1024.0}}
before = peak("VmRSS")
air = zy.Freestream(mach=0.2, altitude="5000 ft", alpha=4.0, length=mesh.reference.chord)
s = zy.solve(mesh, air, model, numerics=zy.Numerics(residual_drop=4))
{REPORT_CODE}"""
# the mesh of the whole Skerry: argv = cells
MESHED = f"""{READ}
from importlib import resources
from zephyrum.mesh.clipped_3d.generation import OuterMesh
craft = zy.Aircraft.read(resources.files("zephyrum") / "data" / "skerry-mailplane.toml")
zy.mesh_aircraft(craft, 3.0, y_plus=1.0, reynolds=8e6)  # kernels compiled
filled, cubes, taken = OuterMesh.filled, 0, 0.0

def watched(*of):
    global cubes, taken
    begin = time.perf_counter()
    made = filled(*of)
    cubes, taken = cubes + len(made[1].leaves), taken + time.perf_counter() - begin
    return made

OuterMesh.filled = watched
begin = time.perf_counter()
mesh = zy.mesh_aircraft(craft, cells=int(sys.argv[1]), y_plus=1.0, reynolds=8e6, coarse_levels=0)
seconds = time.perf_counter() - begin
found = {{"cells": mesh.n_cells, "seconds": seconds, "memory": peak() * 1024.0, "cubes": cubes, "taken": taken}}
print(json.dumps(found))
"""
TRIAL = {  # CL, CD of the trial the solver was planned on (16k cells, then 64k)
    (0.0, 16): (0.0, 0.00827),
    (10.0, 16): (1.082, 0.01269),
    (15.0, 16): (1.514, 0.02251),
    (0.0, 64): (0.0, 0.00818),
    (10.0, 64): (1.087, 0.01232),
    (15.0, 64): (1.535, 0.02132),
}


def cold_rows() -> list[tuple]:
    """NACA 0012 with Spalart-Allmaras from a cold start on 16k and 64k cells: coefficients, work, time, memory."""
    rows = []
    for sizes in ((160, 72, 32, 5e-6), (320, 144, 64, 2.5e-6)):
        for alpha in (0.0, 10.0, 15.0):
            words = [sys.executable, "-c", ALONE, str(alpha), *map(str, sizes)]
            made = json.loads(subprocess.run(words, capture_output=True, text=True, check=True).stdout)
            lift, drag = TRIAL[alpha, made["cells"] // 1000]
            rows.append(
                (
                    f"NACA 0012, SA, {made['cells']} cells, alpha {alpha:g}, cold: {made['outcome']}",
                    f"{made['seconds']:.1f} s",
                    "<= 12 s" if sizes[0] == 160 else "",
                    f"CL {made['CL']:.4f}, CD {made['CD']:.5f} (trial {lift:g}, {drag:g}); {made['steps']} steps, "
                    f"{made['krylov']} Krylov "
                    f"iterations on the finest mesh; {made['memory']:.0f} MB more, "
                    f"{1024.0 * made['memory'] / made['cells']:.1f} kB a cell",
                )
            )
    return rows


def mesh_rows() -> list[tuple]:
    """A million cells with wall layers about half the Skerry: time, memory, rate of octree and clipping."""
    words = [sys.executable, "-c", MESHED, "1000000"]
    made = json.loads(subprocess.run(words, capture_output=True, text=True, check=True).stdout)
    return [
        (f"mesh of the Skerry, half, y+ 1, {made['cells']:,} cells", f"{made['seconds']:.0f} s", "<= 60 s", ""),
        (
            "its octree and clipping",
            f"{made['cubes'] / made['taken'] / 1e3:.0f}k cubes a second",
            ">= 100k",
            f"{made['cubes']:,} cubes in {made['taken']:.1f} s",
        ),
        (
            "its peak memory",
            f"{made['memory'] / made['cells'] * 1e-3:.2f} GB a million cells",
            "<= 1.5 GB",
            "the whole process",
        ),
    ]


def space_rows() -> list[tuple]:
    """The whole Skerry at alpha 4 deg, inviscid and turbulent, from a cold start: time of mesh and flow, memory."""
    rows = []
    for model, cells in (("euler", 150_000), ("sa", 150_000)):
        words = [sys.executable, "-c", IN_SPACE, model, str(cells), "1.0"]
        made = json.loads(subprocess.run(words, capture_output=True, text=True, check=True).stdout)
        n = made["cells"]
        rows.append(
            (
                f"Skerry, half, {'inviscid' if model == 'euler' else 'SA, y+ 1'}, {n:,} cells, cold: {made['outcome']}",
                f"{made['seconds']:.0f} s",
                "",
                f"CL {made['CL']:.4f}, CD {made['CD']:.5f}; {made['steps']} steps, {made['krylov']} Krylov iterations "
                f"on the finest mesh; mesh {made['made']:.0f} s",
            )
        )
        rows.append(
            (
                "memory of that solve, beyond the process with its mesh",
                f"{1024.0 * made['memory'] / n:.1f} kB a cell",
                "<= 10 kB a cell (aim 4)",
                f"{made['memory']:.0f} MB; the mesher's peak {made['mesher']:.0f} MB",
            )
        )
    return rows


def profile_rows() -> list[tuple]:
    """Where the time of a RANS solve goes: time within each part over that of the whole."""
    mesh = mesh_airfoil(Airfoil.naca("0012"), 160, 72, farfield=20.0, first_height=5e-6, wake=32)
    air = Freestream(mach=0.15, reynolds=6e6, alpha=10.0)
    watch = cProfile.Profile()
    watch.runcall(solve, mesh, air, "sa")
    stats = pstats.Stats(watch).stats  # type: ignore[attr-defined]

    def spent(file: str, name: str) -> float:
        found = [row[3] for (path, _, own), row in stats.items() if own == name and path.endswith(f"flow/{file}.py")]
        assert found, f"{file}.{name} is not called: it has another name now"
        return sum(found)

    total = max(row[3] for row in stats.values())
    fractions = {
        "Jacobian products": spent("discretization/jacobian", "product"),
        "preconditioner's solves": spent("linear/block_ilu", "solve"),
        "face Jacobians": spent("discretization/jacobian", "linearise"),
        "assembly and factors": spent("linear/block_ilu", "update"),
        "residuals": spent("nonlinear/discrete_problem", "evaluate"),
    }
    fractions["Krylov vectors"] = (
        spent("linear/gmres", "gmres") - fractions["Jacobian products"] - fractions["preconditioner's solves"]
    )
    fractions = {name: seconds / total for name, seconds in fractions.items()}
    fractions["rest (domains, start, forces)"] = 1.0 - sum(fractions.values())
    words = ", ".join(
        f"{name} {100 * fraction:.0f} %" for name, fraction in sorted(fractions.items(), key=lambda row: -row[1])
    )
    return [("where the time of a RANS solve goes (SA, 16k cells, alpha 10)", f"{total:.1f} s", "", words)]


def start_rows() -> list[tuple]:
    """First import to first solved steps, with an empty and with a full kernel cache."""
    with tempfile.TemporaryDirectory() as cache:
        environment = os.environ | {"NUMBA_CACHE_DIR": cache}
        cold, warm = (
            float(
                subprocess.run(
                    [sys.executable, "-c", FIRST], env=environment, capture_output=True, text=True, check=True
                ).stdout
            )
            for _ in range(2)
        )
    return [
        ("cold start (import to first Newton steps)", f"{cold:.1f} s", "<= 90 s (aim 25)", ""),
        ("warm start", f"{warm:.2f} s", "<= 3 s (aim 1)", ""),
    ]


PARTS = {
    "start": start_rows,
    "residual": residual_rows,
    "airfoil": airfoil_rows,
    "turbulent": turbulent_rows,
    "profile": profile_rows,
    "cold": cold_rows,
    "mesh": mesh_rows,
    "space": space_rows,
}


def main(names: list[str]) -> None:
    """Run all and write docs/benchmarks.md, or only print the parts named."""
    head = (
        f"# Benchmarks\n\nMade by `make benchmarks` on {platform.machine()}, {os.cpu_count()} cores, Python "
        f"{platform.python_version()}, numba {numba.__version__}.\n\n| what | measured | target | note "
        f"|\n|---|---|---|---|\n"
    )
    lines = []
    for name in names or PARTS:
        for row in PARTS[name]():
            lines.append("| " + " | ".join(row) + " |")
            print(lines[-1], flush=True)
    if names:
        return
    Path(__file__).parents[1].joinpath("docs", "benchmarks.md").write_text(
        head + "\n".join(lines) + "\n", encoding="utf-8"
    )


if __name__ == "__main__":
    main(sys.argv[1:])
