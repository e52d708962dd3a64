"""The whole Skerry on large meshes, inviscid and turbulent: polar of five alphas, three meshes for the error bars, time
and memory.

`make flights` (hours; `python -m validation.flights inviscid` or `turbulent` for one) writes docs/flights.md. It goes
on where it was broken off: results are kept in validation/flights/, remove that folder to begin anew.
"""

import resource
import shutil
import sys
import time
from pathlib import Path

from zephyrum.flow.nonlinear.history import residual_decades

TOP = Path(__file__).parents[1]
HEAD = """# The Skerry on large meshes

Made by `make flights` on two cores: half model, Mach 0.2 at 5000 ft. Every point starts from its neighbour in alpha,
the first from coarser meshes; the error bars are of three meshes of one family (all sizes a factor 1.3 apart).

"""
STUDY = """title = "Skerry, {name}"
[aircraft]
file = "skerry-mailplane.toml"
[air]
altitude = "5000 ft"
[mesh]
cells = {cells}
[solver]
model = "{model}"
residual_drop = 4
[sweep]
mach = 0.2
alpha = [-2, 0, 2, 4, 6]
[refine]
mach = 0.2
alpha = 4
"""
KINDS = {"inviscid": ("euler", 800_000), "turbulent": ("sa", 1_000_000)}


def printed(label: str, row: dict) -> None:
    """Print one step of the march."""
    print(
        f"  {label} level {row['level']} step {row['step']} {row['seconds']:.0f} s: CFL {row['cfl']:.3g}, "
        f"{row['krylov']} vectors, down {residual_decades(row):.2f} orders, CL {row['CL']:.4f} CD {row['CD']:.5f}",
        flush=True,
    )


POINTS = ["| alpha [deg] | CL | CD | CM | outcome | orders | steps | s |", "|---" * 8 + "|"]


def written(name: str, text: str) -> None:
    """Keep the part of the page that tells of `name`, and put the page together anew."""
    stored = TOP / "validation" / "flights"
    (stored / f"{name}.md").write_text(text, encoding="utf-8")
    parts = [(stored / f"{kind}.md").read_text(encoding="utf-8") for kind in KINDS if (stored / f"{kind}.md").is_file()]
    (TOP / "docs" / "flights.md").write_text(HEAD + "\n".join(parts), encoding="utf-8")


def line(row: dict) -> str:
    """One point of the polar, as long as there are no error bars."""
    return (
        f"| {row['alpha']:g} | {row['CL']:.4f} | {row['CD']:.5f} | {row['CM']:+.4f} | {row['outcome']} | "
        f"{row['residual_drop']:.1f} | {row['steps']} | {row['seconds']:.0f} |"
    )


def flown(name: str) -> str:
    """Run one of KINDS and tell of it."""
    from zephyrum.studies import Observer, open_results, run_study

    model, cells = KINDS[name]
    folder = TOP / "validation" / "flights" / name
    folder.mkdir(parents=True, exist_ok=True)
    shutil.copyfile(TOP / "src/zephyrum/data/skerry-mailplane.toml", folder / "skerry-mailplane.toml")
    study = folder / "study.toml"
    study.write_text(STUDY.format(name=name, model=model, cells=cells), encoding="utf-8")
    begin = time.perf_counter()

    class Printer(Observer):
        """Prints what is done, and keeps the rows of the polar so far."""

        def planned(self, plan):
            print(plan, flush=True)

        def step(self, task, row):
            printed(task.label, row)

        def finished(self, task, row):
            print(
                f"{name}: {task.label} {row['outcome']}, CL {row['CL']:.4f}, CD {row['CD']:.5f}, {row['seconds']:.0f} "
                f"s",
                flush=True,
            )
            if task.job == "sweep":
                rows = list(open_results(folder).rows.values())
                lines = [line(row) for row in sorted(rows, key=lambda row: row["alpha"])]
                written(name, "\n".join([f"## {name.capitalize()}, broken off\n", *POINTS, *lines]) + "\n")

    study = run_study(study, folder, Printer())
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    lines = [
        f"## {name.capitalize()}, {study.mesh.n_cells:,} cells (starts on "
        f"{', '.join(f'{m.n_cells:,}' for m in study.mesh.family()[1:])})\n"
    ]
    lines.append(
        f"This run: {time.perf_counter() - begin:.0f} s, peak memory {memory:.1f} GB. "
        f"{'' if study.converged else 'Not everything converged. '}\n"
    )
    lines += ["| alpha [deg] | CL | +- | CD | +- | CM | outcome | orders | steps | s |", "|---" * 10 + "|"]
    for row in study.polar.table.to_dict("records"):
        lines.append(
            f"| {row['alpha']:g} | {row['CL']:.4f} | {row['CL error']:.2g} | {row['CD']:.5f} | {row['CD error']:.2g} | "
            f"{row['CM']:+.4f} | {row['outcome']} | {row['residual_drop']:.1f} | {row['steps']} | {row['seconds']:.0f} "
            f"|"
        )
    lines += ["", "| mesh | cells | CL | CD | CM | outcome | s |", "|---" * 7 + "|"]
    lines += [
        f"| {row.level} | {row.cells} | {row.CL:.4f} | {row.CD:.5f} | {row.CM:+.4f} | {row.outcome} | "
        f"{row.seconds:.0f} |"
        for row in study.refinement.table.itertuples()
    ]
    lines += [
        "",
        *(
            f"- {one.name}: {one.finest:.4f} +- {one.error:.2g}, {one.words}"
            for one in study.refinement.estimates.values()
        ),
    ]
    for one in study.derived:
        lines.append(
            f"- lift slope {one.slope[0]:.3f} / rad, static margin {100 * one.margin[0]:.1f} % chord, neutral point x "
            f"= {one.neutral[0]:.3f} m"
        )
    return "\n".join(lines) + "\n"


def main(names: list[str]) -> int:
    """Run those named and write the page; the parts of others are kept."""
    for name in names or KINDS:
        written(name, flown(name))
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
