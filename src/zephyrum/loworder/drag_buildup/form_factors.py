"""Form factors: drag of a wing or a body at zero lift over that of a plate of its wetted area, each by its author.

All of them are fits to measured drag of attached, fully turbulent flow on streamlined shapes.
Verified by tests/test_buildup.py.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass

from zephyrum._core.validation import choice


@dataclass(frozen=True)
class FormShape:
    """What form factors depend on.

    Attributes
    ----------
    thickness : float
        Of a wing, over its chord.
    thickness_at : float
        Chord fraction of the largest thickness.
    sweep : float
        Of the line of largest thickness [deg].
    fineness : float
        Of a body: length over the diameter of the circle of its largest cross-section.
    mach : float
        Of the stream.

    Examples
    --------
    >>> FormShape(thickness=0.12).thickness_at
    0.3
    """

    thickness: float = 0.0
    thickness_at: float = 0.3
    sweep: float = 0.0
    fineness: float = 0.0
    mach: float = 0.0


@dataclass(frozen=True)
class FormFactor:
    """A published form factor.

    Attributes
    ----------
    name : str
        Name in options and tables.
    source : str
        Who published it.
    kind : str
        "wing" or "body".
    low, high : float
        Range of the thickness (of wings) or fineness (of bodies) for which it is meant.
    value : callable
        The factor for a `FormShape`.

    Examples
    --------
    >>> FORM_FACTORS["hoerner_wing"].kind
    'wing'
    """

    name: str
    source: str
    kind: str
    low: float
    high: float
    value: Callable[[FormShape], float]


def _hoerner_wing(s: FormShape) -> float:
    t = s.thickness
    # sections with their largest thickness near 30 %, or further aft
    return 1.0 + 2.0 * t + 60.0 * t**4 if s.thickness_at < 0.35 else 1.0 + 1.2 * t + 70.0 * t**4


def _torenbeek_wing(s: FormShape) -> float:
    return 1.0 + 2.7 * s.thickness + 100.0 * s.thickness**4


def _shevell_wing(s: FormShape) -> float:
    cosine = math.cos(math.radians(s.sweep))
    z = (2.0 - s.mach**2) * cosine / math.sqrt(1.0 - min((s.mach * cosine) ** 2, 0.99))
    return 1.0 + z * s.thickness + 100.0 * s.thickness**4


def _raymer_wing(s: FormShape) -> float:
    cosine = math.cos(math.radians(s.sweep))
    speed = max(1.0, 1.34 * s.mach**0.18 * cosine**0.28)  # below Mach 0.2 it would fall under 1
    return (1.0 + 0.6 / s.thickness_at * s.thickness + 100.0 * s.thickness**4) * speed


def _jenkinson_wing(s: FormShape) -> float:
    t = s.thickness
    cosine = math.cos(math.radians(s.sweep))
    return 1.0 + (3.3 * t - 0.008 * t**2 + 27.0 * t**3) * cosine**2


def _hoerner_body(s: FormShape) -> float:
    return 1.0 + 1.5 / s.fineness**1.5 + 7.0 / s.fineness**3


def _torenbeek_body(s: FormShape) -> float:
    return 1.0 + 2.2 / s.fineness**1.5 + 3.8 / s.fineness**3


def _raymer_body(s: FormShape) -> float:
    return 1.0 + 60.0 / s.fineness**3 + s.fineness / 400.0


def _jenkinson_body(s: FormShape) -> float:
    return 1.0 + 2.2 / s.fineness**1.5 - 0.9 / s.fineness**3


def _raymer_nacelle(s: FormShape) -> float:
    return 1.0 + 0.35 / s.fineness


FORM_FACTORS = {
    one.name: one
    for one in (
        FormFactor("hoerner_wing", "Hoerner (1965)", "wing", 0.0, 0.25, _hoerner_wing),
        FormFactor("torenbeek_wing", "Torenbeek (1982)", "wing", 0.0, 0.21, _torenbeek_wing),
        FormFactor("shevell_wing", "Shevell (1989)", "wing", 0.0, 0.2, _shevell_wing),
        FormFactor("raymer_wing", "Raymer (1992)", "wing", 0.0, 0.25, _raymer_wing),
        FormFactor("jenkinson_wing", "Jenkinson, Simpkin and Rhodes (1999)", "wing", 0.0, 0.2, _jenkinson_wing),
        FormFactor("hoerner_body", "Hoerner (1965)", "body", 2.0, 30.0, _hoerner_body),
        FormFactor("torenbeek_body", "Torenbeek (1982)", "body", 2.0, 30.0, _torenbeek_body),
        FormFactor("raymer_body", "Raymer (1992)", "body", 4.0, 20.0, _raymer_body),
        FormFactor("jenkinson_body", "Jenkinson, Simpkin and Rhodes (1999)", "body", 4.0, 20.0, _jenkinson_body),
        FormFactor("raymer_nacelle", "Raymer (1992)", "nacelle", 0.5, 10.0, _raymer_nacelle),
    )
}


def form_factor(name: str, shape: FormShape) -> float:
    """A form factor by name.

    Parameters
    ----------
    name : str
        A name in `FORM_FACTORS`.
    shape : FormShape
        Shape.

    Raises
    ------
    InputError
        There is no such factor.

    Examples
    --------
    >>> round(form_factor("hoerner_wing", FormShape(thickness=0.12)), 6)
    1.252442
    >>> round(form_factor("hoerner_body", FormShape(fineness=8.0)), 6)
    1.079963
    """
    choice("form factor", name, tuple(FORM_FACTORS))
    return FORM_FACTORS[name].value(shape)
