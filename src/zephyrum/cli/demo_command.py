"""The command `demo`: quick methods, a section through stall and an aircraft, with all figures."""

import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from importlib import resources
from pathlib import Path

import click

from zephyrum._core.atomic_files import write_text
from zephyrum.cli.quick_commands import quick_answers
from zephyrum.errors import FlowError
from zephyrum.studies.compilation import run_tiny_case

POLLING_INTERVAL = 0.2  # s


def demo_command(out: Path, show_table: Callable) -> None:
    """Compute the Skerry mailplane: lattice, drag build-up, section, aircraft; all figures.

    Parameters
    ----------
    out : path
        Folder of the results.
    show_table : callable
        Prints a table: show_table(rows, columns, title).

    Raises
    ------
    FlowError
        The process that computes the aircraft broke off.

    Notes
    -----
    The aircraft is computed by a second process, beside the quick methods and the section. What it prints follows
    when they are done; kernels of its figures are compiled meanwhile.
    """
    aircraft = out / "aircraft"
    for name, target in (
        ("skerry.toml", out / "study.toml"),
        ("skerry-flight.toml", aircraft / "study.toml"),
        ("skerry-mailplane.toml", aircraft / "skerry-mailplane.toml"),
    ):
        if not target.exists():
            write_text(target, (resources.files("zephyrum") / "data" / name).read_text(encoding="utf-8"))
    printed = aircraft / "printed.txt"
    # without buffers, so that its tables and its lines of progress keep their order
    command = [sys.executable, "-u", "-m", "zephyrum.cli.demo_command", str(aircraft)]
    with (
        printed.open("wb") as file,
        subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=file, stderr=file) as second,
    ):
        try:
            quick_answers(out, show_table)
            from zephyrum.cli.run_command import run_command

            # a point that oscillates belongs to the demonstration: exit code 0
            run_command(out / "study.toml", out, True, helped=False)
            click.echo("\nthe aircraft, computed beside them:")
            if second.poll() is None:
                run_tiny_case("aircraft", "euler")
            for piece in _followed(printed, second):
                click.echo(piece, nl=False)
        finally:
            second.terminate()
    if second.returncode not in (0, 1, 4):
        raise FlowError(f"the aircraft of the demonstration broke off with exit code {second.returncode}, see above.")


def _followed(path: Path, process: subprocess.Popen) -> Iterator[bytes]:
    """What a process has written and writes to a file until it ends; a piece may end within a character."""
    with path.open("rb") as file:
        while process.poll() is None:
            yield file.read()
            time.sleep(POLLING_INTERVAL)
        yield file.read()


def run_aircraft(folder: Path) -> int:
    """Compute the aircraft of the demonstration.

    Parameters
    ----------
    folder : path
        Folder of its study file and results.

    Returns
    -------
    int
        Exit code of `run_command`.
    """
    from zephyrum.cli.run_command import run_command

    return run_command(folder / "study.toml", folder, True)


if __name__ == "__main__":
    sys.exit(run_aircraft(Path(sys.argv[1])))
