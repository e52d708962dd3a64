"""A convergent-divergent nozzle: Mach number, mass flow and thrust against one-dimensional flow."""

import sys
from pathlib import Path

import numpy as np

import zephyrum as zy


def main(folder: Path) -> None:
    """Run a nozzle of area ratio 1.8 at a pressure ratio of 8, and keep its solution."""
    x = np.linspace(0.0, 3.0, 31)
    down, up = np.clip(x, 0.0, 1.0), np.clip((x - 1.0) / 2.0, 0.0, 1.0)
    area = 1.5 + 0.5 * np.cos(np.pi * down) + 0.4 * (1.0 - np.cos(np.pi * up))  # over that of the throat
    mesh = zy.mesh_duct(np.stack([x, 0.15 * np.sqrt(area)], axis=1), along=96, across=16)
    air = zy.Freestream(mach=0.5, pressure=1e5, temperature=288.0)
    jet = zy.Exhaust(total_pressure=8e5, total_temperature=1000.0)
    solution = zy.solve(mesh, air, powered={"inlet": jet})

    account = solution.thrust_account()
    thrust = account.net_thrust - account.drag  # stream force of the inlet less the force of the walls along the stream
    leaving = solution.fields()["mach"][mesh.left[mesh.group("outlet").faces]].mean()
    choked = np.pi * 0.15**2 * air.gas.mass_flux(1.0, 8e5, 1000.0)
    print(f"{solution.outcome} ({solution.reason})")
    print(f"Mach number at the outlet {leaving:.3f}; in one dimension 2.077")
    print(f"mass flow {account.faces[0].mass_flow:.2f} kg/s; in one dimension {choked:.2f} kg/s")
    print(f"thrust {thrust / 1e3:.2f} kN")
    solution.save(folder / "nozzle.npz")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
