"""How a run ends: one of a few named outcomes, each with its remedy."""

from enum import StrEnum


class Outcome(StrEnum):
    """How a run ended. It compares equal to its word, such as "converged".

    Attributes
    ----------
    CONVERGED
        Residuals have dropped and the coefficients have stopped.
    IMPLAUSIBLE
        Converged, but to values that no such flow has.
    OSCILLATING
        Bounded, not steady: mean and amplitude are given.
    UNSTABLE
        A steady solution of which a small disturbance grows: see `linear_stability`.
    FAILED
        No solution.

    Examples
    --------
    >>> from zephyrum.flow.outcome import Outcome
    >>> Outcome.OSCILLATING == "oscillating"
    True
    >>> Outcome("failed").remedy
    'look at the mesh where the largest residual is, or start from a neighbouring condition'
    """

    CONVERGED = "converged"
    IMPLAUSIBLE = "implausible"
    OSCILLATING = "oscillating"
    UNSTABLE = "converged, but unstable"
    FAILED = "failed"

    @property
    def remedy(self) -> str:
        """What to do about it; empty if the run converged.

        Examples
        --------
        >>> Outcome.CONVERGED.remedy
        ''
        """
        return _REMEDIES[self]


_REMEDIES = {
    Outcome.CONVERGED: "",
    Outcome.IMPLAUSIBLE: "do not use the values; look at the mesh, the reference quantities and the conditions",
    Outcome.OSCILLATING: "follow the flow in time, refine the mesh, or use mean and amplitude",
    Outcome.UNSTABLE: "follow it in time",
    Outcome.FAILED: "look at the mesh where the largest residual is, or start from a neighbouring condition",
}
