"""Turbulence models, a file each, named by their trade names; `MODELS` lists what `solve` accepts.

Kernels know a model by its code, its position in `MODELS`: all models share one compiled kernel.
"""

import math
from typing import TYPE_CHECKING

from zephyrum._core.jit import inlined
from zephyrum.flow.physics.turbulence import sa, sst

if TYPE_CHECKING:
    from zephyrum.conditions.stream_turbulence import StreamTurbulence
    from zephyrum.flow.physics.gas_model import GasModel


MODELS = ("euler", "laminar", "sa", "sst")
EQUATIONS = {"euler": (), "laminar": (), "sa": ("turbulence",), "sst": ("turbulence", "turbulence_rate")}
VISCOUS_MODELS = ("sa", "sst")  # models that need the layer next to the wall resolved


EULER, LAMINAR, SA, SST = range(len(MODELS))


@inlined
def equation_count(code: int):
    """Number of turbulence equations of a model.

    Parameters
    ----------
    code : int
        Code of the flow model.

    Examples
    --------
    >>> [equation_count(model_code(model)) for model in MODELS]
    [0, 0, 1, 2]
    """
    return max(code - LAMINAR, 0)


def model_code(model: str) -> int:
    """Code of a flow model, its position in `MODELS`.

    Parameters
    ----------
    model : str
        Flow model.

    Examples
    --------
    >>> model_code("euler")
    0
    """
    return MODELS.index(model)


def freestream_turbulence(
    model: str, law: "GasModel", mach: float, chord: float, stream: "StreamTurbulence | None" = None
) -> tuple[float, ...]:
    """Turbulence unknowns of the freestream (see the files of the models).

    Parameters
    ----------
    model : str
        Flow model.
    law : GasModel
        Gas in scaled units.
    mach : float
        Mach number of the stream.
    chord : float
        [m]
    stream : StreamTurbulence, optional
        Turbulence of the stream; without it what the models advise.

    Examples
    --------
    >>> from zephyrum.flow.physics.gas_model import GasModel
    >>> freestream_turbulence("sa", GasModel(1.4, viscosity=1e-7), 0.2, 1.0)
    (3.0,)
    """
    if model == "sa":
        return (sa.FREESTREAM_RATIO if stream is None else sa.unknown_of_eddy_ratio(stream.viscosity_ratio),)
    if model == "sst" and stream is not None:
        k = 1.5 * (stream.intensity * mach) ** 2
        return k / law.k_unit, math.log(k / (stream.viscosity_ratio * law.viscosity))
    if model == "sst":
        rate = sst.INFLOW_RATE * mach / chord
        return sst.INFLOW_RATIO * law.viscosity * rate / law.k_unit, math.log(rate)
    return ()


def typical_turbulence(model: str) -> tuple[float, ...]:
    """Size of the turbulence unknowns within a boundary layer, for scaling their equations.

    Parameters
    ----------
    model : str
        Flow model.

    Examples
    --------
    >>> typical_turbulence("sa"), typical_turbulence("euler")
    ((100.0,), ())
    """
    return {"sa": (sa.TYPICAL_RATIO,), "sst": (5.0, 10.0)}.get(model, ())


__all__ = [
    "EQUATIONS",
    "EULER",
    "LAMINAR",
    "MODELS",
    "SA",
    "SST",
    "VISCOUS_MODELS",
    "equation_count",
    "freestream_turbulence",
    "model_code",
    "typical_turbulence",
]
