"""Polars of the quick methods for a study: vortex lattice, drag build-up, airfoil panels with boundary layers.

They take the geometry, the stream and the conditions of the study file, so that they stand beside the field solution
without a second description. Verified by tests/test_methods.py.
"""

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import pandas as pd

from zephyrum._core.typical_alpha import nearest_to_typical
from zephyrum.errors import FlowError, InputError
from zephyrum.geometry import Aircraft, Surface
from zephyrum.loworder import (
    BuildupOptions,
    Component,
    DragBuildup,
    LatticeOptions,
    LayerOptions,
    components_of_surface,
    lattice_model,
    panel_polar,
    zero_lift_drag,
)
from zephyrum.loworder.vortex_lattice.trim import trim_lattice_by_number
from zephyrum.studies.panel_count import refine_lattice

if TYPE_CHECKING:
    from zephyrum.loworder import VortexLattice
    from zephyrum.studies.study import Study

BOTH = "lattice + buildup"


@dataclass(frozen=True, eq=False)
class QuickResult:
    """What the quick methods found for a study.

    Attributes
    ----------
    polars : dict[str, pandas.DataFrame]
        By method: "mach", "alpha", "CL", "CD", "CM", "converged", and what else the method gives.
    drag : pandas.DataFrame
        Zero-lift drag by part at every Mach number; empty without a build-up.
    derivatives : pandas.DataFrame
        Of the lattice, if the study asks for derivatives; else empty.
    trim : dict
        Trim by the lattice, if the study asks for a trim; else empty.
    pressures : pandas.DataFrame
        Cp over x [chords] by panels at the typical angle of every Mach number; else empty.
    lines : list of str
        Sentences: error bars, what was left out and why.
    """

    polars: dict[str, pd.DataFrame]
    drag: pd.DataFrame = field(default_factory=pd.DataFrame)
    derivatives: pd.DataFrame = field(default_factory=pd.DataFrame)
    trim: dict = field(default_factory=dict)
    pressures: pd.DataFrame = field(default_factory=pd.DataFrame)
    lines: list[str] = field(default_factory=list)

    def joined(self) -> pd.DataFrame:
        """All polars in one table, with the method of each row."""
        return pd.concat([table.assign(method=name) for name, table in self.polars.items()], ignore_index=True)

    def record(self) -> dict:
        """As plain values."""
        frames = {name: getattr(self, name).to_dict("records") for name in ("drag", "derivatives", "pressures")}
        polars = {name: table.to_dict("records") for name, table in self.polars.items()}
        return {"polars": polars, "trim": self.trim, "lines": self.lines, **frames}

    @classmethod
    def of_record(cls, made: dict) -> "QuickResult":
        """From what `record` gave.

        Parameters
        ----------
        made : dict
            Plain values.
        """
        frames = {name: pd.DataFrame(made[name]) for name in ("drag", "derivatives", "pressures")}
        polars = {name: pd.DataFrame(rows) for name, rows in made["polars"].items()}
        return cls(polars, trim=made["trim"], lines=made["lines"], **frames)


