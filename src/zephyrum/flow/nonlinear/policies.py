"""Policies of the nonlinear iteration: CFL control, line search, linear solver, start-up, first-order fallback.

Every tuned number of the iteration is a field here, with its unit. docs/tuned_numbers.md holds what half and twice of
each does to a set of cases, and the case that it changes most; `python -m validation.tuned_numbers` makes it.
Verified by tests/test_flow.py and by every case of validation/, which ends converged.
"""

from dataclasses import dataclass, fields
from typing import ClassVar

from zephyrum._core.validation import number, set_fields, whole
from zephyrum.errors import InputError


@dataclass(frozen=True)
class _Ranges:
    """Base of a policy: every float field is checked against (low, high), every int field is a positive whole number.

    `RANGES` holds the ranges that differ from (0, infinity), `ORDERED` pairs of fields of which the first is no larger.
    """

    RANGES: ClassVar[dict[str, tuple[float, ...]]] = {}
    ORDERED: ClassVar[tuple[tuple[str, str], ...]] = ()

    def __post_init__(self) -> None:
        for field in fields(self):
            value, label = getattr(self, field.name), f"{type(self).__name__}.{field.name}"
            if field.type is int:
                checked: float = whole(label, value, 1)
            else:
                checked = number(label, value, *self.RANGES.get(field.name, (0.0,)))
            set_fields(self, **{field.name: checked})
        for low, high in self.ORDERED:
            if getattr(self, low) > getattr(self, high):
                raise InputError(
                    f"{type(self).__name__}.{low} = {getattr(self, low):g} is above {high} = {getattr(self, high):g}; "
                    f"give a lower {low} or a higher {high}."
                )


@dataclass(frozen=True)
class CFLControl(_Ranges):
    """CFL number of the pseudo-transient continuation (switched evolution relaxation).

    Attributes
    ----------
    initial : float
        [-] CFL number of a cold start.
    restart : float
        [-] CFL number from a converged state of another condition or mesh.
    prolonged : float
        [-] The same from a coarser mesh in three-dimensional viscous flow.
    minimum : float
        [-] Least CFL number.
    maximum : float
        [-] Largest CFL number.
    newton : float
        [-] CFL number above which the iteration counts as Newton's.
    boundary_layers : float
        [-] CFL number below which boundary layers of three-dimensional flow are being built.
    at_rest : float
        [-] CFL number below which coefficients of three-dimensional viscous flow do not count as converged, since short
        steps change little.
    max_growth : float
        [-] Largest growth in one step of viscous flow.
    max_growth_newton : float
        [-] The same in inviscid flow and in Newton's regime.
    max_growth_layers : float
        [-] The same while boundary layers are being built: a faster growth causes jets at corners of 1 mm.
    min_growth : float
        [-] Least growth after a full step of viscous flow.
    min_growth_easy : float
        [-] The same in inviscid flow, and in three-dimensional flow after a step with at most `easy_vectors`.
    easy_vectors : int
        [Krylov vectors] See `min_growth_easy`.
    costly_vectors : int
        [Krylov vectors] More of them while boundary layers are being built show that a few cells hold up the solve.
    reduction_costly : float
        [-] Factor of the CFL number after such a step.
    reduction_limited : float
        [-] Factor after a step of viscous flow that the line search shortened a little.
    reduction_short : float
        [-] Factor after a step shortened to less than 0.3.
    reduction_very_short : float
        [-] Factor after a step of viscous flow shortened to less than 0.05.
    reduction_rejected : float
        [-] Factor after a rejected step.
    reduction_unsolved : float
        [-] Factor after a linear system that was not solved far enough.
    source_inertia : float
        [-] Inertia that an equation of turbulence gets in two-dimensional flow for each unit by which its source grows
        with its unknown. With 1 in place of 2 the section of the demo takes 361 in place of 413 steps for the 15
        attitudes up to the largest lift, and both beyond converge in place of one; six chains of docs/robustness.md
        converge at 22 in place of 21 of 30 attitudes, and with 0 at 19.
    source_inertia_space : float
        [-] The same in three-dimensional flow: more than 1, so that the matrix stays positive about an aircraft.
    source_inertia_cfl : float
        [-] CFL number above which that inertia fades as 1 / CFL: production exceeds destruction in many cells of a
        steady solution, where an inertia that stays caps the CFL number of k. NACA 0012, SST, alpha 0, 10 and 15 deg on
        16k cells: 200 steps or more with one that stays, 17 to 21 steps without.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Numerics(cfl=zy.CFLControl(initial=5.0)).cfl.initial
    5.0
    """

    initial: float = 10.0
    restart: float = 100.0
    prolonged: float = 20.0
    minimum: float = 1e-2
    maximum: float = 1e8
    newton: float = 1e6
    boundary_layers: float = 1e3
    at_rest: float = 3e3
    max_growth: float = 3.0
    max_growth_newton: float = 10.0
    max_growth_layers: float = 2.0
    min_growth: float = 1.5
    min_growth_easy: float = 2.0
    easy_vectors: int = 8
    costly_vectors: int = 20
    reduction_costly: float = 0.3
    reduction_limited: float = 0.6
    reduction_short: float = 0.5
    reduction_very_short: float = 0.2
    reduction_rejected: float = 0.1
    reduction_unsolved: float = 0.2
    source_inertia: float = 1.0
    source_inertia_space: float = 2.0
    source_inertia_cfl: float = 1e5

    RANGES: ClassVar = {
        "initial": (1e-6, 1e12),
        "restart": (1e-6, 1e12),
        "prolonged": (1e-6, 1e12),
        "minimum": (1e-6, 1e12),
        "maximum": (1e-6, 1e12),
        "max_growth": (1.0,),
        "max_growth_newton": (1.0,),
        "max_growth_layers": (1.0,),
        "min_growth": (1.0,),
        "min_growth_easy": (1.0,),
        "reduction_costly": (0.0, 1.0),
        "reduction_limited": (0.0, 1.0),
        "reduction_short": (0.0, 1.0),
        "reduction_very_short": (0.0, 1.0),
        "reduction_rejected": (1e-3, 1.0),
        "reduction_unsolved": (1e-3, 1.0),
    }
    ORDERED: ClassVar = (
        ("minimum", "initial"),
        ("initial", "maximum"),
        ("restart", "maximum"),
        ("min_growth", "max_growth"),
        ("min_growth_easy", "max_growth_newton"),
    )

    def source_inertia_at(self, cfl: float, space: bool) -> float:
        """Inertia of the equations of turbulence for each unit of growth of their sources.

        Parameters
        ----------
        cfl : float
            CFL number.
        space : bool
            Whether the flow is three-dimensional.

        Examples
        --------
        >>> CFLControl().source_inertia_at(10.0, space=True), CFLControl().source_inertia_at(1e8, space=True)
        (2.0, 0.002)
        """
        most = self.source_inertia_space if space else self.source_inertia
        return most * min(1.0, self.source_inertia_cfl / cfl)


