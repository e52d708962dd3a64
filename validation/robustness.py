"""Runs nobody watches over: sections x Reynolds numbers x Mach numbers x models x attitudes on coarse meshes.

`make robustness` (about half an hour on two cores) writes docs/robustness.md. Every run must end converged, or
oscillating with a reason; none may fail or hold a number that is not finite. Finished chains are kept in
validation/robustness.json, so that a run that was broken off goes on; remove that file to begin anew.
"""

import sys
import time

from validation.resumed import resumed

SECTIONS = ("thin", "thick", "cambered", "blunt tail", "flapped")
REYNOLDS = (5e4, 1e6, 2e7)
MACHS = (0.05, 0.3, 0.75)
MODELS = ("sa", "sst")
ALPHAS = (0.0, 6.0, 12.0, 18.0, -8.0)

HEAD = """# Robustness

Made by `make robustness`: five sections (NACA 0006, 0021, 6412, 2412 with a blunt tail, 2412 with a 20 deg flap),
Reynolds numbers 5e4, 1e6 and 2e7, Mach 0.05, 0.3 and 0.75, Spalart-Allmaras and SST, alpha -8 to 18 deg, on coarse
meshes (64 cells around), each chain started cold at alpha 0 and followed up and down, residuals to fall 6 orders.
Attached and stalled, subsonic and with strong shocks, nobody watching. S converged, s converged with the calmer
reconstruction (kappa = 0), i implausible, w oscillating, F failed. Deep stall and buffet are not steady flows:
oscillating is the right answer there.

"""


def foil_of(name: str):
    """The section."""
    import zephyrum as zy

    return {
        "thin": lambda: zy.Airfoil.naca("0006"),
        "thick": lambda: zy.Airfoil.naca("0021"),
        "cambered": lambda: zy.Airfoil.naca("6412"),
        "blunt tail": lambda: zy.Airfoil.naca("2412").blunted(0.01),
        "flapped": lambda: zy.Airfoil.naca("2412").with_flap(0.75, 20.0),
    }[name]()


def chain(task: tuple) -> tuple:
    """All attitudes of one (section, Reynolds, Mach, model): (task, {alpha: (mark, CL, CD, reason)}, seconds)."""
    import numpy as np

    import zephyrum as zy

    section, reynolds, mach, model = task
    begin = time.perf_counter()
    layers = zy.wall_layers(reynolds, 1.0, 1.35, 30.0)
    mesh = zy.mesh_airfoil(foil_of(section), 64, layers.count, farfield=30.0, first_height=layers.first_height)
    made, start = {}, {}
    for alpha in ALPHAS:
        near = min(
            (a for a in start if a * alpha >= 0.0 and abs(a) < abs(alpha)), key=lambda a: abs(a - alpha), default=None
        )
        air = zy.Freestream(mach=mach, reynolds=reynolds, alpha=alpha)
        s = zy.solve(
            mesh, air, model, numerics=zy.Numerics(residual_drop=6.0, max_iterations=60), start=start.get(near)
        )
        finite = bool(np.isfinite(s.flow.q).all() and np.isfinite([s.forces.CL, s.forces.CD]).all())
        mark = {
            "converged": "s" if any("kappa = 0" in note for note in s.notes) else "S",
            "implausible": "i",
            "oscillating": "w",
            "failed": "F",
        }[s.outcome]
        made[f"{alpha:+g}"] = (mark if finite else "N", s.forces.CL, s.forces.CD, s.reason)
        start[alpha] = s
    return task, made, time.perf_counter() - begin


def write(done: list[tuple]) -> str:
    """The table of what is done so far."""
    order = [f"{a:+g}" for a in sorted(ALPHAS)]
    marks = "".join(made[a][0] for _, made, _ in done for a in order)
    lines = [
        f"{len(done)} of {len(SECTIONS) * len(REYNOLDS) * len(MACHS) * len(MODELS)} chains, {len(marks)} runs: "
        f"{marks.count('S') + marks.count('s')} converged ({marks.count('s')} of them with the calmer "
        f"reconstruction), {marks.count('i')} implausible, {marks.count('w')} oscillating, "
        f"{marks.count('F')} failed, {marks.count('N')} not finite: "
        f"{100 * (marks.count('S') + marks.count('s')) / max(len(marks), 1):.0f} % converged.\n",
        "| section | model | Re | Mach | " + " | ".join(order) + " | CL at +12 | s | what oscillated |",
        "|---|---|---|---|" + "---|" * (len(order) + 3),
    ]
    for (section, reynolds, mach, model), made, seconds in sorted(
        done, key=lambda row: (SECTIONS.index(row[0][0]), row[0][3], row[0][1], row[0][2])
    ):
        bad = "; ".join(f"{a}: {made[a][3][:60]}" for a in order if made[a][0] not in "Ss")
        lines.append(
            f"| {section} | {model} | {reynolds:.0e} | {mach:g} | "
            + " | ".join(made[a][0] for a in order)
            + f" | {made['+12'][1]:.3f} | {seconds:.0f} | {bad} |"
        )
    return HEAD + "\n".join(lines) + "\n"


def printed(row) -> str:
    """One chain in a line."""
    return "".join(row[1][f"{a:+g}"][0] for a in sorted(ALPHAS)) + f" {row[2]:.0f} s"


def main() -> int:
    """Run all; 1 if anything failed or was not finite."""
    tasks = [
        (section, reynolds, mach, model)
        for mach in MACHS
        for reynolds in REYNOLDS
        for section in SECTIONS
        for model in MODELS
    ]
    done = resumed(__file__, tasks, chain, write, printed)
    return int(any(mark in "FN" for _, made, _ in done for mark, *_ in made.values()))


if __name__ == "__main__":
    sys.exit(main())
