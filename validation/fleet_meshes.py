"""Random aircraft in random attitudes meshed by one command, nobody watching, without layers and with.

`make fleet-meshes` (100 aircraft, coarse; `python -m validation.fleet_meshes 10` for fewer) writes
docs/fleet_meshes.md; finished ones are kept in validation/fleet_meshes.json, remove it to begin anew. The aircraft are
those of `validation.fleet`, turned by up to 180 deg about x and 20 deg about y and z, as whole models.
"""

import sys
import time

import numpy as np

from validation.fleet import aircraft
from validation.resumed import resumed

LAYERS = (2e-4, 1.3, 16)
HEAD = """# Random aircraft meshed

Made by `make fleet-meshes`: the aircraft of [fleet.md](fleet.md) in random attitudes, coarse whole models, inviscid
(two even layers) and with 16 layers from 0.2 mm. Every mesh passes `Mesh.check`: closed cells, positive volumes, the
volume of the domain. Coverage: points whose layers are at least half as thick as asked for. Tries: placements of the
grid until every check passed.

"""


def turned(skin, rng):
    """The surface in a random attitude."""
    from zephyrum.geometry.aircraft.part import attitude_matrix

    roll, pitch, yaw = rng.uniform(-180.0, 180.0), rng.uniform(-20.0, 20.0), rng.uniform(-20.0, 20.0)
    return skin.transformed(attitude_matrix(roll, pitch, yaw))


def one(seed: int) -> list:
    """[seed, name, [cells, tries, coverage, p99 non-orthogonality, worst, seconds, outcome] without layers and
    with].
    """
    import zephyrum as zy

    craft = aircraft(seed)
    row = [seed, craft.name]
    try:
        skin = turned(craft.surface(), np.random.default_rng(10_000 + seed))
    except zy.ZephyrumError as cause:
        return [*row, *[[0, 0, 0.0, 0.0, 0.0, 0.0, f"UNION: {cause}"]] * 2]
    for layers in (None, LAYERS):
        begin = time.perf_counter()
        try:
            mesh = zy.mesh_aircraft(skin, "coarse", layers=layers, farfield=5.0)
            angles = zy.quality(mesh).rows[0]
            row.append(
                [
                    mesh.n_cells,
                    mesh.recipe["tries"],
                    mesh.recipe["layer_coverage"],
                    angles[3],
                    angles[4],
                    time.perf_counter() - begin,
                    "valid",
                ]
            )
        except zy.ZephyrumError as cause:
            row.append([0, 0, 0.0, 0.0, 0.0, time.perf_counter() - begin, str(cause)])
    return row


def write(rows: list) -> str:
    """The page."""
    rows = sorted(rows)
    both = [run for row in rows for run in row[2:]]
    good = [run for run in both if run[6] == "valid"]
    lines = [f"{len(rows)} aircraft, {len(both)} meshes: {len(good)} valid, {len(both) - len(good)} refused.\n"]
    if good:
        lines.append(
            f"Of the valid ones: coverage at least {min(run[2] for run in good):.3f} (median "
            f"{np.median([run[2] for run in good]):.3f}), "
            f"tries at most {max(run[1] for run in good)}, {np.median([run[0] for run in good]):,.0f} cells and "
            f"{np.median([run[5] for run in good]):.0f} s in the median.\n"
        )
    lines += [
        "| number | tail | layers | cells | tries | coverage | non-orthogonality 99 % [deg] | worst [deg] | s | "
        "outcome |",
        "|---" * 10 + "|",
    ]
    for row in rows:
        for kind, run in zip(("-", "16"), row[2:], strict=True):
            lines.append(
                f"| {row[0]} | {row[1].split()[0]} | {kind} | {run[0]} | {run[1]} | {run[2]:.3f} | {run[3]:.1f} | "
                f"{run[4]:.1f} | {run[5]:.0f} | {run[6][:110]} |"
            )
    return HEAD + "\n".join(lines) + "\n"


def refused(row) -> str:
    """What the meshes of one aircraft were refused for."""
    return "; ".join(run[6] for run in row[2:] if run[6] != "valid")


def main(count: int) -> int:
    """Run all; 1 if any was refused."""
    rows = resumed(__file__, list(range(count)), one, write, refused)
    print(write(rows).split("\n|")[0].removeprefix(HEAD))
    return int(any(map(refused, rows)))


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]) if sys.argv[1:] else 100))
