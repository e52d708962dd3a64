"""Figures. Every function draws on Matplotlib axes that it is given (or makes) and returns them."""

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
from zephyrum.looks.section import draw_section

__all__ = [
    "draw_album",
    "draw_cp",
    "draw_field",
    "draw_friction",
    "draw_history",
    "draw_layer",
    "draw_mesh",
    "draw_polar",
    "draw_refinement",
    "draw_section",
    "draw_time",
]
