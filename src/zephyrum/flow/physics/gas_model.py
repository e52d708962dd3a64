"""Scaled perfect gas: density, sound speed and temperature of the freestream are 1, lengths stay in metres.

The unknowns of a cell are (p, u, v, w, T) with p the gauge pressure (static minus freestream), so that at low Mach
number the small pressure differences keep all their digits. Then rho = (1 + gamma p) / T, a^2 = T,
enthalpy = T / (gamma - 1). Verified by tests/test_flow.py.
"""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import serial
from zephyrum.conditions import Freestream
from zephyrum.flow.physics.turbulence.sst import K_UNIT

EQUATION_NAMES = ("mass", "x_momentum", "y_momentum", "z_momentum", "energy", "turbulence", "turbulence_rate")


class GasModel(NamedTuple):
    """The gas for the kernels, in scaled units.

    Attributes
    ----------
    gamma : float
        Ratio of the specific heats.
    viscosity : float
        Of the freestream [m].
    sutherland : float
        Sutherland's S over the temperature of the freestream.
    prandtl : float
        Prandtl number.
    turbulent_prandtl : float
        Turbulent Prandtl number.
    k_unit : float
        Worth of one unit of the turbulent kinetic energy (see `turbulence/sst.py`).

    Examples
    --------
    >>> GasModel(1.4).gamma
    1.4
    """

    gamma: float
    viscosity: float = 0.0
    sutherland: float = 0.4
    prandtl: float = 0.72
    turbulent_prandtl: float = 0.9
    k_unit: float = 1.0

    def viscosity_at(self, T: np.ndarray):
        """Sutherland's viscosity, in scaled units.

        Parameters
        ----------
        T : (n,) array
            Scaled temperatures.

        Examples
        --------
        >>> GasModel(1.4, viscosity=2e-8).viscosity_at(np.array([1.0, 2.0]))
        array([2.00000000e-08, 3.29983165e-08])
        """
        return self.viscosity * T**1.5 * (1.0 + self.sutherland) / (T + self.sutherland)


@dataclass(frozen=True)
class Scales:
    """Worth of the scaled units in SI, and the freestream in scaled units.

    Attributes
    ----------
    gamma : float
        Ratio of the specific heats.
    mach : float
        Mach number of the stream.
    density : float
        [kg/m^3]
    speed : float
        Speed of sound of the stream [m/s].
    temperature : float
        [K]
    static : float
        Static pressure of the stream [Pa].
    freestream : (m,) array
        Scaled state.
    turbulence : tuple[float, ...]
        Sizes that the turbulence equations are scaled with.

    Examples
    --------
    >>> scales = Scales.of(Freestream(mach=0.5, alpha=0.0))
    >>> scales.freestream
    array([ 0. ,  0.5, -0. ,  0. ,  1. ])
    """

    gamma: float
    mach: float
    density: float
    speed: float  # of sound [m/s]
    temperature: float
    static: float  # freestream pressure [Pa]
    freestream: np.ndarray  # (m,) scaled state
    turbulence: tuple[float, ...] = ()  # typical values of the turbulence quantities

    @classmethod
    def of(cls, air: Freestream, inflow: tuple[float, ...] = (), turbulence: tuple[float, ...] = ()) -> "Scales":
        """Scales of a freestream.

        Parameters
        ----------
        air : Freestream
            Freestream.
        inflow : tuple[float, ...], optional
            Its turbulence quantities.
        turbulence : tuple[float, ...], optional
            Sizes that the turbulence equations are scaled with.

        Examples
        --------
        >>> Scales.of(Freestream(mach=0.5)).mach
        0.5
        """
        state = np.array([0.0, *(air.mach * np.asarray(air.wind)), 1.0, *inflow])
        return cls(
            air.gas.gamma, air.mach, air.density, air.sound_speed, air.temperature, air.pressure, state, turbulence
        )

    @staticmethod
    def law(air: Freestream, chord: float) -> GasModel:
        """The gas of a freestream in scaled units.

        Parameters
        ----------
        air : Freestream
            Freestream.
        chord : float
            Length [m] of a Reynolds number that was given without its length.

        Notes
        -----
        Where density, speed and viscosity are fixed they stay.

        Examples
        --------
        >>> law = Scales.law(Freestream(mach=0.5, reynolds=1e6), chord=1.0)
        >>> round(law.viscosity, 12)  # Mach over Reynolds number
        5e-07
        """
        gas = air.gas
        viscosity = air.viscosity / (air.density * air.sound_speed)
        if air.similarity:
            viscosity = air.mach * chord / air.reynolds
        return GasModel(
            gas.gamma, viscosity, gas.sutherland_S / air.temperature, gas.prandtl, k_unit=K_UNIT * air.mach**2
        )

    def rows(self) -> np.ndarray:
        """(m,) size of the fluxes of mass, momentum, energy and turbulence, for scaling residuals.

        Examples
        --------
        >>> Scales.of(Freestream(mach=0.5)).rows()
        array([0.5 , 0.25, 0.25, 0.25, 1.25])
        """
        m = self.mach
        return np.array([m, m * m, m * m, m * m, m / (self.gamma - 1.0), *(m * x for x in self.turbulence)])


@serial
def conserved_jacobian(p: float, u: float, v: float, w: float, T: float, gamma: float, out: np.ndarray):
    """d(rho, rho u, rho v, rho w, rho E) / d(p, u, v, w, T).

    Parameters
    ----------
    p, u, v, w, T : float
        Scaled state.
    gamma : float
        Ratio of the specific heats.
    out : array
        At least (5, 5), written.

    Examples
    --------
    >>> out = np.zeros((5, 5))
    >>> conserved_jacobian(0.0, 0.5, 0.0, 0.0, 1.0, 1.4, out)
    >>> out[0]  # of density
    array([ 1.4,  0. ,  0. ,  0. , -1. ])
    """
    rho = (1.0 + gamma * p) / T
    rho_p, rho_T = gamma / T, -rho / T
    kinetic = 0.5 * (u * u + v * v + w * w)
    cv = 1.0 / (gamma * (gamma - 1.0))
    E = cv * T + kinetic
    out[:, :] = 0.0
    out[0, 0] = rho_p
    out[0, 4] = rho_T
    out[1, 0], out[2, 0], out[3, 0] = rho_p * u, rho_p * v, rho_p * w
    out[1, 4], out[2, 4], out[3, 4] = rho_T * u, rho_T * v, rho_T * w
    out[1, 1] = out[2, 2] = out[3, 3] = rho
    out[4, 0] = rho_p * E
    out[4, 1], out[4, 2], out[4, 3] = rho * u, rho * v, rho * w
    out[4, 4] = rho_T * E + rho * cv


def conserved(q: np.ndarray, gamma: float) -> np.ndarray:
    """Conserved variables: the five of the mean flow, then density times turbulence quantities.

    Parameters
    ----------
    q : (n, m) array
        States.
    gamma : float
        Ratio of the specific heats.

    Returns
    -------
    (n, m) array

    Examples
    --------
    >>> conserved(np.array([[0.0, 0.5, 0.0, 0.0, 1.0]]), 1.4).round(4)
    array([[1.    , 0.5   , 0.    , 0.    , 1.9107]])
    """
    rho = (1.0 + gamma * q[:, 0]) / q[:, 4]
    kinetic = 0.5 * np.einsum("ij,ij->i", q[:, 1:4], q[:, 1:4])
    energy = q[:, 4] / (gamma * (gamma - 1.0)) + kinetic
    r = rho[:, None]
    return np.concatenate([r, r * q[:, 1:4], (rho * energy)[:, None], r * q[:, 5:]], axis=1)
