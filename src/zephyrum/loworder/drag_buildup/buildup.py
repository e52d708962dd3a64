"""The zero-lift drag of an aircraft as the sum over its parts of friction, form and interference, and of increments.

CD S = sum Cf FF Q S_wet + increments (Torenbeek 1982, app. F; Raymer 1992, ch. 12). Attached flow, zero lift, below the
Mach number of drag divergence. The spread between published laws is stated as the uncertainty of the sum.
Verified by tests/test_buildup.py.
"""

import functools
import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.atomic_files import write_text
from zephyrum._core.fingerprint import canonical, fingerprint
from zephyrum._core.representation import short_repr
from zephyrum._core.validation import choice, number
from zephyrum.conditions import Freestream
from zephyrum.errors import InputError
from zephyrum.geometry import Aircraft
from zephyrum.loworder.drag_buildup.components import Component, components_of
from zephyrum.loworder.drag_buildup.form_factors import FORM_FACTORS, FormShape, form_factor
from zephyrum.loworder.drag_buildup.friction import LAWS, PlateFlow, mean_friction

if TYPE_CHECKING:
    import pandas as pd

UNITS = ("m^2", "counts", "percent")
SPEED_OF_SWEEP = 0.5  # Mach number from which the default form factor of wings knows sweep and Mach number


@dataclass(frozen=True)
class Increment:
    """Drag that no law of friction knows: a gear, a leak, an idle propeller, small things that stick out.

    Attributes
    ----------
    name : str
        Name.
    value : float
        Size, in `unit`.
    unit : str
        "m^2" of drag area, "counts" of 1e-4 of the drag coefficient, or "percent" of the parts' sum.
    group : str
        Groups of the table, such as "excrescence", "leaks", "gear", "propeller".

    Examples
    --------
    >>> Increment("antennas", 0.01).unit
    'm^2'
    """

    name: str
    value: float
    unit: str = "m^2"
    group: str = "excrescence"

    def __post_init__(self) -> None:
        choice("unit", self.unit, UNITS)
        number(f"increment {self.name!r}", self.value, 0.0)


@dataclass(frozen=True)
class BuildupOptions:
    """Laws, and the state of the surfaces.

    Attributes
    ----------
    law : str
        Friction of turbulent plates, a name in `LAWS`. Van Driest knows compressibility and is the law of Schoenherr at
        low speed.
    forms : mapping
        Form factor by kind ("wing", "body", "nacelle") or by name of a part; others by rule, with the reason in the
        table.
    laminar : mapping
        Fraction of the length that is laminar, by part.
    roughness : float
        Height of equivalent sand grains on all surfaces [m]; 7e-6 is smooth paint, 0 polished.
    interference : mapping
        Factor by part.
    base : mapping
        Blunt base area by part [m^2].
    increments : tuple[Increment, ...]
        What comes on top.

    Raises
    ------
    InputError
        A name is unknown or a number out of range.

    Examples
    --------
    >>> BuildupOptions(laminar={"wing": 0.3}).law
    'van_driest'
    """

    law: str = "van_driest"
    forms: Mapping[str, str] = field(default_factory=dict)
    laminar: Mapping[str, float] = field(default_factory=dict)
    roughness: float = 0.0
    interference: Mapping[str, float] = field(default_factory=dict)
    base: Mapping[str, float] = field(default_factory=dict)
    increments: tuple[Increment, ...] = ()

    def __post_init__(self) -> None:
        choice("law", self.law, tuple(LAWS))
        for key, value in self.forms.items():
            choice(f"forms[{key!r}]", value, tuple(FORM_FACTORS))
        for key, value in self.laminar.items():
            number(f"laminar[{key!r}]", value, 0.0, 1.0)
        for key, value in self.interference.items():
            number(f"interference[{key!r}]", value, 0.5, 3.0)
        for key, value in self.base.items():
            number(f"base[{key!r}]", value, 0.0)
        number("roughness", self.roughness, 0.0, 0.01)


