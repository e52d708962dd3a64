"""Quick methods on the same description: lifting surfaces, airfoil panels with boundary layer, drag build-up."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
