"""What looks wrong after a run: sentences with the likely cause, shown with the results and kept with them.

Bounds of the fields, plausibility of the coefficients, convergence, y+, cells of first order, drag that only the mesh
can have made. Nothing here changes a number. Verified by tests/test_verdicts.py and tests/test_space.py.
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum.conditions import Freestream
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.turbulence import VISCOUS_MODELS
from zephyrum.results.far_field_drag import drag_columns
from zephyrum.solver.powered import highest_totals

if TYPE_CHECKING:
    from zephyrum.results.solution import Solution


CIRCLE_WAKE, SPHERE_WAKE = 47.0, 212.0  # Reynolds numbers on the width above which laminar wakes are unsteady
# factor between the y+ asked for and the median on the wall that is reported: flat-plate friction is a fair guess only
Y_PLUS_OFF = 2.5
WIDE_WAKE = 0.5  # width of a separated wake over that of the body above which it is one of a bluff body
COARSE_WALL = 5.0  # y+ of a first cell that is out of the viscous sublayer
PLAIN_WALL = 0.01  # fraction of the wall's area in first order that is reported
# CD of an inviscid subsonic section, beside 2 % of CL^2, that is reported to be error of a coarse mesh, and from which
# on the flow is another one
AHEAD = 0.5  # reference chords ahead of the body at which the turbulence of the stream is reported
FREE_DRAG = 5e-3, 2e-2
LEAST_DRAG = 2e-3  # negative CD of an inviscid flow that may be error of a coarse mesh
EXCESS_HEAT = 0.25  # of the temperature of the stream: above the total temperature that errors of a mesh do not explain
EXCESS_CP = 0.25  # the same of Cp above that of a stagnation point,
LOW_REYNOLDS_PITOT = 20.0  # of Cp times Re
EXCESS_AREA = 0.005  # on more than this fraction of the wall: single cells at a coarse nose are reported by `extremes`
# spurious drag that a body in space may have before it is reported, and fraction of the far-field drag
EXCESS, EXCESS_FRACTION = 1e-3, 0.25


def result_warnings(solution: "Solution") -> list[str]:
    """Sentences on what looks wrong, with the likely cause; empty if nothing does.

    Parameters
    ----------
    solution : Solution
        Solution.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
    >>> result_warnings(solution), implausibilities(solution)
    ([], [])
    """
    found = list(solution.notes)
    if solution.flow.outcome != Outcome.CONVERGED:
        found.append(f"the run ended {solution.outcome}: {solution.reason}.")
    found += [f"implausible: {sentence}." for sentence in solution.implausible]
    if solution.outcome == Outcome.OSCILLATING:
        found.append(_unsteady_residuals(solution))
    for row in extremes(solution).itertuples():
        if not row.holds:
            found.append(
                f"{row.field} {row.extreme} {row.value:.4g} at x = {row.x:.4g}, z = {row.z:.4g} m is beyond the "
                f"physical bound {row.bound:.4g}: look at the mesh there."
            )
    c = solution.forces.coefficients()
    if (plain := solution.wall_of_first_order) > PLAIN_WALL:
        found.append(
            f"the cells at {100 * plain:.1f} % of the wall's area are computed in first order, since they would not "
            f"converge in second: drag and "
            "pressures carry more mesh error there; refine the mesh, or prove it with a mesh study."
        )
    if solution.viscous and solution.model in VISCOUS_MODELS:
        coarse, largest = solution.wall_out_of_range()
        if coarse > 0.05:
            found.append(
                f"y+ is above {COARSE_WALL:g} on {100 * coarse:.0f} % of the wall's area (largest {largest:.2g}): mesh "
                f"with a smaller first_height."
            )
        found += _other_y_plus(solution)
        found += _turbulence_ahead(solution)
    if solution.model == "laminar" and solution.mesh.planar and solution.flow.outcome == Outcome.CONVERGED:
        found += _laminar_wake(solution)
    if _drag_of_no_cause(solution, c) > FREE_DRAG[0] and not solution.implausible:
        found.append(
            f"an inviscid section at this Mach number has no drag, but CD is {c['CD']:.4f}: the mesh is too coarse at "
            f"nose or tail."
        )
    if not solution.mesh.planar and solution.flow.outcome == Outcome.CONVERGED:
        found += _unusual(c, solution.air)
    if not solution.mesh.planar and drag_columns(solution)["CD_spurious"] > 0.0:
        drag = solution.far_field_drag()
        if drag.spurious > max(EXCESS, EXCESS_FRACTION * abs(drag.CD)):
            found.append(
                f"spurious drag of {drag.spurious:.4f} is in the CD of the surface, {c['CD']:.4f}: the mesh is coarse; "
                f"use the far-field CD {drag.CD:.4f} +- {drag.uncertainty:.1g}, or refine the mesh."
            )
    return found


def _drag_of_no_cause(solution, c: dict[str, float]) -> float:
    """CD less 2 % of CL^2 of an inviscid subsonic section at a moderate alpha, which should be 0 (d'Alembert's
    paradox); 0 for all else.
    """
    if (
        solution.viscous
        or solution.case.driven
        or solution.mesh.dimension != 2
        or solution.air.mach >= 0.5
        or abs(solution.air.alpha) >= 8.0
        or solution.flow.outcome != Outcome.CONVERGED
    ):
        return 0.0
    return c["CD"] - 0.02 * c["CL"] ** 2


def _turbulence_ahead(solution) -> list[str]:
    """A sentence on the turbulence half a reference chord ahead of the body, where that of the stream was given."""
    if solution.air.turbulence is None or solution.model != "sst":
        return []
    mesh, wind = solution.mesh, np.asarray(solution.computed.wind)
    wall = mesh.face_centroid[mesh.faces_of("wall")]
    ahead = wall[np.argmin(wall @ wind)] - AHEAD * solution.reference.chord * wind
    cell = int(np.argmin(np.linalg.norm(mesh.cell_centroid - ahead, axis=1)))
    intensity = np.sqrt(max(solution.flow.q[cell, 5], 0.0) * solution.law.k_unit / 1.5) / solution.computed.mach
    return [
        f"turbulence half a chord ahead of the body: intensity {100 * intensity:.2g} %, eddy over molecular viscosity "
        f"{solution.flow.eddy_ratio[cell]:.2g}."
    ]


def _other_y_plus(solution) -> list[str]:
    """A sentence if the y+ of the first cells is far from what the mesh was made for."""
    wanted = solution.mesh.recipe.get("y_plus")
    if wanted is None:
        return []
    faces = solution.mesh.faces_of("wall")
    found = solution.y_plus[faces - solution.mesh.n_interior]
    order = np.argsort(found)
    area = np.cumsum(np.linalg.norm(solution.mesh.face_area[faces], axis=1)[order])
    typical = float(found[order][np.searchsorted(area, 0.5 * area[-1])])
    if 1.0 / Y_PLUS_OFF <= typical / wanted <= Y_PLUS_OFF:
        return []
    return [
        f"y+ is {typical:.2g} on half of the wall, but the mesh was made for {wanted:g}: its Reynolds number was "
        f"another, or its layers were thinned"
    ]


def _laminar_wake(solution) -> list[str]:
    """A warning where a steady solution has a separated laminar wake that is known to be unsteady.

    The wake of a circle sheds vortices above a Reynolds number of 47 on its diameter (Provansal, Mathis and Boyer 1987,
    J. Fluid Mech. 182:1), that of a sphere above 212 (Natarajan and Acrivos 1993, J. Fluid Mech. 254:323). Here the
    Reynolds number is on the width of the body across the wind.
    """
    mesh = solution.mesh
    dead = solution.separated()
    if not dead.any():
        return []
    wind = np.asarray(solution.computed.wind)
    across = np.array([-wind[2], 0.0, wind[0]])
    body = mesh.points[np.unique(mesh.edges[mesh.faces_of("wall")])] @ across
    width, wake = float(np.ptp(body)), float(np.ptp(mesh.points[dead] @ across))
    if mesh.wedge:
        width, wake = 2.0 * float(body.max()), 2.0 * float((mesh.points[dead] @ across).max())
    limit = SPHERE_WAKE if mesh.wedge else CIRCLE_WAKE
    reynolds = solution.reynolds * width / solution.reference.chord
    if reynolds < limit or wake < WIDE_WAKE * width:
        return []
    return [
        f"the wake is separated over {wake / width:.0%} of the body's width at a Reynolds number of {reynolds:.3g} on "
        f"it; above about {limit:g} such laminar wakes are not steady: "
        "this steady solution is one that does not occur. Follow it in time with solve_unsteady(..., start=this "
        "solution), or [time] in a study."
    ]


def implausibilities(solution: "Solution") -> list[str]:
    """Sentences on what no flow of this kind shows, with the likely cause.

    Parameters
    ----------
    solution : Solution
        Solution.

    Notes
    -----
    Negative drag, temperatures and pressures far beyond their bounds. Small excesses are errors of the mesh and are
    reported by `result_warnings`.
    """
    c, air = solution.forces.coefficients(), solution.air
    out = []
    least = 0.0 if solution.viscous else -(LEAST_DRAG + 0.01 * c["CL"] ** 2)
    powered = solution.case.driven  # an exhaust drives the flow past the walls
    if c["CD"] < least and not powered:
        out.append(f"CD is negative ({c['CD']:.4g}): the mesh is too coarse, or a boundary does work on the flow")
    if (
        solution.viscous
        and (friction := solution.forces.coefficients(cause="friction")["CD"]) < least
        and not solution.case.walls
        and not powered
    ):
        out.append(f"CD of friction is negative ({friction:.4g}): most of the wall is in reversed flow")
    if solution.numerics.reconstruction.order == 2 and _drag_of_no_cause(solution, c) > FREE_DRAG[1]:
        out.append(
            f"an inviscid section at this Mach number has no drag, but CD is {c['CD']:.4f}: the mesh is too coarse at "
            f"nose or tail, and the flow separates there"
        )
    if any(np.any(wall.velocity) or wall.spin for wall in solution.case.walls.values()):  # type: ignore[union-attr]
        return out  # walls that move do work on the air
    pressure, warmest = highest_totals(solution.case)
    highest = max(air.cp_stagnation, (pressure - air.pressure) / air.dynamic_pressure if powered else 0.0)
    hot = max([warmest, *(wall.temperature or 0.0 for wall in solution.case.walls.values())])  # type: ignore[union-attr]
    temperature = solution.fields()["temperature"]
    if temperature.max() > hot + EXCESS_HEAT * (air.temperature + warmest - air.total_temperature):
        position = solution.mesh.cell_centroid[int(np.argmax(temperature))]
        out.append(
            f"temperature {temperature.max():.4g} K at x = {position[0]:.4g}, y = {position[1]:.4g}, z = "
            f"{position[2]:.4g} m, above the {hot:.4g} K of air brought to rest"
        )
    faces = solution.mesh.faces_of("wall")
    cp = solution.wall_pressure[faces - solution.mesh.n_interior] / air.dynamic_pressure
    area = np.linalg.norm(solution.mesh.face_area[faces], axis=1)
    # at low Reynolds numbers friction raises the pressure at a stagnation point by some multiple of 1 / Re
    # (Barker 1922)
    slack = EXCESS_CP + (LOW_REYNOLDS_PITOT / solution.reynolds if solution.viscous else 0.0)
    fraction = float(area[cp > highest + slack].sum() / area.sum())
    if fraction > EXCESS_AREA:
        out.append(
            f"Cp up to {cp.max():.4g} on {100 * fraction:.2g} % of the wall, above the {highest:.4g} of a "
            f"stagnation point"
        )
    return out


def _unsteady_residuals(solution) -> str:
    """What a oscillating run does, and what to do about it."""
    amplitude, period = solution.amplitude(), solution.history.period()
    cycle = "without a clear period" if np.isnan(period) else f"about every {period:.0f} steps of the march"
    words = (
        f"CL oscillates by +-{amplitude['CL'][1]:.2g} about {amplitude['CL'][0]:.4g}, CD by +-{amplitude['CD'][1]:.2g} "
        f"about {amplitude['CD'][0]:.4g}, {cycle}"
    )
    return (
        f"{words}; to see whether the flow itself oscillates, follow it in time with solve_unsteady(..., start=this "
        f"solution)."
    )


def extremes(solution: "Solution"):
    """Tabulate the extremes of the fields with their positions, the physical bound of each, and whether it holds.

    Parameters
    ----------
    solution : Solution
        Solution.

    Returns
    -------
    pandas.DataFrame

    Notes
    -----
    Bounds (inviscid, steady): total temperature and total pressure of the freestream limit temperature, pressure and Cp
    from above (total pressure only downstream of no shock, so as an upper bound); vacuum from below.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
    >>> len(extremes(solution)) > 0
    True
    """
    import pandas as pd

    air, fields, c = solution.air, solution.fields(), solution.mesh.cell_centroid
    pressure, temperature = highest_totals(solution.case)
    cp = air.cp_stagnation
    if solution.case.powered:
        cp = max(cp, (pressure - air.pressure) / air.dynamic_pressure)
    bounds = {
        "pressure": (0.0, max(pressure, air.total_pressure)),
        "temperature": (0.0, temperature),
        "cp": (air.cp_vacuum, cp),
        "mach": (0.0, np.inf),
    }
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


def _unusual(c: dict[str, float], air: Freestream) -> list[str]:
    """Sentences on coefficients of a body in space that few aircraft have, with the likely cause."""
    out = []
    if abs(c["CL"]) > 0.1 and c["CD"] > 2.0 * abs(c["CL"]) and abs(air.alpha) < 30.0:
        out.append(
            f"CD {c['CD']:.3g} is {c['CD'] / abs(c['CL']):.2g} times CL: are nose and up right (x aft, z up), and is "
            f"the reference area that of the wing?"
        )
    if c["CD"] > 1e-4 and abs(c["CL"]) / c["CD"] > 120.0:
        out.append(f"L/D is {abs(c['CL']) / c['CD']:.0f}, beyond any aircraft: drag is missing, or alpha is far off.")
    if abs(c["CL"]) > 5.0:
        out.append(f"CL is {c['CL']:.3g}: the reference area is likely too small, or in another unit.")
    if c["CL"] * air.alpha < 0.0 and abs(air.alpha) > 8.0:
        out.append(f"CL is {c['CL']:.3g} at alpha {air.alpha:g} deg: is the body upside down, or tail first?")
    return out
