"""What all described parts share: fields that are checked when built, positions and attitudes, quantities with units.

A part is a frozen pydantic dataclass: numbers may be written with units ("35 cm"), and a wrong field is refused by
name, in a file with its line.
"""

from dataclasses import fields as dataclass_fields, replace
from typing import Annotated, Any, dataclass_transform

import numpy as np
from pydantic import BeforeValidator, ConfigDict, Field, PlainSerializer, ValidationError, ValidationInfo
from pydantic.dataclasses import dataclass as pydantic_dataclass

from zephyrum._core.renamed import renamed_advice
from zephyrum._core.units import quantity
from zephyrum.errors import InputError
from zephyrum.geometry.airfoil.section import Airfoil
from zephyrum.geometry.surface.triangulation import Surface


def unit_type(unit: str):
    """Type with a validator of numbers that may be texts with a unit.

    Parameters
    ----------
    unit : str
        Unit that numbers are converted to.

    Examples
    --------
    >>> from pydantic import TypeAdapter
    >>> round(TypeAdapter(Annotated[float, unit_type("m")]).validate_python("35 cm"), 6)
    0.35
    """

    def read(value: Any, info: ValidationInfo) -> Any:
        return quantity(info.field_name or "value", value, unit) if isinstance(value, str) else value

    return BeforeValidator(read)


Metres = Annotated[float, unit_type("m"), Field(allow_inf_nan=False)]
Length = Annotated[float, unit_type("m"), Field(gt=0.0, lt=1e4)]
Degrees = Annotated[float, unit_type("deg"), Field(ge=-360.0, le=360.0)]
Fraction = Annotated[float, Field(ge=0.0, le=1.0)]
Point = tuple[Metres, Metres, Metres]


def _section(value: Any, info: ValidationInfo) -> Any:
    """An airfoil from its name ("NACA 2412", with " blunt" for an open tail) or from a coordinate file."""
    if not isinstance(value, str):
        return value
    compact = value.lower().replace(" ", "").replace("-", "")
    if compact.startswith("naca"):
        blunt = compact.endswith("blunt")
        foil = Airfoil.naca(compact[4:].removesuffix("blunt"), "blunt" if blunt else "closed")
        return replace(foil, name=value)
    base = (info.context or {}).get("base")
    foil = Airfoil.read(value if base is None else base / value)
    return replace(foil, name=value)


Section = Annotated[Airfoil, BeforeValidator(_section), PlainSerializer(lambda foil: foil.name)]


@dataclass_transform(frozen_default=True, kw_only_default=True)
def part(cls):
    """Class decorator: a frozen dataclass that checks its fields and says what is wrong in one sentence."""
    made = pydantic_dataclass(
        frozen=True,
        kw_only=True,
        config=ConfigDict(extra="forbid", arbitrary_types_allowed=True, revalidate_instances="never"),
    )(cls)
    built = made.__init__

    def checked(self, *values, **given) -> None:
        try:
            built(self, *values, **given)
        except ValidationError as cause:
            path, advice = validation_message(cause)
            raise InputError(f"{'.'.join([cls.__name__, *map(str, path)])}: {advice}") from None

    checked.__wrapped__ = built
    made.__init__ = checked
    return made


def validation_message(cause: ValidationError, tags: tuple[str, ...] = ()) -> tuple[list, str]:
    """Path and sentence of the first error of a validation.

    Parameters
    ----------
    cause : ValidationError
        Error of pydantic.
    tags : tuple[str, ...], optional
        Kinds that pydantic puts into paths; they are dropped.

    Returns
    -------
    path : list
        Path of the field.
    message : str
        What is wrong and what to do.
    """
    # an unknown key explains a missing one, so it is reported first
    first = min(cause.errors(), key=lambda one: one["type"] not in ("extra_forbidden", "unexpected_keyword_argument"))
    path = [
        step
        for k, step in enumerate(first["loc"])
        if not (isinstance(step, str) and ("-" in step or (k == 2 and step in tags)))
    ]
    kind = first["type"]
    if kind == "value_error":
        return path, str(first["ctx"]["error"]).rstrip(".") + "."
    if kind in ("extra_forbidden", "unexpected_keyword_argument"):
        renamed = renamed_advice(str(path[-1]))
        return path, f"unknown; {renamed or 'remove it or look for a typing mistake'}."
    if kind in ("missing", "missing_argument"):
        return path, "is missing; give it."
    return path, f"{first['msg'][0].lower()}{first['msg'][1:]}, but it is {first['input']!r}."


