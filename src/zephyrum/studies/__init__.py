"""Studies: sweeps, mesh refinement, study files, and the folder on disk that survives any kill."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
