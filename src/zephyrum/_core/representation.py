"""Objects that hold arrays are shown by one sentence instead of them: `__repr__ = short_repr` beside a `__str__`."""


def short_repr(self) -> str:
    """What a prompt or a debugger shows."""
    return f"<{type(self).__name__}: {self}>"
