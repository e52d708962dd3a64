"""Shapes: sections, wings, bodies and whole aircraft, described or imported; measured, repaired, written."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
