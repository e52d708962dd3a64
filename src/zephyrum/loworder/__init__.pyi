"""Public names of the package; `__init__.py` imports each when it is first used."""

from .drag_buildup.buildup import (
    BuildupOptions as BuildupOptions,
    DragBuildup as DragBuildup,
    Increment as Increment,
    zero_lift_drag as zero_lift_drag,
)
from .drag_buildup.components import Component as Component, components_of_surface as components_of_surface
from .panel.boundary_layer import LayerSolution as LayerSolution, march_layer as march_layer
from .panel.element_polar import ElementsFlow as ElementsFlow, ElementsPolar as ElementsPolar
from .panel.inviscid import PanelFlow as PanelFlow, PanelSection as PanelSection, panel_section as panel_section
from .panel.layer_options import ElementCoupling as ElementCoupling, LayerOptions as LayerOptions
from .panel.layered_flow import LayeredFlow as LayeredFlow
from .panel.panel_polars import panel_polar as panel_polar, polar_family as polar_family
from .panel.polar import PanelPolar as PanelPolar
from .panel.polar_at_lift import panel_polar_at_lift as panel_polar_at_lift
from .vortex_lattice.lattice import LatticeOptions as LatticeOptions, WakeRelaxation as WakeRelaxation
from .vortex_lattice.model import VortexLattice as VortexLattice, lattice_model as lattice_model
from .vortex_lattice.solution import LatticeSolution as LatticeSolution, Rates as Rates
from .vortex_lattice.trim import (
    LatticeTrim as LatticeTrim,
    trim_lattice as trim_lattice,
    trim_lattice_by_number as trim_lattice_by_number,
)
