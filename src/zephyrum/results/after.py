"""What looks wrong after a run: sentences with the likely cause, shown with the results and kept with them.

Bounds of the fields, plausibility of the coefficients, convergence, y+, cells of first order, drag that only the mesh can have made. Nothing
here changes a number. Verified by tests/test_verdicts.py and tests/test_space.py.
"""

import numpy as np

from zephyrum.air import Freestream
from zephyrum.flow.turbulence import WALL_MODELS

COARSE_WALL = 5.0  # y+ of a first cell that is out of the viscous sublayer
PLAIN_WALL = 0.01  # share of the wall's area in first order that is told
EXCESS = 1e-3  # drag above the induced one that an inviscid body in space may have


def complaints(solution) -> list[str]:
    """Sentences on what looks wrong, with the likely cause; empty if nothing does."""
    found = list(solution.notes)
    if solution.verdict != "settled":
        found.append(f"the run ended {solution.verdict}: {solution.reason}.")
    if solution.verdict == "wandering":
        found.append(_swinging(solution))
    for row in extremes(solution).itertuples():
        if not row.holds:
            found.append(
                f"{row.field} {row.extreme} {row.value:.4g} at x = {row.x:.4g}, z = {row.z:.4g} m is beyond the physical bound {row.bound:.4g}: look at the mesh there."
            )
    c = solution.forces.coefficients()
    if (plain := solution.wall_of_first_order) > PLAIN_WALL:
        found.append(
            f"the cells at {100 * plain:.1f} % of the wall's area are computed in first order, since they would not settle in second: drag and "
            "pressures carry more mesh error there; refine the mesh, or prove it with a mesh study."
        )
    if solution.viscous and solution.model in WALL_MODELS:
        coarse, largest = solution.wall_out_of_range()
        if coarse > 0.05:
            found.append(
                f"y+ is above {COARSE_WALL:g} on {100 * coarse:.0f} % of the wall's area (largest {largest:.2g}): mesh with a smaller first_height."
            )
    if (
        not solution.viscous
        and solution.mesh.dimension == 2
        and solution.air.mach < 0.5
        and abs(solution.air.alpha) < 8
        and solution.verdict == "settled"
        and c["CD"] > 0.005 + 0.02 * c["CL"] ** 2
    ):
        found.append(
            f"an inviscid section at this Mach number has no drag, but CD is {c['CD']:.4f}: the mesh is too coarse at nose or tail."
        )
    if not solution.mesh.planar and solution.verdict == "settled":
        found += _implausible(c, solution.air)
    if not solution.viscous and not solution.mesh.planar and solution.air.mach < 0.5 and c["CL"] != 0.0:
        load = solution.span_loading()
        excess = c["CD"] - load.induced
        if excess > max(EXCESS, 0.1 * load.induced) and load.induced > 0.0:
            found.append(
                f"CD of the surface pressures {c['CD']:.4f} is {excess:.4f} above the induced drag of the span loading: without friction and "
                "shocks that is error of the mesh (or separation at a sharp corner); refine it, or trust the induced drag."
            )
    return found


def _swinging(solution) -> str:
    """What a wandering run does, and what to do about it."""
    swing, period = solution.swing(), solution.history.period()
    cycle = "without a clear period" if np.isnan(period) else f"about every {period:.0f} steps of the march"
    words = f"CL swings by +-{swing['CL'][1]:.2g} about {swing['CL'][0]:.4g}, CD by +-{swing['CD'][1]:.2g} about {swing['CD'][0]:.4g}, {cycle}"
    return f"{words}; to see whether the flow itself swings, follow it in time with solve_in_time(..., start=this solution)."


def extremes(solution):
    """DataFrame of the extremes of the fields with their places, the physical bound of each, and whether it holds.

    Bounds (inviscid, steady): total temperature and total pressure of the freestream limit temperature, pressure and
    Cp from above (total pressure only downstream of no shock, so as an upper bound); vacuum from below.
    """
    import pandas as pd

    air, fields, c = solution.air, solution.fields(), solution.mesh.cell_centroid
    bounds = {"pressure": (0.0, air.pressure * air.gas.pitot_pressure_ratio(air.mach) if air.mach <= 1 else air.total_pressure),
              "temperature": (0.0, air.total_temperature), "cp": (air.cp_vacuum, air.cp_stagnation), "mach": (0.0, np.inf)}  # fmt: skip
    units = {"pressure": "Pa", "temperature": "K", "cp": "-", "mach": "-"}
    rows = []
    for name, (low, high) in bounds.items():
        slack = 0.02 * ((high - low) if np.isfinite(high) else 1.0)
        for kind, pick, bound in (("min", np.argmin, low), ("max", np.argmax, high)):
            k = int(pick(fields[name]))
            value = float(fields[name][k])
            holds = value >= low - slack if kind == "min" else value <= high + slack
            rows.append(
                {
                    "field": name,
                    "unit": units[name],
                    "extreme": kind,
                    "value": value,
                    "x": c[k, 0],
                    "z": c[k, 2],
                    "bound": bound,
                    "holds": bool(holds),
                }
            )
    return pd.DataFrame(rows)


def _implausible(c: dict[str, float], air: Freestream) -> list[str]:
    """Sentences on coefficients of a body in space that no aircraft has, with the likely cause."""
    out = []
    if c["CD"] < 0.0:
        out.append(f"CD is negative ({c['CD']:.4g}): the mesh is too coarse, or the nose does not point to -x.")
    if abs(c["CL"]) > 0.1 and c["CD"] > 2.0 * abs(c["CL"]) and abs(air.alpha) < 30.0:
        out.append(f"CD {c['CD']:.3g} is {c['CD'] / abs(c['CL']):.2g} times CL: are nose and up right (x aft, z up), and is the reference area that of the wing?")  # fmt: skip
    if c["CD"] > 1e-4 and abs(c["CL"]) / c["CD"] > 120.0:
        out.append(f"L/D is {abs(c['CL']) / c['CD']:.0f}, beyond any aircraft: drag is missing, or alpha is far off.")
    if abs(c["CL"]) > 5.0:
        out.append(f"CL is {c['CL']:.3g}: the reference area is likely too small, or in another unit.")
    if c["CL"] * air.alpha < 0.0 and abs(air.alpha) > 8.0:
        out.append(f"CL is {c['CL']:.3g} at alpha {air.alpha:g} deg: is the body upside down, or tail first?")
    return out
