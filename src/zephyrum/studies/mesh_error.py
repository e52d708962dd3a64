"""Discretisation error of a quantity from its values on three or more meshes.

Three meshes: observed order and extrapolation after Celik et al. (2008) and Roache (1994). Four or more: least squares
after Eca and Hoekstra (2014), which do not follow the scatter of meshes that are not geometrically similar. Verified by
tests/test_verdicts.py.
"""

import math
from dataclasses import dataclass

import numpy as np
from scipy.optimize import brentq, minimize_scalar

SAFETY = 1.25
FORMAL_ORDER = 2.0
ASYMPTOTIC = (1.0, 3.2)  # observed orders taken as those of a second-order scheme
HIGHEST = 20.0  # observed order that is reported at most
RANGE = {True: "in the asymptotic range", False: "not in the asymptotic range, error bar is cautious"}
NOISE = 2e-6  # differences below this are convergence error, not mesh error
LOW_ORDER = 0.5  # observed order of a fit below which other powers are tried
CAUTIOUS = 3.0  # safety factor of a fit of another order


@dataclass(frozen=True)
class Estimate:
    """Estimate of the discretisation error of one quantity.

    Attributes
    ----------
    name : str
        Quantity.
    finest : float
        Value on the finest mesh.
    order : float
        Observed order.
    extrapolated : float
        Extrapolated value.
    error : float
        Error bar of the finest value.
    asymptotic : bool
        Whether the meshes are in the asymptotic range.
    words : str
        The same in words.

    Examples
    --------
    >>> found = estimate("CL", [1.01, 1.04, 1.16], [1.0, 2.0, 4.0])
    >>> round(found.order, 3), round(found.extrapolated, 3), found.error > 0.0
    (2.0, 1.0, True)
    """

    name: str
    finest: float
    order: float
    extrapolated: float
    error: float
    asymptotic: bool
    words: str


def observed_order(growth: float, sizes: list[float]) -> float:
    """Observed order of accuracy from the growth of the error (Celik et al. 2008, eq. 5, for steps of any ratio).

    Parameters
    ----------
    growth : float
        Ratio of the differences.
    sizes : list[float]
        Cell sizes of three meshes, finest first.

    Returns
    -------
    float
        0 if no positive order fits.

    Notes
    -----
    It is the order p at which an error that goes with h^p grows `growth` times as much from the second mesh to the
    third as from the first to the second.

    Examples
    --------
    >>> round(observed_order(4.0, [1.0, 2.0, 4.0]), 6)
    2.0
    """
    h2, h3 = sizes[1] / sizes[0], sizes[2] / sizes[0]

    def excess(p: float) -> float:
        return (h3**p - h2**p) / (h2**p - 1.0) - growth

    if growth <= math.log(h3 / h2) / math.log(h2):
        return 0.0
    return float(brentq(excess, 1e-9, HIGHEST)) if excess(HIGHEST) > 0.0 else HIGHEST


def estimate(name: str, values: list[float], sizes: list[float]) -> Estimate:
    """Judge the values of a quantity on three or more meshes.

    Parameters
    ----------
    name : str
        Quantity.
    values : list[float]
        Finest first.
    sizes : list[float]
        Mean cell sizes.

    Examples
    --------
    >>> round(estimate("CL", [1.01, 1.04, 1.16], [1.0, 2.0, 4.0]).extrapolated, 3)
    1.0
    """
    if len(values) > 3:
        return _fitted_estimate(name, np.asarray(values, dtype=float), np.asarray(sizes, dtype=float))
    f1, f2, f3 = values
    d21, d32 = f2 - f1, f3 - f2
    ratio = sizes[1] / sizes[0]
    spread = max(values) - min(values)
    if abs(d21) < NOISE and abs(d32) < NOISE * 10:
        return _no_effect(name, f1, abs(d21))
    order = observed_order(d32 / d21, sizes) if d21 * d32 > 0.0 else 0.0
    if order == 0.0:
        kind = "oscillates" if d21 * d32 <= 0.0 else "does not converge"
        return Estimate(
            name,
            f1,
            math.nan,
            f1,
            3.0 * spread,
            False,
            f"{kind} with the mesh: not in the asymptotic range, error bar is three times the spread",
        )
    used = min(max(order, 0.5), FORMAL_ORDER)
    extrapolated = f1 - d21 / (ratio**used - 1.0)
    error = SAFETY * abs(d21) / (ratio**used - 1.0)
    if abs(extrapolated - f1) > 0.5 * max(map(abs, values)):
        far = "beyond zero" if extrapolated * f1 < 0.0 else "by more than half"
        words = (
            f"extrapolates {far}, to {extrapolated:.3g}: not in the asymptotic range, error bar is three times the "
            f"spread"
        )
        return Estimate(name, f1, order, f1, max(error, 3.0 * spread), False, words)
    inside = ASYMPTOTIC[0] <= round(order, 3) <= ASYMPTOTIC[1]
    words = f"observed order {order:.2f}: {RANGE[inside]}"
    if not inside:
        error = max(error, 3.0 * abs(d21))
    return Estimate(name, f1, order, extrapolated, error, inside, words)


