"""Meshes: the one `Mesh` type, the generators that make it, its quality and its files."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
