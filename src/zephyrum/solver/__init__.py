"""Cases: what a solution depends on, checked before the run; steady and time-accurate runs, and their checkpoints."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
