"""The air and how it meets the body: gas, standard atmosphere, freestream, axes, reference quantities."""

from zephyrum.conditions.atmosphere import standard_atmosphere
from zephyrum.conditions.axes import wind_axes, wind_vector
from zephyrum.conditions.freestream import Freestream
from zephyrum.conditions.gas import Gas
from zephyrum.conditions.reference import Reference

__all__ = ["Freestream", "Gas", "Reference", "standard_atmosphere", "wind_axes", "wind_vector"]
