"""Mean skin-friction coefficients of a flat plate, each law under the name of its author.

Reynolds numbers are those of the stream on the length of the plate. Compressibility enters incompressible laws through
a reference temperature: Sommer and Short (1955, NACA TN 3391) in turbulent flow, Eckert (1955) in laminar flow, on a
wall without heat transfer; the law of van Driest has it built in. Verified by tests/test_buildup.py.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.optimize import brentq

from zephyrum._core.validation import choice
from zephyrum.conditions import Gas
from zephyrum.errors import InputError

RECOVERY = 0.896  # recovery factor of a turbulent boundary layer in air, Pr^(1/3)
STANDARD_TEMPERATURE = 288.15  # of the stream [K], where none is given


@dataclass(frozen=True)
class FrictionLaw:
    """A law of turbulent friction on a smooth plate.

    Attributes
    ----------
    name : str
        Name in options and tables.
    source : str
        Who published it.
    low, high : float
        Range of the Reynolds number for which it was made.
    mean : callable
        Mean coefficient at a Reynolds number, incompressible.

    Examples
    --------
    >>> LAWS["schoenherr"].source
    'Schoenherr (1932)'
    """

    name: str
    source: str
    low: float
    high: float
    mean: Callable[[float], float]


def blasius(reynolds: float) -> float:
    """Laminar plate: 1.328 / sqrt(Re) (Blasius 1908).

    Parameters
    ----------
    reynolds : float
        On the length of the plate.

    Examples
    --------
    >>> round(blasius(1e6), 6)
    0.001328
    """
    return 1.328 / math.sqrt(reynolds)


def prandtl_power(reynolds: float) -> float:
    """Turbulent plate: 0.074 / Re^(1/5) (Prandtl 1927), for Re from 5e5 to 1e7.

    Parameters
    ----------
    reynolds : float
        On the length of the plate.

    Examples
    --------
    >>> round(prandtl_power(1e6), 6)
    0.004669
    """
    return 0.074 / reynolds**0.2


def prandtl_schlichting(reynolds: float) -> float:
    """Turbulent plate: 0.455 / (log10 Re)^2.58 (Schlichting 1932), for Re up to 1e9.

    Parameters
    ----------
    reynolds : float
        On the length of the plate.

    Examples
    --------
    >>> round(prandtl_schlichting(1e7), 6)
    0.003004
    """
    return 0.455 / math.log10(reynolds) ** 2.58


def schoenherr(reynolds: float) -> float:
    """Turbulent plate: 0.242 / sqrt(Cf) = log10(Re Cf) (Schoenherr 1932), solved for Cf.

    Parameters
    ----------
    reynolds : float
        On the length of the plate.

    Examples
    --------
    >>> round(schoenherr(1e7), 6)
    0.002934
    """
    return _root(lambda cf: 0.242 / math.sqrt(cf) - math.log10(reynolds * cf))


def white(reynolds: float) -> float:
    """Turbulent plate: 0.523 / ln(0.06 Re)^2 (White 1974).

    Parameters
    ----------
    reynolds : float
        On the length of the plate.

    Examples
    --------
    >>> round(white(1e7), 6)
    0.002955
    """
    return 0.523 / math.log(0.06 * reynolds) ** 2


def _root(function: Callable[[float], float]) -> float:
    """Coefficient between 1e-5 and 0.1 at which a falling function is zero."""
    return float(brentq(function, 1e-5, 0.1, xtol=1e-16, rtol=1e-14))


LAWS = {
    law.name: law
    for law in (
        FrictionLaw("prandtl_power", "Prandtl (1927)", 5e5, 1e7, prandtl_power),
        FrictionLaw("prandtl_schlichting", "Schlichting (1932)", 1e6, 1e9, prandtl_schlichting),
        FrictionLaw("schoenherr", "Schoenherr (1932)", 1e5, 1e10, schoenherr),
        FrictionLaw("white", "White (1974)", 1e5, 1e9, white),
        FrictionLaw("van_driest", "van Driest (1956) with Schoenherr (1932)", 1e5, 1e10, schoenherr),
    )
}


def reference_temperature(mach: float, laminar: bool = False, gas: Gas | None = None) -> float:
    """Temperature at which the properties of a boundary layer are taken, over that of the stream.

    Parameters
    ----------
    mach : float
        Of the stream.
    laminar : bool, optional
        Eckert (1955): 0.5 + 0.5 Tw/T + 0.22 (Tr - T)/T; else Sommer and Short (1955): 1 + 0.035 M^2 + 0.45 (Tw/T - 1).
    gas : Gas, optional
        Air without it.

    Examples
    --------
    >>> reference_temperature(0.0)
    1.0
    """
    gas = gas or Gas()
    rise = 0.5 * (gas.gamma - 1.0) * mach**2
    if laminar:
        wall = 1.0 + math.sqrt(gas.prandtl) * rise
        return 0.5 + 0.5 * wall + 0.22 * (wall - 1.0)
    return 1.0 + 0.035 * mach**2 + 0.45 * RECOVERY * rise


def _viscosity_ratio(ratio: float, temperature: float, gas: Gas) -> float:
    return gas.viscosity(ratio * temperature) / gas.viscosity(temperature)


def laminar_friction(
    reynolds: float, mach: float = 0.0, temperature: float = STANDARD_TEMPERATURE, gas: Gas | None = None
) -> float:
    """Mean coefficient of a laminar plate, compressible.

    Parameters
    ----------
    reynolds : float
        On the length of the plate.
    mach : float, optional
        Of the stream.
    temperature : float, optional
        Of the stream [K].
    gas : Gas, optional
        Air without it.

    Examples
    --------
    >>> laminar_friction(1e6) == blasius(1e6)
    True
    """
    gas = gas or Gas()
    ratio = reference_temperature(mach, True, gas)
    return blasius(reynolds) * math.sqrt(_viscosity_ratio(ratio, temperature, gas) / ratio)


def van_driest(
    reynolds: float, mach: float, temperature: float = STANDARD_TEMPERATURE, gas: Gas | None = None
) -> float:
    """Mean coefficient of a turbulent plate without heat transfer, second law of van Driest (1956).

    Parameters
    ----------
    reynolds : float
        On the length of the plate.
    mach : float
        Of the stream.
    temperature : float, optional
        Of the stream [K].
    gas : Gas, optional
        Air without it.

    Notes
    -----
    Cf = Cf_i(Re F_x) / F_c with F_c = m / asin(sqrt(m / (1 + m)))^2, m = r (gamma - 1) M^2 / 2, and F_x = mu / (mu_w
    F_c), in the form of Hopkins and Inouye (1971).

    Examples
    --------
    >>> round(van_driest(1e7, 0.0) / schoenherr(1e7), 9)
    1.0
    """
    gas = gas or Gas()
    m = RECOVERY * 0.5 * (gas.gamma - 1.0) * mach**2
    if m < 1e-12:
        return schoenherr(reynolds)
    factor = m / math.asin(math.sqrt(m / (1.0 + m))) ** 2
    return schoenherr(reynolds / (_viscosity_ratio(1.0 + m, temperature, gas) * factor)) / factor


def turbulent_friction(
    reynolds: float,
    law: str = "schoenherr",
    mach: float = 0.0,
    temperature: float = STANDARD_TEMPERATURE,
    gas: Gas | None = None,
) -> float:
    """Mean coefficient of a smooth turbulent plate, compressible.

    Parameters
    ----------
    reynolds : float
        On the length of the plate.
    law : str, optional
        A name in `LAWS`.
    mach : float, optional
        Of the stream.
    temperature : float, optional
        Of the stream [K].
    gas : Gas, optional
        Air without it.

    Raises
    ------
    InputError
        The law is unknown, or the Reynolds number far too low for it.

    Examples
    --------
    >>> round(turbulent_friction(1e7, "white", mach=0.8) / white(1e7), 3)
    0.949
    """
    choice("law", law, tuple(LAWS))
    if not reynolds > 1e3:
        raise InputError(f"reynolds = {reynolds:g} is too low for turbulent flow on a plate; it must be above 1000.")
    gas = gas or Gas()
    if law == "van_driest":
        return van_driest(reynolds, mach, temperature, gas)
    ratio = reference_temperature(mach, False, gas)
    viscosity = _viscosity_ratio(ratio, temperature, gas)
    return LAWS[law].mean(reynolds / (ratio * viscosity)) / ratio


def rough_friction(roughness: float, mach: float = 0.0, gas: Gas | None = None) -> float:
    """Mean coefficient of a plate whose sand grains reach through the viscous sublayer.

    Parameters
    ----------
    roughness : float
        Height of the equivalent sand grains over the length of the plate, 1e-6 to 1e-2.
    mach : float, optional
        Of the stream.
    gas : Gas, optional
        Air without it.

    Notes
    -----
    (1.89 + 1.62 log10(l / k))^-2.5 (Prandtl and Schlichting 1934), over 1 + r (gamma - 1) M^2 / 2 (Goddard 1959).

    Examples
    --------
    >>> round(rough_friction(1e-4), 6)
    0.004934
    """
    if not 0.0 < roughness < 0.02:
        raise InputError(f"roughness = {roughness:g} of the length is out of range; it must be above 0, below 0.02.")
    gas = gas or Gas()
    rise = 1.0 + RECOVERY * 0.5 * (gas.gamma - 1.0) * mach**2
    return (1.89 - 1.62 * math.log10(roughness)) ** -2.5 / rise


@dataclass(frozen=True)
class PlateFlow:
    """The stream past a plate and the state of its surface.

    Attributes
    ----------
    reynolds : float
        On the length of the plate.
    mach : float
        Of the stream.
    temperature : float
        Of the stream [K].
    laminar : float
        Fraction of the length at which the boundary layer becomes turbulent.
    roughness : float
        Height of equivalent sand grains over the length; 0 is smooth.

    Examples
    --------
    >>> round(mean_friction(PlateFlow(1e7), "schoenherr"), 6)
    0.002934
    """

    reynolds: float
    mach: float = 0.0
    temperature: float = STANDARD_TEMPERATURE
    laminar: float = 0.0
    roughness: float = 0.0


def mean_friction(flow: PlateFlow, law: str, gas: Gas | None = None) -> float:
    """Mean coefficient of a plate that is laminar in front, turbulent behind, smooth or rough.

    Parameters
    ----------
    flow : PlateFlow
        Stream and surface.
    law : str
        A name in `LAWS`.
    gas : Gas, optional
        Air without it.

    Notes
    -----
    Prandtl (1927): the turbulent part counts as if the layer had been turbulent from the leading edge, so that the
    friction of the turbulent front is replaced by that of the laminar one. The rough law holds where it gives more.

    Examples
    --------
    >>> smooth = mean_friction(PlateFlow(1e7), "schoenherr")
    >>> half = mean_friction(PlateFlow(1e7, laminar=0.5), "schoenherr")
    >>> round(half / smooth, 3)
    0.54
    """
    gas = gas or Gas()
    state = flow.mach, flow.temperature, gas

    def turbulent(share: float) -> float:
        smooth = turbulent_friction(max(share * flow.reynolds, 1001.0), law, *state)
        if flow.roughness <= 0.0:
            return smooth
        return max(smooth, rough_friction(min(flow.roughness / share, 0.0199), flow.mach, gas))

    if flow.laminar <= 0.0:
        return turbulent(1.0)
    front = min(flow.laminar, 1.0)
    laminar = laminar_friction(front * flow.reynolds, *state)
    if front >= 1.0:
        return laminar
    return turbulent(1.0) - front * (turbulent(front) - laminar)


def friction_chart(reynolds: np.ndarray, mach: float = 0.0) -> dict[str, np.ndarray]:
    """Mean coefficients of all laws over the Reynolds number, NaN outside the range of each.

    Parameters
    ----------
    reynolds : (n,) array
        On the length of the plate.
    mach : float, optional
        Of the stream.

    Returns
    -------
    dict of (n,) array
        By name of the law; "blasius" up to 1e6 (laminar).

    Examples
    --------
    >>> sorted(friction_chart(np.array([1e7])))
    ['blasius', 'prandtl_power', 'prandtl_schlichting', 'schoenherr', 'van_driest', 'white']
    """
    out = {
        name: np.array([turbulent_friction(r, name, mach) if law.low <= r <= law.high else np.nan for r in reynolds])
        for name, law in LAWS.items()
    }
    out["blasius"] = np.array([laminar_friction(r, mach) if r <= 1e6 else np.nan for r in reynolds])
    return out
