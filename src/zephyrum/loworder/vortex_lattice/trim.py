"""Trim: angles, rates and deflections at which chosen coefficients have wanted values, by Newton's method.

Derivatives are exact, so that a few steps suffice. Verified by tests/test_lattice.py.
"""

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from zephyrum._core.validation import number
from zephyrum.conditions import Freestream
from zephyrum.errors import FlowError, InputError
from zephyrum.geometry import Aircraft
from zephyrum.loworder.vortex_lattice.lattice import LatticeOptions
from zephyrum.loworder.vortex_lattice.model import VortexLattice, lattice_model
from zephyrum.loworder.vortex_lattice.solution import COEFFICIENTS, LatticeSolution, Rates

ANGLES, RATES = ("alpha", "beta"), ("roll", "pitch", "yaw")
STEPS = 20  # Newton steps at most; linear lattices take 3 to 5
TOLERANCE = 1e-9  # of the coefficients
LARGEST = 30.0  # angle or deflection beyond which attached flow is out of the question [deg]
FIRST_CHANGE = 1.0  # of a number of the description, for the first slope of CM
LEAST_EFFECT = 1e-5  # change of CM with one unit of the number, below which it does not trim


def trim_lattice(
    model: VortexLattice,
    air: Freestream,
    targets: Mapping[str, float],
    unknowns: tuple[str, ...],
    deflections: Mapping[str, float] | None = None,
) -> LatticeSolution:
    """Find the condition in which coefficients have wanted values.

    Parameters
    ----------
    model : VortexLattice
        The lattice.
    air : Freestream
        Stream; its angles are the start.
    targets : mapping
        Wanted coefficients, such as {"CL": 0.6, "CM": 0.0}.
    unknowns : tuple[str, ...]
        As many of "alpha", "beta", the rates "roll", "pitch", "yaw", and controls such as "tailplane.elevator".
    deflections : mapping, optional
        Deflections at the start [deg].

    Returns
    -------
    LatticeSolution
        In trim; its `air`, `rates` and `deflections` are the answer.

    Raises
    ------
    InputError
        A name is unknown, or the numbers of targets and unknowns differ.
    FlowError
        There is no such condition within 30 deg.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
    >>> model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}))
    >>> found = trim_lattice(model, zy.Freestream(mach=0.1), {"CL": 0.3}, ("alpha",))
    >>> round(found.CL, 9), round(found.air.alpha, 2)
    (0.3, 4.07)
    """
    controls = model.lattice.control_names
    _check_names(targets, unknowns, controls)
    start = dict(zip(controls, model.angles(dict(deflections or {}))))
    wanted = np.array(list(targets.values()))
    values = {"alpha": air.alpha, "beta": air.beta, **dict.fromkeys(RATES, 0.0), **start}
    for _ in range(STEPS):
        found = _solved(model, air, values)
        error = np.array([found.coefficients[name] for name in targets]) - wanted
        if np.abs(error).max() < TOLERANCE:
            return found
        slopes = found.derivatives.loc[list(targets), list(unknowns)].to_numpy()
        try:
            step = -np.linalg.solve(slopes, error)
        except np.linalg.LinAlgError:
            break
        for name, change in zip(unknowns, step):
            values[name] += change if name in RATES else np.degrees(change)
        if any(not abs(values[name]) < LARGEST for name in unknowns):
            break
    reached = ", ".join(f"{name} {values[name]:.4g}" for name in unknowns)
    raise FlowError(
        f"no trim with {', '.join(f'{name} = {value:g}' for name, value in targets.items())} within {LARGEST:g} deg "
        f"({reached}); choose unknowns that change these coefficients, or other targets."
    )


def _solved(model: VortexLattice, air: Freestream, values: dict[str, float]) -> LatticeSolution:
    stream = air.turned(values["alpha"], values["beta"])
    rates = replace(Rates(), **{name: values[name] for name in RATES})
    return model.solve(stream, rates, {name: values[name] for name in model.lattice.control_names})