def _no_effect(name: str, finest: float, difference: float) -> Estimate:
    """Estimate of a quantity whose differences between meshes are those of convergence."""
    words = "no mesh effect above convergence noise"
    return Estimate(name, finest, math.nan, finest, max(SAFETY * difference, NOISE), True, words)


@dataclass(frozen=True)
class _Fit:
    """f + a h^p by least squares.

    Limit f, order p (NaN of two powers), standard deviation, value on the finest mesh.
    """

    limit: float
    order: float
    deviation: float
    finest: float


def _fit_powers(values: np.ndarray, sizes: np.ndarray, powers: tuple[float, ...], found_order: bool = False) -> _Fit:
    """Fit of a constant and powers of the size; the finer the mesh, the more weight it has.

    found_order: whether the power was itself fitted.
    """
    weight = np.sqrt((1.0 / sizes) / np.sum(1.0 / sizes))
    terms = np.stack([np.ones_like(sizes), *(sizes**p for p in powers)], axis=1)
    found = np.linalg.lstsq(terms * weight[:, None], values * weight, rcond=None)[0]
    left = values - terms @ found
    freedom = max(len(values) - 1 - len(powers) - found_order, 1)
    deviation = float(np.sqrt(len(values) * np.sum((weight * left) ** 2) / freedom))
    return _Fit(float(found[0]), powers[0] if len(powers) == 1 else math.nan, deviation, float(terms[0] @ found))


def _fitted_estimate(name: str, values: np.ndarray, sizes: np.ndarray) -> Estimate:
    """Estimate from four or more meshes (Eca and Hoekstra 2014, J. Comput. Phys. 262:104)."""
    finest, sizes = float(values[0]), sizes / sizes[0]
    typical = float(np.ptp(values)) / (len(values) - 1)
    if typical < NOISE:
        return _no_effect(name, finest, typical)
    best = minimize_scalar(
        lambda p: _fit_powers(values, sizes, (p,), True).deviation, bounds=(0.05, 8.0), method="bounded"
    ).x
    free = _fit_powers(values, sizes, (float(best),), True)
    observed = free.order
    if free.order > FORMAL_ORDER:
        fit = min((_fit_powers(values, sizes, (p,)) for p in (1.0, 2.0)), key=lambda one: one.deviation)
    elif free.order < LOW_ORDER:
        fit = min((_fit_powers(values, sizes, p) for p in ((1.0,), (2.0,), (1.0, 2.0))), key=lambda one: one.deviation)
    else:
        fit = free
    inside = bool(ASYMPTOTIC[0] <= observed <= ASYMPTOTIC[1] and fit.deviation <= typical)
    off, scatter = abs(fit.limit - finest), fit.deviation + abs(finest - fit.finest)
    error = (SAFETY if inside else CAUTIOUS) * off + scatter
    if fit.deviation > typical:
        error = CAUTIOUS * fit.deviation / typical * (off + scatter)
    words = f"observed order {observed:.2f} of {len(values)} meshes, scatter {fit.deviation:.2g}: {RANGE[inside]}"
    return Estimate(name, finest, observed, fit.limit, error, inside, words)
