"""The march over the angles of a polar, and layers to begin with. Verified by tests/test_viscous_panels.py."""

from collections.abc import Callable, Sequence

import numpy as np

from zephyrum._core.validation import number, numbers
from zephyrum.errors import InputError
from zephyrum.loworder.panel.coupled_layers import CoupledLayers
from zephyrum.loworder.panel.displacement import DisplacedElements, DisplacedSection
from zephyrum.loworder.panel.layer_options import LayerOptions

LOST_IN_A_ROW = 2  # angles that did not converge after which a polar ends
LARGEST_MACH = 0.5  # layers are incompressible; density at the wall changes friction by 4 % there


def over_angles(alphas: np.ndarray, no_lift: float, fresh: Callable, flow: Callable) -> list:
    """Flows of the angles that converge, from the middle of a polar outwards, each from the one before.

    Parameters
    ----------
    alphas : (n,) array
        Rising [deg].
    no_lift : float
        Angle of zero lift without friction [deg].
    fresh : callable
        Layers that converged at an angle from nothing, or None; they have `alpha`, `state`, `restore` and `advance`.
    flow : callable
        Flow of layers that converged.
    """
    found: list = []
    # transition moves slowly over the angle where it has left the nose and the tail
    nearest = float(alphas[np.argmin(np.abs(alphas - (no_lift + 4.0)))])
    layers = first_converged(nearest, no_lift, fresh)
    if layers is None:
        return found
    begin, state = layers.alpha, layers.state()
    for way in (alphas[alphas >= begin], alphas[alphas < begin][::-1]):
        layers.restore(state)
        lost = 0
        for alpha in way:
            layers.steps_taken = 0 if alpha != begin else layers.steps_taken
            if alpha == begin or layers.advance(float(alpha), 1 if lost == 0 else 0):
                found.append(flow(layers))
                lost = 0
                continue
            again = fresh(float(alpha)) if lost == 0 else None
            if again is not None:
                layers = again
                found.append(flow(layers))
            else:
                lost += 1
            if lost == LOST_IN_A_ROW:
                break
    return found


def checked_angles(alphas: float | Sequence[float] | np.ndarray) -> np.ndarray:
    """Angles of attack [deg], each once and rising.

    Parameters
    ----------
    alphas : float or sequence of float
        [deg]

    Raises
    ------
    InputError
        They are out of range.
    """
    found = np.unique(np.asarray(numbers("alphas", np.atleast_1d(alphas).tolist()), dtype=float))
    if not (np.abs(found) <= 40.0).all():
        raise InputError(f"alphas reach {found[np.argmax(np.abs(found))]:g} deg; they must be within 40 deg.")
    return found


def checked_stream(reynolds: float, mach: float) -> tuple[float, float]:
    """Reynolds and Mach number of a section polar.

    Parameters
    ----------
    reynolds, mach : float
        Of the stream.

    Raises
    ------
    InputError
        They are out of range.
    """
    reynolds, mach = number("reynolds", reynolds, 1e4, 1e9), number("mach", mach, 0.0)
    if mach > LARGEST_MACH:
        raise InputError(
            f"mach = {mach:g} is too high for incompressible layers; it must be at most {LARGEST_MACH}. Solve "
            "the flow on a mesh instead."
        )
    return reynolds, mach


def first_layers(
    section: DisplacedSection, alpha: float, reynolds: float, options: LayerOptions
) -> CoupledLayers | None:
    """Layers that converged at an angle, or at one of five between zero lift and 8 deg above it; None without them.

    Parameters
    ----------
    section : DisplacedSection
    alpha : float
        [deg]
    reynolds : float
        On the chord.
    options : LayerOptions
    """
    return first_converged(
        alpha, zero_lift(section.elements), lambda begin: fresh_layers(section, begin, reynolds, options)
    )


def first_converged(alpha: float, no_lift: float, fresh: Callable):
    """What converged at an angle, or at one of five between zero lift and 8 deg above it; None without.

    Parameters
    ----------
    alpha, no_lift : float
        Angle to begin with and that of zero lift without friction [deg].
    fresh : callable
        Layers that converged at an angle from nothing, or None.
    """
    for begin in (alpha, *(no_lift + np.array([4.0, 2.0, 6.0, 0.0, 8.0]))):
        if (layers := fresh(float(begin))) is not None:
            return layers
    return None


def fresh_layers(
    section: DisplacedSection, alpha: float, reynolds: float, options: LayerOptions
) -> CoupledLayers | None:
    """Layers that converged at an angle from nothing, or None.

    Parameters
    ----------
    section : DisplacedSection
    alpha : float
        [deg]
    reynolds : float
        On the chord.
    options : LayerOptions
    """
    layers = new_layers(section, alpha, section.foil.chord / reynolds, options)
    return layers if started(layers) else None


def new_layers(section: DisplacedSection, alpha: float, viscosity: float, options: LayerOptions) -> CoupledLayers:
    """Layers that nobody has solved.

    Parameters
    ----------
    section : DisplacedSection
    alpha : float
        [deg]
    viscosity : float
        Kinematic, for unit speed of the stream [m].
    options : LayerOptions
    """
    trips = (options.trip_upper, options.trip_lower)
    return CoupledLayers(section, alpha, viscosity, options.exponent, trips, options.coupling)


def started(layers: CoupledLayers) -> bool:
    """Solve a flow without another to begin with; from a lower critical exponent or a higher Reynolds number where that
    does not converge.

    Parameters
    ----------
    layers : CoupledLayers
    """
    if layers.solve() or layers.solve_by_exponent():
        return True
    wanted = layers.viscosity
    for factor in (10.0**0.5, 10.0, 30.0):
        layers.viscosity = wanted / factor
        if layers.solve():
            break
    while layers.viscosity < wanted:
        layers.viscosity = min(layers.viscosity * 10.0**0.25, wanted)
        if not layers.solve():
            return False
    return layers.viscosity == wanted and layers.plausible()


def zero_lift(elements: DisplacedElements) -> float:
    """Angle of zero lift of all elements without friction [deg].

    Parameters
    ----------
    elements : DisplacedElements

    Examples
    --------
    >>> from zephyrum.loworder.panel.displacement import PanelLayout
    >>> from zephyrum.geometry import Airfoil
    >>> round(abs(zero_lift(DisplacedSection(Airfoil.naca("0012"), PanelLayout(panels=60)).elements)), 6)
    0.0
    """
    widths = []
    for section in elements.sections:
        half = 0.5 * np.diff(section.arc)
        widths.append(np.concatenate([half, [0.0]]) + np.concatenate([[0.0], half]))
    lift = np.concatenate(widths) @ elements.panels.basis
    return -float(np.degrees(np.arctan2(lift[0], lift[1])))
