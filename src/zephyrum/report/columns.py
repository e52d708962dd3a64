"""What the tables of a study show: the columns, their formats, short heads. Shared by the command line and the report."""

HEADS = {
    "CL error": "CL +-",
    "CD error": "CD +-",
    "mach max": "top M",
    "CD friction": "CD fric",
    "finest mesh": "finest",
    "observed order": "order",
    "seconds": "s",
}
POLAR = {"mach": ".3g", "alpha": "+.2f", "CL": ".4f", "CD": ".5f", "CD friction": ".5f", "CM": "+.4f", "L/D": ".1f", "CL error": ".2g",
         "CD error": ".2g", "mach max": ".2f", "y+ max": ".1f", "verdict": "", "orders": ".1f", "steps": "d", "seconds": ".1f"}  # fmt: skip
REFINED = {
    "coefficient": "",
    "finest mesh": ".5f",
    "error +-": ".2g",
    "observed order": ".2f",
    "extrapolated": ".5f",
    "verdict": "",
}
LEVELS = {"level": "d", "cells": "d", "CL": ".5f", "CD": ".6f", "CM": "+.5f", "verdict": "", "seconds": ".1f"}
DERIVED = {"mach": ".3g", "points": "d", "CL alpha [1/rad]": ".3f", "alpha of no lift [deg]": "+.2f", "CM of no lift": "+.4f", "neutral point x [m]": ".3f",
           "static margin [chord]": "+.3f", "trim alpha [deg]": "+.2f", "trim CL": ".3f"}  # fmt: skip
SLOPES = {"derivative": "", "value": "+.4f", "bend": ".2g", "settled": ""}
FORCES = {
    "part": "",
    "cause": "",
    "CL": "+.4f",
    "CD": "+.5f",
    "CY": "+.5f",
    "CM": "+.4f",
    "X [N]": ".0f",
    "Y [N]": ".0f",
    "Z [N]": ".0f",
}
SERIES = {"coefficient": "", "mean": ".5f", "amplitude": ".2g"}


def cell(value, form: str) -> str:
    """A value as a table shows it: "-" where there is none."""
    if value is None or (isinstance(value, float) and value != value):
        return "-"
    return format(value, form) if form else str(value)
