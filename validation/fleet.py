"""Random aircraft: every union closed, every remesh valid, unattended.

`make fleet` (200 aircraft, about fifty minutes on two cores; `python -m validation.fleet 20` for fewer) writes
docs/fleet.md. Each is made from one number, so that any of them can be looked at again. What is done is kept in
validation/fleet.json, so that a run that was broken off goes on; remove that file to begin anew.
"""

import sys
import time

import numpy as np

from validation.resumed import resumed

TRIANGLES = 16000
SECTIONS = ("NACA 0012", "NACA 2412", "NACA 4415", "NACA 23012", "NACA 0009", "NACA 4418 blunt")
HEAD = """# Random aircraft

Made by `make fleet`: wings high, middle and low, swept forwards and back, tapered, cranked, with flaps down; usual, T-,
V- and canard tails, twin booms, pods open and faired, struts, in random proportions. Every one is united, checked and
remeshed to about 16,000 triangles. Distances are shares of the span; quality is 1 for the ideal triangle of the metric.

"""


def aircraft(seed: int):
    """The aircraft of that number."""
    import zephyrum as zy

    rng = np.random.default_rng(seed)

    def between(low, high):
        return float(rng.uniform(low, high))

    def one_of(*items):
        return items[int(rng.integers(len(items)))]

    length, width = between(6.0, 14.0), between(0.9, 1.8)
    tall = width * between(0.9, 1.4)
    span, chord = length * between(0.8, 1.6), length * between(0.10, 0.20)
    position = length * between(0.32, 0.42)
    height = one_of(-0.38, -0.1, 0.0, 0.1, 0.42) * tall
    rings = [
        zy.Ring(x=0.0, width=0.0, z=-0.1 * tall),
        zy.Ring(x=0.12 * length, width=0.7 * width, height=0.7 * tall, z=-0.05 * tall),
    ]
    form = one_of({}, {"form": "rectangle", "radius": 0.25 * width})
    rings += [zy.Ring(x=x * length, width=width, height=tall, **form) for x in (0.3, 0.55)]
    rings += (
        [zy.Ring(x=length, width=0.0, z=0.25 * tall)]
        if rng.random() < 0.7
        else [zy.Ring(x=length, width=0.25 * width, height=0.3 * tall, z=0.2 * tall)]
    )
    parts = {"fuselage": zy.Body(rings=rings, tail=one_of("round", "pointed"))}
    sweep, dihedral = between(-22.0, 38.0), between(-4.0, 7.0)
    controls = (
        {"flap": zy.Control(start=0.2, end=0.6, hinge=between(0.68, 0.8), deflection=between(-5.0, 30.0))}
        if rng.random() < 0.5
        else {}
    )
    gap = one_of(None, 0.002, 0.005)
    inner = zy.Panel(
        span=0.22 * span,
        taper=one_of(1.0, 0.85),
        sweep=sweep * one_of(0.4, 1.0),
        dihedral=dihedral,
        airfoil=one_of(*SECTIONS),
    )
    outer = zy.Panel(
        span=0.28 * span,
        taper=between(0.35, 0.9),
        sweep=sweep,
        dihedral=dihedral,
        twist=between(-3.0, 0.0),
        airfoil=one_of(*SECTIONS),
    )
    root = zy.Station(position=(0.0, 0.0, 0.0), chord=chord, twist=between(0.0, 3.0), airfoil=one_of(*SECTIONS))
    parts["wing"] = zy.Wing(
        root=root,
        panels=[inner, outer],
        position=(position, 0.0, height),
        tip=one_of("round", "flat"),
        tail_gap=gap,
        controls=controls,
    )
    tail_chord, tail_span = 0.55 * chord, 0.36 * span
    fin_height = length * between(0.13, 0.2)
    aft = 0.93 * length - tail_chord

    def fin(x, z, tall_, y=0.0, **more):
        tip = zy.Station(position=(0.35 * tall_, 0.0, tall_), chord=0.6 * tail_chord * 1.3)
        return zy.Wing(
            stations=[zy.Station(position=(0.0, 0.0, 0.0), chord=1.3 * tail_chord, airfoil="NACA 0010"), tip],
            symmetric=False,
            position=(x, y, z),
            tail_gap=gap,
            **more,
        )

    kind = one_of("usual", "T", "V", "canard", "boom")
    flat = {
        "planform": zy.Planform(
            span=tail_span, root_chord=tail_chord, taper=between(0.5, 1.0), sweep=between(0.0, 25.0)
        ),
        "airfoil": "NACA 0010",
        "tail_gap": gap,
    }
    if kind == "usual":
        parts["tailplane"] = zy.Wing(**flat, position=(aft, 0.0, 0.2 * tall))
        parts["fin"] = fin(aft - 0.3 * tail_chord, 0.15 * tall, fin_height)
    elif kind == "T":
        parts["fin"] = fin(aft - 0.3 * tail_chord, 0.1 * tall, fin_height)
        parts["tailplane"] = zy.Wing(**flat, position=(aft + 0.15 * tail_chord, 0.0, 0.1 * tall + 0.93 * fin_height))
    elif kind == "V":
        panel = zy.Panel(span=0.5 * tail_span, taper=0.6, sweep=between(5.0, 25.0), dihedral=between(30.0, 50.0))
        parts["tailplane"] = zy.Wing(
            root=zy.Station(position=(0, 0, 0), chord=tail_chord, airfoil="NACA 0010"),
            panels=[panel],
            position=(aft, 0.0, 0.15 * tall),
            tail_gap=gap,
        )
    elif kind == "canard":
        parts["canard"] = zy.Wing(**flat, position=(0.14 * length, 0.0, between(-0.1, 0.1) * tall))
        parts["fin"] = fin(aft - 0.3 * tail_chord, 0.1 * tall, fin_height)
    else:
        offset = 0.5 * tail_span * 0.8
        boom = [
            zy.Ring(x=0.0, width=0.0),
            zy.Ring(x=0.1 * length, width=0.25 * width),
            zy.Ring(x=0.75 * length - 0.2, width=0.0),
        ]
        parts["boom"] = zy.Body(rings=boom, position=(position - 0.02 * length, offset, height + 0.02), mirrored=True)
        location = position + 0.73 * length - 1.6 * tail_chord
        parts["fin"] = fin(location, height, 0.7 * fin_height, y=offset, mirrored=True)
        parts["tailplane"] = zy.Wing(
            planform=zy.Planform(span=2.0 * offset + 0.3, root_chord=tail_chord),
            airfoil="NACA 0010",
            position=(location + 0.3 * tail_chord, 0.0, height + 0.35 * fin_height),
            tail_gap=gap,
        )
    pods = one_of("none", "open", "faired", "body")
    if pods in ("open", "faired"):
        size = 0.45 * width
        parts["pod"] = zy.Duct(
            length=1.6 * size,
            inlet=size,
            exit=0.85 * size,
            airfoil="NACA 2410",
            faired=pods == "faired",
            position=(position - 0.3 * size, 0.2 * span, height - 0.62 * size),
            mirrored=True,
        )
    elif pods == "body":
        parts["pod"] = zy.Body(
            rings=zy.Body.ellipsoid(1.8 * chord, 0.35 * width).rings,
            nose="round",
            tail="round",
            position=(position - 0.7 * chord, 0.22 * span, height),
            mirrored=True,
        )
    if height > 0.3 * tall and rng.random() < 0.5:
        parts["strut"] = zy.Strut(
            start=(position + 0.3 * chord, 0.3 * width, -0.3 * tall),
            end=(position + 0.3 * chord, 0.22 * span, height),
            chord=0.12 * chord,
            airfoil="NACA 0018",
            mirrored=True,
        )
    return zy.Aircraft(name=f"{kind} {seed}", parts=parts)


