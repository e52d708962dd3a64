"""Boundary faces through which an engine blows or sucks: an exhaust by total conditions, an intake by static pressure.

The state at a subsonic face follows from what is given and the characteristic that leaves the domain, the Riemann
invariant u_n + 2 a / (gamma - 1) with u_n out of the domain (Hirsch 1990, Numerical Computation of Internal and
External Flows 2, ch. 19); both faces choke at Mach 1. Verified by tests/test_powered.py and validation/powered.py.
"""

import math
from dataclasses import dataclass

from zephyrum._core.jit import serial


@dataclass(frozen=True)
class PoweredGroup:
    """Conditions of one powered boundary group, in scaled units.

    Attributes
    ----------
    name : str
        Name of the group.
    row : tuple[float, float, float, float, float]
        Row of the exterior states. Of an exhaust: total gauge pressure; direction of the flow, of length 1, or of the
        length of its Mach number where that is supersonic; total temperature. Of an intake: static gauge pressure and
        four zeros.
    along_normal : float
        Length of the direction against the normal of each face; 0 where `row` holds the direction.
    mass_flow : float, optional
        Mass flow out of the domain that the static pressure of an intake is found for, through what is meshed [m^2].

    Examples
    --------
    >>> PoweredGroup("inlet", (0.2, 0.0, 0.0, 0.0, 1.0), 1.0).mass_flow is None
    True
    """

    name: str
    row: tuple[float, float, float, float, float]
    along_normal: float = 0.0
    mass_flow: float | None = None

    @property
    def exhaust(self) -> bool:
        """Whether it blows."""
        return self.row[4] > 0.0


@serial
def exhaust_state(inside: tuple, outside: tuple, normal: tuple[float, float, float], gamma: float):
    """State (5) at a face of an exhaust.

    Parameters
    ----------
    inside : tuple[float, ...]
        State (5) in the domain.
    outside : tuple[float, ...]
        Row of a `PoweredGroup`.
    normal : tuple[float, float, float]
        Unit normal (3) out of the domain.
    gamma : float
        Ratio of the specific heats.

    Examples
    --------
    >>> inside = (0.0, 0.1, 0.0, 0.0, 0.998)
    >>> state = exhaust_state(inside, (0.007, 1.0, 0.0, 0.0, 1.0), (-1.0, 0.0, 0.0), 1.4)
    >>> [round(float(value), 4) for value in state]
    [0.002, 0.1, 0.0, 0.0, 0.998]
    """
    _, u, v, w, T = inside
    total_pressure, dx, dy, dz, total_temperature = outside
    nx, ny, nz = normal
    k = 0.5 * (gamma - 1.0)
    mach = math.sqrt(dx * dx + dy * dy + dz * dz)
    if mach > 1.0 + 1e-9:
        temperature = total_temperature / (1.0 + k * mach * mach)
        speed = mach * math.sqrt(temperature)
    else:
        c = max(-(dx * nx + dy * ny + dz * nz) / max(mach, 1e-12), 0.0)
        leaving = k * (u * nx + v * ny + w * nz) + math.sqrt(T)
        a2, a1, a0 = k * k * c * c + k, k * c * leaving, leaving * leaving - total_temperature
        speed = (math.sqrt(max(a1 * a1 - a2 * a0, 0.0)) - a1) / a2
        speed = min(max(speed, 0.0), math.sqrt(total_temperature / (1.0 + k)))
        temperature = total_temperature - k * speed * speed
    ratio = (temperature / total_temperature) ** (gamma / (gamma - 1.0))
    pressure = ((1.0 + gamma * total_pressure) * ratio - 1.0) / gamma
    scale = speed / max(mach, 1e-12)
    return pressure, scale * dx, scale * dy, scale * dz, temperature


@serial
def intake_state(inside: tuple, static_pressure: float, normal: tuple[float, float, float], gamma: float):
    """State (5) at a face of an intake.

    Parameters
    ----------
    inside : tuple[float, ...]
        State (5) in the domain.
    static_pressure : float
        Gauge pressure behind the face.
    normal : tuple[float, float, float]
        Unit normal (3) out of the domain.
    gamma : float
        Ratio of the specific heats.

    Notes
    -----
    Entropy and the velocity along the face are those inside. What leaves faster than sound keeps its own state; nothing
    comes back.

    Examples
    --------
    >>> at_rest = (0.0, 0.0, 0.0, 0.0, 1.0)
    >>> state = intake_state(at_rest, -0.1, (1.0, 0.0, 0.0), 1.4)
    >>> [round(float(value), 4) for value in state]
    [-0.1, 0.1066, 0.0, 0.0, 0.9578]
    """
    p, u, v, w, T = inside
    nx, ny, nz = normal
    k, own, sound = 0.5 * (gamma - 1.0), u * nx + v * ny + w * nz, math.sqrt(T)
    if own >= sound:
        return p, u, v, w, T
    leaving = k * own + sound
    behind = sound * max((1.0 + gamma * static_pressure) / (1.0 + gamma * p), 1e-9) ** (k / gamma)
    behind = min(max(behind, leaving / (1.0 + k)), max(leaving, 1e-6))  # between choked and at rest
    shift = (leaving - behind) / k - own
    pressure = ((1.0 + gamma * p) * (behind / sound) ** (gamma / k) - 1.0) / gamma
    return pressure, u + shift * nx, v + shift * ny, w + shift * nz, behind * behind
