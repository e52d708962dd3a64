"""Measured effect of every tuned number of `Numerics`: `python -m validation.tuned_numbers [cfl cfl.initial ...]`.

Each number is halved and doubled, one at a time, on a set of cases: those of three-dimensional viscous flow on the one
case of that kind, the others on the other cases. The work of a run is counted, not timed: Krylov
vectors plus `STEP_WORK` for every Newton step, times the cells of its mesh over those of the finest, so that the table
does not depend on the machine. Rows go into docs/tuned_numbers.md; those of numbers that are not run are kept.
"""

import dataclasses
import math
import re
import sys
from collections.abc import Callable
from pathlib import Path

import zephyrum as zy
from zephyrum.flow import TimeIntegration, TimeSteps, integrate_in_time
from zephyrum.flow.nonlinear.numerics import POLICIES
from zephyrum.results.solution import Solution

STEP_WORK = 12.0  # Krylov vectors that one linearisation with its factors and residuals is worth
SAME_WORK = 0.02  # relative change of the work that counts as an effect
KEPT = ("mode", "order", "turbulence_order", "gradient", "kappa")  # choices, not tuned numbers
TABLE = Path(__file__).parents[1] / "docs" / "tuned_numbers.md"
HEAD = """# Tuned numbers

Made by `python -m validation.tuned_numbers`. Each number of `zephyrum.Numerics` is halved and doubled, one at a time,
on {count} cases: {cases}. The work is that of the changed number over that of the default, in the case in which it
differs most from 1; "fails" and "oscillates" are outcomes that the default has not. A number without effect on these
cases is a limit that only harder cases reach: without `linear_solver.loosest_tolerance`, which has no effect here, one
of the five flows about the flapped section at Mach 0.75 (`make robustness`) no longer converges.

| number | default | meaning | half: work | twice: work | most affected case |
|---|---|---|---|---|---|
"""


def _section(model: str, mach: float, alpha: float, reynolds: float | None) -> Callable[[zy.Numerics], Solution]:
    height = None if model == "euler" else 1e-5
    topology = "O" if model == "euler" else "C"
    mesh = zy.mesh_airfoil(zy.Airfoil.naca("2412"), 96, 32, topology=topology, first_height=height)
    air = zy.Freestream(mach=mach, alpha=alpha, reynolds=reynolds)
    return lambda numerics: zy.solve(mesh, air, model, numerics=numerics)


def _body(model: str, mach: float) -> Callable[[zy.Numerics], Solution]:
    rod = zy.remesh(zy.Body.ellipsoid(1.0, 0.2).surface(), 300, stretch=3.0).surface
    unit = zy.Reference(0.03, 1.0, 1.0, (0.0, 0.0, 0.0))
    layers = None if model == "euler" else (3e-5, 1.8, 8)
    mesh = zy.mesh_surface(rod, farfield=4.0, growth=0.8, layers=layers, reference=unit)
    air = zy.Freestream(mach=mach, alpha=4.0, reynolds=None if model == "euler" else 1e6)
    drop = 4.0 if model == "euler" else 2.5
    return lambda numerics: zy.solve(mesh, air, model, numerics=dataclasses.replace(numerics, residual_drop=drop))


def _circle() -> Callable[[zy.Numerics], TimeIntegration]:
    mesh = zy.mesh_outline(zy.Outline.circle(1.0), 64, 32, first_height=0.01)
    air = zy.Freestream(mach=0.1, reynolds=100.0)
    steps = TimeSteps(length=1.0, count=20)  # of a tenth of the distance travelled, in diameters

    def run(numerics: zy.Numerics) -> TimeIntegration:
        return integrate_in_time(zy.Case(mesh, air, "laminar", numerics=numerics).problem(), steps)

    return run


CASES = {
    "section, SA, alpha 4": lambda: _section("sa", 0.2, 4.0, 3e6),
    "section, SA, alpha 15": lambda: _section("sa", 0.2, 15.0, 3e6),
    "section, Euler, Mach 0.8": lambda: _section("euler", 0.8, 1.25, None),
    "section, SA, Mach 0.75": lambda: _section("sa", 0.75, 2.0, 3e6),
    "section, SST, alpha 10": lambda: _section("sst", 0.2, 10.0, 3e6),
    "slender body, Euler": lambda: _body("euler", 0.3),
    "slender body, SA": lambda: _body("sa", 0.3),
    "circle in time": _circle,
}
IN_TIME = ("circle in time",)
# numbers that act in three-dimensional viscous flow only, and the case that they are varied on
LAYERS_CASE = "slender body, SA"
LAYERS_ONLY = {
    "cfl": (
        "prolonged",
        "boundary_layers",
        "at_rest",
        "max_growth_layers",
        "easy_vectors",
        "costly_vectors",
        "reduction_costly",
        "reduction_unsolved",
        "source_inertia_space",
    ),
    "line_search": (
        "free_cell_fraction",
        "max_turbulence_fall",
        "max_turbulence_rise",
        "free_turbulence_change",
        "max_residual_growth",
    ),
    "linear_solver": ("max_vectors_early", "max_unsolved"),
    "start_up": ("max_iterations_viscous", "thinner_cell_ratio"),
    "limiter": ("smooth_variation_viscous",),
    "fallback": tuple(field.name for field in dataclasses.fields(zy.FirstOrderFallback)),
}


