"""Ground effect: a body over a ground is one of a mirrored pair in free air; rows as in `cases`."""

import time

import zephyrum as zy

MACH = 0.15
FOIL = zy.Airfoil.naca("4412")


def mirrored_pair(height: float, alpha: float) -> tuple[zy.Solution, dict[str, float], zy.Solution]:
    """(section over a ground, coefficients of the upper one of a mirrored pair, the pair): height of the origin over
    the ground in chords at alpha 0.
    """
    mesh = zy.mesh_bodies({"wing": FOIL.moved(0.0, height)}, "medium", ground=0.0, farfield=30.0, attitude=alpha)
    over = zy.solve(mesh, zy.Freestream(mach=MACH, alpha=alpha))
    clear = height + FOIL.points[:, 1].min()
    up, down = FOIL.rotated(alpha), FOIL.flipped().rotated(-alpha)
    up, down = up.moved(0.0, clear - up.points[:, 1].min()), down.moved(0.0, -clear - down.points[:, 1].max())
    pair = zy.mesh_bodies({"high": up, "low": down}, "medium", farfield=30.0, reference="high")
    both = zy.solve(pair, zy.Freestream(mach=MACH), numerics=zy.Numerics(vortex=False))
    return over, both.forces.coefficients("high"), both


def ground_and_mirror():
    """NACA 4412 at three heights and four alphas, inviscid: lift of the body over a slip ground against one of two
    mirrored bodies, and its drag.
    """
    for height in (0.2, 0.5, 1.0):
        for alpha in (-4.0, 0.0, 4.0, 8.0):
            begin = time.perf_counter()
            over, one, both = mirrored_pair(height, alpha)
            seconds = time.perf_counter() - begin
            case = f"NACA 4412 over a ground, h/c {height:g}, alpha {alpha:g} ({over.outcome}, pair {both.outcome})"
            off = 100.0 * (over.forces.CL - one["CL"]) / max(abs(one["CL"]), 0.1)
            yield (
                case,
                "CL against one of a mirrored pair [%] (below CL 0.1 of 0.1)",
                -0.5,
                0.5,
                off,
                over.mesh.n_cells,
                seconds,
            )
            yield case, "CD [counts]", -5.0, 5.0, 1e4 * over.forces.CD, over.mesh.n_cells, seconds


def wing_near_the_ground():
    """A rectangular wing of aspect ratio 6: as it sinks its lift slope rises and its induced drag at equal lift
    falls.
    """
    wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 4412", tip="flat")
    aircraft = zy.Aircraft(name="plank", parts={"wing": wing})
    before = None
    for height in (None, 1.0, 0.4):
        begin, made = time.perf_counter(), []
        for alpha in (0.0, 4.0):
            over = {} if height is None else {"ground": -height, "attitude": alpha}
            mesh = zy.mesh_aircraft(aircraft, 2.2, farfield=8.0, **over)
            made.append(zy.solve(mesh, zy.Freestream(mach=MACH, alpha=alpha), numerics=zy.Numerics(residual_drop=4)))
        slope = (made[1].forces.CL - made[0].forces.CL) / 0.0698132
        fraction = made[1].span_loading().induced / made[1].forces.CL ** 2
        surface = made[1].forces.CD / made[1].forces.CL ** 2
        if before is not None:
            case = f"wing of aspect ratio 6, {height:g} chords over the ground ({made[1].outcome})"
            seconds = time.perf_counter() - begin
            yield case, "lift slope over that before it", 1.0, 2.0, slope / before[0], made[1].mesh.n_cells, seconds
            yield (
                case,
                "induced CD / CL^2 over that before it",
                0.0,
                1.0,
                fraction / before[1],
                made[1].mesh.n_cells,
                seconds,
            )
            yield (
                case,
                "CD of the surface / CL^2 over that before it",
                0.0,
                1.0,
                surface / before[2],
                made[1].mesh.n_cells,
                seconds,
            )
        before = slope, fraction, surface


def section_over_a_belt():
    """NACA 4412 over a belt that moves with the wind, SA: its totals are those of the section, its lift is near that
    over a slip ground.
    """
    begin = time.perf_counter()
    body = {"wing": FOIL.blunted(0.002).moved(0.0, 0.5)}
    mesh = zy.mesh_bodies(body, "coarse", ground=0.0, farfield=30.0, attitude=4.0, y_plus=1.0, reynolds=2e6)
    air = zy.Freestream(mach=MACH, reynolds=2e6, alpha=4.0)
    belt, slip = (
        zy.solve(mesh, air, "sa", numerics=zy.Numerics(residual_drop=6), ground=kind) for kind in ("belt", "slip")
    )
    seconds = time.perf_counter() - begin
    case = f"NACA 4412 over a belt, SA, Re 2e6, h/c 0.5, alpha 4 ({belt.outcome})"
    parts = belt.forces.table()
    yield (
        case,
        "CL of the wing's own rows over the total",
        1.0 - 1e-12,
        1.0 + 1e-12,
        parts[parts["part"] == "wing"]["CL"].sum() / belt.forces.CL,
        mesh.n_cells,
        seconds,
    )
    yield case, "CL over that over a slip ground", 0.99, 1.01, belt.forces.CL / slip.forces.CL, mesh.n_cells, seconds
    yield case, "share of the wall with y+ above 5", 0.0, 0.01, belt.wall_out_of_range()[0], mesh.n_cells, seconds
