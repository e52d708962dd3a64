"""The section of the Skerry's wing with its boundary layers: polars, transition, a laminar bubble, a flap."""

import sys
from pathlib import Path

import numpy as np

import zephyrum as zy
from zephyrum.plotting import draw_panel_polar
from zephyrum.plotting.style import save


def main(folder: Path) -> None:
    """Write polars.csv and section_polar.png."""
    foil = zy.Airfoil.naca("4415")
    polar = zy.panel_polar(foil, np.arange(-4.0, 15.0, 2.0), 6.5e6)  # 120 kt at sea level, chord 1.6 m
    print(polar)
    print(f"lift slope {polar.lift_slope:.4f} per degree, zero lift at {polar.zero_lift:.2f} deg")
    for flow in polar.flows[::3]:
        print(flow)
    tripped = zy.panel_polar(foil, [4.0], 6.5e6, options=zy.LayerOptions(trip_upper=0.05, trip_lower=0.05)).flows[0]
    free = next(flow for flow in polar.flows if flow.alpha == 4.0)
    print(f"insects on the nose cost {1e4 * (tripped.cd - free.cd):.0f} counts at 4 deg")
    flapped = zy.panel_polar(foil.with_flap(0.75, 10.0), [0.0], 6.5e6).flows[0]
    level = next(flow for flow in polar.flows if flow.alpha == 0.0)
    print(f"a flap of 25 % at 10 deg gives {flapped.cl - level.cl:+.3f} of lift at 0 deg")
    model = zy.panel_polar(foil, [2.0, 4.0], 3e5)  # a model of 1:10 in a slow tunnel
    print(f"laminar bubble of the model: {np.round(model.flows[1].bubbles[0], 2)} chords")
    family = zy.polar_family({"root": foil, "tip": zy.Airfoil.naca("4412")}, [0.0, 4.0], [3e6, 6.5e6])
    family.to_csv(folder / "polars.csv", index=False)
    save(draw_panel_polar(polar), folder / "section_polar.png")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
