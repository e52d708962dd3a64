"""The air and how it meets the body: gas, standard atmosphere, freestream, axes, reference quantities, units."""

from zephyrum.air.atmosphere import standard_atmosphere
from zephyrum.air.axes import wind_axes, wind_vector
from zephyrum.air.freestream import Freestream
from zephyrum.air.gas import Gas
from zephyrum.air.reference import Reference
from zephyrum.air.units import quantity

__all__ = ["Freestream", "Gas", "Reference", "quantity", "standard_atmosphere", "wind_axes", "wind_vector"]
