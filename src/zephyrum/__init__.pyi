"""Public names of the package; `__init__.py` imports each when it is first used."""

from ._core.units import quantity as quantity
from .conditions import (
    Freestream as Freestream,
    Gas as Gas,
    Reference as Reference,
    standard_atmosphere as standard_atmosphere,
)
from .errors import (
    FileError as FileError,
    FlowError as FlowError,
    InputError as InputError,
    MeshError as MeshError,
    ZephyrumError as ZephyrumError,
)
from .flow import (
    CFLControl as CFLControl,
    FirstOrderFallback as FirstOrderFallback,
    InnerIteration as InnerIteration,
    Limiter as Limiter,
    LinearSolver as LinearSolver,
    LineSearch as LineSearch,
    Numerics as Numerics,
    Reconstruction as Reconstruction,
    StartUp as StartUp,
)
from .geometry import (
    Aircraft as Aircraft,
    Airfoil as Airfoil,
    Body as Body,
    Control as Control,
    Duct as Duct,
    Mass as Mass,
    Outline as Outline,
    Panel as Panel,
    Planform as Planform,
    Plate as Plate,
    PointMass as PointMass,
    Ring as Ring,
    SizeZone as SizeZone,
    Station as Station,
    Strut as Strut,
    Surface as Surface,
    TypedReference as TypedReference,
    Wing as Wing,
    import_surface as import_surface,
    joined as joined,
    measure_surface as measure_surface,
    remesh as remesh,
    repair_surface as repair_surface,
)
from .mesh import (
    BodyMeshOptions as BodyMeshOptions,
    Layers as Layers,
    Mesh as Mesh,
    MeshOptions as MeshOptions,
    MeshPlan as MeshPlan,
    Zone as Zone,
    mesh_aircraft as mesh_aircraft,
    mesh_airfoil as mesh_airfoil,
    mesh_bodies as mesh_bodies,
    mesh_outline as mesh_outline,
    mesh_plate as mesh_plate,
    mesh_revolved as mesh_revolved,
    mesh_sector as mesh_sector,
    mesh_surface as mesh_surface,
    plan_mesh as plan_mesh,
    quality as quality,
    read_mesh as read_mesh,
    wall_layers as wall_layers,
    write_mesh as write_mesh,
)
from .results import (
    Polar as Polar,
    Solution as Solution,
    TimeSeries as TimeSeries,
    load_solution as load_solution,
    solve as solve,
    solve_case as solve_case,
    solve_unsteady as solve_unsteady,
)
from .solver import Case as Case, Wall as Wall
from .studies import (
    Comparison as Comparison,
    Observer as Observer,
    Refinement as Refinement,
    StoredResults as StoredResults,
    Study as Study,
    Task as Task,
    Trim as Trim,
    changed_aircraft as changed_aircraft,
    compare as compare,
    derivatives as derivatives,
    open_results as open_results,
    open_study as open_study,
    read_study as read_study,
    refine as refine,
    run_study as run_study,
    sweep as sweep,
    trim as trim,
)

__version__: str