def concerned(policy: str, name: str, case: str) -> bool:
    """Whether a number is varied on a case."""
    if policy == "inner" or case in IN_TIME:
        return policy == "inner" and case in IN_TIME
    return (name in LAYERS_ONLY.get(policy, ())) == (case == LAYERS_CASE)


def outcome_of(solution: Solution | TimeIntegration) -> str:
    """How a run ended."""
    return str(solution.flow.outcome)


def work_of(solution: Solution | TimeIntegration) -> float:
    """Work of a run, in Krylov vectors on the finest mesh."""
    if isinstance(solution, TimeIntegration):
        return float((STEP_WORK * solution.rows[:, 4] + solution.rows[:, 5]).sum())
    history, mesh = solution.history, solution.mesh
    family = [one.n_cells for one in mesh.family()]
    levels = history.column("level").astype(int)
    cells = [family[min(level, len(family) - 1)] / family[0] for level in levels]
    return float(sum((STEP_WORK + k) * share for k, share in zip(history.column("krylov"), cells)))


def varied(numerics: zy.Numerics, policy: str, name: str, factor: float) -> zy.Numerics | None:
    """Numerics with one number times a factor, within its range; None if that changes nothing."""
    old = getattr(numerics, policy)
    value = getattr(old, name) * factor
    if isinstance(getattr(old, name), int):
        value = max(1, round(value))
    low, high, *_ = (*getattr(type(old), "RANGES", {}).get(name, (0.0,)), math.inf)
    value = type(getattr(old, name))(min(max(value, low), high))
    if value == getattr(old, name):
        return None
    try:
        return dataclasses.replace(numerics, **{policy: dataclasses.replace(old, **{name: value})})
    except zy.InputError:  # it contradicts another number
        return None


def measured(run: Callable, numerics: zy.Numerics, base) -> tuple[float, str]:
    """(work over that of the default, what else changed)."""
    try:
        made = run(numerics)
    except zy.ZephyrumError as cause:
        return math.inf, type(cause).__name__
    ratio = work_of(made) / work_of(base)
    if outcome_of(made) != outcome_of(base):
        return ratio, {"failed": "fails", "oscillating": "oscillates"}.get(outcome_of(made), outcome_of(made))
    return ratio, ""


def meaning(policy: str, name: str) -> str:
    """Unit and first sentence of the description of a number."""
    text = re.sub(r"\s+", " ", POLICIES[policy].__doc__ or "")
    found = re.search(rf" {name} : \w+ (\[[^\]]*\] .*?\.)(?: |$)", text)
    return found[1] if found else ""


def rows_of(policy: str, names: list[str], old: dict[str, str], cases: dict) -> list[str]:
    """Rows of the table for one policy; those of numbers that `names` leaves out are the old ones."""
    rows, default = [], zy.Numerics()
    for field in dataclasses.fields(POLICIES[policy]):
        if field.name in KEPT:
            continue
        key = f"{policy}.{field.name}"
        if names and policy not in names and key not in names:
            rows += [old[key]] if key in old else []
            continue
        cells, affected, largest = [], "none of them", SAME_WORK
        for factor in (0.5, 2.0):
            numerics, worst, text = varied(default, policy, field.name, factor), 0.0, "1.00"
            for case, (run, base) in cases.items():
                if numerics is None or not concerned(policy, field.name, case):
                    continue
                ratio, outcome = measured(run, numerics, base)
                effect = math.inf if outcome else abs(math.log(ratio))
                if effect > worst:
                    worst, text = effect, outcome or f"{ratio:.2f}"
                if effect > largest:
                    largest, affected = effect, case
            cells.append(text if numerics is not None else "same")
        about = meaning(policy, field.name)
        row = f"| `{key}` | {field.default:g} | {about} | {cells[0]} | {cells[1]} | {affected} |"
        print(row, flush=True)
        rows.append(row)
    return rows


def main(names: list[str]) -> int:
    """Run and write the table, keeping the rows of numbers that are not run."""
    text = TABLE.read_text(encoding="utf-8") if TABLE.exists() else ""
    old = {found[1]: found[0] for found in re.finditer(r"^\| `([\w.]+)` .*$", text, re.M)}
    rows = {name: [row for key, row in old.items() if key.split(".")[0] == name] for name in POLICIES}
    chosen = [name for name in POLICIES if not names or name in (one.split(".")[0] for one in names)]
    cases = {}
    for case, make in CASES.items():
        run = make()
        base = run(zy.Numerics())
        print(f"{case}: {outcome_of(base)}, work {work_of(base):.0f}", flush=True)
        cases[case] = run, base
    for policy in chosen:
        rows[policy] = rows_of(policy, names, old, cases)
        lines = [line for name in POLICIES for line in rows[name]]
        head = HEAD.format(count=len(CASES), cases="; ".join(CASES))
        TABLE.write_text(head + "\n".join(lines) + "\n", encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
