"""Flows about bodies in space: wings against linear lifting-surface theory, a cone against the conical shock, a plate
against itself in two dimensions.

Theory of the wings: a lattice of horseshoe vortices on the flat planform (Katz and Plotkin 2001, Low-Speed
Aerodynamics, ch. 12), with the rule of Prandtl and Glauert. Cone of 15 deg at Mach 2.5: Taylor and Maccoll (1933),
Proc. R. Soc. A 139:278; surface Cp
0.1840, shock at 28.45 deg.
"""

import time

import numpy as np

import zephyrum as zy
from validation.grids import widened
from zephyrum.mesh import mesh_plate
from zephyrum.mesh.clipped_3d.generation import mesh_surface

MACH, ALPHA, SPAN = 0.2, 2.0, 6.0
FINEST = 0.7  # factor on all sizes


def lifting_surface(span: float, sweep: float, mach: float, across: int = 40, along: int = 8) -> float:
    """Lift slope [1/rad] of a flat wing of chord 1 and constant sweep [deg]."""
    beta = np.sqrt(1.0 - mach**2)
    tan = np.tan(np.radians(sweep))
    edge = -0.5 * span * np.cos(np.linspace(0.0, np.pi, across + 1))

    def position(y, fraction):
        return (np.abs(y) * tan + fraction) / beta  # stretched along the wind

    points, bound, width = [], [], []
    for j in range(across):
        y0, y1 = edge[j], edge[j + 1]
        for i in range(along):
            quarter, three = (i + 0.25) / along, (i + 0.75) / along
            bound.append([[position(y0, quarter), y0], [position(y1, quarter), y1]])
            ym = 0.5 * (y0 + y1)
            points.append([position(ym, three), ym])
            width.append(y1 - y0)
    p, b, width = np.array(points), np.array(bound), np.array(width)
    n = len(p)
    down = np.zeros((n, n))
    for k in range(n):
        a, c = b[k]
        ra, rc = p - a, p - c
        la, lc = np.linalg.norm(ra, axis=1), np.linalg.norm(rc, axis=1)
        cross = ra[:, 0] * rc[:, 1] - ra[:, 1] * rc[:, 0]
        d = c - a
        piece = (ra @ d / la - rc @ d / lc) / cross
        tail = (1.0 + rc[:, 0] / lc) / rc[:, 1] - (1.0 + ra[:, 0] / la) / ra[:, 1]
        down[:, k] = (piece + tail) / (4.0 * np.pi)
    strength = np.linalg.solve(down, -np.ones(n))  # stream 1, alpha 1
    return float(abs(2.0 * np.sum(strength * width) / span))  # stretching has divided by beta already


def plank(section: str, sweep: float = 0.0) -> zy.Aircraft:
    """A wing of chord 1."""
    planform = zy.Planform(span=SPAN, root_chord=1.0, taper=1.0, sweep=sweep)
    return zy.Aircraft(name="plank", parts={"wing": zy.Wing(planform=planform, airfoil=section, tip="flat")})


def _slope(aircraft: zy.Aircraft, resolution: float) -> tuple[float, float, zy.Solution, float]:
    """(lift slope [1/rad] between both signs of ALPHA, lift between them, solution, seconds): one alpha alone would
    take the lift that an uneven mesh gives an even wing for slope.
    """
    begin = time.perf_counter()
    mesh = zy.mesh_aircraft(aircraft, resolution, farfield=15.0)
    down, up = (
        zy.solve(mesh, zy.Freestream(mach=MACH, alpha=alpha), numerics=zy.Numerics(residual_drop=4))
        for alpha in (-ALPHA, ALPHA)
    )
    slope = (up.forces.CL - down.forces.CL) / np.radians(2.0 * ALPHA)
    return slope, 0.5 * (up.forces.CL + down.forces.CL), up, time.perf_counter() - begin


def thin_wings():
    """Lift slopes over those of the theory: a rectangular wing on three meshes, at half its thickness, and swept."""
    rows = []
    flat = lifting_surface(SPAN, 0.0, MACH)
    for resolution in (1.5, 1.0, FINEST):
        slope, even, solution, seconds = _slope(plank("NACA 0012"), resolution)
        # 12 % of thickness raise the lift of the section by 0.77 t (Abbott and von Doenhoff 1959) in inviscid flow
        label = f"rectangular wing, aspect ratio 6, 12 % thick ({solution.outcome})"
        rows.append(
            (label, "lift slope over lifting-surface theory", 0.95, 1.10, slope / flat, solution.mesh.n_cells, seconds)
        )
    rows.append((label, "abs(CL) of the even wing at alpha 0", 0.0, 0.005, abs(even), solution.mesh.n_cells, seconds))
    thick = slope
    slope, _, solution, seconds = _slope(plank("NACA 0006"), FINEST)
    label = f"the same, 6 % thick ({solution.outcome})"
    rows.append(
        (label, "lift slope over lifting-surface theory", 0.95, 1.05, slope / flat, solution.mesh.n_cells, seconds)
    )
    rows.append(
        (
            label,
            "extrapolated to no thickness",
            0.95,
            1.05,
            (2.0 * slope - thick) / flat,
            solution.mesh.n_cells,
            seconds,
        )
    )
    slope, _, solution, seconds = _slope(plank("NACA 0006", 30.0), FINEST)
    label = f"30 deg swept, 6 % thick ({solution.outcome})"
    theory = lifting_surface(SPAN, 30.0, MACH)
    rows.append(
        (label, "lift slope over lifting-surface theory", 0.95, 1.05, slope / theory, solution.mesh.n_cells, seconds)
    )
    return rows


