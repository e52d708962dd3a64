"""The Skerry by lattice and build-up, inviscid and turbulent flow on one chart: lift slopes, and drag in counts."""

import math
import tempfile
import time
from importlib import resources
from pathlib import Path

import numpy as np

import zephyrum as zy

STUDY = """title = "Skerry by four methods"
[aircraft]
file = "skerry-mailplane.toml"
[air]
altitude = "5000 ft"
[mesh]
resolution = "coarse"
y_plus = 1
[solver]
model = ["lattice", "buildup", "euler", "sa"]
[lattice]
bodies = true
[buildup]
roughness = "7 um"
interference = { nacelle = 1.3 }
[sweep]
mach = 0.2
alpha = [0, 4]
"""


def thickness_factor(aircraft: zy.Aircraft) -> float:
    """Lift slope of the wing with its thickness over that of a thin one, without friction.

    Lift slope of the section in the middle of a half wing by panels, carried over to the wing by the lifting line
    (Prandtl 1918): a = a0 / (1 + a0 / (pi A)).
    """
    wing, reference = aircraft.parts["wing"], aircraft.reference_quantities()[0]
    assert isinstance(wing, zy.Wing)
    flow = zy.panel_section(wing.sections[1].airfoil)
    section = (flow.solve(2.0).cl - flow.solve(0.0).cl) / math.radians(2.0)
    aspect = reference.span**2 / reference.area
    thick, thin = (a / (1.0 + a / (math.pi * aspect)) for a in (section, 2.0 * math.pi))
    return thick / thin


def chart_rows(study: zy.Study, aircraft: zy.Aircraft, seconds: float) -> list[tuple]:
    """Rows of a study by lattice with build-up, inviscid and turbulent flow."""
    table = study.results["methods"].table
    print(table.to_string(index=False))
    cells = {model: member.mesh.n_cells for model, member in study.members.items()}
    slopes, drag = {}, {}
    for method, own in table.groupby("method"):
        own = own.sort_values("alpha")
        slopes[method] = float(np.diff(own.CL)[0] / np.radians(4.0))
        drag[method] = 1e4 * float(own.CD.iloc[-1])
    factor, lattice = thickness_factor(aircraft), slopes["lattice + buildup"]
    thick = slopes["euler"] / (factor * lattice)
    rows = [
        ("thickness of the wing", "lift slope over that of a thin one", 1.05, 1.12, factor, 0, seconds),
        (
            "inviscid flow over thin lattice",
            "lift slope",
            1.0,
            1.15,
            slopes["euler"] / lattice,
            cells["euler"],
            seconds,
        ),
        ("the same over lattice times thickness", "lift slope", 0.95, 1.05, thick, cells["euler"], seconds),
        ("turbulent flow over lattice", "lift slope", 0.95, 1.05, slopes["sa"] / lattice, cells["sa"], seconds),
    ]
    base = drag["lattice + buildup"]
    for method in ("lattice + buildup", "euler + buildup", "sa"):  # of inviscid flow alone it is the induced drag
        value, many = drag[method], cells.get(method, 0)
        rows.append((f"{method}, alpha 4", "CD [counts]", 0.9 * base, 1.1 * base, value, many, seconds))
    return [(f"Skerry on one chart: {label}", *rest) for label, *rest in rows]


def skerry_chart():
    """Lift slopes of the methods over each other, and what explains them; drag at alpha 4."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        data = resources.files("zephyrum") / "data" / "skerry-mailplane.toml"
        (folder / "skerry-mailplane.toml").write_text(data.read_text(encoding="utf-8"), encoding="utf-8")
        (folder / "study.toml").write_text(STUDY, encoding="utf-8")
        begin = time.perf_counter()
        study = zy.run_study(folder / "study.toml", folder / "results")
        aircraft = zy.Aircraft.read(folder / "skerry-mailplane.toml")
        return chart_rows(study, aircraft, time.perf_counter() - begin)
