"""Where the geometry of a study comes from: a section, or an aircraft (described, or a surface)."""

from zephyrum.studies.sources.aircraft import AircraftSource, AircraftTable
from zephyrum.studies.sources.base import Source
from zephyrum.studies.sources.section import SectionSource, SectionTable

SOURCES = {"section": SectionSource, "aircraft": AircraftSource}

__all__ = ["SOURCES", "AircraftSource", "AircraftTable", "SectionSource", "SectionTable", "Source"]
