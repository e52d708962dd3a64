"""A section with a slotted flap: panels with boundary layers on both elements against turbulent flow on a mesh."""

import time

import zephyrum as zy


def slotted_section() -> dict[str, zy.Airfoil]:
    """NACA 2412 with a flap NACA 0012 of 30 % chord, turned down by 15 deg behind a slot."""
    flap = zy.Airfoil.naca("0012").scaled(0.3).rotated(15.0).moved(1.01, -0.04)
    return {"wing": zy.Airfoil.naca("2412"), "flap": flap}


def section_elements():
    """CL, CM and CD of a slotted section, turbulent from 3 % of both sides on, over those of a field solution."""
    elements, options = slotted_section(), zy.LayerOptions(trip_upper=0.03, trip_lower=0.03)
    begin = time.perf_counter()
    polar = zy.panel_polar(elements, [0.0, 4.0, 8.0], 3e6, 0.15, options)
    quick = time.perf_counter() - begin
    mesh = zy.mesh_bodies(elements, "medium", y_plus=1.0, reynolds=3e6)
    rows = [("section with a slotted flap, 3 angles", "time [s]", 0.0, 10.0, quick, 0, quick)]
    for flow in polar.flows:
        begin = time.perf_counter()
        field = zy.solve(mesh, zy.Freestream(mach=0.15, alpha=flow.alpha, reynolds=3e6), "sa")
        seconds, found = time.perf_counter() - begin, field.forces.coefficients()
        for name, own, margin in (("CL", flow.cl, 0.03), ("CM", flow.cm, 0.03), ("CD", flow.cd, 0.12)):
            label = f"section with a slotted flap, alpha {flow.alpha:g}, panels over turbulent flow"
            rows.append((label, name, 1.0 - margin, 1.0 + margin, own / found[name], mesh.n_cells, seconds))
    return rows
