"""The aircraft: named parts at their positions, in one readable file, every number of it within reach of a dotted path.

Verified by tests/test_aircraft.py.
"""

import copy
import functools
from collections.abc import Iterable
from dataclasses import field as dataclass_field
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, TypeAdapter, ValidationError

from zephyrum._core.atomic_files import write_text
from zephyrum._core.representation import short_repr
from zephyrum._core.toml_reader import line_of, read_table
from zephyrum.conditions import Reference
from zephyrum.errors import InputError
from zephyrum.geometry.aircraft.assembly_measures import AircraftMeasures, measure_aircraft
from zephyrum.geometry.aircraft.body import Body, Duct
from zephyrum.geometry.aircraft.mass_properties import NONE, MassProperties, of_point, of_skin, of_solid
from zephyrum.geometry.aircraft.part import Length, Point, part, unit_type, validation_message
from zephyrum.geometry.aircraft.propeller import PropellerDisk
from zephyrum.geometry.aircraft.strut import Plate, Strut
from zephyrum.geometry.aircraft.wing import Wing
from zephyrum.geometry.aircraft.wing_surface import wing_surfaces
from zephyrum.geometry.surface.solids import EXACT_TOLERANCE, common_volume, difference, half_surface, union
from zephyrum.geometry.surface.triangulation import Surface, joined

FIN_SPAN = 0.2  # of the length of the longest body: a wing of less span is a fin
PartType = Annotated[Wing | Body | Duct | Strut | Plate, Field(discriminator="kind")]


@part
class PointMass:
    """A mass at a point.

    Attributes
    ----------
    mass : float
        [kg], or a text such as "80 lb".
    position : tuple of float
        [m]

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.PointMass(mass="80 kg", position=(2.0, 0.0, 0.5)).mass
    80.0
    """

    mass: Annotated[float, unit_type("kg"), Field(ge=0.0)]
    position: Point


@part
class TypedReference:
    """Typed reference quantities, to be compared with the measured ones.

    Attributes
    ----------
    area : float
        [m^2]
    chord : float
        [m]
    span : float
        [m]
    point : tuple of float
        Moment point [m].

    Examples
    --------
    >>> TypedReference(area=28.0, chord=1.75, span=16.4, point=(4.0, 0.0, 1.6)).area
    28.0
    """

    area: Annotated[float, Field(gt=0.0)]
    chord: Length
    span: Length
    point: Point


