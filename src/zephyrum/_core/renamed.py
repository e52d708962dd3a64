"""Words of study files, aircraft files and options that have a new name: their errors name it."""

RENAMED = {
    "flies": "aerodynamic",
    "fineness": "resolution",
    "most": "max_iterations",
    "orders": "residual_drop",
    "peak": "clmax_spacing",
    "place": "position",
    "relatives": "coarse_levels",
    "settings": "numerics",
    "spanwise": "aspect_y",
    "steps": "max_iterations",
}


def renamed_advice(word: str) -> str:
    """Name the new word for an old one.

    Parameters
    ----------
    word : str
        Name of an option, key or command.

    Returns
    -------
    str
        Sentence that names the new word; empty if the word is not an old one.

    Examples
    --------
    >>> renamed_advice("fineness")
    'it is now called resolution'
    """
    new = RENAMED.get(word)
    return f"it is now called {new}" if new else ""
