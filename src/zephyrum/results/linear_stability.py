"""Whether a steady solution is stable: its modes of small disturbances, in practitioner's units.

A steady solution of the equations may exist that no flow would keep: behind a circle above Reynolds number 47 the
steady wake is a solution, but a disturbance grows until vortices are shed. The leading eigenvalues of the linearised
equations tell: a positive growth rate means that the flow has to be followed in time, and the frequency how fast.
Source: Theofilis (2011), Annu. Rev. Fluid Mech. 43:319; the method is that of `flow.linear.shift_invert`.
Verified by tests/test_stability.py and validation/stability.py.
"""

import time
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from zephyrum._core.validation import number, taken, takes, whole
from zephyrum.errors import InputError
from zephyrum.flow.linear.shift_invert import EigenvalueOptions
from zephyrum.flow.nonlinear.steady_modes import steady_modes
from zephyrum.flow.outcome import Outcome
from zephyrum.results.solution import Solution
from zephyrum.solver import numerics_of

WAKE_STROUHAL = 0.05, 0.15  # Strouhal numbers on the height of the body across the stream where modes are looked for
# growth of the shifts over speed and that height. To the right of the imaginary axis the unstable modes are nearer than
# the many damped ones of a wake: NACA 4412 at 20 deg, Reynolds number 1,500, has a mode of growth 0.38 and Strouhal
# number 0.175 a chord, which shifts of growth 0.1 at 0, 0.27 and 0.54 did not find
SHIFT_GROWTH = 0.4
LEAST_HEIGHT = 0.05  # that height over the chord at least: a flat plate along the stream has none


@dataclass(frozen=True, eq=False)
class Mode:
    """A disturbance that grows or decays as exp((growth_rate + 2 pi i frequency) t).

    Attributes
    ----------
    growth : float
        Growth rate a chord of travel [-]; negative where the disturbance decays.
    strouhal : float
        Frequency times reference chord over speed [-]; 0 for a disturbance that does not oscillate.
    error : float
        Estimated error of growth and 2 pi strouhal.
    growth_rate : float
        [1/s]
    frequency : float
        [Hz]
    disturbance : (n, m) array of complex
        Of the scaled unknowns of every cell, over the largest one of the velocity.

    Examples
    --------
    >>> mode = Mode(0.01, 0.12, 1e-4, 0.34, 4.1, np.zeros((4, 5), complex))
    >>> mode.unstable
    True
    """

    growth: float
    strouhal: float
    error: float
    growth_rate: float
    frequency: float
    disturbance: np.ndarray

    @property
    def velocity(self) -> np.ndarray:
        """(n, 3) complex disturbance of the velocity in every cell, over the largest one [-]."""
        return self.disturbance[:, 1:4]

    @property
    def unstable(self) -> bool:
        """Whether the disturbance grows."""
        return self.growth > 0.0

    @property
    def certain(self) -> bool:
        """Whether the growth is larger than its error."""
        return abs(self.growth) > self.error

    def describe(self) -> str:
        """Growth and frequency in words."""
        kind = f"oscillates at Strouhal number {self.strouhal:.4f} ({self.frequency:.4g} Hz)" if self.strouhal else ""
        way = "grows" if self.unstable else "decays"
        rate = f"{way} by {abs(self.growth):.3g} +- {self.error:.1g} a chord of travel"
        return f"{rate} and {kind}" if kind else f"{rate} without oscillation"


