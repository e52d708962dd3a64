"""Public names of the package; `__init__.py` imports each when it is first used."""

from .aircraft.assembly import Aircraft as Aircraft, PointMass as PointMass, TypedReference as TypedReference
from .aircraft.body import Body as Body, Duct as Duct, Ring as Ring
from .aircraft.part import Mass as Mass
from .aircraft.propeller import Blades as Blades, PropellerDisk as PropellerDisk
from .aircraft.stations import Panel as Panel, Planform as Planform, Station as Station
from .aircraft.strut import Plate as Plate, Strut as Strut
from .aircraft.wing import Control as Control, Wing as Wing
from .airfoil.control_points import SplineAirfoil as SplineAirfoil, shape_warnings as shape_warnings
from .airfoil.outline import Outline as Outline
from .airfoil.section import Airfoil as Airfoil
from .airfoil.space_curve import space_curve as space_curve, write_space_curve as write_space_curve
from .surface.defects import NotRepairable as NotRepairable
from .surface.metric_field import SizeZone as SizeZone
from .surface.remeshing import (
    RemeshedSurface as RemeshedSurface,
    RemeshOptions as RemeshOptions,
    remesh as remesh,
)
from .surface.surface_import import ImportedSurface as ImportedSurface, import_surface as import_surface
from .surface.surface_measures import SurfaceMeasures as SurfaceMeasures, measure_surface as measure_surface
from .surface.surface_repair import RepairedSurface as RepairedSurface, repair_surface as repair_surface
from .surface.triangulation import Surface as Surface, joined as joined