def _check_names(targets: Mapping[str, float], unknowns: tuple[str, ...], controls: tuple[str, ...]) -> None:
    """Refuse what is neither a coefficient nor an unknown, and numbers of them that differ."""
    for name in unknowns:
        if name not in (*ANGLES, *RATES, *controls):
            raise InputError(
                f"unknowns: {name!r} is neither an angle, a rate nor a control; choose of: "
                f"{', '.join((*ANGLES, *RATES, *controls))}."
            )
    for name, value in targets.items():
        if name not in COEFFICIENTS:
            raise InputError(f"targets: {name!r} is no coefficient; choose of: {', '.join(COEFFICIENTS)}.")
        number(f"targets[{name!r}]", value)
    if len(targets) != len(unknowns) or len(set(unknowns)) != len(unknowns) or not unknowns:
        raise InputError(
            f"{len(targets)} targets ({', '.join(targets)}) need as many different unknowns, but there are "
            f"{len(unknowns)} ({', '.join(unknowns)})."
        )


@dataclass(frozen=True)
class LatticeTrim:
    """Trimmed state of a lattice.

    Attributes
    ----------
    alpha : float
        Angle of attack [deg].
    control : str
        Dotted path of the number of the aircraft file.
    setting : float
        Its value.
    solution : LatticeSolution
        Flow in trim.
    """

    alpha: float
    control: str
    setting: float
    solution: LatticeSolution

    def __str__(self) -> str:
        return f"trimmed: alpha {self.alpha:+.2f} deg, {self.control} {self.setting:+.2f}, CL {self.solution.CL:.4f}"


def trim_lattice_by_number(
    aircraft: Aircraft,
    air: Freestream,
    lift: float,
    control: str,
    setting: float = 0.0,
    options: LatticeOptions | None = None,
) -> LatticeTrim:
    """Find alpha and a number of the aircraft description at which CL = `lift` and CM = 0.

    Parameters
    ----------
    aircraft : Aircraft
        The aircraft.
    air : Freestream
        Stream; its alpha is the start.
    lift : float
        CL.
    control : str
        Dotted path of a number of the description, such as "tailplane.pitch".
    setting : float, optional
        Its first value.
    options : LatticeOptions, optional
        How fine.

    Raises
    ------
    InputError
        The number does not change CM.
    FlowError
        There is no such state.

    Notes
    -----
    Every value of the number has a lattice of its own, at which alpha follows from the lift with exact derivatives; the
    number follows by the secant method. References are those of the first value.

    Examples
    --------
    >>> import zephyrum as zy
    >>> plan = zy.Planform(span=8.0, root_chord=1.0, taper=1.0)
    >>> wing = zy.Wing(planform=plan, airfoil="NACA 2412")
    >>> flat = zy.Planform(span=3.0, root_chord=0.8, taper=1.0)
    >>> tail = zy.Wing(planform=flat, airfoil="NACA 0012", position=(5, 0, 0.5))
    >>> craft = zy.Aircraft(name="plank", parts={"wing": wing, "tail": tail})
    >>> found = trim_lattice_by_number(craft, zy.Freestream(mach=0.1), 0.5, "tail.pitch")
    >>> abs(found.solution.coefficients["CM"]) < 1e-8, round(found.solution.CL, 9)
    (True, 0.5)
    """
    reference = aircraft.reference_quantities()[0]

    def at(value: float) -> LatticeSolution:
        model = replace(lattice_model(aircraft.changed({control: value}), options), reference=reference)
        return trim_lattice(model, air, {"CL": number("lift", lift)}, ("alpha",))

    values = [number("setting", setting), setting + FIRST_CHANGE]
    moments = [at(value).coefficients["CM"] for value in values]
    for _ in range(STEPS):
        slope = (moments[-1] - moments[-2]) / (values[-1] - values[-2])
        if not abs(slope) > LEAST_EFFECT:
            raise InputError(f"{control!r} changes CM by {slope:.1e} only; name the pitch or a control of a tail.")
        value = values[-1] - moments[-1] / slope
        if not abs(value - setting) < LARGEST:
            break
        found = at(value)
        values.append(value)
        moments.append(found.coefficients["CM"])
        if abs(moments[-1]) < TOLERANCE:
            return LatticeTrim(found.air.alpha, control, float(value), found)
    raise FlowError(
        f"no trim with CL = {lift:g}, CM = 0 and {control} within {LARGEST:g} of {setting:g} (reached "
        f"{values[-1]:.4g}); name a number with more effect, or another lift."
    )
