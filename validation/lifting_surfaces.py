"""Vortex lattices against lifting-surface and thin-airfoil theory, on default numbers of panels."""

import time
from dataclasses import replace
from importlib import resources

import numpy as np

from zephyrum.conditions import Freestream
from zephyrum.geometry import Aircraft, Body, Control, Planform, Station, Wing
from zephyrum.loworder import LatticeOptions, VortexLattice, lattice_model

SLOW = 0.001  # Mach number


def _wing(aspect: float, controls: dict | None = None, **planform) -> VortexLattice:
    """Lattice of a wing of unit mean chord without camber."""
    shape = Planform(span=aspect, area=aspect, **planform)
    wing = Wing(planform=shape, airfoil="NACA 0006", controls=controls or {})
    return lattice_model(Aircraft(name="wing", parts={"wing": wing}))


def _slope(model: VortexLattice) -> tuple[float, float]:
    """(lift slope [1/rad], aerodynamic centre behind the moment point [chords])."""
    found = model.solve(Freestream(mach=SLOW)).derivatives["alpha"]
    return float(found["CL"]), float(-found["CM"] / found["CL"])


def _ellipse() -> VortexLattice:
    y = 4.0 * np.sin(np.linspace(0.0, 0.5 * np.pi, 25))
    chord = np.maximum(4.0 / np.pi * np.sqrt(np.maximum(1.0 - (y / 4.0) ** 2, 0.0)), 1e-4)
    stations = tuple(Station(position=(-0.25 * c, s, 0.0), chord=c) for c, s in zip(chord, y))
    return lattice_model(Aircraft(name="ellipse", parts={"wing": Wing(stations=stations, airfoil="NACA 0006")}))


def lifting_surfaces():
    """Slopes, aerodynamic centres, roll damping, dihedral, induced drag, a flap, bodies."""
    rows = []

    def add(label, quantity, low, high, value, model, begin):
        panels = model.lattice.n_panels
        rows.append((f"vortex lattice, {label}", quantity, low, high, value, panels, time.perf_counter() - begin))

    for aspect, lift, centre in ((2.0, 2.4745, 0.2094), (6.0, 4.2146, 0.2388), (20.0, 5.4335, 0.2471)):
        begin, model = time.perf_counter(), _wing(aspect)
        slope, behind = _slope(model)
        label = f"flat rectangular wing of aspect ratio {aspect:g}"
        add(label, "lift slope over theory", 0.995, 1.005, slope / lift, model, begin)
        add(label, "aerodynamic centre, error [chords]", -0.003, 0.003, 0.25 + behind - centre, model, begin)
        found = model.solve(Freestream(mach=SLOW, alpha=2.0)).coefficients
        ratio = found["CDi_surface"] / found["CDi"]
        add(label, "induced drag, surface over far plane", 0.995, 1.005, ratio, model, begin)
    begin, model = time.perf_counter(), _ellipse()
    found = model.solve(Freestream(mach=SLOW, alpha=1.0))
    aspect = model.reference.span**2 / model.reference.area
    efficiency = found.CL**2 / (np.pi * aspect * found.CDi)
    add("elliptic planform of aspect ratio 8", "span efficiency", 0.997, 1.003, efficiency, model, begin)
    begin, model = time.perf_counter(), _wing(5.0, sweep=45.0)
    slope, behind = _slope(model)
    nose = model.lattice.leading[:, 0].min()
    centre = (model.reference.point[0] - nose) / model.reference.chord + behind
    add("swept 45 deg, aspect ratio 5", "lift slope over theory", 0.99, 1.01, slope / 3.181, model, begin)
    add("swept 45 deg, aspect ratio 5", "aerodynamic centre [chords]", 1.415, 1.435, centre, model, begin)
    begin, model = time.perf_counter(), _wing(6.0)
    damping = model.solve(Freestream(mach=SLOW)).derivatives.loc["Cl", "roll"]
    add("rectangular wing of aspect ratio 6", "roll damping over theory", 0.99, 1.01, damping / -0.4402, model, begin)
    begin, model = time.perf_counter(), _wing(6.0, dihedral=3.0)
    rolling = model.solve(Freestream(mach=SLOW)).derivatives.loc["Cl", "beta"] / np.radians(3.0)
    add("3 deg of dihedral, aspect ratio 6", "Cl_beta over theory", 0.97, 1.03, rolling / -0.731, model, begin)
    begin = time.perf_counter()
    model = _wing(9999.0, {"flap": Control(start=0.0, end=1.0, hinge=0.75)})
    found = model.solve(Freestream(mach=SLOW)).derivatives
    slope, flap = found.loc["CL", "alpha"], found.loc["CL", "wing.flap"]
    add("aspect ratio 1e4", "lift slope over 2 pi", 0.995, 1.005, slope / (2.0 * np.pi), model, begin)
    add("aspect ratio 1e4, flap of 25 %", "cl_delta over theory", 0.985, 1.015, flap / 3.826, model, begin)
    add("aspect ratio 1e4, flap of 25 %", "effectiveness over theory", 0.985, 1.015, flap / slope / 0.609, model, begin)
    return rows + _bodies() + _skerry_times()