@dataclass(frozen=True)
class LineSearch(_Ranges):
    """Limits of a step, and the line search along it.

    Attributes
    ----------
    max_relative_change : float
        [-] Largest relative change of pressure and temperature in one step.
    free_cell_fraction : float
        [-] Fraction of the cells of a three-dimensional mesh whose own steps are shortened more than that of all.
    min_factor : float
        [-] A step of viscous flow that has to be shortened more is rejected.
    max_turbulence_fall : float
        [-] Largest relative fall of the SA variable in one step of three-dimensional flow.
    max_turbulence_rise : float
        [-] Largest relative rise of it.
    free_turbulence_change : float
        [nu] Change of it that is always allowed.
    max_log_omega_change : float
        [-] Largest change of log(omega) in one step.
    max_halvings : int
        [-] Halvings of a step before it is rejected.
    accepted_growth : float
        [-] Growth of the residual that a step may cause: shocks cannot move if it must fall.
    poor_reduction : float
        [-] Fraction of the residual left by a full step of Newton's regime above which half of it is tried too: two
        states may alternate otherwise.
    max_residual_growth : float
        [-] Growth of the largest residual above which a step from low residuals of three-dimensional viscous flow is
        rejected.
    max_attempts : int
        [-] CFL numbers tried in one step before the run fails.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Numerics(line_search=zy.LineSearch(max_relative_change=0.1)).line_search.max_relative_change
    0.1
    """

    max_relative_change: float = 0.2
    free_cell_fraction: float = 1e-3
    min_factor: float = 0.1
    max_turbulence_fall: float = 0.7
    max_turbulence_rise: float = 1.0
    free_turbulence_change: float = 5.0
    max_log_omega_change: float = 2.0
    max_halvings: int = 5
    accepted_growth: float = 3.0
    poor_reduction: float = 0.7
    max_residual_growth: float = 6.0
    max_attempts: int = 6

    RANGES: ClassVar = {
        "max_relative_change": (1e-3, 0.9),
        "free_cell_fraction": (0.0, 0.5),
        "min_factor": (0.0, 1.0),
        "max_turbulence_fall": (1e-3, 1.0),
        "max_log_omega_change": (1e-3, 50.0),
        "accepted_growth": (1.0,),
        "max_residual_growth": (1.0,),
    }