def zero_lift_drag(
    aircraft: "Aircraft | Sequence[Component]",
    air: Freestream,
    options: BuildupOptions | None = None,
    area: float | None = None,
) -> "DragBuildup":
    """Estimate the zero-lift drag of an aircraft part by part.

    Parameters
    ----------
    aircraft : Aircraft or sequence of Component
        Described aircraft, or components of a labelled surface.
    air : Freestream
        Stream; its Reynolds number per metre counts.
    options : BuildupOptions, optional
        Laws and surfaces.
    area : float, optional
        Reference area [m^2]; without it that of the aircraft.

    Raises
    ------
    InputError
        There is no reference area, or an option names a part that is not there.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
    >>> found = zero_lift_drag(zy.Aircraft(name="plank", parts={"wing": wing}), zy.Freestream(speed=60.0))
    >>> 0.007 < found.CD < 0.012
    True
    """
    if isinstance(aircraft, Aircraft):
        components: tuple[Component, ...] = components_of(aircraft)
        area = aircraft.reference_quantities()[0].area if area is None else area
    else:
        components = tuple(aircraft)
    if area is None:
        raise InputError("components have no reference area; give area = ... in m^2.")
    if not components:
        raise InputError("there is no component; a drag build-up needs at least one.")
    return DragBuildup(components, air, options or BuildupOptions(), number("area", area, 0.0, open_low=True))


