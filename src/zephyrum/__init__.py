"""Zephyrum: aerodynamics of airfoils, wings and aircraft, with the evidence that the numbers can be trusted.

Everything a script needs is here; see README.md for a ten-line example.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)

__version__ = "0.2.0"