def _bodies() -> list[tuple]:
    """Slender bodies: moment of a spheroid (Munk 1924), upwash beside a long body."""
    rows = []
    options = LatticeOptions(rows=4, strips=6, bodies=True)
    begin = time.perf_counter()
    far = Wing(planform=Planform(span=0.2, area=0.004), airfoil="NACA 0006", position=(0.0, 0.0, 50.0))
    pod = Body.ellipsoid(4.0, 0.5)
    model = lattice_model(Aircraft(name="pod", parts={"wing": far, "pod": pod}, reference="wing"), options)
    found = model.solve(Freestream(mach=SLOW, alpha=3.0)).table.set_index("part").loc["pod", "CM"]
    volume, angle = np.pi / 6.0 * 4.0 * 0.5**2, np.radians(3.0)
    exact = 2.0 * volume * np.sin(angle) * np.cos(angle) / (model.reference.area * model.reference.chord)
    seconds = time.perf_counter() - begin
    rows.append(("slender spheroid", "moment over 2 q alpha V", 0.995, 1.005, found / exact, 40, seconds))
    begin = time.perf_counter()
    small = Wing(planform=Planform(span=0.2, area=0.004), airfoil="NACA 0006", position=(0.0, 1.0, 0.0))
    long = Body(rings=Body.capsule(40.0, 1.0).rings, position=(-20.0, 0.0, 0.0))
    craft = Aircraft(name="probe", parts={"wing": small, "pod": long}, reference="wing")
    without, within = (
        lattice_model(craft, one).solve(Freestream(mach=SLOW, alpha=2.0)).table.set_index("part").loc["wing", "CL"]
        for one in (replace(options, bodies=False), options)
    )
    seconds = time.perf_counter() - begin
    ratio = 4.0 * (within / without - 1.0)
    rows.append(("long body, a diameter beside its axis", "upwash over R^2 / y^2", 0.97, 1.03, ratio, 240, seconds))
    return rows


def _skerry_times() -> list[tuple]:
    """Time of the Skerry on 2,000 panels, and of a thousand conditions; kernels are warm."""
    with resources.as_file(resources.files("zephyrum") / "data" / "skerry-mailplane.toml") as file:
        aircraft = Aircraft.read(file)
    begin = time.perf_counter()
    model = lattice_model(aircraft, LatticeOptions(rows=20, strips=28))
    assert model.solve(Freestream(mach=0.2, alpha=4.0)).CL > 0.0
    solved = time.perf_counter() - begin
    begin = time.perf_counter()
    model.conditions([Freestream(mach=0.2, alpha=0.005 * k) for k in range(1000)])
    many = time.perf_counter() - begin
    panels = model.lattice.n_panels
    return [
        ("vortex lattice, Skerry", "time of a solution [s]", 0.0, 2.0, solved, panels, solved),
        ("vortex lattice, Skerry", "time of 1,000 conditions [s]", 0.0, 1.0, many, panels, many),
    ]
