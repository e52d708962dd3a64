"""Shapes: sections, wings, bodies and whole aircraft, described or imported; measured, repaired, written."""

from zephyrum.geometry.aircraft.assembly import Aircraft, PointMass, TypedReference
from zephyrum.geometry.aircraft.body import Body, Duct, Ring
from zephyrum.geometry.aircraft.part import Mass
from zephyrum.geometry.aircraft.stations import Panel, Planform, Station
from zephyrum.geometry.aircraft.strut import Plate, Strut
from zephyrum.geometry.aircraft.wing import Control, Wing
from zephyrum.geometry.airfoil.outline import Outline
from zephyrum.geometry.airfoil.section import Airfoil
from zephyrum.geometry.surface.defects import NotRepairable
from zephyrum.geometry.surface.metric_field import SizeZone
from zephyrum.geometry.surface.remeshing import RemeshedSurface, remesh
from zephyrum.geometry.surface.surface_import import ImportedSurface, import_surface
from zephyrum.geometry.surface.surface_measures import SurfaceMeasures, measure_surface
from zephyrum.geometry.surface.surface_repair import RepairedSurface, repair_surface
from zephyrum.geometry.surface.triangulation import Surface, joined

__all__ = [
    "Aircraft",
    "Airfoil",
    "Body",
    "Control",
    "Duct",
    "ImportedSurface",
    "Mass",
    "NotRepairable",
    "Outline",
    "Panel",
    "Planform",
    "Plate",
    "PointMass",
    "RemeshedSurface",
    "RepairedSurface",
    "Ring",
    "SizeZone",
    "Station",
    "Strut",
    "Surface",
    "SurfaceMeasures",
    "TypedReference",
    "Wing",
    "import_surface",
    "joined",
    "measure_surface",
    "remesh",
    "repair_surface",
]
