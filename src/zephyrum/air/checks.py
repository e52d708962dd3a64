"""Small guards shared by every dataclass that validates itself."""

import math

from zephyrum.errors import InputError


def number(
    name: str, value: object, low: float = -math.inf, high: float = math.inf, *, open_low: bool = False
) -> float:
    """`value` as a finite float in [low, high] (or ]low, high] if `open_low`), else an InputError that names it."""
    try:
        result = float(value)  # type: ignore[arg-type]
    except (TypeError, ValueError):
        raise InputError(f"{name} = {value!r} is not a number; give a plain number.") from None
    if not math.isfinite(result):
        raise InputError(f"{name} = {value!r} is not finite; give a plain number.")
    if result < low or result > high or (open_low and result == low):
        below = "above" if open_low else "at least"
        allowed = f"{below} {low:g}" if high == math.inf else f"{below} {low:g} and at most {high:g}"
        if low == -math.inf:
            allowed = f"at most {high:g}"
        raise InputError(f"{name} = {result:g} is out of range; it must be {allowed}.")
    return result


def whole(name: str, value: object, low: int, high: int = 10**9) -> int:
    """`value` as an int in [low, high], else an InputError that names it."""
    result = number(name, value, low, high)
    if result != int(result):
        raise InputError(f"{name} = {value!r} is not a whole number.")
    return int(result)


def choice(name: str, value: object, allowed: tuple[str, ...]) -> str:
    """`value` if it is one of `allowed`, else an InputError that lists them."""
    if value not in allowed:
        raise InputError(f"{name} = {value!r} is not known; choose one of: {', '.join(allowed)}.")
    return str(value)