@part
class Aircraft:
    """An aircraft of named parts and point masses.

    Attributes
    ----------
    name : str
        Name.
    parts : dict[str, PartType]
        Parts by name.
    points : dict[str, PointMass]
        Point masses by name.
    reference : str or TypedReference, optional
        Name of a wing, or typed numbers; without it the wing of the largest area is measured.
    groups : dict[str, tuple[str, ...]]
        Named groups of parts, for methods that take only some of them.
    propellers : dict[str, PropellerDisk]
        Propeller disks by name.

    Raises
    ------
    InputError
        Something does not fit.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
    >>> craft = zy.Aircraft(name="plank", parts={"wing": wing})
    >>> print(craft.main_wing)
    wing
    """

    name: str
    parts: dict[str, PartType]
    points: dict[str, PointMass] = dataclass_field(default_factory=dict)
    reference: str | TypedReference | None = None
    groups: dict[str, tuple[str, ...]] = dataclass_field(default_factory=dict)
    propellers: dict[str, PropellerDisk] = dataclass_field(default_factory=dict)

    def __post_init__(self) -> None:
        if not self.parts:
            raise InputError("an aircraft needs at least one part.")
        for name in self.parts:
            if "/" in name or "." in name or not name.strip():
                raise InputError(f"part name {name!r} can't hold a stroke or a dot; choose another.")
        if isinstance(self.reference, str) and not isinstance(self.parts.get(self.reference), Wing):
            raise InputError(
                f"reference = {self.reference!r} is not a wing of this aircraft; it has: "
                f"{', '.join(self._wings) or 'none'}."
            )
        for group, names in self.groups.items():
            if group in self.parts:
                raise InputError(f"groups: {group!r} is the name of a part; choose another.")
            if not names or (unknown := [name for name in names if name not in self.parts]):
                what = f"{unknown[0]!r} is no part" if names else "it is empty"
                raise InputError(f"groups.{group}: {what}; name some of: {', '.join(self.parts)}.")

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"{self.name} of {', '.join(self.parts)}"

    def parts_of(self, names: Iterable[str]) -> tuple[str, ...]:
        """Names of parts, with those of groups in place of the names of the groups.

        Parameters
        ----------
        names : iterable of str
            Names of parts and groups.

        Raises
        ------
        InputError
            A name is unknown.

        Examples
        --------
        >>> import zephyrum as zy
        >>> pods = {"hull": zy.Body.capsule(3.0, 1.0), "pod": zy.Body.capsule(2.0, 0.5)}
        >>> zy.Aircraft(name="pods", parts=pods, groups={"both": ("hull", "pod")}).parts_of(["both"])
        ('hull', 'pod')
        """
        found: dict[str, None] = {}
        for name in names:
            if name not in self.parts and name not in self.groups:
                known = ", ".join([*self.parts, *self.groups])
                raise InputError(f"parts: {name!r} is no part or group of {self.name!r}; choose of: {known}.")
            found |= dict.fromkeys(self.groups.get(name, (name,)))
        return tuple(found)

    # -- files ------------------------------------------------------------------------------------------------
    @classmethod
    def read(cls, path: str | Path) -> "Aircraft":
        """Read an aircraft from a TOML file.

        Parameters
        ----------
        path : path
            File; coordinate files lie beside it.

        Raises
        ------
        InputError
            With the line of what is wrong.

        Examples
        --------
        >>> import tempfile
        >>> from zephyrum import Body
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     path = f"{folder}/pod.toml"
        ...     _ = Aircraft(name="pod", parts={"pod": Body.capsule(3.0, 1.0)}).write(path)
        ...     craft = Aircraft.read(path)
        >>> craft.name
        'pod'
        """
        path = Path(path)
        text, table = read_table(path, "aircraft")
        return cls._from_table(table, path.parent, path.name, text)

    @classmethod
    def from_table(cls, table: dict, base: str | Path = ".") -> "Aircraft":
        """Build the aircraft that a plain table describes.

        Parameters
        ----------
        table : dict
            As in the file.
        base : path, optional
            Folder of coordinate files.

        Examples
        --------
        >>> table = {"name": "plank", "parts": {"wing": {"kind": "wing", "airfoil": "NACA 0012",
        ... "planform": {"span": 6.0, "root_chord": 1.0}}}}
        >>> Aircraft.from_table(table).main_wing
        'wing'
        """
        return cls._from_table(table, Path(base), str(table.get("name", "aircraft")), None)

    @classmethod
    def _from_table(cls, table: dict, base: Path, where: str, text: str | None) -> "Aircraft":
        try:
            made = _adapter().validate_python(table, context={"base": base})
        except ValidationError as cause:
            path, advice = validation_message(cause, KINDS)
            line = f":{line_of(text, path)}" if text else ""
            raise InputError(": ".join(filter(None, [where + line, ".".join(map(str, path)), advice]))) from None
        object.__setattr__(made, "_base", base)
        return made

    def table(self) -> dict:
        """The plain table that describes the aircraft, without what is left at its default.

        Examples
        --------
        >>> import zephyrum as zy
        >>> pod = zy.Body.capsule(3.0, 1.0)
        >>> sorted(Aircraft(name="pod", parts={"pod": pod}).table())
        ['name', 'parts']
        """
        made = _adapter().dump_python(self, mode="json", exclude_defaults=True, exclude_none=True)
        for name, one in self.parts.items():
            made["parts"][name] = {"kind": one.kind, **made["parts"][name]}
        return made

    def write(self, path: str | Path) -> Path:
        """Write the TOML file; `read` gives the same aircraft back.

        Parameters
        ----------
        path : path
            File.

        Examples
        --------
        >>> import tempfile, zephyrum as zy
        >>> craft = Aircraft(name="pod", parts={"pod": zy.Body.capsule(3.0, 1.0)})
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     path = craft.write(Path(folder) / "pod.toml")
        ...     Aircraft.read(path).name
        'pod'
        """
        import tomli_w

        path = Path(path)
        write_text(path, tomli_w.dumps(self.table()))
        for one in self.parts.values():
            for foil in _foils(one):
                if not foil.name.lower().startswith("naca") and not (path.parent / foil.name).exists():
                    foil.write(path.parent / foil.name)
        return path

    def changed(self, changes: dict[str, Any]) -> "Aircraft":
        """Another aircraft with numbers at dotted paths changed.

        Parameters
        ----------
        changes : dict[str, Any]
            Values by path, such as {"wing.controls.flap.deflection": 20}.

        Raises
        ------
        InputError
            A path leads nowhere; the nearest one is named.

        Notes
        -----
        A path starts at a part (or at name, points, reference, groups, propellers); items of lists go by number or by
        their name.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> craft = zy.Aircraft(name="plank", parts={"wing": wing})
        >>> craft.changed({"wing.planform.span": 8.0}).parts["wing"].planform.span
        8.0
        """
        table = copy.deepcopy(self.table())
        for path, value in changes.items():
            steps = path.split(".")
            if steps[0] not in ("name", "points", "reference", "groups", "propellers", "parts"):
                steps = ["parts", *steps]
            position = table
            for depth, step in enumerate(steps[:-1]):
                position = _step(position, step, path, steps[: depth + 1])
            if isinstance(position, list):
                position[_index(position, steps[-1], path)] = value
            elif isinstance(position, dict):
                position[steps[-1]] = value
            else:
                raise InputError(f"{path!r}: {'.'.join(steps[:-1])!r} is a value, nothing lies within it.")
        return self._from_table(table, getattr(self, "_base", Path(".")), ", ".join(changes), None)

    # -- surfaces ---------------------------------------------------------------------------------------------
    @property
    def _wings(self) -> dict[str, Wing]:
        return {name: one for name, one in self.parts.items() if isinstance(one, Wing)}

    def solids(
        self, density: float = 1.0, which: Literal["aerodynamic", "mass", "all"] = "aerodynamic"
    ) -> dict[str, list[Surface]]:
        """Closed surfaces of each part at its position.

        Parameters
        ----------
        density : float, optional
            2 halves the distance of the triangles from the shape.
        which : Literal[aerodynamic, mass, all], optional
            "aerodynamic", "mass" or "all" parts.

        Examples
        --------
        >>> import zephyrum as zy
        >>> craft = Aircraft(name="pod", parts={"pod": zy.Body.capsule(3.0, 1.0)})
        >>> [len(solids) for solids in craft.solids().values()]
        [1]
        """
        out = {}
        for name, one in self.parts.items():
            if (which == "aerodynamic" and not one.aerodynamic) or (which == "mass" and one.mass is None):
                continue
            tolerance = {"tolerance": (2e-4 if isinstance(one, Wing) else 5e-4) / density**2}
            made = wing_surfaces(one, name, **tolerance) if isinstance(one, Wing) else [one.surface(name, **tolerance)]
            out[name] = [solid for piece in made for solid in one.placed(piece, name)]
        return out

    def surface(self, density: float = 1.0, half: bool = False) -> Surface:
        """Unite all aerodynamic parts to one closed surface.

        Parameters
        ----------
        density : float, optional
            2 halves the distance of the triangles from the shape.
        half : bool, optional
            Only starboard, open along y = 0.

        Raises
        ------
        InputError
            Half is asked for and the aircraft is not symmetric.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> zy.Aircraft(name="plank", parts={"wing": wing}).surface(half=True).watertight
        False
        """
        made = union([solid for pieces in self.solids(density).values() for solid in pieces], self.name)
        return half_surface(made, tolerance=EXACT_TOLERANCE) if half else made

    # -- measures ---------------------------------------------------------------------------------------------
    @property
    def main_wing(self) -> str | None:
        """Name of the reference wing: the one named, or that of the largest area that is wide enough for a wing; None
        without any.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> Aircraft(name="plank", parts={"plank": wing}).main_wing
        'plank'
        """
        if isinstance(self.reference, str):
            return self.reference
        bodies = [one for one in self.parts.values() if isinstance(one, Body)]
        length = max((float(np.ptp([ring.x for ring in one.rings])) for one in bodies), default=0.0)
        wings = [
            name for name, wing in self._wings.items() if wing.measures.span > FIN_SPAN * length
        ]  # others are fins of a rocket
        sized = {name: self._wings[name].measures.area * (2.0 if self._wings[name].mirrored else 1.0) for name in wings}
        return max(sized, key=sized.get) if sized else None

    @functools.cached_property
    def measured_reference(self) -> Reference | None:
        """Reference measured on the main wing; None without wings.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> round(Aircraft(name="plank", parts={"wing": wing}).measured_reference.area, 6)
        6.0
        """
        name = self.main_wing
        return None if name is None else self._wings[name].reference(f"measured on {name!r}")

    def reference_quantities(self) -> tuple[Reference, list[str]]:
        """(Reference, notes): typed or measured, and where the typed one disagrees with the measured one.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> reference, notes = Aircraft(name="plank", parts={"wing": wing}).reference_quantities()
        >>> round(reference.span, 6), notes
        (6.0, [])
        """
        measured = self.measured_reference
        if isinstance(self.reference, TypedReference):
            typed = Reference(self.reference.area, self.reference.chord, self.reference.span, self.reference.point)
            return typed, [] if measured is None else typed.disagreement(measured)
        if measured is None:
            raise InputError(
                f"{self.name!r} has no wing to measure a reference on; give reference = {{area, chord, span, point}}."
            )
        return measured, []

    def mass_properties(self) -> tuple[MassProperties, dict[str, MassProperties]]:
        """(all together, by part and point). Volume that two parts share belongs to the first; skins are those
        outside.

        Examples
        --------
        >>> import zephyrum as zy
        >>> pod, pilot = zy.Body.capsule(3.0, 1.0), zy.PointMass(mass=80.0, position=(1.0, 0.0, 0.0))
        >>> craft = Aircraft(name="pod", parts={"pod": pod}, points={"pilot": pilot})
        >>> whole, rows = craft.mass_properties()
        >>> round(whole.mass, 6)
        80.0
        """
        each: dict[str, MassProperties] = {}
        pieces = self.solids(which="mass")
        skins = [name for name in pieces if self.parts[name].mass.skin is not None]
        outside = union([s for name in skins for s in pieces[name]]) if skins else None
        filled: list[Surface] = []
        for name, own in pieces.items():
            mass = self.parts[name].mass
            if mass.density is not None:
                solid = union(own) if len(own) > 1 else own[0]
                made = of_solid(solid, mass.density)
                if any(common_volume(solid, before) > 0.0 for before in filled):
                    made = of_solid(difference(solid, filled), mass.density)
                filled.append(solid)
            elif mass.skin is not None:
                names = {one.name for one in own}
                made = of_skin(joined([outside.selected(outside.belongs(n)) for n in sorted(names)]), mass.skin)
            else:
                skin = joined(own)
                made = of_skin(skin, mass.total / skin.area())
            each[name] = made
        for name, one in self.points.items():
            each[name] = of_point(one.mass, one.position)
        return sum(each.values(), NONE), each

    @property
    def has_reference(self) -> bool:
        """Whether a reference is typed or a wing is there to measure it on.

        Examples
        --------
        >>> import zephyrum as zy
        >>> Aircraft(name="pod", parts={"pod": zy.Body.capsule(3.0, 1.0)}).has_reference
        False
        """
        return self.main_wing is not None or isinstance(self.reference, TypedReference)

    @property
    def wing_measures(self) -> dict:
        """Planform measures of every wing by name.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> round(Aircraft(name="plank", parts={"wing": wing}).wing_measures["wing"].area, 6)
        6.0
        """
        return {name: wing.measures for name, wing in self._wings.items()}

    def measures(self, density: float = 1.0) -> AircraftMeasures:
        """Measure the aircraft.

        Parameters
        ----------
        density : float, optional
            2 halves the distance of the triangles from the shape.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> round(zy.Aircraft(name="plank", parts={"wing": wing}).measures().reference.area, 6)
        6.0
        """
        return measure_aircraft(self, density)


