"""README.txt of the folder of a study: what was computed, and what each of its files holds."""

from typing import TYPE_CHECKING

from zephyrum._core.atomic_files import write_text
from zephyrum.studies.jobs import JOBS

if TYPE_CHECKING:
    from zephyrum.studies.study import Study


# by the order in which they are listed; only those in the folder are
FILES = {
    "study.toml": "what was asked; run it again to get the same numbers",
    "section.dat": "coordinates of the section [m], upper tail over nose to lower tail",
    "mesh.cgns": "the mesh (mesh-1.cgns ...: of the mesh study, -start-1: that solutions start on); its .json gives "
    "how it was made",
}
DRAWN = {
    "figures": "all pictures, once they are drawn",
    "report.html": "all of it on one page, once it is written (zephyrum report)",
}


def write_readme(study: "Study") -> None:
    """Write README.md into the folder of a study.

    Parameters
    ----------
    study : Study
        The study.
    """
    known = FILES | {name: words for job in JOBS.values() for name, words in job.files.items()}
    listed = {name: words for name, words in known.items() if (study.folder / name).exists()} | DRAWN
    own = {name.rsplit("/", 1)[-1]: "the shape" for name in study.source.files()}
    listed = {"study.toml": listed.pop("study.toml", ""), **own, **listed}
    names = {name: name + "/" if "." not in name else name for name in listed}
    width = max(map(len, names.values())) + 2
    proof = study.refinement
    error = "unknown; add a [refine] table to the study" if proof is None else proof.outcome
    title = study.spec.title
    lines = [title, "=" * len(title), "", *(f"{names[name]:<{width}}{words}" for name, words in listed.items())]
    if study.spec.field_model:
        lines += ["", f"mesh: {study.mesh.n_cells} cells, fingerprint {study.mesh.fingerprint}", f"mesh error: {error}"]
    write_text(study.folder / "README.txt", "\n".join(lines) + "\n")
