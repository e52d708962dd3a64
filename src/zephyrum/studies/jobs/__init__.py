"""The jobs that a study file can ask for: every module of this package with a `JOB`."""

import importlib
import pkgutil

from zephyrum.studies.jobs.base import Figure, Job, Table


def _found() -> dict[str, Job]:
    jobs = []
    for module in pkgutil.iter_modules(__path__):
        if module.name != "base":
            jobs.append(importlib.import_module(f"{__name__}.{module.name}").JOB)
    return {job.name: job for job in sorted(jobs, key=lambda job: job.order)}


JOBS = _found()

__all__ = ["JOBS", "Figure", "Job", "Table"]
