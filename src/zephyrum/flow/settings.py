"""What a run may be asked for."""

from dataclasses import dataclass

from zephyrum._core.validation import choice, number, whole
from zephyrum.errors import InputError
from zephyrum.flow.gradient import METHODS
from zephyrum.flow.limiter import MODES
from zephyrum.flow.residual import Scheme
from zephyrum.flow.steps import CFL_CAP


@dataclass(frozen=True)
class Settings:
    """Of a run; every default has its reason.

    orders: decades by which every residual must fall below that of the undisturbed stream; steps: most Newton steps
    on the finest mesh; kappa, limiter, order, gradient: discretisation;
    turbulence_order: of the convection of turbulence quantities (on 16k cells about NACA 0012 the second order lowers CD
    by 0.4, 0.5 and 1.7 % at alpha 0, 10 and 15, in as many steps; the first keeps them positive on any mesh);
    cfl: first CFL number (10 from a cold start); krylov: most Krylov vectors a step; vortex: circulation correction of the farfield (two dimensions, subsonic).
    """

    orders: float = 8.0
    steps: int = 200
    kappa: float = 1.0 / 3.0
    limiter: str = "auto"
    order: int = 2
    turbulence_order: int = 1
    gradient: str = "by-cell"
    cfl: float = 10.0
    krylov: int = 120
    vortex: bool = True

    def __post_init__(self) -> None:
        number("orders", self.orders, 0.5, 12.0)
        whole("steps", self.steps, 1)
        number("kappa", self.kappa, -1.0, 1.0)
        choice("limiter", self.limiter, MODES)
        for name in ("order", "turbulence_order"):
            if getattr(self, name) not in (1, 2):
                raise InputError(f"{name} = {getattr(self, name)!r} must be 1 or 2.")
        choice("gradient", self.gradient, METHODS)
        number("cfl", self.cfl, 0.0, CFL_CAP, open_low=True)
        whole("krylov", self.krylov, 5, 1000)

    def scheme(self) -> Scheme:
        """The part that the residual needs."""
        return Scheme(self.kappa, self.limiter, self.order, self.turbulence_order)
