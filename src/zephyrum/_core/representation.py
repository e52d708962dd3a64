"""Objects that hold arrays are shown by one sentence instead of them: `__repr__ = short_repr` beside a `__str__`."""


def short_repr(self) -> str:
    """What a prompt or a debugger shows.

    Examples
    --------
    >>> from zephyrum import Airfoil
    >>> Airfoil.naca("2412")
    <Airfoil: NACA 2412, 401 points, 12 % thick, camber 2 %>
    """
    return f"<{type(self).__name__}: {self}>"
