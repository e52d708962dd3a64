"""Error bars of mesh studies against known answers: `python -m validation.error_bars` writes docs/error_bars.md.

Every quantity is computed on five meshes; each three that follow each other give a value with its bar, as `refine` does
with three levels. An answer is exact, or that of the same scheme on a mesh with half the size of the finest.
"""

import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

import zephyrum as zy
from validation.cases import oblique_shock
from validation.far_field import BESIDE, EFFICIENCY, RECTANGLE
from validation.potential import MappedAirfoil
from zephyrum.flow import Numerics
from zephyrum.studies.grid_convergence import mean_size
from zephyrum.studies.mesh_error import estimate

HEAD = """# Error bars against known answers

Made by `make error-bars`: values of three successive meshes out of five, with the bar that `refine` gives, against
the exact answer or that of a mesh with half the size of the finest. An error below 2e-6 (of drag 1e-5), which is that
of convergence, counts as held.

"""
SIZES = (192, 128, 96, 64, 48)  # cells round a section
FINE = 384
FACTORS = (1.2, 1.56, 2.03, 2.64, 3.43)  # on all sizes of a mesh in space
NOISE = 1e-5


@dataclass(frozen=True)
class Family:
    """run(size) gives the quantities and the mean size of the cells; exact: answers known, others from `fine`."""

    name: str
    run: Callable[[float], tuple[dict[str, float], float]]
    sizes: tuple[float, ...] = SIZES
    fine: float | None = FINE
    exact: tuple[tuple[str, float], ...] = ()


def _quantities(solution: zy.Solution, names: str) -> dict[str, float]:
    row = solution.row()
    return {name: float(row[name]) for name in names.split()}