def one(seed: int) -> tuple:
    """(seed, name, united triangles, outcome, worst quality, share below 0.3, distance and feature distance over span,
    count, s).
    """
    import zephyrum as zy
    from zephyrum.geometry.surface.self_intersection import crossing_triangles

    begin = time.perf_counter()
    try:
        craft = aircraft(seed)
        skin = craft.surface()
    except zy.ZephyrumError as cause:
        return seed, f"seed {seed}", 0, f"UNION: {cause}", 0.0, 1.0, 1.0, 1.0, 0, time.perf_counter() - begin
    bad = []
    if not skin.watertight:
        bad.append("UNION open")
    if skin.volume <= 0.0 or len(crossing_triangles(skin, 1e-9 * skin.size)):
        bad.append("UNION crossed")
    try:
        made = zy.remesh(skin, TRIANGLES)
    except zy.ZephyrumError as cause:
        return (
            seed,
            craft.name,
            len(skin.triangles),
            f"REMESH: {cause}",
            0.0,
            1.0,
            1.0,
            1.0,
            0,
            time.perf_counter() - begin,
        )
    if not made.surface.watertight or len(crossing_triangles(made.surface)):
        bad.append("REMESH open or crossed")
    span = float(np.ptp(skin.bounds[:, 1]))
    q = made.quality
    return (
        seed,
        craft.name,
        len(skin.triangles),
        "; ".join(bad) or "valid",
        float(q.min()),
        float((q < 0.3).mean()),
        made.distance / span,
        made.feature / span,
        len(q),
        time.perf_counter() - begin,
    )


def write(rows: list[tuple]) -> str:
    """The page."""
    rows = sorted(rows)
    valid = [row for row in rows if row[3] == "valid"]
    lines = [f"{len(rows)} aircraft: {len(valid)} valid, {len(rows) - len(valid)} not.\n"]
    if valid:
        worst = np.array([row[4:8] for row in valid])
        lines.append(
            f"Of the valid ones: worst quality {worst[:, 0].min():.3f} (median of the worst "
            f"{np.median(worst[:, 0]):.3f}), triangles below 0.3 at most "
            f"{100 * worst[:, 1].max():.2f} %, distance from the shape at most {1e3 * worst[:, 2].max():.2f} / 1000 of "
            f"the span (median "
            f"{1e3 * np.median(worst[:, 2]):.2f}), feature lines at most {1e3 * worst[:, 3].max():.2f} / 1000 (median "
            f"{1e3 * np.median(worst[:, 3]):.2f}).\n"
        )
    lines += [
        "| number | tail | union | remeshed | worst quality | below 0.3 [%] | distance [span/1000] | features "
        "[span/1000] | s | outcome |",
        "|---" * 10 + "|",
    ]
    for seed, name, union, outcome, low, fraction, far, feature, count, seconds in rows:
        lines.append(
            f"| {seed} | {name.split()[0]} | {union} | {count} | {low:.3f} | {100 * fraction:.2f} | {1e3 * far:.2f} | "
            f"{1e3 * feature:.2f} | {seconds:.0f} | {outcome[:120]} |"
        )
    return HEAD + "\n".join(lines) + "\n"


def invalid(row) -> str:
    """What is wrong with one aircraft."""
    return "" if row[3] == "valid" else row[3]


def main(count: int) -> int:
    """Run all; 1 if any is not valid."""
    rows = resumed(__file__, list(range(count)), one, write, invalid)
    print(write(rows).split("\n|")[0].removeprefix(HEAD))
    return int(any(map(invalid, rows)))


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]) if sys.argv[1:] else 200))
