"""The NACA 4-digit and 5-digit families.

Source: Jacobs, Ward and Pinkerton (1933), NACA Report 460; Jacobs and Pinkerton (1935), NACA Report 537; reflexed
mean lines and closed-form constants after Ladson and Brooks (1975), NASA TM X-3284. Thickness is laid off square to
the mean line. Verified by tests/test_shape.py against tabulated ordinates.
"""

import numpy as np

from zephyrum.errors import InputError

# position of maximum camber digit: (m, k1, k2/k1) for a design lift coefficient of 0.3
_PLAIN = {1: (0.0580, 361.4), 2: (0.1260, 51.64), 3: (0.2025, 15.957), 4: (0.2900, 6.643), 5: (0.3910, 3.230)}
_REFLEX = {
    2: (0.1300, 51.99, 0.000764),
    3: (0.2170, 15.793, 0.00677),
    4: (0.3180, 6.520, 0.0303),
    5: (0.4410, 3.191, 0.1355),
}


def naca_coordinates(digits: str, n: int, tail: str) -> np.ndarray:
    """Coordinates of a NACA section of unit chord.

    Parameters
    ----------
    digits : str
        Four or five digits.
    n : int
        Number of points, odd.
    tail : str
        "closed" (last coefficient of the thickness law changed to -0.1036) or "blunt" (the published law).

    Returns
    -------
    (n, 2) array
        From the upper tail over the nose to the lower tail.

    Examples
    --------
    >>> naca_coordinates("0012", 5, "closed").shape
    (5, 2)
    """
    if not (isinstance(digits, str) and digits.isdigit() and len(digits) in (4, 5)):
        raise InputError(f"NACA section {digits!r} is not four or five digits, for example '2412' or '23012'.")
    thickness = int(digits[-2:]) / 100.0
    if not 0.01 <= thickness <= 0.6:
        raise InputError(
            f"NACA section {digits!r} has a thickness of {100 * thickness:.0f} % chord; it must be 1 to 60 %."
        )
    theta = np.linspace(0.0, np.pi, n // 2 + 1)
    x = 0.5 * (1.0 - np.cos(theta))
    last = -0.1036 if tail == "closed" else -0.1015
    half = 5.0 * thickness * (0.2969 * np.sqrt(x) - 0.1260 * x - 0.3516 * x**2 + 0.2843 * x**3 + last * x**4)
    if tail == "closed":
        half[-1] = 0.0
    camber, slope = _mean_line(digits, x)
    turn = np.arctan(slope)
    upper = np.stack([x - half * np.sin(turn), camber + half * np.cos(turn)], axis=1)
    lower = np.stack([x + half * np.sin(turn), camber - half * np.cos(turn)], axis=1)
    return np.concatenate([upper[::-1], lower[1:]])


def _mean_line(digits: str, x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Camber and its slope at `x` for a unit chord."""
    if len(digits) == 4:
        m, p = int(digits[0]) / 100.0, int(digits[1]) / 10.0
        if m == 0.0:
            return np.zeros_like(x), np.zeros_like(x)
        if p == 0.0:
            raise InputError(f"NACA section {digits!r} has camber but no place for it (second digit 0).")
        fore = x < p
        scale = np.where(fore, m / p**2, m / (1.0 - p) ** 2)
        rise = np.where(fore, 2.0 * p * x - x**2, 1.0 - 2.0 * p + 2.0 * p * x - x**2)
        return scale * rise, scale * 2.0 * (p - x)
    lift, position, reflex = int(digits[0]), int(digits[1]), int(digits[2])
    table = {0: _PLAIN, 1: _REFLEX}.get(reflex)
    if table is None or position not in table or lift == 0:  # type: ignore[operator]
        allowed = ", ".join(f"{p}{r}" for r, t in ((0, _PLAIN), (1, _REFLEX)) for p in t)
        raise InputError(
            f"NACA section {digits!r}: the second and third digits must be one of {allowed}, the first not 0."
        )
    scale = lift * 0.15 / 0.3
    m, k1, *ratio = table[position]  # type: ignore[index]
    fore = x < m
    if reflex == 0:
        camber = np.where(fore, x**3 - 3 * m * x**2 + m**2 * (3 - m) * x, m**3 * (1 - x)) * k1 / 6.0
        slope = np.where(fore, 3 * x**2 - 6 * m * x + m**2 * (3 - m), -(m**3)) * k1 / 6.0
    else:
        r = ratio[0]
        common = -r * (1 - m) ** 3 * x - m**3 * x + m**3
        camber = np.where(fore, (x - m) ** 3 + common, r * (x - m) ** 3 + common) * k1 / 6.0
        slope = (np.where(fore, 3 * (x - m) ** 2, 3 * r * (x - m) ** 2) - r * (1 - m) ** 3 - m**3) * k1 / 6.0
    return scale * camber, scale * slope