@dataclass(frozen=True)
class LinearSolver(_Ranges):
    """Restart-free GMRES of one Newton step, preconditioned by block ILU.

    Attributes
    ----------
    max_vectors : int
        [Krylov vectors] Most vectors of a step.
    max_vectors_early : int
        [Krylov vectors] The same in three-dimensional viscous flow below Newton's regime, where a shorter step is the
        better use of the time.
    tolerance : float
        [-] Fraction of the linear residual left by a step.
    loosest_tolerance : float
        [-] The same in the last steps, when the target is nearly reached.
    max_unsolved : float
        [-] Fraction of it that may be left where the vectors were too few.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Numerics(linear_solver=zy.LinearSolver(max_vectors=80)).linear_solver.max_vectors
    80
    """

    max_vectors: int = 120
    max_vectors_early: int = 40
    tolerance: float = 0.1
    loosest_tolerance: float = 0.5
    max_unsolved: float = 0.3

    RANGES: ClassVar = {
        "tolerance": (1e-6, 0.9),
        "loosest_tolerance": (1e-6, 0.9),
        "max_unsolved": (0.0, 1.0),
    }

    def __post_init__(self) -> None:
        super().__post_init__()
        whole("LinearSolver.max_vectors", self.max_vectors, 5, 1000)


@dataclass(frozen=True)
class StartUp(_Ranges):
    """Cold start over coarser meshes, smaller incidences and first order.

    Attributes
    ----------
    alpha_step : float
        [deg] Largest step of the incidence on the coarsest mesh: a start straight at a high alpha can keep a separation
        that a gradual one has not.
    turn_distance : float
        [chord] Wall distance within which the turn of a velocity to another incidence fades out.
    min_coarse_cells : int
        [cells] Least size of the coarsest mesh: smaller ones separate at high alpha.
    first_order_mach : float
        [-] Mach number above which an inviscid cold start begins at first order.
    max_iterations_shocks : int
        [steps] Most steps of such a start.
    max_iterations_inviscid : int
        [steps] Most steps at first order of a slow three-dimensional start without friction.
    max_iterations_viscous : int
        [steps] The same with friction.
    intermediate_drop : float
        [decades] Residual drop on a mesh that only leads to the next.
    max_iterations_coarse : int
        [steps] Most steps on such a mesh.
    rest_steps : int
        [steps] Steps over which CL and CD must be at rest on such a mesh, in three-dimensional flow.
    rest_change : float
        [-] Relative change of them that counts as rest.
    min_temperature_ratio : float
        [-] Least temperature of a start over the total one.
    thinner_cell_ratio : float
        [-] Ratio of wall distances below which the velocity from a coarser cell is scaled down to the finer one.
    dead_air_temperature : float
        [-] Relative error of the total temperature of a cell of an inviscid start above which its state is interpolated
        from its neighbours.
    dead_air_pressure : float
        [q] The same of the total pressure, over the dynamic pressure of the stream.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Numerics(start_up=zy.StartUp(alpha_step=2.0)).start_up.alpha_step
    2.0
    """

    alpha_step: float = 4.0
    turn_distance: float = 0.3
    min_coarse_cells: int = 3000
    first_order_mach: float = 0.5
    max_iterations_shocks: int = 80
    max_iterations_inviscid: int = 14
    max_iterations_viscous: int = 9
    intermediate_drop: float = 3.5
    max_iterations_coarse: int = 80
    rest_steps: int = 4
    rest_change: float = 0.005
    min_temperature_ratio: float = 0.3
    thinner_cell_ratio: float = 0.5
    dead_air_temperature: float = 0.02
    dead_air_pressure: float = 0.3

    RANGES: ClassVar = {
        "alpha_step": (0.1, 90.0),
        "turn_distance": (1e-6,),
        "intermediate_drop": (0.5, 12.0),
        "min_temperature_ratio": (1e-3, 0.9),
        "thinner_cell_ratio": (0.0, 1.0),
    }


