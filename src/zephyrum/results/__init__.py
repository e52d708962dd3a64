"""What a solved flow says: forces, surface pressures, field extremes, polars."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
