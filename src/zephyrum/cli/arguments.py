"""What a user types on the command line, as objects."""

from pathlib import Path

from zephyrum.errors import InputError


def section_of(text: str, tail: str = "closed", unit: str | None = None):
    """Section that a user names.

    Parameters
    ----------
    text : str
        "naca2412" or a coordinate file.
    tail : str, optional
        "closed" or "blunt", for NACA sections.
    unit : str, optional
        Unit of a coordinate file, which keeps its size and place; without it the section gets unit chord.

    Examples
    --------
    >>> section_of("naca2412").name
    'NACA 2412'
    """
    from zephyrum.geometry import Airfoil

    compact = text.lower().replace(" ", "").replace("-", "")
    if compact.startswith("naca") and not Path(text).exists():
        return Airfoil.naca(compact[4:], tail)
    return Airfoil.read(text, unit=unit)


def changes_of(sets: tuple[str, ...], option: str = "--set") -> dict:
    """Names and values of an option that is written NAME=VALUE and may be repeated.

    Parameters
    ----------
    sets : tuple of str
        What was typed.
    option : str, optional
        Name of the option, for messages.

    Raises
    ------
    InputError
        One of them is not of this form.

    Examples
    --------
    >>> changes_of(("wing.controls.flap.deflection=20", "name=mine"))
    {'wing.controls.flap.deflection': 20.0, 'name': 'mine'}
    """
    out: dict = {}
    for one in sets:
        path, sign, value = one.partition("=")
        if not sign or not path.strip() or not value.strip():
            paths = option == "--set"
            form, example = ("PATH=VALUE", "wing.controls.flap.deflection=20") if paths else ("NAME=VALUE", "wing=0.3")
            raise InputError(f"{option} {one!r}: write {form}, for example {option} {example}.")
        try:
            out[path.strip()] = float(value)
        except ValueError:
            out[path.strip()] = {"true": True, "false": False}.get(value.strip(), value.strip())
    return out