@functools.cache
def _adapter() -> TypeAdapter:
    return TypeAdapter(Aircraft)


KINDS = ("wing", "body", "duct", "strut", "plate")


def _foils(one) -> list:
    made = [getattr(one, "airfoil", None)]
    if isinstance(one, Wing):
        made += [s.airfoil for s in (*one.stations, *([one.root] if one.root else []), *one.panels)]  # type: ignore[attr-defined]
    return [foil for foil in made if foil is not None]


def _index(items: list, step: str, path: str) -> int:
    named = [k for k, item in enumerate(items) if isinstance(item, dict) and item.get("name") == step]
    if named:
        return named[0]
    if step.lstrip("-").isdigit() and -len(items) <= int(step) < len(items):
        return int(step)
    names = [item["name"] for item in items if isinstance(item, dict) and "name" in item]
    raise InputError(
        f"{path!r}: {step!r} is not one of the {len(items)} items (0 to "
        f"{len(items) - 1}{', or ' + ', '.join(names) if names else ''})."
    )


def _step(position, step: str, path: str, done: list[str]):
    if isinstance(position, list):
        return position[_index(position, step, path)]
    if isinstance(position, dict):
        if step not in position and len(done) > 2:
            position[step] = {}  # a table at its defaults
        if step in position:
            return position[step]
        raise InputError(f"{path!r}: there is no {'.'.join(done)!r}; choose one of: {', '.join(position)}.")
    raise InputError(f"{path!r}: {'.'.join(done[:-1])!r} is a value, nothing lies within it.")