@dataclass(frozen=True)
class DragBuildup:
    """Zero-lift drag by part.

    Attributes
    ----------
    components : tuple[Component, ...]
        Measured parts.
    air : Freestream
        Stream.
    options : BuildupOptions
        Laws and surfaces.
    area : float
        Reference area [m^2].

    Examples
    --------
    >>> import zephyrum as zy
    >>> one = Component("wing", "wing", 12.0, 1.0, thickness=0.12)
    >>> found = zero_lift_drag([one], zy.Freestream(speed=60.0), area=6.0)
    >>> list(found.table["part"])
    ['wing', 'all']
    """

    components: tuple[Component, ...]
    air: Freestream
    options: BuildupOptions
    area: float

    __repr__ = short_repr

    def __post_init__(self) -> None:
        names, kinds = [one.name for one in self.components], {"wing", "body", "nacelle"}
        for option in ("laminar", "interference", "base", "forms"):
            for key in getattr(self.options, option):
                if key not in names and not (option == "forms" and key in kinds):
                    raise InputError(f"{option}: {key!r} is no part; choose of: {', '.join(names)}.")

    def __str__(self) -> str:
        low, high = self.spread
        return f"CD0 {self.CD:.5f}, {low:.5f} to {high:.5f} by other laws, of {len(self.components)} parts"

    def form_of(self, one: Component) -> tuple[str, str]:
        """Name of the form factor of a component and the reason for it.

        Parameters
        ----------
        one : Component
            Component.

        Examples
        --------
        >>> import zephyrum as zy
        >>> one = Component("wing", "wing", 12.0, 1.0, thickness=0.12)
        >>> zero_lift_drag([one], zy.Freestream(speed=60.0), area=6.0).form_of(one)[0]
        'hoerner_wing'
        """
        forms = self.options.forms
        if one.name in forms or one.kind in forms:
            return forms.get(one.name) or forms[one.kind], "as asked for"
        if one.kind == "wing":
            if self.air.mach >= SPEED_OF_SWEEP:
                return "shevell_wing", f"knows sweep and Mach number, {self.air.mach:.2f}"
            return "hoerner_wing", "measured on sections at low speed"
        if one.kind == "nacelle":
            return "raymer_nacelle", "open duct"
        return "hoerner_body", "streamlined body of revolution"

    def shape_of(self, one: Component) -> FormShape:
        """What the form factor of a component depends on.

        Parameters
        ----------
        one : Component
            Component.

        Examples
        --------
        >>> import zephyrum as zy
        >>> one = Component("wing", "wing", 12.0, 1.0, thickness=0.12)
        >>> zero_lift_drag([one], zy.Freestream(speed=60.0), area=6.0).shape_of(one).thickness
        0.12
        """
        return FormShape(one.thickness, one.thickness_at, one.sweep, one.fineness, self.air.mach)

    def plate_of(self, one: Component) -> PlateFlow:
        """The plate whose friction counts for a component.

        Parameters
        ----------
        one : Component
            Component.

        Examples
        --------
        >>> import zephyrum as zy
        >>> one = Component("wing", "wing", 12.0, 1.0, thickness=0.12)
        >>> found = zero_lift_drag([one], zy.Freestream(speed=60.0), area=6.0).plate_of(one)
        >>> round(found.reynolds / 1e6, 2)
        4.11
        """
        air = self.air
        reynolds = air.density * air.speed * one.length / air.viscosity
        laminar = self.options.laminar.get(one.name, 0.0)
        return PlateFlow(reynolds, air.mach, air.temperature, laminar, self.options.roughness / one.length)

    def _drag_area(self, one: Component, law: str, form: str) -> float:
        friction = mean_friction(self.plate_of(one), law, self.air.gas)
        factor = form_factor(form, self.shape_of(one)) * self.options.interference.get(one.name, 1.0)
        return friction * factor * one.wetted

    @functools.cached_property
    def table(self) -> "pd.DataFrame":
        """One row a part, then base drag and increments, then all.

        Examples
        --------
        >>> import zephyrum as zy
        >>> one = Component("wing", "wing", 12.0, 1.0, thickness=0.12)
        >>> found = zero_lift_drag([one], zy.Freestream(speed=60.0), area=6.0).table
        >>> float(found["share_percent"].iloc[0])
        100.0
        """
        import pandas as pd

        rows = []
        for one in self.components:
            form, reason = self.form_of(one)
            plate = self.plate_of(one)
            friction = mean_friction(plate, self.options.law, self.air.gas)
            rows.append(
                {
                    "part": one.name,
                    "group": one.kind,
                    "wetted_m2": one.wetted,
                    "length_m": one.length,
                    "Re": plate.reynolds,
                    "Cf": friction,
                    "form": form_factor(form, self.shape_of(one)),
                    "form_law": form,
                    "interference": self.options.interference.get(one.name, 1.0),
                    "drag_area_m2": self._drag_area(one, self.options.law, form),
                    "reason": reason,
                }
            )
        rows += self._extra_rows(rows)
        table = pd.DataFrame(rows)
        total = float(table["drag_area_m2"].sum())
        last = {"part": "all", "group": "", "wetted_m2": float(table["wetted_m2"].sum()), "drag_area_m2": total}
        table = pd.concat([table, pd.DataFrame([last])], ignore_index=True)
        table["CD"] = table["drag_area_m2"] / self.area
        table["share_percent"] = 100.0 * table["drag_area_m2"] / total
        return table

    def _extra_rows(self, parts: list[dict]) -> list[dict]:
        """Rows of base drag and of the increments."""
        made = []
        own = {row["part"]: row for row in parts}
        for name, base in self.options.base.items():
            if base > 0.0:
                drag = base_drag(own[name]["drag_area_m2"], base, own[name]["group"] == "wing")
                made.append(
                    {"part": f"base of {name}", "group": "base", "drag_area_m2": drag, "reason": "Hoerner (1965)"}
                )
        bare = sum(row["drag_area_m2"] for row in parts)
        scale = {"m^2": 1.0, "counts": 1e-4 * self.area, "percent": 0.01 * bare}
        for one in self.options.increments:
            drag = one.value * scale[one.unit]
            made.append({"part": one.name, "group": one.group, "drag_area_m2": drag, "reason": "as typed"})
        return made

    @property
    def CD(self) -> float:
        """Zero-lift drag coefficient.

        Examples
        --------
        >>> import zephyrum as zy
        >>> one = Component("wing", "wing", 12.0, 1.0, thickness=0.12)
        >>> 0.008 < zero_lift_drag([one], zy.Freestream(speed=60.0), area=6.0).CD < 0.01
        True
        """
        return float(self.table["CD"].iloc[-1])

    @functools.cached_property
    def spread(self) -> tuple[float, float]:
        """(least, largest) drag coefficient of all published laws that are valid here: the uncertainty of the method.

        Examples
        --------
        >>> import zephyrum as zy
        >>> one = Component("wing", "wing", 12.0, 1.0, thickness=0.12)
        >>> found = zero_lift_drag([one], zy.Freestream(speed=60.0), area=6.0)
        >>> found.spread[0] <= found.CD <= found.spread[1]
        True
        """
        chosen = [self._drag_area(one, self.options.law, self.form_of(one)[0]) for one in self.components]
        base = self.CD * self.area - sum(chosen)
        kinds = list(dict.fromkeys(one.kind for one in self.components))
        forms = [[f.name for f in FORM_FACTORS.values() if f.kind == kind] for kind in kinds]
        totals = [sum(chosen)]
        for law, *names in itertools.product(LAWS, *forms):
            by_kind = dict(zip(kinds, names))
            if all(self._valid(one, law, by_kind[one.kind]) for one in self.components):
                totals.append(sum(self._drag_area(one, law, by_kind[one.kind]) for one in self.components))
        low, high = min(totals), max(totals)
        return (low + base) / self.area, (high + base) / self.area

    def _valid(self, one: Component, law: str, form: str) -> bool:
        plate, factor = LAWS[law], FORM_FACTORS[form]
        size = one.thickness if one.kind == "wing" else one.fineness
        return plate.low <= self.plate_of(one).reynolds <= plate.high and factor.low <= size <= factor.high

    def sorted(self, by: str = "drag_area_m2") -> "pd.DataFrame":
        """The table with its parts in order of a column, the largest first, the sum last.

        Parameters
        ----------
        by : str, optional
            A column of the table, "group" for groups together.

        Raises
        ------
        InputError
            There is no such column.

        Examples
        --------
        >>> import zephyrum as zy
        >>> one = Component("wing", "wing", 12.0, 1.0, thickness=0.12)
        >>> two = Component("tail", "wing", 2.0, 0.5, thickness=0.1)
        >>> list(zero_lift_drag([two, one], zy.Freestream(speed=60.0), area=6.0).sorted()["part"])
        ['wing', 'tail', 'all']
        """
        import pandas as pd

        choice("by", by, tuple(self.table.columns))
        rows, last = self.table.iloc[:-1], self.table.iloc[-1:]
        names = by in ("part", "group", "form_law", "reason")
        ordered = rows.sort_values(
            [by, "drag_area_m2"] if names else [by], ascending=[True, False] if names else [False]
        )
        return pd.concat([ordered, last], ignore_index=True)

    def at(self, air: Freestream) -> "DragBuildup":
        """The same aircraft in another stream, not measured again.

        Parameters
        ----------
        air : Freestream
            Stream.

        Examples
        --------
        >>> import zephyrum as zy
        >>> one = Component("wing", "wing", 12.0, 1.0, thickness=0.12)
        >>> slow = zero_lift_drag([one], zy.Freestream(speed=40.0), area=6.0)
        >>> slow.at(zy.Freestream(speed=80.0)).CD < slow.CD
        True
        """
        return replace(self, air=air)

    def conditions(self, streams: Sequence[Freestream]) -> "pd.DataFrame":
        """Drag in many streams, one row each.

        Parameters
        ----------
        streams : sequence of Freestream
            Streams.

        Examples
        --------
        >>> import zephyrum as zy
        >>> one = Component("wing", "wing", 12.0, 1.0, thickness=0.12)
        >>> found = zero_lift_drag([one], zy.Freestream(speed=60.0), area=6.0)
        >>> len(found.conditions([zy.Freestream(speed=v) for v in (40.0, 60.0, 80.0)]))
        3
        """
        import pandas as pd

        rows = []
        for air in streams:
            one = self.at(air)
            low, high = one.spread
            rows.append(
                {
                    "speed_m_s": air.speed,
                    "altitude_m": np.nan if air.altitude is None else air.altitude,
                    "mach": air.mach,
                    "CD": one.CD,
                    "CD_low": low,
                    "CD_high": high,
                    "drag_area_m2": one.CD * self.area,
                    "drag_N": one.CD * self.area * air.dynamic_pressure,
                }
            )
        return pd.DataFrame(rows)

    @property
    def fingerprint(self) -> str:
        """Hash of the measured parts, the stream and the options.

        Examples
        --------
        >>> import zephyrum as zy
        >>> one = Component("wing", "wing", 12.0, 1.0, thickness=0.12)
        >>> len(zero_lift_drag([one], zy.Freestream(speed=60.0), area=6.0).fingerprint)
        16
        """
        parts = [canonical(one) for one in self.components]
        return fingerprint([parts, canonical(self.air), canonical(self.options), self.area])

    def write_csv(self, path: str | Path) -> Path:
        """Write the table as CSV, its fingerprint in the last column.

        Parameters
        ----------
        path : path
            File.

        Examples
        --------
        >>> import tempfile, zephyrum as zy
        >>> one = Component("wing", "wing", 12.0, 1.0, thickness=0.12)
        >>> found = zero_lift_drag([one], zy.Freestream(speed=60.0), area=6.0)
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     found.write_csv(f"{folder}/drag.csv").name
        'drag.csv'
        """
        path = Path(path)
        write_text(path, self.table.assign(fingerprint=self.fingerprint).to_csv(index=False))
        return path


def base_drag(fore_drag_area: float, base: float, plane: bool) -> float:
    """Drag area of a blunt base behind a boundary layer.

    Parameters
    ----------
    fore_drag_area : float
        Drag area of the friction in front of it [m^2].
    base : float
        Area of the base [m^2].
    plane : bool
        Whether it is the tail of a section (a vortex street forms) or of a body of revolution.

    Notes
    -----
    Hoerner (1965), ch. III: on the base area 0.029 / sqrt(Cf) behind bodies and 0.135 / Cf^(1/3) behind sections, with
    Cf the drag in front of it on the base area.

    Examples
    --------
    >>> round(base_drag(0.1, 0.05, False), 6)
    0.001025
    """
    front = fore_drag_area / base
    return base * (0.135 / front ** (1.0 / 3.0) if plane else 0.029 / front**0.5)