@dataclass(frozen=True, eq=False)
class Stability:
    """Stability of a steady solution to small disturbances.

    Attributes
    ----------
    solution : Solution
    modes : tuple of Mode
        Fastest growing first.
    strouhal : tuple of float
        Strouhal numbers on the chord near which modes were looked for.
    missed : tuple of float
        Those near which none was found to the accuracy asked for: no growing mode stands out there.
    excluded : str
        What disturbances the mesh excludes; empty if none.
    krylov_vectors : int
        Of all linear solutions.
    seconds : float
        Time of the analysis [s].

    Examples
    --------
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_outline(zy.Outline.circle(1.0), 32, 24, first_height=0.03, farfield=20)
    >>> solution = zy.solve(mesh, zy.Freestream(mach=0.2, reynolds=20), "laminar")
    >>> print(zy.linear_stability(solution, strouhal=(0.12,)).outcome)
    converged
    """

    solution: Solution
    modes: tuple[Mode, ...]
    strouhal: tuple[float, ...]
    missed: tuple[float, ...]
    excluded: str
    krylov_vectors: int
    seconds: float

    @property
    def stable(self) -> bool:
        """Whether all modes that were found decay."""
        return not self.modes[0].unstable

    @property
    def outcome(self) -> Outcome:
        """That of the solution, or UNSTABLE."""
        return Outcome(self.solution.outcome) if self.stable else Outcome.UNSTABLE

    @property
    def words(self) -> str:
        """One sentence on the result."""
        leading = self.modes[0]
        unsure = "" if leading.certain else " (within its error of neutral)"
        if self.stable and not leading.certain:
            return "stable near the Strouhal numbers asked for: no growing mode stands out from the damped ones there"
        if self.stable:
            return f"stable near the Strouhal numbers asked for: the least damped mode {leading.describe()}"
        if leading.strouhal:
            what = f"it sheds at Strouhal number {leading.strouhal:.4f} ({leading.frequency:.4g} Hz)"
        else:
            what = "another steady state exists"
        return f"{Outcome.UNSTABLE}{unsure}: {what}; a disturbance {leading.describe()}; {Outcome.UNSTABLE.remedy}"

    @property
    def rows(self) -> list[dict]:
        """Rows of a table of the modes."""
        return [
            {
                "mode": k + 1,
                "growth": mode.growth,
                "strouhal": mode.strouhal,
                "error": mode.error,
                "growth_rate": mode.growth_rate,
                "frequency": mode.frequency,
            }
            for k, mode in enumerate(self.modes)
        ]

    def disturbed(self, amplitude: float = 0.01, mode: int = 1) -> Solution:
        """The solution with a mode added: a start for `solve_unsteady` from which an unstable flow leaves at once.

        Parameters
        ----------
        amplitude : float
            Largest disturbance of the velocity over the speed of the stream.
        mode : int
            Number of the mode, 1 for the first.

        Raises
        ------
        InputError
            There is no such mode, or the amplitude is out of range.
        """
        number("amplitude", amplitude, 0.0, 0.2, open_low=True)
        whole("mode", mode, 1, len(self.modes))
        own = self.modes[mode - 1].disturbance.real * (amplitude * self.solution.computed.mach)
        flow = self.solution.flow
        flow = replace(flow, q=flow.q + own, outcome=Outcome.OSCILLATING, reason=f"disturbed by mode {mode}")
        return replace(self.solution, flow=flow)

    def __repr__(self) -> str:
        return f"<Stability of {self.solution!r}: {self.words}>"


