"""Observed orders and error bars of aircraft on four meshes each: the half Skerry and two random aircraft."""

import time
from importlib import resources

from validation import fleet
from zephyrum.conditions import Freestream
from zephyrum.geometry import Aircraft
from zephyrum.studies import refine

INVISCID, TURBULENT = 800_000, 1_000_000  # cells of the finest meshes
RANDOM = 3, 11  # numbers of two aircraft of the random fleet


def _rows(label: str, shape: Aircraft, turbulent: bool):
    """Orders of CL, CD and CM, and bars of CD over CD, on four meshes."""
    begin = time.perf_counter()
    if turbulent:
        air, model, cells = Freestream(mach=0.2, alpha=4.0, reynolds=8e6), "sa", TURBULENT
        options, orders = {"y_plus": 1.0, "reynolds": 8e6}, (1.0, 3.0)
        bars = {"CD_far": 0.05, "CD": 0.08}
    else:
        air, model, cells = Freestream(mach=0.2, alpha=4.0), "euler", INVISCID
        options, orders = {}, (1.5, 2.5)
        bars = {"CD_far": 0.03, "CD": 0.03}
    found = refine(shape, air, levels=4, model=model, half=True, cells=cells, **options)
    seconds, finest = time.perf_counter() - begin, int(found.table["cells"][0])
    outcome = ", ".join(str(one) for one in dict.fromkeys(found.table["outcome"]))
    label = f"{label}, {'SA' if turbulent else 'Euler'}, four meshes ({outcome})"
    rows = []
    for name in ("CL", "CD", "CM"):
        rows.append((label, f"observed order of {name}", *orders, found.estimates[name].order, finest, seconds))
    for name, most in bars.items():
        if name in found.estimates:
            one = found.estimates[name]
            rows.append((label, f"bar of {name} over it", 0.0, most, one.error / abs(one.finest), finest, seconds))
    return rows


def _skerry() -> Aircraft:
    with resources.as_file(resources.files("zephyrum") / "data" / "skerry-mailplane.toml") as file:
        return Aircraft.read(file)


def skerry_inviscid():
    """Half Skerry at Mach 0.2, alpha 4, up to 800,000 cells."""
    return _rows("Skerry", _skerry(), turbulent=False)


def skerry_turbulent():
    """The same at Reynolds number 8e6, up to a million cells."""
    return _rows("Skerry", _skerry(), turbulent=True)


def fleet_inviscid():
    """Two random aircraft, as the Skerry."""
    return [row for seed in RANDOM for row in _rows(f"random aircraft {seed}", fleet.aircraft(seed), turbulent=False)]


def fleet_turbulent():
    """The same with friction."""
    return [row for seed in RANDOM for row in _rows(f"random aircraft {seed}", fleet.aircraft(seed), turbulent=True)]
