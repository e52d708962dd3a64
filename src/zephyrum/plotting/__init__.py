"""Figures. Every function draws on Matplotlib axes that it is given (or makes) and returns them."""

from zephyrum.plotting.aircraft_views import draw_area_distribution, draw_sketch, draw_span, draw_three_view
from zephyrum.plotting.animation import animate_streamlines, animate_turn, draw_streamlines_3d, draw_vortex_cores
from zephyrum.plotting.charts import (
    draw_cp,
    draw_friction,
    draw_history,
    draw_layer,
    draw_polar,
    draw_refinement,
    draw_time,
)
from zephyrum.plotting.fields_2d import draw_field, draw_mesh
from zephyrum.plotting.fields_3d import draw_loading, draw_on_surface, draw_slice, draw_volume
from zephyrum.plotting.section_drawing import draw_section
from zephyrum.plotting.study_figures import draw_study_figures
from zephyrum.plotting.surface_pictures import draw_surface

__all__ = [
    "animate_streamlines",
    "animate_turn",
    "draw_area_distribution",
    "draw_cp",
    "draw_field",
    "draw_friction",
    "draw_history",
    "draw_layer",
    "draw_loading",
    "draw_mesh",
    "draw_on_surface",
    "draw_polar",
    "draw_refinement",
    "draw_section",
    "draw_sketch",
    "draw_slice",
    "draw_span",
    "draw_streamlines_3d",
    "draw_study_figures",
    "draw_surface",
    "draw_three_view",
    "draw_time",
    "draw_volume",
    "draw_vortex_cores",
]