@takes(solution=Solution, options=EigenvalueOptions)
def linear_stability(
    solution: Solution,
    strouhal: tuple[float, ...] | None = None,
    options: EigenvalueOptions | None = None,
    on_shift: Callable[[dict], None] | None = None,
) -> Stability:
    """Find the modes of small disturbances of a steady solution, and whether one of them grows.

    Parameters
    ----------
    solution : Solution
        A converged solution.
    strouhal : tuple of float, optional
        Strouhal numbers on the reference chord near which modes are looked for, each 0 or more; without them
        0.05 and 0.15 on the height of the body across the stream.
    options : EigenvalueOptions, optional
        How many modes at each, and how accurately.
    on_shift : callable, optional
        Receives a dict of strouhal, modes and krylov_vectors after each of them.

    Returns
    -------
    Stability

    Raises
    ------
    InputError
        The solution did not converge, or a Strouhal number is not valid.
    FlowError
        The linear systems have no finite solution.

    Notes
    -----
    A mode far from all Strouhal numbers asked for may be missed. Where the flow is stable, many damped modes lie close
    together and none may be found accurately: then the nearest is given with its large error, see `Stability.missed`.
    The linearisation is exact, with that of the turbulence model; the latter is made for slow changes of the mean flow.
    A mesh with a plane of symmetry, a wedge or a section excludes disturbances without that symmetry: see
    `Stability.excluded`. Far above its onset an unstable flow may oscillate at another frequency than its mode, once
    the oscillation has changed the mean flow (Barkley 2006, Europhys. Lett. 75:750).

    Examples
    --------
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_outline(zy.Outline.circle(1.0), 32, 24, first_height=0.03, farfield=20)
    >>> solution = zy.solve(mesh, zy.Freestream(mach=0.2, reynolds=20), "laminar")
    >>> zy.linear_stability(solution, strouhal=(0.12,)).stable
    True
    """
    if solution.outcome != Outcome.CONVERGED:
        raise InputError(
            f"the solution is {solution.outcome}: only a converged one has a stability; follow the flow in time."
        )
    begin, chord = time.perf_counter(), solution.reference.chord
    height = _height_across(solution)
    asked = tuple(value * chord / height for value in WAKE_STROUHAL) if strouhal is None else tuple(strouhal)
    if not asked:
        raise InputError("strouhal is empty; give at least one Strouhal number, or leave it out.")
    for value in asked:
        number("strouhal", value, 0.0, 1e4)
    options = taken("options", options or EigenvalueOptions(), EigenvalueOptions)
    unit = solution.computed.mach / chord  # one over a chord of travel, in scaled time
    shifts = [unit * complex(SHIFT_GROWTH * chord / height, 2.0 * np.pi * value) for value in asked]

    def report(k: int, pairs) -> None:
        if on_shift is not None:
            on_shift({"strouhal": asked[k], "modes": len(pairs.values), "krylov_vectors": pairs.krylov_vectors})

    problem = solution.case.problem().at(numerics=numerics_of(solution))
    made = steady_modes(problem, solution.flow.q, solution.flow.first_order_cells, shifts, options, report)
    modes = [_mode(solution, *one) for one in zip(made.values / unit, made.errors / unit, made.vectors, strict=True)]
    missed = tuple(asked[k] for k in made.missed)
    seconds = time.perf_counter() - begin
    return Stability(solution, tuple(modes), asked, missed, excluded_modes(solution), made.krylov_vectors, seconds)


def excluded_modes(solution: Solution) -> str:
    """What disturbances the mesh of a solution excludes; empty if none.

    Parameters
    ----------
    solution : Solution
        Solution.
    """
    mesh = solution.mesh
    if mesh.wedge:
        return "an axisymmetric mesh excludes modes that vary round the axis, such as the shedding behind a sphere"
    if mesh.planar:
        return "a plane mesh excludes modes that vary along the span"
    if mesh.sectors > 1:
        return f"a sector excludes modes that are not equal in all {mesh.sectors} sectors"
    if mesh.mirrored:
        return "a half model excludes modes that are not symmetric about the symmetry plane"
    return ""


def _height_across(solution: Solution) -> float:
    """Height of the body across the stream in the plane of lift, at least a part of its chord [m]."""
    mesh = solution.mesh
    wall = mesh.face_centroid[mesh.faces_of("wall")] @ solution.computed.axes[2]
    return max(float(np.ptp(wall)) * (2.0 if mesh.wedge else 1.0), LEAST_HEIGHT * solution.reference.chord)


def _mode(solution: Solution, value: complex, error: float, vector: np.ndarray) -> Mode:
    """Mode in practitioner's units, from its eigenvalue a chord of travel and its vector (n, m)."""
    velocity = vector[:, 1:4].astype(complex)
    size = np.sqrt(np.sum(np.abs(velocity) ** 2, axis=1))
    at = int(np.argmax(size))
    phase = velocity[at, int(np.argmax(np.abs(velocity[at])))]
    scale = size[at] * phase / abs(phase)
    rate = solution.air.speed / solution.reference.chord
    strouhal = value.imag / (2.0 * np.pi)
    if abs(value.imag) <= error:
        strouhal = 0.0
    return Mode(
        float(value.real),
        float(strouhal),
        float(error),
        float(value.real * rate),
        float(strouhal * rate),
        vector / scale,
    )
