"""The error of a vortex lattice from its values on three numbers of panels.

Verified by tests/test_lattice.py.
"""

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from zephyrum.conditions import Freestream
from zephyrum.geometry import Aircraft
from zephyrum.loworder import LatticeOptions, LatticeSolution, lattice_model
from zephyrum.studies.mesh_error import Estimate, estimate

if TYPE_CHECKING:
    import pandas as pd

QUANTITIES = ("CL", "CDi", "CDi_surface", "CM")
RATIO = 1.5  # between the numbers of rows and of strips of two lattices


@dataclass(frozen=True)
class PanelStudy:
    """Coefficients on three lattices and their error bars.

    Attributes
    ----------
    table : pandas.DataFrame
        One row a lattice, the finest first.
    estimates : dict[str, Estimate]
        Error of CL, CDi, CDi_surface and CM on the finest lattice.
    finest : LatticeSolution
        Flow on the finest lattice.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
    >>> craft = zy.Aircraft(name="plank", parts={"wing": wing})
    >>> study = refine_lattice(craft, zy.Freestream(mach=0.1, alpha=4.0))
    >>> len(study.table), study.estimates["CL"].error < 0.002
    (3, True)
    """

    table: "pd.DataFrame"
    estimates: dict[str, Estimate]
    finest: LatticeSolution

    def __str__(self) -> str:
        return "; ".join(f"{e.name} {e.finest:.5g} +- {e.error:.2g} ({e.words})" for e in self.estimates.values())


def refine_lattice(aircraft: Aircraft, air: Freestream, options: LatticeOptions | None = None) -> PanelStudy:
    """Solve a lattice on three numbers of panels: as asked for, and 1.5 and 2.25 times fewer rows and strips.

    Parameters
    ----------
    aircraft : Aircraft
        The aircraft.
    air : Freestream
        Stream.
    options : LatticeOptions, optional
        The finest lattice.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
    >>> craft = zy.Aircraft(name="plank", parts={"wing": wing})
    >>> list(refine_lattice(craft, zy.Freestream(mach=0.1, alpha=4.0)).table["rows"])
    [12, 8, 5]
    """
    import pandas as pd

    options = options or LatticeOptions()
    rows, solutions = [], []
    for level in range(3):
        scale = RATIO**-level
        own = replace(options, rows=max(4, round(options.rows * scale)), strips=max(4, round(options.strips * scale)))
        found = lattice_model(aircraft, own).solve(air)
        coefficients = found.coefficients
        panels = found.model.lattice.n_panels
        rows.append(
            {"rows": own.rows, "strips": own.strips, "panels": panels} | {k: coefficients[k] for k in QUANTITIES}
        )
        solutions.append(found)
    table = pd.DataFrame(rows)
    sizes = list(table["panels"] ** -0.5)
    estimates = {name: estimate(name, list(table[name]), sizes) for name in QUANTITIES}
    return PanelStudy(table, estimates, solutions[0])
