"""The finite-volume flow solver. It sees a mesh and a freestream; `solve_steady` and `integrate_in_time` run it."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
