"""Several field models in `solver.model`: each is a study of its own, in a folder of its name.

Verified by tests/test_methods.py.
"""

from typing import TYPE_CHECKING

from zephyrum.studies.common_tables import FIELD_MODELS
from zephyrum.studies.jobs.base import Job, Table

if TYPE_CHECKING:
    from zephyrum.studies.observer import Observer
    from zephyrum.studies.spec import StudyBase
    from zephyrum.studies.study import Study


class FieldsJob(Job):
    """One study for each field model."""

    name = "fields"
    order = 10
    tabled = False
    files = {model: f"the study with the model {model}; it can be shown by itself" for model in FIELD_MODELS}

    def asked(self, spec: "StudyBase") -> "StudyBase | None":
        return spec if len(spec.field_models) > 1 else None

    def count(self, spec: "StudyBase"):
        return sum(job.count(own) for model in spec.field_models for job, own in spec.of_model(model).asked())

    def check(self, study: "Study", spec: "StudyBase"):
        for model in spec.field_models:
            study.member(model).check()

    def run(self, study: "Study", spec: "StudyBase", observer: "Observer") -> "dict[str, Study]":
        return {model: study.write_member(model).compute(observer) for model in spec.field_models}

    def load(self, study: "Study", spec: "StudyBase") -> "dict[str, Study] | None":
        found = {}
        for model in spec.field_models:
            member = study.stored_member(model)
            if member is not None and member.load().results:
                found[model] = member
        return found or None

    def tables(self, study: "Study", result: "dict[str, Study]"):
        out: list[Table] = []
        for model, member in result.items():
            for table in member.tables():
                out.append(Table(table.rows, table.columns, f"{model}: {table.title}", table.lines))
        return out

    def outcomes(self, result: "dict[str, Study]"):
        return [outcome for member in result.values() for outcome in member.outcomes()]


JOB = FieldsJob()
