"""Public names of the package; `__init__.py` imports each when it is first used."""

from .aircraft_views import (
    draw_area_distribution as draw_area_distribution,
    draw_sketch as draw_sketch,
    draw_span as draw_span,
    draw_three_view as draw_three_view,
)
from .animation import (
    animate_streamlines as animate_streamlines,
    animate_turn as animate_turn,
    draw_streamlines_3d as draw_streamlines_3d,
    draw_vortex_cores as draw_vortex_cores,
)
from .charts import (
    draw_cp as draw_cp,
    draw_friction as draw_friction,
    draw_history as draw_history,
    draw_layer as draw_layer,
    draw_polar as draw_polar,
    draw_refinement as draw_refinement,
    draw_time as draw_time,
)
from .fields_2d import draw_field as draw_field, draw_mesh as draw_mesh, draw_mode as draw_mode
from .fields_3d import (
    draw_loading as draw_loading,
    draw_on_surface as draw_on_surface,
    draw_slice as draw_slice,
    draw_volume as draw_volume,
)
from .methods import draw_method_pressures as draw_method_pressures, draw_methods as draw_methods
from .quick_methods import (
    draw_buildup as draw_buildup,
    draw_elements_polar as draw_elements_polar,
    draw_lattice as draw_lattice,
    draw_panel_polar as draw_panel_polar,
    draw_panel_polars as draw_panel_polars,
)
from .section_drawing import draw_section as draw_section
from .section_editor import SectionEditor as SectionEditor, edit_section as edit_section
from .study_figures import draw_study_figures as draw_study_figures
from .surface_pictures import draw_surface as draw_surface
