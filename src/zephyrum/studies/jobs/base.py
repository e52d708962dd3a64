"""What a study job is: one file that says what it asks, checks, computes, reads, shows and draws.

A file in this folder that ends in `JOB = ...` is a job; the command line, the report and the README of the folder go
over all of them.
"""

from abc import ABC, abstractmethod
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

from pydantic import BaseModel

if TYPE_CHECKING:
    from zephyrum.studies.observer import Observer
    from zephyrum.studies.spec import StudyBase
    from zephyrum.studies.study import Study


KINDS = ("section", "aircraft")


@dataclass(frozen=True)
class Table:
    """A table to be shown.

    Attributes
    ----------
    rows : list[dict]
        Rows.
    columns : dict[str, str]
        Format of each column.
    title : str
        Caption.
    lines : tuple[str, ...]
        Sentences below.

    Examples
    --------
    >>> Table(rows=[{"CL": 0.5}], columns={"CL": "{:.3f}"}).rows
    [{'CL': 0.5}]
    """

    rows: list[dict]
    columns: dict[str, str]
    title: str = ""
    lines: tuple[str, ...] = ()


@dataclass(frozen=True)
class Figure:
    """A figure to be drawn.

    Attributes
    ----------
    name : str
        Name of its file.
    kind : str
        Name of the function of the plotting package.
    data : tuple
        Its arguments.
    options : dict
        Its options.
    caption : str
        Caption.
    position : str
        Section of the report: "methods", "quick", "polar", "error", "pressures", "field", "convergence" or "shape".
    """

    name: str
    kind: str
    data: tuple = ()
    options: dict = field(default_factory=dict)
    caption: str = ""
    position: str = "field"


class Job(ABC):
    """One kind of computation that a study file may ask for with a table of its own."""

    name: ClassVar[str]  # of its table
    order: ClassVar[int]  # in which jobs run
    Spec: ClassVar[type[BaseModel]]
    kinds: ClassVar[tuple[str, ...]] = KINDS  # of geometry that it is for
    files: ClassVar[dict[str, str]] = {}  # what it leaves in the folder
    template: ClassVar[dict[str, str]] = {}  # by kind of geometry, for new study files
    tabled: ClassVar[bool] = True  # whether a table of the study file asks for it; else `asked` decides

    def asked(self, spec: "StudyBase") -> Any | None:
        """What a study asks of the job: its table, for jobs of one field model.

        Parameters
        ----------
        spec : StudyBase
            Content of the study file.

        Returns
        -------
        Any
            None if nothing is asked.
        """
        return getattr(spec, self.name, None) if spec.field_model else None

    def machs(self, spec: Any) -> list[float]:
        """Mach numbers that the job asks for.

        Parameters
        ----------
        spec : Any
            Its table in the study file.
        """
        return [spec.mach]

    def alphas(self, spec: Any) -> list[float]:
        """Angles of attack that the job asks for [deg].

        Parameters
        ----------
        spec : Any
            Its table in the study file.
        """
        return [spec.alpha]

    def count(self, spec: Any) -> int:
        """Number of tasks that the job reports.

        Parameters
        ----------
        spec : Any
            Its table in the study file.
        """
        return 1

    def check(self, study: "Study", spec: Any) -> None:  # noqa: B027, most jobs have nothing to add
        """Check everything before anything is computed.

        Parameters
        ----------
        study
            The study.
        spec : Any
            Its table in the study file.

        Raises
        ------
        InputError
            The job cannot be computed.
        """

    @abstractmethod
    def run(self, study: "Study", spec: Any, observer: "Observer") -> Any:
        """Compute the job into the workspace of the study; what is there already is not computed again.

        Parameters
        ----------
        study
            The study.
        spec : Any
            Its table in the study file.
        observer
            Receives steps and finished tasks.
        """

    @abstractmethod
    def load(self, study: "Study", spec: Any) -> Any | None:
        """Read what the workspace holds of the job, without computing or writing.

        Parameters
        ----------
        study
            The study.
        spec : Any
            Its table in the study file.

        Returns
        -------
        Any
            None if it is not there.

        Raises
        ------
        FileError
            It is stale.
        """

    def tables(self, study: "Study", result: Any) -> list[Table]:
        """Tables to be shown, most important first.

        Parameters
        ----------
        study
            The study.
        result : Any
            What `run` returned.
        """
        return []

    def figures(self, study: "Study", result: Any) -> list[Figure]:
        """Figures to be drawn.

        Parameters
        ----------
        study
            The study.
        result : Any
            What `run` returned.
        """
        return []

    def outcomes(self, result: Any) -> list[str]:
        """Outcomes of all that was solved for the job.

        Parameters
        ----------
        result : Any
            What `run` returned.
        """
        return []

    def finish(self, study: "Study") -> None:  # noqa: B027, most jobs have nothing to add
        """Write what needs the results of other jobs too, when all are done.

        Parameters
        ----------
        study : Study
            The study.
        """
