"""Numerical choices of a run: the target of the iteration and one policy object for each part of the method."""

from dataclasses import dataclass, field

from zephyrum._core.validation import number, set_fields, taken, whole
from zephyrum.errors import InputError
from zephyrum.flow.discretization.limiter import Limiter
from zephyrum.flow.discretization.scheme import Reconstruction, Scheme
from zephyrum.flow.nonlinear.policies import (
    CFLControl,
    FirstOrderFallback,
    InnerIteration,
    LinearSolver,
    LineSearch,
    LocalCFL,
    StartUp,
)


@dataclass(frozen=True)
class Numerics:
    """Numerical choices of a run.

    Attributes
    ----------
    residual_drop : float
        Decades by which every residual must fall below that of the undisturbed stream.
    max_iterations : int
        Most Newton steps on the finest mesh.
    stagnation_steps : int
        Steps without a lower residual after which a run counts as oscillating.
    vortex : bool
        Circulation correction of the farfield, in two-dimensional subsonic flow.
    reconstruction : Reconstruction
        Order, kappa and gradient of the reconstruction at a face.
    limiter : Limiter
        Where and how the reconstruction is limited.
    cfl : CFLControl
        CFL number from step to step.
    line_search : LineSearch
        Limits of a step and search along it.
    linear_solver : LinearSolver
        GMRES of one Newton step.
    start_up : StartUp
        Cold start over coarser meshes.
    fallback : FirstOrderFallback
        Cells that are demoted to first order.
    local_cfl : LocalCFL
        Cells whose CFL number is bounded.
    inner : InnerIteration
        Newton iteration within one step in time.

    Raises
    ------
    InputError
        For a value out of its range.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Numerics(residual_drop=5).max_iterations
    200
    >>> zy.Numerics(reconstruction=zy.Reconstruction(order=1)).reconstruction.kappa
    0.3333333333333333
    """

    residual_drop: float = 8.0
    max_iterations: int = 200
    stagnation_steps: int = 30
    vortex: bool = True
    reconstruction: Reconstruction = field(default_factory=Reconstruction)
    limiter: Limiter = field(default_factory=Limiter)
    cfl: CFLControl = field(default_factory=CFLControl)
    line_search: LineSearch = field(default_factory=LineSearch)
    linear_solver: LinearSolver = field(default_factory=LinearSolver)
    start_up: StartUp = field(default_factory=StartUp)
    fallback: FirstOrderFallback = field(default_factory=FirstOrderFallback)
    local_cfl: LocalCFL = field(default_factory=LocalCFL)
    inner: InnerIteration = field(default_factory=InnerIteration)

    def __post_init__(self) -> None:
        set_fields(
            self,
            residual_drop=number("residual_drop", self.residual_drop, 0.5, 12.0),
            max_iterations=whole("max_iterations", self.max_iterations, 1),
            stagnation_steps=whole("stagnation_steps", self.stagnation_steps, 1),
        )
        if not isinstance(self.vortex, bool):
            raise InputError(f"vortex = {self.vortex!r} must be True or False.")
        for name, kind in POLICIES.items():
            taken(name, getattr(self, name), kind)

    @classmethod
    def from_description(cls, facts: dict) -> "Numerics":
        """Numerics that `dataclasses.asdict` described.

        Parameters
        ----------
        facts : dict
            Fields by name.

        Examples
        --------
        >>> from dataclasses import asdict
        >>> Numerics.from_description(asdict(Numerics(residual_drop=6.0))).residual_drop
        6.0
        """
        return cls(**{name: POLICIES[name](**value) if name in POLICIES else value for name, value in facts.items()})

    def scheme(self) -> Scheme:
        """The part that the residual needs.

        Examples
        --------
        >>> Numerics().scheme().reconstruction.order
        2
        """
        return Scheme(self.reconstruction, self.limiter)


POLICIES = {
    "reconstruction": Reconstruction,
    "limiter": Limiter,
    "cfl": CFLControl,
    "line_search": LineSearch,
    "linear_solver": LinearSolver,
    "start_up": StartUp,
    "fallback": FirstOrderFallback,
    "local_cfl": LocalCFL,
    "inner": InnerIteration,
}
