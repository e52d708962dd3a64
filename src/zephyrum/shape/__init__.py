"""Shapes: sections, wings, bodies and whole aircraft, described or imported; measured, mended, written."""

from zephyrum.shape.adopt import Adopted, adopt
from zephyrum.shape.aircraft import Aircraft, PointMass, TypedReference
from zephyrum.shape.airfoil import Airfoil
from zephyrum.shape.body import Body, Duct, Ring
from zephyrum.shape.defects import NotMended
from zephyrum.shape.described import Mass
from zephyrum.shape.mend import Mended, mend
from zephyrum.shape.metric import SizeZone
from zephyrum.shape.outline import Outline
from zephyrum.shape.remesh import Remeshed, remesh
from zephyrum.shape.sizes import Sizes, measure_surface
from zephyrum.shape.stations import Panel, Planform, Station
from zephyrum.shape.strut import Plate, Strut
from zephyrum.shape.surface import Surface, joined
from zephyrum.shape.wing import Control, Wing

__all__ = [
    "Adopted", "Aircraft", "Airfoil", "Body", "Control", "Duct", "Mass", "Mended", "NotMended", "Outline", "Panel", "Planform", "Plate", "PointMass",
    "Remeshed", "Ring", "SizeZone", "Sizes", "Station", "Strut", "Surface", "TypedReference", "Wing", "adopt", "joined", "measure_surface", "mend", "remesh",
]  # fmt: skip
