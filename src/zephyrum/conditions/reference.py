"""Reference quantities: the area, lengths and point that turn forces and moments into coefficients.

There is no default of one: a Reference is measured (by a mesh generator) or typed (by the user).
"""

from dataclasses import dataclass, replace

from zephyrum._core.validation import number, numbers


@dataclass(frozen=True)
class Reference:
    """Reference quantities of the coefficients.

    Attributes
    ----------
    area : float
        [m^2]
    chord : float
        For pitch [m].
    span : float
        For roll and yaw [m].
    point : tuple[float, float, float]
        Moment point [m].
    origin : str
        Where the quantities come from.

    Notes
    -----
    In two dimensions the area is chord times slab thickness, so that coefficients are per unit span.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Reference(area=28.0, chord=1.75, span=16.4, point=(4.0, 0.0, 1.6)).chord
    1.75
    """

    area: float
    chord: float
    span: float
    point: tuple[float, float, float]
    origin: str = "typed"

    def __post_init__(self) -> None:
        for name in ("area", "chord", "span"):
            number(f"reference.{name}", getattr(self, name), 0.0, open_low=True)
        object.__setattr__(self, "point", numbers("reference.point", self.point, 3))

    def __str__(self) -> str:
        x, y, z = self.point
        return (
            f"area {self.area:.5g} m^2, chord {self.chord:.5g} m, span {self.span:.5g} m, moments about ({x:.4g}, "
            f"{y:.4g}, {z:.4g}) m, {self.origin}"
        )

    @classmethod
    def of_section(
        cls, chord: float, nose: tuple[float, float, float], depth: float = 1.0, origin: str = "measured"
    ) -> "Reference":
        """Reference quantities of an airfoil section, moments about the quarter chord of a chord along x.

        Parameters
        ----------
        chord : float
            [m]
        nose : tuple[float, float, float]
            Leading edge [m].
        depth : float, optional
            Width of the section [m].
        origin : str, optional
            Where the quantities come from.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Reference.of_section(2.0, (0.0, 0.0, 0.0)).point
        (0.5, 0.0, 0.0)
        """
        x, y, z = nose
        return cls(chord * depth, chord, depth, (x + 0.25 * chord, y, z), origin)

    def about(self, point: tuple[float, float, float]) -> "Reference":
        """The same reference quantities with another moment point.

        Parameters
        ----------
        point : tuple[float, float, float]
            [m]

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Reference(28.0, 1.75, 16.4, (4.0, 0.0, 1.6)).about((0.0, 0.0, 0.0)).point
        (0.0, 0.0, 0.0)
        """
        return replace(self, point=tuple(point))  # type: ignore[arg-type]

    def disagreement(self, measured: "Reference") -> list[str]:
        """Sentences on each quantity that differs by more than 3 percent.

        Parameters
        ----------
        measured : Reference
            Reference quantities to compare with.

        Examples
        --------
        >>> import zephyrum as zy
        >>> typed = zy.Reference(28.0, 1.75, 16.4, (4.0, 0.0, 1.6))
        >>> len(typed.disagreement(zy.Reference(20.0, 1.75, 16.4, (4.0, 0.0, 1.6))))
        1
        """
        notes = []
        for name, unit in (("area", "m^2"), ("chord", "m"), ("span", "m")):
            mine, theirs = getattr(self, name), getattr(measured, name)
            if abs(mine / theirs - 1.0) > 0.03:
                notes.append(
                    f"reference {name} {mine:g} {unit} is typed, but {theirs:g} {unit} is measured on the mesh "
                    f"({100.0 * (mine / theirs - 1.0):+.1f} %): check its unit and scale."
                )
        return notes
