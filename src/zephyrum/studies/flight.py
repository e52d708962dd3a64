"""How a described aircraft flies: trimmed for a lift, and its derivatives by differences.

Trim: alpha and one number of the description (the pitch of a tailplane, an elevator) for which lift is as wanted and CM = 0, by Broyden's (1965, Math.
Comp. 19:577) rank-one updates of the two-by-two slopes; every setting is meshed and solved, so what comes out has been flown. Derivatives: central differences
in alpha and, on a whole model, in beta, each with the bend that the two one-sided slopes show (Etkin and Reid 1996, Dynamics of Flight, ch. 4-5).
Verified by tests/test_flight.py.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from zephyrum.air import Freestream
from zephyrum.air.checks import number, takes, whole
from zephyrum.errors import FlowError, InputError
from zephyrum.flow import Settings
from zephyrum.mesh import Mesh, mesh_aircraft
from zephyrum.results import Solution, solve
from zephyrum.shape import Aircraft
from zephyrum.told import told

LIFT_WITHIN, MOMENT_WITHIN = 3e-3, 1.5e-3  # of CL and CM that count as trimmed
SETTING_WITHIN = 0.1  # deg of the control, or as much CM as they make: every setting has a mesh of its own, which alone moves CM by as much
FIRST_ALPHA = 2.0  # deg, of the first differences
FIRST_SETTING = 2.0
MOST_ALPHA = 8.0  # deg that one step may change
TELLING = 0.7  # deg: after shorter steps the differences tell of the new mesh, not of the slopes
LONG = ("CL", "CD", "CM")
SIDE = ("CY", "C roll", "C yaw")


@dataclass(frozen=True, eq=False)
class Trim:
    """alpha [deg] and `setting` of the number at `control`, with the Solution there; table: DataFrame of all that were flown; trimmed: whether lift and moment are met."""

    control: str
    alpha: float
    setting: float
    solution: Solution
    table: object
    trimmed: bool

    __repr__ = told

    def __str__(self) -> str:
        c = self.solution.forces.coefficients()
        state = "trimmed" if self.trimmed else "NOT trimmed"
        return f"{state}: alpha {self.alpha:+.2f} deg, {self.control} {self.setting:+.2f}, CL {c['CL']:.4f}, CM {c['CM']:+.4f}, CD {c['CD']:.5f} after {len(self.table)} solutions"


def lift_for(weight: float, air: Freestream, area: float) -> float:
    """CL at which the lift is `weight` [N]; thrust is left out."""
    return number("weight", weight, 0.0, open_low=True) / (air.dynamic_pressure * area)


@takes(air=Freestream, control=str, model=str, settings=Settings)
def trim(craft: Aircraft, air: Freestream, lift: float, control: str, setting: float = 0.0, model: str = "euler", settings: Settings | None = None,
         most: int = 5, on_point: Callable[[dict], None] | None = None, **mesh_options) -> Trim:  # fmt: skip
    """Fly the aircraft so that CL = `lift` and CM = 0 about its reference point.

    control: dotted path of a number of the description such as "tailplane.pitch" [deg], nose-up positive; setting: its first value. air.alpha is the first
    alpha. mesh_options: those of `mesh_aircraft`. Three solutions give the slopes, `most` more the trim, to 0.003 of CL and 0.1 deg of the control;
    on_point gets a row of the table after each.
    InputError if the number does not change CM.
    """
    import pandas as pd

    if not isinstance(craft, Aircraft):
        raise InputError(f"trim changes a number of a described Aircraft, not of a {type(craft).__name__}.")
    number("lift", lift)
    whole("most", most, 1, 20)
    settings = settings or Settings(orders=4.0)
    held: dict[float, tuple[Mesh, Solution]] = {}
    rows: list[dict] = []

    def flown(alpha: float, value: float) -> tuple[np.ndarray, Solution]:
        mesh, near = held.get(value, (None, None))
        if mesh is None:
            mesh = mesh_aircraft(craft.changed({control: value}), **mesh_options)
        solution = solve(mesh, air.turned(alpha=alpha), model, settings=settings, start=near)
        held.clear()  # meshes are large: only the last setting is flown again
        held[value] = mesh, solution
        c = solution.forces.coefficients()
        rows.append({"alpha": alpha, control: value, **{name: c[name] for name in LONG}, "verdict": solution.verdict, "cells": mesh.n_cells})  # fmt: skip
        if on_point is not None:
            on_point(rows[-1])
        if solution.verdict == "failed":
            raise FlowError(f"alpha {alpha:g} deg, {control} = {value:g}: {solution.reason}.")
        return np.array([c["CL"] - lift, c["CM"]]), solution

    at = np.array([air.alpha, number("setting", setting)])
    turned, _ = flown(at[0] + FIRST_ALPHA, at[1])
    here, solution = flown(*at)
    set_, _ = flown(at[0], at[1] + FIRST_SETTING)
    slopes = np.stack([(turned - here) / FIRST_ALPHA, (set_ - here) / FIRST_SETTING], axis=1)
    if abs(slopes[1, 1]) < 1e-5:
        raise InputError(f"{control!r} changes CM by {slopes[1, 1]:.1e} only; name the pitch or a control of a tail.")

    def met(miss) -> bool:
        return abs(miss[0]) <= LIFT_WITHIN and abs(miss[1]) <= max(MOMENT_WITHIN, SETTING_WITHIN * abs(slopes[1, 1]))

    for _ in range(most):
        if met(here):
            break
        step = -np.linalg.solve(slopes, here)
        # the same mesh at another alpha: a new one would move the lift by more
        if abs(step[1]) <= 0.5 * SETTING_WITHIN:
            step = np.array([-here[0] / slopes[0, 0], 0.0])
        step *= min(1.0, MOST_ALPHA / np.abs(step).max())
        at = at + step
        before = here
        here, solution = flown(*at)
        if np.abs(step).max() > TELLING:
            slopes += np.outer(here - before - slopes @ step, step) / (step @ step)
    good = met(here) and solution.verdict == "settled"
    return Trim(control, float(at[0]), float(at[1]), solution, pd.DataFrame(rows), bool(good))


@takes(mesh=Mesh, air=Freestream, model=str, settings=Settings, start=Solution)
def derivatives(mesh: Mesh, air: Freestream, model: str = "euler", settings: Settings | None = None, alpha_step: float = 1.0, beta_step: float = 3.0,
                start: Solution | None = None, on_point: Callable[[dict], None] | None = None):  # fmt: skip
    """DataFrame of derivatives [1/rad] about the reference point: of CL, CD, CM by alpha and, on a whole model, of CY, C roll, C yaw by beta.

    "value" is the central difference over +- alpha_step or beta_step [deg], "bend" half the difference of the one-sided slopes: what the step
    leaves in doubt. "settled": whether all solutions were. start: a solution at `air` on the same mesh.
    """
    import pandas as pd

    settings = settings or Settings(orders=4.0)
    turns = [("alpha", number("alpha_step", alpha_step, 0.0, 10.0, open_low=True), LONG)]
    if not mesh.mirrored:
        turns.append(("beta", number("beta_step", beta_step, 0.0, 20.0, open_low=True), SIDE))
    centre = start if start is not None else solve(mesh, air, model, settings=settings)
    middle = centre.forces.coefficients()
    rows = []
    for name, step, wanted in turns:
        sides = []
        for sign in (-1.0, 1.0):
            made = solve(
                mesh, air.turned(**{name: getattr(air, name) + sign * step}), model, settings=settings, start=centre
            )
            sides.append(made)
            if on_point is not None:
                on_point(made.row())
        low, high = (made.forces.coefficients() for made in sides)
        angle = np.radians(step)
        for c in wanted:
            left, right = (middle[c] - low[c]) / angle, (high[c] - middle[c]) / angle
            rows.append({"derivative": f"{c} by {name}", "value": 0.5 * (left + right), "bend": 0.5 * abs(right - left),
                         "settled": all(made.verdict == "settled" for made in (centre, *sides))})  # fmt: skip
    return pd.DataFrame(rows)
