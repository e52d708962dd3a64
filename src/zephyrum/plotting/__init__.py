"""Figures. Every function draws on Matplotlib axes that it is given (or makes) and returns them."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
