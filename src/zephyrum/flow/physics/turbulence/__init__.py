"""Turbulence models, a file each, named by their trade names; `MODELS` lists what `solve` accepts.

Kernels know a model by its `key`, a tuple whose length the compiler sees: 0 inviscid, 1 laminar, and one more for each
turbulence equation; so every model gets kernels of its own and none pays for the others.
"""

import math

from zephyrum._core.jit import inlined
from zephyrum.flow.physics.turbulence import sa, sst

MODELS = ("euler", "laminar", "sa", "sst")
EQUATIONS = {"euler": (), "laminar": (), "sa": ("turbulence",), "sst": ("turbulence", "turbulence rate")}
VISCOUS_MODELS = ("sa", "sst")  # models that need the layer next to the wall resolved


@inlined
def equation_count(key):
    """Number of turbulence equations that a model's `key` stands for."""
    return max(len(key) - 1, 0)


def model_key(model: str) -> tuple[int, ...]:
    """As many zeros as the model's place in `MODELS`."""
    return (0,) * MODELS.index(model)


def freestream_turbulence(model: str, law, mach: float, chord: float) -> tuple[float, ...]:
    """Turbulence unknowns of the freestream (see the models' files)."""
    if model == "sa":
        return (sa.FREESTREAM_RATIO,)
    if model == "sst":
        rate = sst.INFLOW_RATE * mach / chord
        return sst.INFLOW_RATIO * law.viscosity * rate / law.k_unit, math.log(rate)
    return ()


def typical_turbulence(model: str) -> tuple[float, ...]:
    """Size of the turbulence unknowns within a boundary layer, for scaling their equations."""
    return {"sa": (sa.TYPICAL_RATIO,), "sst": (5.0, 10.0)}.get(model, ())


__all__ = [
    "EQUATIONS",
    "MODELS",
    "VISCOUS_MODELS",
    "equation_count",
    "freestream_turbulence",
    "model_key",
    "typical_turbulence",
]
