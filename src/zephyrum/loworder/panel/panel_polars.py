"""Polars of sections by panels, alone or of several elements, and tables over Reynolds and Mach number.

Verified by tests/test_viscous_panels.py, validation/section_polars.py and validation/section_elements.py.
"""

import functools
import itertools
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, overload

import numpy as np

from zephyrum._core.validation import numbers, whole
from zephyrum._core.worker_processes import map_in_processes
from zephyrum.errors import FlowError, InputError
from zephyrum.geometry import Airfoil
from zephyrum.loworder.panel.angle_march import checked_stream
from zephyrum.loworder.panel.element_polar import ElementsPolar, elements_polar
from zephyrum.loworder.panel.layer_options import LayerOptions
from zephyrum.loworder.panel.polar import PanelPolar, section_polar

if TYPE_CHECKING:
    import pandas as pd


@overload
def panel_polar(
    foil: Airfoil,
    alphas: float | Sequence[float] | np.ndarray,
    reynolds: float,
    mach: float = 0.0,
    options: LayerOptions | None = None,
) -> PanelPolar: ...


@overload
def panel_polar(
    foil: Mapping[str, Airfoil],
    alphas: float | Sequence[float] | np.ndarray,
    reynolds: float,
    mach: float = 0.0,
    options: LayerOptions | None = None,
) -> ElementsPolar: ...


def panel_polar(foil, alphas, reynolds, mach=0.0, options=None):
    """Polar of a section by panels with boundary layers.

    Parameters
    ----------
    foil : Airfoil or mapping of Airfoil
        Section, or elements by name, at their places.
    alphas : float or sequence of float
        Angles of attack [deg].
    reynolds : float
        On the chord; that of the first of several elements.
    mach : float, optional
        Of the stream, up to 0.5.
    options : LayerOptions, optional

    Returns
    -------
    PanelPolar or ElementsPolar

    Raises
    ------
    InputError
        Conditions out of range.
    FlowError
        No angle converged.

    Notes
    -----
    The first angle is 4 deg over that of zero lift in inviscid flow, or the nearest; from there each solution is the
    start of the next, up and down.

    Examples
    --------
    >>> import zephyrum as zy
    >>> polar = zy.panel_polar(zy.Airfoil.naca("0012"), [0.0, 4.0], 3e6)
    >>> polar.table["CL"].round(2).abs().tolist()
    [0.0, 0.42]
    """
    if isinstance(foil, Airfoil):
        return section_polar(foil, alphas, reynolds, mach, options)
    return elements_polar(foil, alphas, reynolds, mach, options)


def polar_family(
    foils: Mapping[str, Airfoil],
    alphas: Sequence[float] | np.ndarray,
    reynolds: Sequence[float],
    mach: float | Sequence[float] = 0.0,
    options: LayerOptions | None = None,
    processes: int = 1,
    report: Callable[[str], None] | None = None,
) -> "pd.DataFrame":
    """Polars of several sections at several Reynolds and Mach numbers, in one table.

    Parameters
    ----------
    foils : mapping of Airfoil
        Sections by name.
    alphas : sequence of float
        Angles of attack [deg].
    reynolds : sequence of float
        On the chord.
    mach : float or sequence of float, optional
        Of the stream; all are combined with all Reynolds numbers.
    options : LayerOptions, optional
    processes : int, optional
        Polars solved side by side.
    report : callable, optional
        Called with a sentence when a polar is done.

    Returns
    -------
    DataFrame
        Rows of the polars with the column "section".

    Examples
    --------
    >>> import zephyrum as zy
    >>> table = polar_family({"thin": zy.Airfoil.naca("0009")}, [0.0, 2.0], [1e6, 3e6])
    >>> len(table), bool(table.converged.all())
    (4, True)
    """
    import pandas as pd

    if not foils or not len(reynolds):
        raise InputError("give one section and one Reynolds number at least.")
    machs = numbers("mach", np.atleast_1d(mach).tolist())
    streams = [checked_stream(*one) for one in itertools.product(reynolds, machs)]
    cases = [(name, foil, re, ma) for name, foil in foils.items() for re, ma in streams]
    call = functools.partial(_family_member, alphas=np.asarray(alphas, dtype=float), options=options)
    tables = []
    done = map_in_processes(call, cases, whole("processes", processes, 1), ["zephyrum.loworder.panel.panel_polars"])
    for (name, _, re, ma), one in zip(cases, done):
        tables.append(one)
        if report is not None:
            report(f"{name} at Re {re:.3g}, M {ma:g}: {int(one.converged.sum())} of {len(one)} angles")
    return pd.concat(tables, ignore_index=True)


def _family_member(case: tuple[str, Airfoil, float, float], alphas, options) -> "pd.DataFrame":
    name, foil, reynolds, mach = case
    try:
        table = panel_polar(foil, alphas, reynolds, mach, options).table
    except FlowError:
        import pandas as pd

        table = pd.DataFrame({"alpha": np.unique(alphas), "Re": reynolds, "mach": mach, "converged": False})
    table.insert(0, "section", name)
    return table
