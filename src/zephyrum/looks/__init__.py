"""Figures. Every function draws on Matplotlib axes that it is given (or makes) and returns them."""

from zephyrum.looks.aircraft import draw_area_distribution, draw_sketch, draw_span, draw_three_view
from zephyrum.looks.album import draw_album
from zephyrum.looks.charts import (
    draw_cp,
    draw_friction,
    draw_history,
    draw_layer,
    draw_polar,
    draw_refinement,
    draw_time,
)
from zephyrum.looks.fields import draw_field, draw_mesh
from zephyrum.looks.moving import draw_cores, draw_paths, film_paths, film_turn
from zephyrum.looks.section import draw_section
from zephyrum.looks.solid import draw_surface
from zephyrum.looks.space import draw_loading, draw_on_surface, draw_slice, draw_volume

__all__ = [
    "draw_album",
    "draw_area_distribution",
    "draw_cores",
    "draw_cp",
    "draw_field",
    "draw_friction",
    "draw_history",
    "draw_layer",
    "draw_loading",
    "draw_mesh",
    "draw_on_surface",
    "draw_paths",
    "draw_polar",
    "draw_refinement",
    "draw_section",
    "draw_sketch",
    "draw_slice",
    "draw_span",
    "draw_surface",
    "draw_three_view",
    "draw_time",
    "draw_volume",
    "film_paths",
    "film_turn",
]
