"""Public names of the package; `__init__.py` imports each when it is first used."""

from .case import Case as Case
from .powered import Exhaust as Exhaust, Intake as Intake
from .steady import Run as Run, numerics_of as numerics_of, run_case as run_case, run_level as run_level
from .unsteady import TimeRun as TimeRun, run_unsteady as run_unsteady
from .walls import Wall as Wall