def attitude_matrix(roll: float, pitch: float, yaw: float) -> np.ndarray:
    """Rotation matrix of an attitude.

    Parameters
    ----------
    roll : float
        Starboard side down [deg].
    pitch : float
        Nose up [deg].
    yaw : float
        Nose to starboard [deg].

    Returns
    -------
    (3, 3) array
        Rotation in body axes.

    Notes
    -----
    Yaw is turned first, then pitch, then roll, each about the axes of the part (Etkin 1972, ch. 4).

    Examples
    --------
    >>> attitude_matrix(0.0, 0.0, 0.0).tolist()[0]
    [1.0, 0.0, 0.0]
    """
    r, p, y = np.radians([-roll, pitch, -yaw])
    about_x = np.array([[1, 0, 0], [0, np.cos(r), -np.sin(r)], [0, np.sin(r), np.cos(r)]])
    about_y = np.array([[np.cos(p), 0, np.sin(p)], [0, 1, 0], [-np.sin(p), 0, np.cos(p)]])
    about_z = np.array([[np.cos(y), -np.sin(y), 0], [np.sin(y), np.cos(y), 0], [0, 0, 1]])
    return about_z @ about_y @ about_x


@part
class Mass:
    """Mass of a part; give one of the numbers. Without any the part has no mass of its own.

    Attributes
    ----------
    density : float, optional
        Of its solid [kg/m^3].
    skin : float, optional
        Of its surface [kg/m^2].
    total : float, optional
        [kg], as a skin.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Mass(skin=8.0).skin
    8.0
    """

    density: Annotated[float, unit_type("kg/m^3"), Field(ge=0.0)] | None = None
    skin: Annotated[float, unit_type("kg/m^2"), Field(ge=0.0)] | None = None
    total: Annotated[float, unit_type("kg"), Field(ge=0.0)] | None = None

    def __post_init__(self) -> None:
        given = [one.name for one in dataclass_fields(self) if getattr(self, one.name) is not None]
        if len(given) != 1:
            raise InputError(
                f"mass gives {' and '.join(given) or 'nothing'}; give exactly one of density, skin, total."
            )


@part
class Part:
    """What every part has.

    Attributes
    ----------
    position : tuple of float
        Of its own origin [m].
    roll, pitch, yaw : float
        About that origin [deg].
    mirrored : bool
        Whether there is a second one on the other side of y = 0.
    mass : Mass, optional
        Mass of the part.
    aerodynamic : bool
        Whether the part belongs to the wetted surface; False counts it for mass only.

    Examples
    --------
    >>> from zephyrum import Body
    >>> Body.capsule(3.0, 1.0).mirrored
    False
    """

    position: Point = (0.0, 0.0, 0.0)
    roll: Degrees = 0.0
    pitch: Degrees = 0.0
    yaw: Degrees = 0.0
    mirrored: bool = False
    mass: Mass | None = None
    aerodynamic: bool = True

    def placed(self, surface: Surface, name: str) -> list[Surface]:
        """Place a surface as one or two solids.

        Parameters
        ----------
        surface : Surface
            In the part's own axes.
        name : str
            Prefix of the labels; the mirrored solid has "name port".
        """
        moved = surface.transformed(attitude_matrix(self.roll, self.pitch, self.yaw), self.position)
        out = [_named(moved, name)]
        if self.mirrored:
            out.append(_named(moved.mirrored(), f"{name} port"))
        return out


def _named(surface: Surface, name: str) -> Surface:
    """Labels led by another part name."""
    from dataclasses import replace

    return replace(
        surface, labels=tuple("/".join([name, *label.split("/")[1:]]) for label in surface.labels), name=name
    )
