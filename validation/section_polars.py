"""Section polars with boundary layers against wind tunnel data, over panels, and at low Reynolds numbers."""

import time

import numpy as np

import zephyrum as zy
from zephyrum.loworder.panel.displacement import PanelLayout

# lift slope [1/deg], angle of zero lift [deg], least drag, largest lift coefficient: read from the charts of Abbott,
# von Doenhoff and Stivers (1945), smooth sections, to about 2 %, 0.1 deg, 3 % and 2 %
TUNNEL = {
    ("0012", 3e6): (0.105, 0.0, 0.0058, 1.50),
    ("0012", 6e6): (0.106, 0.0, 0.0057, 1.59),
    ("2412", 3e6): (0.105, -2.1, 0.0062, 1.60),
    ("2412", 6e6): (0.105, -2.1, 0.0060, 1.68),
    ("4412", 3e6): (0.106, -4.0, 0.0062, 1.61),
    ("4412", 6e6): (0.106, -4.0, 0.0061, 1.67),
    ("23012", 3e6): (0.106, -1.2, 0.0064, 1.72),
    ("23012", 6e6): (0.106, -1.2, 0.0060, 1.79),
}


def section_polars():
    """NACA sections, panels, bubbles, converged shares and times."""
    rows = []

    def add(label, quantity, low, high, value, many, begin):
        seconds = time.perf_counter() - begin
        rows.append((f"section polar, {label}", quantity, low, high, float(value), many, seconds))

    for (digits, reynolds), (slope, zero, least, top) in TUNNEL.items():
        begin, label = time.perf_counter(), f"NACA {digits}, Re {reynolds:.0e}"
        polar = zy.panel_polar(zy.Airfoil.naca(digits), np.arange(-5.0, 20.0), reynolds)
        many = len(polar.flows)
        add(label, "lift slope over measured", 0.96, 1.04, polar.lift_slope / slope, many, begin)
        add(label, "zero lift less measured [deg]", -0.2, 0.2, polar.zero_lift - zero, many, begin)
        drag = min(flow.cd for flow in polar.flows)
        add(label, "least drag over measured", 0.92, 1.08, drag / least, many, begin)
        lift = max(flow.cl for flow in polar.flows)
        add(label, "largest lift over measured", 0.90, 1.10, lift / top, many, begin)
        upto = polar.table[polar.table.alpha <= polar.flows[int(np.argmax([f.cl for f in polar.flows]))].alpha]
        add(label, "converged up to largest lift", 0.99, 1.0, upto.converged.mean(), len(upto), begin)
    found = {}
    for panels in (120, 160, 240):
        begin = time.perf_counter()
        options = zy.LayerOptions(panels=PanelLayout(panels=panels, wake_nodes=panels // 6))
        found[panels] = zy.panel_polar(zy.Airfoil.naca("4412"), [8.0], 6e6, options=options).flows[0]
    for panels in (120, 160):
        label = f"NACA 4412, 8 deg, {panels} panels"
        add(label, "CL over that of 240", 0.998, 1.002, found[panels].cl / found[240].cl, panels, begin)
        add(label, "CD over that of 240", 0.99, 1.01, found[panels].cd / found[240].cd, panels, begin)
    for reynolds in (1e5, 2e5):
        begin = time.perf_counter()
        polar = zy.panel_polar(zy.Airfoil.naca("4412"), [4.0, 5.0, 6.0], reynolds)
        bubble = polar.flows[0].bubbles[0] if polar.flows else None
        label = f"NACA 4412, 4 deg, Re {reynolds:.0e}"
        add(label, "length of the bubble [chords]", 0.05, 0.4, np.diff(bubble)[0] if bubble else 0.0, 3, begin)
        attached = zy.panel_polar(zy.Airfoil.naca("4412"), [4.0], 6e6).flows[0].cd * (6e6 / reynolds) ** 0.2
        add(label, "drag over the attached level", 1.0, 3.0, polar.flows[0].cd / attached, 3, begin)
    return rows


FAMILY = {
    4: "0006 0009 0012 0015 0018 0021 0024 1408 1412 2408 2412 2415 2418 2421 4409 4412 4415 4418 4421 6409 6412 6415",
    5: "23009 23012 23015 23018 23021 24012 23112 25012",
}  # by number of digits


def _sections():
    """30 NACA sections, and ten random ones of class and shape functions, sharp and blunt."""
    found, random = (
        {f"NACA {digits}": zy.Airfoil.naca(digits) for row in FAMILY.values() for digits in row.split()},
        np.random.default_rng(5),
    )
    for k in range(10):
        t = random.uniform(0.12, 0.22)
        upper = t + random.uniform(-0.03, 0.06, 4)
        lower = -t * random.uniform(0.4, 1.0) + random.uniform(-0.03, 0.04, 4)
        gap = random.choice([0.0, 0.002, 0.004])
        found[f"random {k}"] = zy.Airfoil.from_class_shape(list(upper), list(lower), gap=gap)
    return found


def section_families():
    """Share of the angles of 40 sections that converge up to the largest lift, and the time of a polar."""
    rows, alphas, sections = [], np.arange(-5.0, 19.0), _sections()
    for reynolds in (1e5, 1e6, 1e7):
        begin, done, asked = time.perf_counter(), 0, 0
        table = zy.polar_family(sections, alphas, [reynolds], processes=2)
        for _, polar in table.groupby("section"):
            upto = polar[polar.alpha <= polar.alpha[polar.CL.idxmax()]]
            done, asked = done + int(upto.converged.sum()), asked + len(upto)
        seconds = time.perf_counter() - begin
        label = f"40 sections, Re {reynolds:.0e}"
        rows.append((label, "converged up to largest lift", 0.99, 1.0, done / asked, asked, seconds))
    zy.panel_polar(zy.Airfoil.naca("4412"), [0.0], 3e6)
    begin = time.perf_counter()
    polar = zy.panel_polar(zy.Airfoil.naca("4412"), np.arange(-5.0, 20.0), 3e6)
    seconds = time.perf_counter() - begin
    rows.append(("NACA 4412, 25 angles", "time [s]", 0.0, 1.5, seconds, len(polar.flows), seconds))
    return rows
