"""The command `run`: a study with progress, its tables, figures and exit code."""

import time
from pathlib import Path

import click

from zephyrum.cli.output import Progress, print_outcome
from zephyrum.errors import InputError
from zephyrum.plotting import draw_study_figures
from zephyrum.report import write_report
from zephyrum.studies import read_study, run_study
from zephyrum.studies.study import Study


def run_command(path: Path, folder: Path, figures: bool, helped: bool = True) -> int:
    """Run a study with progress, print its tables and draw its figures.

    Parameters
    ----------
    path : path
        Study file.
    folder : path
        Results folder.
    figures : bool
        Whether to draw the figures.
    helped : bool, optional
        Whether a second process helps to compile kernels that are not on disk.

    Returns
    -------
    int
        Exit code, see `exit_code`.
    """
    begin = time.perf_counter()
    spec = read_study(path)
    source = spec.source()
    click.echo(f"{spec.freestream(spec.machs()[0], 0.0, source.chord)}\n")
    if spec.kind == "section" and spec.field_model and (layers := source.layers()) is not None:
        click.echo(f"wall layers: {layers.describe()}\n")
    total = sum(job.count(own) for job, own in spec.asked())
    target, model = spec.numerics(source.residual_drop).residual_drop, next(iter(spec.field_models), None)
    kinds = (("polar",) if "panel" in spec.quick_models else ()) + ((spec.kind,) if model else ())
    with Progress(total, spec.title, target, kinds, model if helped else None) as progress:
        study = run_study(path, folder, progress)
    print_outcome(study)
    if figures:
        for line in figures_and_report(study):
            click.echo(line)
    click.echo(f"results in {folder} (see its README.txt), {time.perf_counter() - begin:.0f} s")
    return exit_code(study)


def figures_and_report(study: Study) -> list[str]:
    """Draw the figures of a finished study and write its report.

    Parameters
    ----------
    study : Study
        The study.

    Returns
    -------
    list of str
        What was written.
    """
    folder = study.folder / "figures"
    lines = [f"{len(draw_study_figures(study, folder))} figures in {folder}"]
    try:
        lines.append(f"report: {write_report(study)}")
    except InputError as cause:  # the extra is missing: tables and pictures are there all the same
        lines.append(f"no report: {cause}")
    return lines


def exit_code(study: Study) -> int:
    """Exit code of a study.

    Parameters
    ----------
    study : Study
        The study.

    Returns
    -------
    int
        0 if everything converged, 4 if something is implausible, 1 if something did not converge or is missing.
    """
    if study.implausible:
        return 4
    return 0 if study.converged and not study.missing() else 1
