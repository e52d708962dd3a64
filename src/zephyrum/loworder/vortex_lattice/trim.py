"""Trim: angles, rates and deflections at which chosen coefficients have wanted values, by Newton's method.

Derivatives are exact, so that a few steps suffice. Verified by tests/test_lattice.py.
"""

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from zephyrum._core.validation import number
from zephyrum.conditions import Freestream
from zephyrum.errors import FlowError, InputError
from zephyrum.loworder.vortex_lattice.model import VortexLattice
from zephyrum.loworder.vortex_lattice.solution import COEFFICIENTS, LatticeSolution, Rates

ANGLES, RATES = ("alpha", "beta"), ("roll", "pitch", "yaw")
STEPS = 20  # Newton steps at most; linear lattices take 3 to 5
TOLERANCE = 1e-9  # of the coefficients
LARGEST = 30.0  # angle or deflection beyond which attached flow is out of the question [deg]


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
