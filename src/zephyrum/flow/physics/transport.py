"""Transport: viscosity, conductivity and diffusion with their eddy parts, and the viscous stress.

Viscosity after Sutherland (1893), Phil. Mag. 36:507; Stokes' hypothesis for the bulk viscosity.
Verified by tests/test_formulas.py and tests/test_viscous.py.
"""

import math
from typing import TYPE_CHECKING

from zephyrum._core.jit import inlined
from zephyrum.flow.physics.turbulence import SA, SST
from zephyrum.flow.physics.turbulence.sa import sa_diffusivity, sa_eddy_viscosity
from zephyrum.flow.physics.turbulence.sst import sst_diffusivities, sst_eddy_viscosity

if TYPE_CHECKING:
    from zephyrum.flow.physics.gas_model import GasModel


@inlined
def viscosity(T: float, gas: "GasModel"):
    """Sutherland's viscosity, in scaled units (metres).

    Parameters
    ----------
    T : float
        Scaled temperature.
    gas : GasModel
        Gas.

    Examples
    --------
    >>> from zephyrum.flow.physics.gas_model import GasModel
    >>> gas = GasModel(1.4, viscosity=1e-6, sutherland=0.4)
    >>> round(viscosity(1.2, gas) / gas.viscosity, 4)
    1.1502
    """
    return gas.viscosity * T * math.sqrt(T) * (1.0 + gas.sutherland) / (T + gas.sutherland)


@inlined
def diffusion_coefficients(
    p: float, T: float, x: float, w: float, closure: tuple[float, float], model: int, gas: "GasModel"
):
    """Viscosity with its eddy part, conductivity, and diffusion coefficients of both turbulence unknowns.

    Parameters
    ----------
    p, T : float
        Scaled gauge pressure and temperature.
    x, w : float
        Turbulence unknowns.
    closure : tuple[float, float]
        See `turbulence_sources`.
    model : int
        Code of the flow model.
    gas : GasModel
        Gas.

    Returns
    -------
    tuple of 4 float

    Examples
    --------
    >>> from zephyrum.flow.physics.gas_model import GasModel
    >>> gas = GasModel(1.4, viscosity=1e-6)
    >>> mu, heat, x, w = diffusion_coefficients(0.0, 1.0, 100.0, 0.0, (0.0, 1.0), SA, gas)
    >>> round(mu / gas.viscosity, 2)  # nu~ 100 times nu
    100.96
    """
    mu = viscosity(T, gas)
    rho = (1.0 + gas.gamma * p) / T
    if model == SA:
        return sa_diffusion(rho, mu, x, closure, gas)
    if model == SST:
        return sst_diffusion(rho, mu, x, w, closure, gas)
    return mu, conductivity(mu, 0.0, gas), 0.0, 0.0


@inlined
def conductivity(mu: float, eddy: float, gas: "GasModel"):
    """Conductivity from the molecular and the eddy viscosity.

    Parameters
    ----------
    mu : float
        Molecular viscosity.
    eddy : float
        Eddy viscosity.
    gas : GasModel
        Gas.

    Examples
    --------
    >>> from zephyrum.flow.physics.gas_model import GasModel
    >>> round(conductivity(1.0, 0.0, GasModel(1.4)), 3)  # 1 / (Pr (gamma - 1))
    3.472
    """
    return (mu / gas.prandtl + eddy / gas.turbulent_prandtl) / (gas.gamma - 1.0)


@inlined
def sa_diffusion(rho: float, mu: float, x: float, closure: tuple, gas: "GasModel"):
    """`diffusion_coefficients` of SA.

    Parameters
    ----------
    rho : float
        Density.
    mu : float
        Viscosity.
    x : float
        Working variable nu~.
    closure : tuple
        See `turbulence_sources`.
    gas : GasModel
        Gas.

    Examples
    --------
    >>> from zephyrum.flow.physics.gas_model import GasModel
    >>> gas = GasModel(1.4, viscosity=1e-6)
    >>> round(sa_diffusion(1.0, 1e-6, 100.0, (0.0, 1.0), gas)[0] / gas.viscosity, 2)
    100.96
    """
    floor, blend = closure
    y = rho * gas.viscosity * x
    eddy = sa_eddy_viscosity(y, mu, floor) * blend
    return mu + eddy, conductivity(mu, eddy, gas), sa_diffusivity(y, mu), 0.0


@inlined
def sst_diffusion(rho: float, mu: float, x: float, w: float, closure: tuple, gas: "GasModel"):
    """`diffusion_coefficients` of SST.

    Parameters
    ----------
    rho : float
        Density.
    mu : float
        Viscosity.
    x : float
        k.
    w : float
        log(omega).
    closure : tuple
        See `turbulence_sources`.
    gas : GasModel
        Gas.

    Examples
    --------
    >>> from zephyrum.flow.physics.gas_model import GasModel
    >>> gas = GasModel(1.4, viscosity=1e-6, k_unit=1.0)
    >>> mu, heat, x, w = sst_diffusion(1.0, 1e-6, 1e-4, math.log(10.0), (0.0, 0.0), gas)
    >>> round(mu / gas.viscosity, 2)  # 1 + k / (omega nu)
    11.0
    """
    floor, blend = closure
    eddy = sst_eddy_viscosity(rho, gas.k_unit * x, w, floor)
    diffusion, diffusion_w = sst_diffusivities(mu, eddy, blend)
    return mu + eddy, conductivity(mu, eddy, gas), diffusion, diffusion_w


@inlined
def viscous_stress(gu: tuple, gv: tuple, gw: tuple, normal: tuple):
    """Stress vector (3) on a unit area for unit viscosity.

    Parameters
    ----------
    gu, gv, gw : tuple
        Gradients (3) of the velocity components.
    normal : tuple
        Unit normal (3).

    Examples
    --------
    >>> viscous_stress((0.0, 0.0, 2.0), (0.0, 0.0, 0.0), (0.0, 0.0, 0.0), (0.0, 0.0, 1.0))  # du/dz = 2
    (2.0, 0.0, 0.0)
    """
    nx, ny, nz = normal
    bulk = 2.0 / 3.0 * (gu[0] + gv[1] + gw[2])
    return (
        2.0 * gu[0] * nx + (gu[1] + gv[0]) * ny + (gu[2] + gw[0]) * nz - bulk * nx,
        (gv[0] + gu[1]) * nx + 2.0 * gv[1] * ny + (gv[2] + gw[1]) * nz - bulk * ny,
        (gw[0] + gu[2]) * nx + (gw[1] + gv[2]) * ny + 2.0 * gw[2] * nz - bulk * nz,
    )
