"""The standard atmosphere from -5 km to 32 km geopotential altitude.

Source: ISO 2533:1975 and US Standard Atmosphere (1976): layers of constant temperature gradient in hydrostatic
equilibrium. Verified against its published values by tests/test_air.py.
"""

import math

from zephyrum._core.validation import number
from zephyrum.errors import InputError

GRAVITY = 9.80665  # m/s^2
GAS_CONSTANT = 287.05287  # J/(kg K)
# base altitude [m], base temperature [K], gradient [K/m], base pressure [Pa]
_LAYERS = ((0.0, 288.15, -0.0065, 101325.0), (11000.0, 216.65, 0.0, 22632.04), (20000.0, 216.65, 0.001, 5474.878))
LOWEST, HIGHEST = -5000.0, 32000.0


def standard_atmosphere(altitude: float, offset: float = 0.0) -> tuple[float, float]:
    """Pressure and temperature of the standard atmosphere.

    Parameters
    ----------
    altitude : float
        Geopotential altitude [m], from -5000 to 32000.
    offset : float, optional
        Temperature difference [K] of a hot or cold day.

    Returns
    -------
    pressure : float
        [Pa]
    temperature : float
        [K]

    Raises
    ------
    InputError
        The altitude is out of range.

    Notes
    -----
    The offset is added at unchanged pressure altitude.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.standard_atmosphere(0.0)
    (101325.0, 288.15)
    """
    altitude, offset = number("altitude", altitude), number("offset", offset)
    if not LOWEST <= altitude <= HIGHEST:
        raise InputError(
            f"altitude = {altitude:g} m is outside the standard atmosphere ({LOWEST:g} to {HIGHEST:g} m); "
            "give pressure and temperature instead."
        )
    base, temperature, gradient, pressure = next(
        layer for layer in reversed(_LAYERS) if altitude >= layer[0] or layer[0] == 0.0
    )
    height = altitude - base
    if gradient == 0.0:
        return pressure * math.exp(-GRAVITY * height / (GAS_CONSTANT * temperature)), temperature + offset
    here = temperature + gradient * height
    return pressure * (here / temperature) ** (-GRAVITY / (GAS_CONSTANT * gradient)), here + offset