@dataclass(frozen=True)
class FirstOrderFallback(_Ranges):
    """Demotion of a few cells to first order, where they hold up the convergence.

    Attributes
    ----------
    patience : int
        [steps] Steps without a lower residual before cells are demoted.
    growth : float
        [-] Growth of the residual after which two such steps are enough.
    max_cells : float
        [-] Fraction of the cells that may be demoted at once.
    residual_share : float
        [-] Fraction of the squared residual that they must hold.
    max_cells_costly : float
        [-] `max_cells` where the linear solve is costly.
    residual_share_costly : float
        [-] `residual_share` where the linear solve is costly.
    min_cfl : float
        [-] Least CFL number after a demotion.
    max_temperature : float
        [-] Over the highest temperature that stream and walls can give: a higher one is an error of the scheme, and its
        cell is repaired.
    min_temperature : float
        [-] The same over the lowest temperature, in slow flow.
    max_repaired : float
        [-] Fraction of the cells that may be repaired.
    slow_mach : float
        [-] Mach number of stream and walls together below which `min_temperature` holds.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Numerics(fallback=zy.FirstOrderFallback(patience=20)).fallback.patience
    20
    """

    patience: int = 16
    growth: float = 2.0
    max_cells: float = 0.0005
    residual_share: float = 0.95
    max_cells_costly: float = 0.005
    residual_share_costly: float = 0.9
    min_cfl: float = 100.0
    max_temperature: float = 1.1
    min_temperature: float = 0.75
    max_repaired: float = 0.01
    slow_mach: float = 0.5

    RANGES: ClassVar = {
        "growth": (1.0,),
        "max_cells": (0.0, 1.0),
        "max_cells_costly": (0.0, 1.0),
        "residual_share": (0.0, 1.0),
        "residual_share_costly": (0.0, 1.0),
        "max_temperature": (1.0,),
        "min_temperature": (0.0, 1.0),
        "max_repaired": (0.0, 1.0),
    }


@dataclass(frozen=True)
class LocalCFL(_Ranges):
    """Bound on the CFL number of the few cells that hold up the convergence of inviscid flow in space.

    Half Skerry on 42,015 cells: some cells of 1 mm between the tail of the nacelle and that of the wing oscillate under
    Newton's method, at first order too, and keep the residual at 1e-2, while CL and CD stand still. With the bound
    it falls to 6e-4 and a step takes 1 s instead of 4 s. On 780,360 cells the cells at the tip of the blunt tail of the
    wing diverge with a bound of 100; a lower one follows their eddies in time.

    Attributes
    ----------
    max_cfl : float
        [-] First bound, in these cells and their neighbours. The case on 42,015 cells: with 100 and 300 the residual
        falls, with 1000 not.
    min_cfl : float
        [-] Least bound.
    max_growth : float
        [-] Largest factor on the bound in a step: it follows the residual of these cells, as the CFL number of a run
        does. Half Skerry on 22,399 cells, alpha 0: with a fixed bound 90 cells stop 3.4 orders down, although their
        equations at first order have a solution; with this one the residual of all cells falls 4 orders.
    falling : float
        [-] Ratio of their residuals from one step to the next below which they do not hold up the convergence.
    reduction : float
        [-] Factor on the bound where they hold up the convergence once more.
    patience : int
        [steps] Steps without a lower residual before cells are chosen.
    residual_share : float
        [-] Fraction of the squared residual that they must hold.
    max_cells : float
        [-] Fraction of all cells that they may be.
    min_drop : float
        [decades] Fall of the residual of all other cells from which on a run may end while these cells oscillate.
    rest_steps : int
        [steps] Steps over which CL and CD must be at rest then.
    rest_change : float
        [-] Relative change of them that counts as rest.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Numerics(local_cfl=zy.LocalCFL(max_cfl=50.0)).local_cfl.max_cfl
    50.0
    """

    max_cfl: float = 100.0
    min_cfl: float = 3.0
    max_growth: float = 3.0
    falling: float = 0.99
    reduction: float = 0.3
    patience: int = 3
    residual_share: float = 0.99
    max_cells: float = 0.01
    min_drop: float = 3.0
    rest_steps: int = 10
    rest_change: float = 1e-4

    RANGES: ClassVar = {
        "max_cfl": (1.0,),
        "min_cfl": (0.1,),
        "max_growth": (1.0,),
        "falling": (0.0, 1.0),
        "reduction": (0.01, 1.0),
        "residual_share": (0.0, 1.0),
        "max_cells": (0.0, 1.0),
        "min_drop": (0.0, 12.0),
        "rest_change": (0.0, 1.0),
    }
    ORDERED: ClassVar = (("min_cfl", "max_cfl"),)


@dataclass(frozen=True)
class InnerIteration(_Ranges):
    """Newton iteration within one step in time.

    Attributes
    ----------
    max_iterations : int
        [steps] Most Newton steps within a time step.
    slow_reduction : float
        [-] Fraction of the residual left by a Newton step above which the Jacobian is renewed.
    tolerance : float
        [-] Fraction of the linear residual left by a step.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Numerics(inner=zy.InnerIteration(tolerance=0.05)).inner.tolerance
    0.05
    """

    max_iterations: int = 20
    slow_reduction: float = 0.25
    tolerance: float = 0.1

    RANGES: ClassVar = {"slow_reduction": (0.0, 1.0), "tolerance": (1e-6, 0.9)}
