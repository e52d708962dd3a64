"""The air and how it meets the body: gas, standard atmosphere, freestream, axes, reference quantities."""

from zephyrum.air.atmosphere import standard_atmosphere
from zephyrum.air.axes import wind_axes, wind_vector
from zephyrum.air.freestream import Freestream
from zephyrum.air.gas import Gas
from zephyrum.air.reference import Reference

__all__ = ["Freestream", "Gas", "Reference", "standard_atmosphere", "wind_axes", "wind_vector"]