def _mapped(shape: MappedAirfoil, alpha: float) -> Family:
    """CL and CD at Mach 0, by extrapolation in the square of the Mach number."""
    _, points = shape.surface(1601)
    foil = zy.Airfoil(points, "mapped")
    lift = shape.flow(alpha, 40001)[2]

    def run(n: float):
        mesh = zy.mesh_airfoil(foil, int(n), int(n) // 2, farfield=200.0, topology="O")
        slow, fast = (zy.solve(mesh, zy.Freestream(mach=mach, alpha=alpha)).forces for mach in (0.05, 0.10))
        return {"CL": (4.0 * slow.CL - fast.CL) / 3.0, "CD": (4.0 * slow.CD - fast.CD) / 3.0}, 1.0 / n

    return Family(f"conformal map, alpha {alpha:g}, inviscid", run, exact=(("CL", lift), ("CD", 0.0)))


def _section(mach: float, alpha: float, names: str, model: str = "euler", reynolds: float | None = None) -> Family:
    """NACA 0012."""

    def run(n: float):
        foil, n = zy.Airfoil.naca("0012"), int(n)
        if model == "euler":
            mesh = zy.mesh_airfoil(foil, n, n // 2, topology="O", farfield=100.0)
        elif model == "laminar":
            mesh = zy.mesh_airfoil(foil, n, n // 2, first_height=0.1 / n)
        else:
            mesh = zy.mesh_airfoil(foil, n, n // 2, y_plus=96.0 / n, reynolds=reynolds)
        air = zy.Freestream(mach=mach, alpha=alpha, **({} if reynolds is None else {"reynolds": reynolds}))
        return _quantities(zy.solve(mesh, air, model), names), 1.0 / n

    free = (("CD", 0.0),) if model == "euler" and mach < 0.7 else ()
    words = f", Re {reynolds:.3g}" if reynolds else ""
    return Family(f"NACA 0012, {model}, M {mach:g}, alpha {alpha:g}{words}", run, exact=free)


def _outline(outline: zy.Outline, name: str, reynolds: float | None = None) -> Family:
    """A circle in the plane with friction, or revolved without."""

    def run(n: float):
        n = int(n)
        if reynolds is None:
            mesh, air, model = zy.mesh_revolved(outline, n, n // 2, 40.0), zy.Freestream(mach=0.05), "euler"
        else:
            mesh, air, model = zy.mesh_outline(outline, n, n // 2, 60.0, 0.4 / n), None, "laminar"
            air = zy.Freestream(mach=0.1, reynolds=reynolds)
        numerics = Numerics(vortex=False)
        return {"CD": zy.solve(mesh, air, model, numerics=numerics).forces.CD}, 1.0 / n

    return Family(name, run, exact=(("CD", 0.0),) if reynolds is None else ())


def _shock() -> Family:
    def run(n: float):
        made = {row[1]: float(row[4]) for row in oblique_shock(int(n) // 2)}
        return {name: made[name] for name in ("p2/p1", "M2")}, 1.0 / n

    return Family("wedge of 10 deg, M 2", run, exact=(("p2/p1", 1.7066), ("M2", 1.6405)))


def _body_in_space(length: float) -> Family:
    surface = zy.Body.ellipsoid(length, 1.0).surface(tolerance=2e-5)
    reference = zy.Reference(np.pi / 4.0, 1.0, length, (0.5 * length, 0.0, 0.0), "typed")

    def run(factor: float):
        skin = zy.remesh(surface, int(6500 / factor**2), stretch=1.0).surface
        mesh = zy.mesh_surface(skin, farfield=12.0, growth=0.12 * factor, reference=reference)
        solution = zy.solve(mesh, zy.Freestream(mach=0.03), numerics=Numerics(residual_drop=5.0))
        return {"CD": solution.forces.CD}, mean_size(mesh, mesh)

    name = f"spheroid of length {length:g}, in space, inviscid"
    return Family(name, run, FACTORS, None, (("CD", 0.0),))


def _wing_in_space() -> Family:
    craft = zy.Aircraft(name="wing", parts={"wing": zy.Wing(planform=RECTANGLE, airfoil="NACA 0012")})

    def run(factor: float):
        mesh = zy.mesh_aircraft(craft, factor)
        s = zy.solve(mesh, zy.Freestream(mach=0.2, alpha=4.0), numerics=Numerics(residual_drop=4.0))
        drag = s.far_field_drag().CD / s.forces.CL**2
        return {"CL": s.forces.CL, "far-field CD / CL^2": drag}, mean_size(mesh, mesh)

    theory = 6.0 / (np.pi * EFFICIENCY * (RECTANGLE.span + BESIDE) ** 2)  # lifting line
    return Family("wing of aspect ratio 6, inviscid", run, FACTORS, 0.7, (("far-field CD / CL^2", theory),))


FAMILIES = (
    _mapped(MappedAirfoil(0.1, 0.1, 0.0), 2.0),
    _mapped(MappedAirfoil(0.1, 0.1, 0.0), 6.0),
    _mapped(MappedAirfoil(0.1, 0.05, 12.0), 3.0),
    _section(0.3, 2.0, "CL CD"),
    _section(0.63, 2.0, "CL CD"),
    _section(0.8, 1.25, "CL CD CD_far"),
    _section(0.85, 1.0, "CD CD_far"),
    _section(0.5, 2.0, "CL CD CM", "laminar", 5000.0),
    _section(0.2, 4.0, "CL CD CD_far CM", "sa", 6e6),
    _section(0.2, 4.0, "CL CD", "sst", 6e6),
    _outline(zy.Outline.circle(1.0), "circle, laminar, Re 40", 40.0),
    _outline(zy.Outline.circle(1.0), "sphere, axisymmetric, inviscid"),
    _shock(),
    _body_in_space(1.0),
    _body_in_space(2.0),
    _wing_in_space(),
)


def bars(family: Family) -> list[dict]:
    """Rows: quantity, resolution, value, bar, answer, error, ratio of bar and error, whether it holds."""
    made = [family.run(size) for size in family.sizes]
    known = dict(family.exact)
    if family.fine is not None and set(made[0][0]) - set(known):
        known = family.run(family.fine)[0] | known
    rows = []
    for name in made[0][0]:
        for k, resolution in enumerate(("fine", "medium", "coarse")):
            values, sizes = ([one[0][name] for one in made[k : k + 3]], [one[1] for one in made[k : k + 3]])
            found = estimate(name, values, sizes)
            error = abs(found.finest - known[name])
            rows.append(
                {
                    "case": family.name,
                    "quantity": name,
                    "meshes": resolution,
                    "value": found.finest,
                    "bar": found.error,
                    "answer": known[name],
                    "error": error,
                    "holds": error <= found.error or error < NOISE,
                    "order": found.order,
                }
            )
    return rows


def main(names: list[str]) -> int:
    """Run all families, or those whose names contain a word, and write the table; 0 if 9 of 10 bars hold."""
    begin, rows = time.perf_counter(), []
    for family in FAMILIES:
        if names and not any(word in family.name for word in names):
            continue
        rows += bars(family)
        print(family.name, [(row["quantity"], row["meshes"], row["holds"]) for row in rows[-3:]], flush=True)
    held = np.array([row["holds"] for row in rows])
    ratio = float(np.median([row["bar"] / max(row["error"], 1e-12) for row in rows if row["error"] >= NOISE]))
    quantities = len({(row["case"], row["quantity"]) for row in rows})
    words = (
        f"{quantities} quantities of {len({row['case'] for row in rows})} flows, {len(rows)} bars: {held.sum()} hold "
        f"({held.mean():.0%}); median bar {ratio:.1f} times the true error. {time.perf_counter() - begin:.0f} s.\n"
    )
    lines = ["| flow | quantity | meshes | value | bar | answer | error | order | bar holds |", "|" + "---|" * 9]
    for row in rows:
        lines.append(
            f"| {row['case']} | {row['quantity']} | {row['meshes']} | {row['value']:.6g} | {row['bar']:.2g} | "
            f"{row['answer']:.6g} | {row['error']:.2g} | {row['order']:.2f} | {'yes' if row['holds'] else '**no**'} |"
        )
    if not names:
        page = Path(__file__).parents[1] / "docs" / "error_bars.md"
        page.write_text(HEAD + words + "\n" + "\n".join(lines) + "\n", encoding="utf-8")
    print("\n".join(lines), "\n", words)
    return 0 if held.mean() >= 0.9 else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