def cone():
    """Cone of half angle 15 deg at Mach 2.5, with a slender afterbody that it does not feel."""
    begin = time.perf_counter()
    slant = np.tan(np.radians(15.0))
    rings = [zy.Ring(x=0.0, width=0.0), zy.Ring(x=1.0, width=2.0 * slant), zy.Ring(x=3.5, width=0.0)]
    aircraft = zy.Aircraft(
        name="cone", parts={"cone": zy.Body(rings=rings, nose="pointed", tail="pointed", straight=True)}
    )
    skin = zy.remesh(aircraft.surface(half=True), 8000, largest=0.05).surface
    mesh = mesh_surface(
        skin, farfield=1.0, growth=0.15, reference=zy.Reference(np.pi * slant**2, 1.0, 2.0 * slant, (0.0, 0.0, 0.0))
    )
    solution = zy.solve(mesh, zy.Freestream(mach=2.5), numerics=zy.Numerics(residual_drop=3.5))
    seconds = time.perf_counter() - begin
    table = solution.surface()
    own = table[table["x"].between(0.55, 0.9)]
    c, cp = mesh.cell_centroid, solution.fields()["cp"]
    near = (c[:, 0] > 0.6) & (c[:, 0] < 0.95)
    angle = np.degrees(np.arctan2(np.hypot(c[near, 1], c[near, 2]), c[near, 0]))
    edges = np.arange(20.0, 40.0, 0.5)
    mean = np.array([cp[near][(angle >= a) & (angle < a + 0.5)].mean() for a in edges])
    # the middle of the jump: half the pressure just behind the shock, which rises from there to the surface
    midpoint = edges + 0.25
    within = midpoint < 25.0
    share = mean / np.polyval(np.polyfit(midpoint[within], mean[within], 2), midpoint)
    k = int(np.flatnonzero((midpoint > 25.0) & (share < 0.5))[0])
    shock = float(np.interp(0.5, [share[k], share[k - 1]], [midpoint[k], midpoint[k - 1]]))
    label = f"15 deg cone, M 2.5 ({solution.outcome})"
    return [
        (label, "surface Cp", 0.1840 * 0.98, 0.1840 * 1.02, float(own["Cp"].mean()), mesh.n_cells, seconds),
        (label, "shock angle [deg]", 28.45 - 0.6, 28.45 + 0.6, shock, mesh.n_cells, seconds),
    ]


def plate_in_space():
    """Turbulent plate in cells of three dimensions, three beside each other, against the same mesh in two."""
    length, reynolds = 2.0, 5e6
    flat = mesh_plate(length, 96, 32, 80, zy.wall_layers(reynolds * length, 1.0).first_height)
    wide = widened(flat, 3, 0.3)
    air, numerics = zy.Freestream(mach=MACH, reynolds=reynolds * length), zy.Numerics(vortex=False, residual_drop=6.0)
    rows, made = [], {}
    for mesh in (flat, wide):
        begin = time.perf_counter()
        area = length * mesh.depth
        reference = zy.Reference(area, length, mesh.depth, (0.0, 0.0, 0.0))
        solution = zy.solve(mesh, air, "sa", reference=reference, numerics=numerics)
        table = solution.surface()
        x, order = table["x"].to_numpy(), np.argsort(table["x"].to_numpy(), kind="stable")
        cf = np.abs(table["Cf"].to_numpy())[order]
        made[mesh.dimension] = (
            np.interp(0.97, x[order], cf),
            solution.forces.CD,
            solution.outcome,
            mesh.n_cells,
            time.perf_counter() - begin,
        )
    (cf2, cd2, *_), (cf3, cd3, outcome, cells, seconds) = made[2], made[3]
    case = f"plate in space, SA, M 0.2, Re 5e6 a metre ({outcome})"
    rows.append((case, "Cf at x = 0.97 m over that in two dimensions", 0.998, 1.002, cf3 / cf2, cells, seconds))
    rows.append((case, "CD over that in two dimensions", 0.998, 1.002, cd3 / cd2, cells, seconds))
    return rows
