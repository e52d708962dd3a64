"""Section polars over the lift coefficient: the angle of attack follows by the secant method from flow to flow.

Verified by tests/test_viscous_panels.py.
"""

from collections.abc import Sequence

import numpy as np
from threadpoolctl import threadpool_limits

from zephyrum._core.validation import numbers
from zephyrum.errors import FlowError
from zephyrum.geometry import Airfoil
from zephyrum.loworder.panel.angle_march import checked_stream, first_layers
from zephyrum.loworder.panel.coupled_layers import CoupledLayers
from zephyrum.loworder.panel.displacement import DisplacedSection
from zephyrum.loworder.panel.inviscid import panel_section
from zephyrum.loworder.panel.layer_options import LayerOptions
from zephyrum.loworder.panel.layered_flow import LayeredFlow, flow_of
from zephyrum.loworder.panel.polar import PanelPolar

STEPS = 8  # secant steps for one lift coefficient; attached flow takes 2 to 3
TOLERANCE = 1e-4  # of the lift coefficient
LARGEST_STEP = 2.0  # of the angle [deg]


def panel_polar_at_lift(
    foil: Airfoil,
    lifts: float | Sequence[float] | np.ndarray,
    reynolds: float,
    mach: float = 0.0,
    options: LayerOptions | None = None,
) -> PanelPolar:
    """Polar of a section at wanted lift coefficients.

    Parameters
    ----------
    foil : Airfoil
        Section.
    lifts : float or sequence of float
        Lift coefficients; those above the largest of the section are not found.
    reynolds, mach, options
        As in `panel_polar`.

    Returns
    -------
    PanelPolar
        With the angles of the lift coefficients that were found.

    Raises
    ------
    InputError
        Conditions out of range.
    FlowError
        None of them was found.

    Examples
    --------
    >>> import zephyrum as zy
    >>> polar = panel_polar_at_lift(zy.Airfoil.naca("2412"), [0.2, 0.6], 3e6)
    >>> polar.table["CL"].round(3).tolist()
    [0.2, 0.6]
    """
    wanted = np.unique(np.asarray(numbers("lifts", np.atleast_1d(lifts).tolist()), dtype=float))
    (reynolds, mach), options = checked_stream(reynolds, mach), options or LayerOptions()
    flow = panel_section(foil)
    zero, slope = flow.solve(0.0).cl, flow.solve(1.0).cl - flow.solve(0.0).cl
    middle = wanted[np.argmin(np.abs(wanted - 0.4))]
    found: list[LayeredFlow] = []
    with threadpool_limits(1):
        section = DisplacedSection(foil, options.panels)
        layers = first_layers(section, float((middle - zero) / (0.9 * slope)), reynolds, options)
        if layers is None:
            raise FlowError(f"{foil.name}: no flow to begin with at Re {reynolds:.3g}; try other lift coefficients.")
        state = layers.state()
        for way in (wanted[wanted >= middle], wanted[wanted < middle][::-1]):
            layers.restore(state)
            rate = 0.9 * slope
            for lift in way:
                made, rate = _at_lift(layers, float(lift), rate, reynolds, mach)
                if made is None:
                    break
                found.append(made)
    if not found:
        raise FlowError(f"{foil.name}: no lift coefficient from {wanted[0]:g} to {wanted[-1]:g} was found.")
    found.sort(key=lambda one: one.alpha)
    return PanelPolar(foil, reynolds, mach, np.array([one.alpha for one in found]), tuple(found))


def _at_lift(
    layers: CoupledLayers, lift: float, rate: float, reynolds: float, mach: float
) -> tuple[LayeredFlow | None, float]:
    """Flow at a lift coefficient, None if it is not found; and the lift slope there [1/deg]."""
    now = flow_of(layers, reynolds, mach)
    for _ in range(STEPS):
        if abs(now.cl - lift) < TOLERANCE:
            return now, rate
        step = float(np.clip((lift - now.cl) / rate, -LARGEST_STEP, LARGEST_STEP))
        if not layers.advance(layers.alpha + step):
            return None, rate
        before, now = now, flow_of(layers, reynolds, mach)
        rate = (now.cl - before.cl) / (now.alpha - before.alpha)
        if rate <= 1e-3:  # beyond the largest lift
            return None, rate
    return None, rate
