"""Options of a mesh about several closed curves."""

from dataclasses import dataclass

from zephyrum._core.validation import number, set_fields
from zephyrum.errors import InputError
from zephyrum.mesh.size_field import SIZE_GROWTH, Zone


@dataclass(frozen=True, eq=False)
class BodyMeshOptions:
    """Options of a mesh about several closed curves.

    Attributes
    ----------
    y_plus, reynolds : float, optional
        Wall layers by the height of the first cell in wall units, at a Reynolds number on the reference chord.
    layers : tuple, optional
        (first height [m], growth, count). Without layers there are three even ones, for inviscid flow.
    farfield : float
        Distance of the outer boundary in chords.
    ground : float, optional
        z [m] of a level ground under the bodies as they are given.
    growth : float
        Of the cell size with distance.
    zones : tuple of Zone
    sizes : dict, optional
        Edge length [m] of single bodies.
    alpha : tuple of float
        (low, high) [deg] that the wake covers.
    wake : float
        Length [chords] of the finer cells behind the last body.
    reference : str, optional
        Body that gives the chord; without it the longest.
    chord : float, optional
        Reference chord [m], typed.
    attitude : float
        Angle [deg] by which the bodies are turned nose-up about the quarter chord of the reference body; the wind at
        this alpha blows along x, over a ground level along it, whose clearance of the lowest point is kept.
    ground_layers : bool, optional
        Whether the ground gets layers; without it where the bodies have them for flow with friction.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.BodyMeshOptions(y_plus=1.0, reynolds=3e6).viscous
    True
    """

    y_plus: float | None = None
    reynolds: float | None = None
    layers: tuple[float, float, int] | None = None
    farfield: float = 50.0
    ground: float | None = None
    growth: float = SIZE_GROWTH
    zones: tuple[Zone, ...] = ()
    sizes: dict[str, float] | None = None
    alpha: tuple[float, float] = (0.0, 0.0)
    wake: float = 0.0
    reference: str | None = None
    chord: float | None = None
    attitude: float = 0.0
    ground_layers: bool | None = None

    def __post_init__(self) -> None:
        set_fields(
            self,
            farfield=number("farfield", self.farfield, 2.0, 1e4),
            growth=number("growth", self.growth, 0.02, 1.0),
            wake=number("wake", self.wake, 0.0, 1000.0),
        )
        if self.layers is not None and self.y_plus is not None:
            raise InputError("give either layers or y_plus, not both.")
        if self.y_plus is not None and self.reynolds is None:
            raise InputError(f"y_plus = {self.y_plus:g} needs the Reynolds number on the chord; give reynolds.")

    @property
    def viscous(self) -> bool:
        """Whether layers for flow with friction are asked for.

        Examples
        --------
        >>> BodyMeshOptions().viscous
        False
        """
        return self.layers is not None or self.y_plus is not None