@dataclass(frozen=True, eq=False)
class QuickMethods:
    """The quick methods of a study, ready to be solved.

    Attributes
    ----------
    study : Study
        The study.
    """

    study: "Study"

    @property
    def methods(self) -> list[str]:
        """Names in the study file."""
        return self.study.spec.quick_models

    @property
    def conditions(self) -> tuple[list[float], list[float]]:
        """Mach numbers and angles of attack [deg] of the study."""
        return sorted(set(self.study.spec.machs())), sorted(set(self.study.spec.alphas()))

    @property
    def typical(self) -> float:
        """Angle of attack that stands for the polar [deg]."""
        return self.conditions[1][nearest_to_typical(self.conditions[1])]

    def lattice_options(self) -> LatticeOptions:
        """Options of the lattice."""
        return self.study.spec.lattice.options()

    def lattice(self) -> "VortexLattice":
        """Lattice of the aircraft."""
        return lattice_model(self.study.source.shape, self.lattice_options())

    def buildup_options(self) -> BuildupOptions:
        """Options of the drag build-up."""
        return self.study.spec.buildup.options()

    def buildup(self, mach: float) -> DragBuildup:
        """Zero-lift drag at a Mach number.

        Parameters
        ----------
        mach : float
            Mach number.
        """
        area, air = self.study.source.reference.area, self.study.freestream(mach)
        return zero_lift_drag(self.components(), air, self.buildup_options(), area)

    def components(self) -> "Aircraft | tuple[Component, ...]":
        """What the drag build-up takes: the described aircraft, or the labels of a surface.

        Raises
        ------
        InputError
            A label of the surface has no kind.
        """
        shape, own = self.study.source.shape, self.study.spec.buildup
        if isinstance(shape, Surface):
            if not own.kinds:
                names = ", ".join(dict.fromkeys(label.split("/")[0] for label in shape.labels))
                raise InputError(
                    f"buildup.kinds: the labels of the surface have no kind; say for each of {names} whether it is a "
                    f'"wing", a "body" or a "nacelle".'
                )
            return components_of_surface(shape, own.kinds, own.thickness)
        if own.kinds or own.thickness:
            raise InputError("buildup.kinds and thickness are for surface files; an aircraft file has them already.")
        return shape

    def layer_options(self) -> LayerOptions:
        """Options of the panels."""
        own = self.study.spec.panel
        return LayerOptions(own.critical, own.turbulence, *own.trip)

    def check(self) -> None:
        """Refuse what cannot be computed, before anything is.

        Raises
        ------
        InputError
            A method is not for this kind of geometry, or its options are wrong.
        """
        kind = self.study.spec.kind
        for name in self.methods:
            if (name == "panel") != (kind == "section"):
                other = "an aircraft" if kind == "aircraft" else "a section"
                offered = '"lattice" and "buildup"' if kind == "aircraft" else '"panel"'
                raise InputError(f'solver.model = "{name}" is not for {other}; its quick methods are {offered}.')
            if name == "lattice" and not isinstance(self.study.source.shape, Aircraft):
                raise InputError(
                    f'solver.model = "{name}" needs the description of an aircraft (.toml), and '
                    f"{self.study.source.files()[0]!r} is a surface; leave {name!r} out."
                )
        if "lattice" in self.methods:
            self.lattice_options()
        if "buildup" in self.methods:
            self.buildup_options()
            self.components()
        if "panel" in self.methods:
            self.layer_options()

    def solve(self) -> QuickResult:
        """Solve all methods at all conditions of the study."""
        made: dict = {"lines": []}
        found = {name: getattr(self, f"_{name}")(made) for name in self.methods}
        if {"lattice", "buildup"} <= set(found):
            lattice, drag = found["lattice"], found["buildup"].set_index("mach")
            zero = lattice["mach"].map(drag["CD"])
            both = lattice.assign(CD_zero_lift=zero, CD=lattice["CD_induced"] + zero)
            found = {BOTH: both.assign(**{"L/D": both["CL"] / both["CD"]})}
        return QuickResult(found, **made)

    def _lattice(self, made: dict) -> pd.DataFrame:
        machs, alphas = self.conditions
        model, rows = self.lattice(), []
        for mach in machs:
            try:
                streams = [self.study.freestream(mach, alpha) for alpha in alphas]
                table = model.conditions(streams)
            except (InputError, FlowError) as cause:  # a Mach number that is too high, wakes that do not rest
                made["lines"].append(f"lattice at Mach {mach:g}: {cause}")
                continue
            table = table.assign(mach=mach, alpha=alphas, CD_induced=table["CDi"], CD=table["CDi"], converged=True)
            rows.append(table[["mach", "alpha", "CL", "CD", "CD_induced", "CM", "converged"]])
        if not rows:
            raise InputError(f"the lattice has no Mach number to solve; {'; '.join(made['lines'])}")
        made["lines"].append(self._lattice_error(float(rows[0]["mach"].iloc[0])))
        made["lines"] += [f"lattice: {note}" for note in model.notes]
        self._lattice_jobs(model, made)
        return pd.concat(rows, ignore_index=True)

    def _lattice_error(self, mach: float) -> str:
        """Error bars of the panels, in words."""
        place = f"error of the panels at M {mach:g}, alpha {self.typical:g} deg"
        air = self.study.freestream(mach, self.typical)
        try:
            study = refine_lattice(self.study.source.shape, air, self.lattice_options())
        except FlowError as cause:
            return f"{place}: not known; {cause}"
        bars = ", ".join(
            f"{name} {study.estimates[key].finest:.5g} +- {study.estimates[key].error:.2g}"
            for name, key in (("CL", "CL"), ("induced CD", "CDi"), ("CM", "CM"))
        )
        return f"{place}: {bars}"

    def _lattice_jobs(self, model: "VortexLattice", made: dict) -> None:
        """Derivatives and trim, if the study asks for them."""
        spec, source = self.study.spec, self.study.source
        if (asked := getattr(spec, "derivatives", None)) is not None:
            try:
                slopes = model.solve(self.study.freestream(asked.mach, asked.alpha)).derivatives
            except FlowError as cause:
                made["lines"].append(f"lattice derivatives: {cause}")
            else:
                rows = [
                    {"with": name, **{key: float(slopes.loc[key, name]) for key in slopes.index}} for name in slopes
                ]
                made["derivatives"] = pd.DataFrame(rows).assign(mach=asked.mach, alpha=asked.alpha)
        if (asked := getattr(spec, "trim", None)) is not None:
            from zephyrum.studies.jobs.trim import wanted_lift

            lift, origin = wanted_lift(self.study, asked)
            air = self.study.freestream(asked.mach, asked.alpha)
            try:
                found = trim_lattice_by_number(
                    source.shape, air, lift, asked.control, asked.setting, self.lattice_options()
                )
                made["trim"] = {
                    "mach": asked.mach,
                    "CL": lift,
                    "origin": origin,
                    "alpha": found.alpha,
                    "control": asked.control,
                    "setting": found.setting,
                    "CD_induced": found.solution.CDi,
                }
            except FlowError as cause:
                made["lines"].append(f"lattice: {cause}")

    def _buildup(self, made: dict) -> pd.DataFrame:
        rows, parts = [], []
        for mach in self.conditions[0]:
            found = self.buildup(mach)
            low, high = found.spread
            rows.append({"mach": mach, "CD": found.CD, "CD_low": low, "CD_high": high, "converged": True})
            parts.append(found.sorted().assign(mach=mach))
        made["drag"] = pd.concat(parts, ignore_index=True)
        low, high = rows[0]["CD_low"], rows[0]["CD_high"]
        made["lines"].append(
            f"zero-lift CD {rows[0]['CD']:.5f} at M {rows[0]['mach']:g}, {low:.5f} to {high:.5f} by other published "
            f"laws, {self.study.freestream(rows[0]['mach']).describe()}"
        )
        return pd.DataFrame(rows)

    def _panel(self, made: dict) -> pd.DataFrame:
        machs, alphas = self.conditions
        rows, pressures, own = [], [], self.study.source
        for mach in machs:
            reynolds = self.study.freestream(mach).reynolds
            try:
                polar = panel_polar(own.shape, alphas, reynolds, mach, self.layer_options())
            except (InputError, FlowError) as cause:
                made["lines"].append(f"panels at Mach {mach:g}: {cause}")
                continue
            rows.append(polar.table)
            near = min(polar.flows, key=lambda flow: abs(flow.alpha - self.typical))
            axis = (near.foil.tail - near.foil.nose) / near.foil.chord**2
            table = near.table
            table = table[table["side"].isin(("upper", "lower"))]
            x = (table[["x_m", "z_m"]].to_numpy() - near.foil.nose) @ axis
            at = {"mach": mach, "alpha": near.alpha}
            pressures.append(pd.DataFrame({"x": x, "Cp": table["Cp"], "side": table["side"]}).assign(**at))
            lost = [f"{alpha:g}" for alpha in polar.table["alpha"][~polar.table["converged"]]]
            if lost:
                made["lines"].append(f"panels did not converge at M {mach:g}, alpha {', '.join(lost)} deg")
        if not rows:
            raise InputError(f"the panels have nothing to solve: {'; '.join(made['lines'])}")
        made["pressures"] = pd.concat(pressures, ignore_index=True)
        table = pd.concat(rows, ignore_index=True)
        return table.assign(**{"L/D": table["CL"] / table["CD"]})
