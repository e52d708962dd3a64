"""What an aircraft measures: the whole, its parts, its masses and its reference. Verified by tests/test_aircraft.py."""

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from zephyrum._core.representation import short_repr
from zephyrum.conditions import Reference
from zephyrum.errors import InputError
from zephyrum.geometry.aircraft.mass_properties import MassProperties
from zephyrum.geometry.surface.solids import projection, union
from zephyrum.geometry.surface.surface_measures import SurfaceMeasures, measure_surface
from zephyrum.geometry.surface.triangulation import Surface

if TYPE_CHECKING:
    from zephyrum.geometry.aircraft.assembly import Aircraft


@dataclass(frozen=True, eq=False)
class AircraftMeasures:
    """Measures of an aircraft.

    Attributes
    ----------
    whole : SurfaceMeasures
        Of the united surface of its aerodynamic parts.
    solids : dict[str, Surface]
        Closed surface of each part, mirrored ones apart.
    parts : pandas.DataFrame
        For each part: wetted [m^2] (outside only), own area [m^2], volume [m^3], planform and frontal shadow [m^2] of
        the part alone, mass [kg], whether it is aerodynamic and has a mass.
    wings : dict
        Planform measures of each wing.
    reference : Reference, optional
        Reference quantities.
    notes : tuple[str, ...]
        What disagrees with the typed reference.
    mass : MassProperties
        Mass properties of all together.
    masses : dict[str, MassProperties]
        Mass properties of each part and point.

    Examples
    --------
    >>> from zephyrum import Aircraft, Body
    >>> measures = Aircraft(name="pod", parts={"pod": Body.capsule(3.0, 1.0)}).measures()
    >>> [name for name, value, unit in measures.rows()][:3]
    ['length', 'span over all', 'height']
    """

    whole: SurfaceMeasures
    solids: dict[str, Surface]
    parts: Any
    wings: dict
    reference: Reference | None
    notes: tuple[str, ...]
    mass: MassProperties
    masses: dict[str, MassProperties]

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"{self.whole}; {self.reference or 'no reference'}"

    @property
    def surface(self) -> Surface:
        """The united surface."""
        return self.whole.surface

    def rows(self) -> list[tuple[str, float, str]]:
        """(name, value, unit) of the whole for tables."""
        out = self.whole.rows()
        if self.reference is not None:
            r = self.reference
            out += [
                ("reference area", r.area, "m^2"),
                ("reference chord", r.chord, "m"),
                ("reference span", r.span, "m"),
                *((f"reference {axis}", v, "m") for axis, v in zip("xyz", r.point)),
            ]
        if self.mass.mass:
            m = self.mass
            out += [
                ("mass", m.mass, "kg"),
                *((f"gravity centre {axis}", v, "m") for axis, v in zip("xyz", m.centre)),
                ("roll inertia Ixx", m.inertia[0, 0], "kg m^2"),
                ("pitch inertia Iyy", m.inertia[1, 1], "kg m^2"),
                ("yaw inertia Izz", m.inertia[2, 2], "kg m^2"),
                ("product Ixz", -m.inertia[0, 2], "kg m^2"),
            ]
        return out


def measure_aircraft(craft: "Aircraft", density: float = 1.0) -> AircraftMeasures:
    """Measure an aircraft: areas, volumes, wings, masses.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    density : float, optional
        See `Aircraft.solids`.

    Examples
    --------
    >>> from zephyrum import Aircraft, Airfoil, Planform, Wing
    >>> wing = Wing(planform=Planform(span=10.0, area=12.5), airfoil=Airfoil.naca("2412"))
    >>> round(measure_aircraft(Aircraft(name="glider", parts={"wing": wing})).reference.area, 6)
    12.5
    """
    import pandas as pd

    pieces = craft.solids(density, "all")
    wetted_solids = [solid for name, own in pieces.items() if craft.parts[name].aerodynamic for solid in own]
    if not wetted_solids:
        raise InputError(f"no part of {craft.name!r} is aerodynamic; set aerodynamic = true on those in the flow.")
    whole = measure_surface(union(wetted_solids, craft.name))
    total, each = craft.mass_properties()
    rows = []
    for name, own in pieces.items():
        one = craft.parts[name]
        alone = union(own)
        names = {solid.name for solid in own}
        wetted = (
            sum(area for label, area in whole.labels.items() if label.split("/")[0] in names)
            if one.aerodynamic
            else 0.0
        )
        rows.append(
            {
                "part": name,
                "kind": one.kind,
                "solids": len(own),
                "wetted": wetted,
                "own area": alone.area(),
                "volume": alone.volume,
                "planform": projection(alone, "z"),
                "frontal": projection(alone, "x"),
                "mass": each[name].mass if name in each else 0.0,
                "aerodynamic": one.aerodynamic,
                "has mass": one.mass is not None,
            }
        )
    for name in craft.points:
        rows.append({"part": name, "kind": "point", "mass": each[name].mass, "aerodynamic": False, "has mass": True})
    reference, notes = craft.reference_quantities() if craft.has_reference else (None, [])
    names = dict.fromkeys(solid.name for solid in wetted_solids)
    solids = {name: union([solid for solid in wetted_solids if solid.name == name], name) for name in names}
    return AircraftMeasures(
        whole, solids, pd.DataFrame(rows), craft.wing_measures, reference, tuple(notes), total, each
    )
