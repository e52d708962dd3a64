"""Trim of a described aircraft for a lift, and stability derivatives by differences.

Trim: alpha and one number of the description (the pitch of a tailplane, an elevator) for which lift is as wanted and CM
= 0, by Broyden's (1965, Math. Comp. 19:577) rank-one updates of the Jacobian matrix (2, 2); every setting is meshed and
solved, so the trimmed state is itself a solution. Derivatives: central differences in alpha and, on a whole model,
in beta, each with the difference of the one-sided quotients (Etkin and Reid 1996, Dynamics of Flight, ch. 4-5).
Verified by tests/test_flight.py.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import number, takes, whole
from zephyrum.conditions import Freestream, Reference
from zephyrum.errors import FlowError, InputError
from zephyrum.flow import Numerics
from zephyrum.flow.outcome import Outcome
from zephyrum.geometry import Aircraft
from zephyrum.mesh import Mesh, mesh_aircraft
from zephyrum.results import Solution, solve_case
from zephyrum.solver import Case

if TYPE_CHECKING:
    import pandas as pd

    from zephyrum.solver.walls import Wall


CL_TOLERANCE, CM_TOLERANCE = 3e-3, 1.5e-3  # errors of CL and CM that count as trimmed
# deg of the control, or as much CM as they make: every setting has a mesh of its own, which alone moves CM by as
# much
SETTING_TOLERANCE = 0.1
FIRST_ALPHA = 2.0  # deg, of the first differences
FIRST_SETTING = 2.0
MAX_ALPHA = 8.0  # deg that one step may change
STEP_DIGITS = 3  # of alpha and setting [deg]: rounding errors of a solution must not select another mesh
MIN_CONTROL_EFFECT = 0.7  # deg: after shorter steps the differences tell of the new mesh, not of the slopes
LONGITUDINAL = ("CL", "CD", "CM")
LATERAL = ("CY", "C roll", "C yaw")


@dataclass(frozen=True, eq=False)
class Trim:
    """A trimmed state.

    Attributes
    ----------
    control : str
        Dotted path of the control.
    alpha : float
        [deg]
    setting : float
        Of the control.
    solution : Solution
        Solution there.
    table : pd.DataFrame
        All settings that were solved.
    trimmed : bool
        Whether lift and moment are met.

    Examples
    --------
    >>> import zephyrum as zy
    >>> made = zy.trim(craft, zy.Freestream(mach=0.2), lift=0.6, control="tailplane.pitch")  # doctest: +SKIP
    >>> made.alpha, made.setting  # doctest: +SKIP
    """

    control: str
    alpha: float
    setting: float
    solution: Solution
    table: "pd.DataFrame"
    trimmed: bool

    __repr__ = short_repr

    def __str__(self) -> str:
        c = self.solution.forces.coefficients()
        state = "trimmed" if self.trimmed else "NOT trimmed"
        return (
            f"{state}: alpha {self.alpha:+.2f} deg, {self.control} {self.setting:+.2f}, CL {c['CL']:.4f}, CM "
            f"{c['CM']:+.4f}, CD {c['CD']:.5f} after {len(self.table)} solutions"
        )


def lift_for(weight: float, air: Freestream, area: float) -> float:
    """Lift coefficient at which the lift balances a weight; thrust is left out.

    Parameters
    ----------
    weight : float
        [N]
    air : Freestream
        Freestream.
    area : float
        Reference area [m^2].

    Examples
    --------
    >>> import zephyrum as zy
    >>> round(lift_for(50e3, zy.Freestream(speed=70.0, altitude=0.0), 28.0), 3)
    0.595
    """
    return number("weight", weight, 0.0, open_low=True) / (air.dynamic_pressure * area)


class TrimLog:
    """Record of solved settings. This one keeps nothing; override it, so that no setting is solved twice.

    A row has alpha, setting, CL, CD, CM, outcome, cells and case.
    """

    def recall(self, alpha: float, setting: float) -> dict | None:
        """Row of the next setting if it was solved before.

        Parameters
        ----------
        alpha : float
            [deg]
        setting : float
            Value of the control.
        """
        return None

    def last_solution(self) -> Solution | None:
        """The solution of the last setting that was kept."""
        return None

    def keep(self, row: dict, solution: Solution) -> None:
        """Keep a setting that was solved.

        Parameters
        ----------
        row : dict
            Its row.
        solution : Solution
            Its solution.
        """

    def step(self, label: str) -> Callable[[dict], None] | None:
        """`on_step` of a run.

        Parameters
        ----------
        label : str
            Name of the run.
        """
        return None


class _SettingSolutions:
    """Solutions at settings of a control. Only the last one stays in memory, since meshes are large."""

    def __init__(self, aircraft: Aircraft, base: dict, air: Freestream, control: str, log: TrimLog, mesh_options: dict):
        self.aircraft, self.base, self.air, self.control, self.log, self.options = (
            aircraft,
            base,
            air,
            control,
            log,
            mesh_options,
        )
        self.rows: list[dict] = []
        self.last: tuple[float, Solution] | None = None

    def row(self, alpha: float, setting: float) -> dict:
        """The row of a setting, recalled or solved."""
        row = self.log.recall(alpha, setting)
        if row is None:
            solution = self._solve_setting(alpha, setting)
            c = solution.forces.coefficients()
            row = {
                "alpha": alpha,
                "setting": setting,
                **{name: c[name] for name in LONGITUDINAL},
                "outcome": solution.outcome,
                "reason": solution.reason,
                "cells": solution.mesh.n_cells,
                "case": solution.case.fingerprint,
            }
            self.log.keep(row, solution)
        self.rows.append(row)
        if row["outcome"] == Outcome.FAILED:
            raise FlowError(f"alpha {alpha:g} deg, {self.control} = {setting:g}: {row['reason']}.")
        return row

    def _solve_setting(self, alpha: float, setting: float) -> Solution:
        if self.last is None and self.rows and (stored := self.log.last_solution()) is not None:
            self.last = self.rows[-1]["setting"], stored
        near = self.last[1] if self.last is not None and self.last[0] == setting else None
        self.last = None
        mesh = (
            near.mesh
            if near is not None
            else mesh_aircraft(self.aircraft.changed({self.control: setting}), **self.options)
        )
        case = Case(mesh, self.air.turned(alpha=alpha), **self.base)
        solution = solve_case(case, near, self.log.step(f"alpha {alpha:+.2f}, {self.control} {setting:+.2f}"))
        self.last = setting, solution
        return solution

    def solution(self) -> Solution:
        """That of the last row."""
        if self.last is not None:
            return self.last[1]
        stored = self.log.last_solution()
        row = self.rows[-1]
        return (
            stored
            if stored is not None and stored.case.fingerprint == row["case"]
            else self._solve_setting(row["alpha"], row["setting"])
        )

    def table(self):
        """DataFrame of all rows."""
        import pandas as pd

        return pd.DataFrame(
            [
                {
                    "alpha": row["alpha"],
                    self.control: row["setting"],
                    **{name: row[name] for name in (*LONGITUDINAL, "outcome", "cells")},
                }
                for row in self.rows
            ]
        )


@takes(air=Freestream, control=str, model=str, numerics=Numerics, reference=Reference, log=TrimLog)
def trim(
    aircraft: Aircraft,
    air: Freestream,
    lift: float,
    control: str,
    setting: float = 0.0,
    model: str = "euler",
    numerics: Numerics | None = None,
    log: TrimLog | None = None,
    **options,
) -> Trim:
    """Find alpha and a control setting at which CL = `lift` and CM = 0 about the reference point.

    Parameters
    ----------
    aircraft : Aircraft
    air : Freestream
        Its alpha is the first alpha.
    lift : float
        CL.
    control : str
        Dotted path of a number of the description, such as "tailplane.pitch" [deg], nose-up positive.
    setting : float
        Its first value.
    model, numerics
        As in `solve`.
    log : TrimLog, optional
        Keeps and receives every setting that is solved.
    **options
        `max_iterations` (int; 5): solutions after the three that give the slopes, to 0.003 of CL and 0.1 deg of the
        control; `walls` as in `solve`; the options of `mesh_aircraft`.

    Returns
    -------
    Trim

    Raises
    ------
    InputError
        If the number does not change CM, or over a ground.

    Examples
    --------
    >>> import zephyrum as zy
    >>> craft, air = zy.Aircraft.read("skerry.toml"), zy.Freestream(mach=0.2)  # doctest: +SKIP
    >>> print(zy.trim(craft, air, lift=0.6, control="tailplane.pitch"))  # doctest: +SKIP
    """
    if not isinstance(aircraft, Aircraft):
        raise InputError(
            f"aircraft: trim changes a number of a described Aircraft, not of a {type(aircraft).__name__}."
        )
    if options.get("ground") is not None:
        raise InputError(
            f"ground = {options['ground']!r}: trim over a ground is not available, since every alpha needs a mesh "
            f"of its own; leave it out."
        )
    number("lift", lift)
    max_iterations = whole("max_iterations", options.pop("max_iterations", 5), 1, 20)
    base = {"model": model, "numerics": numerics or Numerics(residual_drop=4.0), "walls": options.pop("walls", None)}
    solutions = _SettingSolutions(aircraft, base, air, control, log or TrimLog(), options)

    def trim_error(alpha: float, value: float) -> np.ndarray:
        row = solutions.row(alpha, value)
        return np.array([row["CL"] - lift, row["CM"]])

    at = np.array([air.alpha, number("setting", setting)])
    turned = trim_error(at[0] + FIRST_ALPHA, at[1])
    here = trim_error(*at)
    moved = trim_error(at[0], at[1] + FIRST_SETTING)
    slopes = np.stack([(turned - here) / FIRST_ALPHA, (moved - here) / FIRST_SETTING], axis=1)
    if abs(slopes[1, 1]) < 1e-5:
        raise InputError(f"{control!r} changes CM by {slopes[1, 1]:.1e} only; name the pitch or a control of a tail.")

    # by the slope over the first, large step: those corrected later contain the scatter of the meshes
    moment_tolerance = max(CM_TOLERANCE, SETTING_TOLERANCE * abs(slopes[1, 1]))

    def is_trimmed(off) -> bool:
        return abs(off[0]) <= CL_TOLERANCE and abs(off[1]) <= moment_tolerance

    for _ in range(max_iterations):
        if is_trimmed(here) and len(solutions.rows) > 3:
            break
        step = -np.linalg.solve(slopes, here)
        # the same mesh at another alpha: a new one would move the lift by more
        if abs(step[1]) <= 0.5 * SETTING_TOLERANCE:
            step = np.array([-here[0] / slopes[0, 0], 0.0])
        step *= min(1.0, MAX_ALPHA / np.abs(step).max())
        target = np.where(step == 0.0, at, np.round(at + step, STEP_DIGITS))
        step, at, before = target - at, target, here
        here = trim_error(*at)
        if np.abs(step).max() > MIN_CONTROL_EFFECT:
            slopes += np.outer(here - before - slopes @ step, step) / (step @ step)
    solution = solutions.solution()
    good = is_trimmed(here) and solution.outcome == Outcome.CONVERGED
    return Trim(control, float(at[0]), float(at[1]), solution, solutions.table(), bool(good))


@takes(mesh=Mesh, air=Freestream, model=str, numerics=Numerics, start=Solution)
def derivatives(
    mesh: Mesh,
    air: Freestream,
    model: str = "euler",
    numerics: Numerics | None = None,
    alpha_step: float = 1.0,
    beta_step: float = 3.0,
    start: Solution | None = None,
    walls: "Wall | Mapping[str, Wall] | None" = None,
):
    """Derivatives [1/rad] about the reference point, by central differences.

    Parameters
    ----------
    mesh : Mesh
    air : Freestream
    model, numerics, walls
        As in `solve`.
    alpha_step, beta_step : float
        Steps [deg].
    start : Solution, optional
        At `air` on the same mesh.

    Returns
    -------
    DataFrame
        Rows CL, CD, CM by alpha and, on a whole model, CY, roll and yaw moment by beta. "value": central difference;
        "one_sided_difference": half the difference of the one-sided slopes, what the step leaves uncertain;
        "converged": whether all solutions were.

    Raises
    ------
    InputError
        For the mesh of a section or over a ground.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.derivatives(mesh, zy.Freestream(mach=0.2, alpha=2.0))  # doctest: +SKIP
    """
    number("alpha_step", alpha_step, 0.0, 10.0, open_low=True)
    number("beta_step", beta_step, 0.0, 20.0, open_low=True)
    base = Case(mesh, air, model, None, walls, numerics or Numerics(residual_drop=4.0))

    def solved(case: Case, near: Solution | None) -> Solution:
        if start is not None and case is base and start.case.fingerprint == base.fingerprint:
            return start
        return solve_case(case, near if near is not None else start)

    return derivatives_of(base, alpha_step, beta_step, solved)


def derivatives_of(
    base: Case, alpha_step: float, beta_step: float, solved: Callable[[Case, Solution | None], Solution]
):
    """Stability derivatives about a case; see `derivatives`.

    Parameters
    ----------
    base : Case
        The case.
    alpha_step, beta_step : float
        Differences of the angles [deg].
    solved : callable
        Gives the solution of a case from a start: solved(case, start).
    """
    import pandas as pd

    if base.ground is not None:
        raise InputError(
            "derivatives over a ground are not available: every alpha needs a mesh of its own; mesh without ground."
        )
    turns = [("alpha", alpha_step, LONGITUDINAL)]
    if not base.mesh.mirrored and not base.mesh.planar:
        turns.append(("beta", beta_step, LATERAL))
    centre = solved(base, None)
    midpoint = centre.forces.coefficients()
    rows = []
    for name, step, wanted in turns:
        sides = [solved(base.turned(**{name: getattr(base.air, name) + sign * step}), centre) for sign in (-1.0, 1.0)]
        low, high = (made.forces.coefficients() for made in sides)
        angle = np.radians(step)
        for c in wanted:
            left, right = (midpoint[c] - low[c]) / angle, (high[c] - midpoint[c]) / angle
            rows.append(
                {
                    "derivative": f"{c} by {name}",
                    "value": 0.5 * (left + right),
                    "one_sided_difference": 0.5 * abs(right - left),
                    "converged": all(made.outcome == Outcome.CONVERGED for made in (centre, *sides)),
                }
            )
    return pd.DataFrame(rows)
