"""What a drag build-up needs to know of each part: wetted area, length, thickness or fineness.

Taken from the united surface and the description of an `Aircraft`, or from a labelled `Surface`.
Verified by tests/test_buildup.py.
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from zephyrum._core.validation import choice, number
from zephyrum.errors import InputError
from zephyrum.geometry import Aircraft, Body, Duct, Plate, Strut, Surface, Wing
from zephyrum.geometry.aircraft.stations import span_lengths

KINDS = ("wing", "body", "nacelle")


@dataclass(frozen=True)
class Component:
    """One part of a drag build-up.

    Attributes
    ----------
    name : str
        Name of the part.
    kind : str
        "wing" (also tails, fins, struts, plates), "body" or "nacelle": it decides the form factor.
    wetted : float
        Area in the flow, of all copies together [m^2].
    length : float
        Of the boundary layer: mean chord, or length of a body [m].
    thickness, thickness_at, sweep : float
        Of a wing, see `FormShape`.
    fineness : float
        Of a body.

    Raises
    ------
    InputError
        A number is out of range.

    Examples
    --------
    >>> Component("wing", "wing", 20.0, 1.5, thickness=0.12).length
    1.5
    """

    name: str
    kind: str
    wetted: float
    length: float
    thickness: float = 0.0
    thickness_at: float = 0.3
    sweep: float = 0.0
    fineness: float = 0.0

    def __post_init__(self) -> None:
        choice("kind", self.kind, KINDS)
        number(f"wetted area of {self.name!r}", self.wetted, 0.0)
        number(f"length of {self.name!r}", self.length, 0.0, open_low=True)
        if self.kind == "wing":
            number(f"thickness of {self.name!r}", self.thickness, 0.0, 0.6)
            number(f"thickness_at of {self.name!r}", self.thickness_at, 0.05, 0.95)
        else:
            number(f"fineness of {self.name!r}", self.fineness, 0.3, 200.0)


def components_of(aircraft: Aircraft) -> tuple[Component, ...]:
    """Components of the aerodynamic parts of an aircraft.

    Parameters
    ----------
    aircraft : Aircraft
        The aircraft; areas that one part covers of another are not wetted.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
    >>> one = components_of(zy.Aircraft(name="plank", parts={"wing": wing}))[0]
    >>> one.kind, round(one.length, 6), round(one.thickness, 3)
    ('wing', 1.0, 0.12)
    """
    measures = aircraft.measures()
    rows = measures.parts.set_index("part")
    made = []
    for name, one in aircraft.parts.items():
        if not one.aerodynamic:
            continue
        wetted = float(rows.loc[name, "wetted"])
        if isinstance(one, (Wing, Strut)):
            made.append(Component(name, "wing", wetted, **_wing_shape(one)))
        elif isinstance(one, Plate):
            corners = np.array(one.corners)
            length = float(np.ptp(corners[:, 0]))
            made.append(Component(name, "wing", wetted, length, one.thickness / length, 0.5))
        else:
            length = _body_length(one)
            frontal = float(rows.loc[name, "frontal"]) / float(rows.loc[name, "solids"])
            fineness = length / math.sqrt(4.0 * frontal / math.pi)
            made.append(
                Component(name, "nacelle" if isinstance(one, Duct) else "body", wetted, length, fineness=fineness)
            )
    return tuple(made)


def _wing_shape(wing: Wing | Strut) -> dict[str, float]:
    """Mean chord, thickness and sweep of a wing or strut."""
    if isinstance(wing, Strut):
        foil = wing.airfoil.measures
        return {"length": wing.chord, "thickness": foil.thickness, "thickness_at": foil.thickness_at, "sweep": 0.0}
    stations = wing.sections
    s = span_lengths(stations)
    c = np.array([one.chord for one in stations])
    measures = [one.airfoil.measures for one in stations]
    t, at = (np.array([getattr(m, key) for m in measures]) for key in ("thickness", "thickness_at"))
    area = float(np.trapezoid(c, s))
    square = float((np.diff(s) * (c[:-1] ** 2 + c[:-1] * c[1:] + c[1:] ** 2)).sum() / 3.0)
    crest = np.array([one.position[0] for one in stations]) + at * c
    sweep = math.degrees(math.atan2(crest[-1] - crest[0], s[-1]))
    weighted = [float(np.trapezoid(c * value, s)) / area for value in (t, at)]
    return {"length": square / area, "thickness": weighted[0], "thickness_at": weighted[1], "sweep": sweep}


def _body_length(body: Body | Duct) -> float:
    surface = body.surface("body")
    return float(np.ptp(surface.points[:, 0]))


def components_of_surface(
    surface: Surface, kinds: Mapping[str, str], thickness: Mapping[str, float] | None = None
) -> tuple[Component, ...]:
    """Components of a labelled surface, such as an imported one.

    Parameters
    ----------
    surface : Surface
        Closed surface; the part of a label before the first stroke names the component.
    kinds : mapping
        Kind of each component: "wing", "body" or "nacelle".
    thickness : mapping, optional
        Thickness of wings over their chord; 0.12 without it.

    Raises
    ------
    InputError
        A component has no kind, or a kind no component.

    Examples
    --------
    >>> import zephyrum as zy
    >>> pod = zy.Body.ellipsoid(4.0, 0.5).surface("pod")
    >>> one = components_of_surface(pod, {"pod": "body"})[0]
    >>> round(one.fineness, 1)
    8.0
    """
    names = list(dict.fromkeys(label.split("/")[0] for label in surface.labels))
    missing, unknown = [n for n in names if n not in kinds], [n for n in kinds if n not in names]
    if missing or unknown:
        raise InputError(
            f"kinds: {', '.join(map(repr, missing)) or 'nothing'} has no kind and "
            f"{', '.join(map(repr, unknown)) or 'nothing'} is no part of the surface; its parts are {', '.join(names)}."
        )
    made = []
    for name in names:
        own = surface.selected(surface.belongs(name))
        wetted = float(own.areas.sum())
        extent = np.ptp(own.points[np.unique(own.triangles)], axis=0)
        if kinds[name] == "wing":
            # plan area over the span: half of the wetted area is the area of the mean surface
            chord = 0.5 * wetted / float(np.hypot(extent[1], extent[2]))
            made.append(Component(name, "wing", wetted, chord, (thickness or {}).get(name, 0.12)))
        else:
            fineness = float(extent[0] / np.sqrt(extent[1] * extent[2]))  # of an elliptic cross-section
            made.append(Component(name, kinds[name], wetted, float(extent[0]), fineness=fineness))
    return tuple(made)
