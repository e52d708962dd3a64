"""README.txt of the folder of a study: what was flown, and what each of its files holds."""

from zephyrum.one_stroke import write_text
from zephyrum.studies.outcome import Finished

# by the order in which they are told; only those in the folder are
FILES = {
    "study.toml": "what was asked; run it again to get the same numbers",
    "section.dat": "coordinates of the section [m], upper tail over nose to lower tail",
    "mesh.cgns": "the mesh (mesh-1.cgns ...: of the mesh study, -start-1: that solutions start on); its .json tells how it was made",
    "mesh.txt": "recipe and quality of the mesh",
    "polar.csv": "one row a point: condition, coefficients, verdict, mesh error, mesh, time",
    "polar.json": "reference quantities, air, settings, meaning of the columns",
    "forces.csv": "coefficients and newtons by part and cause, at every point",
    "loading.csv": "lift over the span and its induced drag, at every point",
    "derived.csv": "lift slope, neutral point, static margin",
    "checks.txt": "what looks wrong, and where",
    "points": "last state and row of every point; a rerun takes them from here",
    "refinement.csv": "the same case on coarser meshes",
    "refinement.json": "observed orders, extrapolated values, error bars",
    "time.csv": "coefficients over time of the march in time",
    "time.npz": "its last states, to go on from",
    "trim.csv": "what was flown on the way to the trim; trim.json: the trim",
    "derivatives.csv": "derivatives by alpha and beta",
}
DRAWN = {
    "figures": "all pictures, once they are drawn",
    "report.html": "all of it on one page, once it is written (zephyrum report)",
}


def write_contents(outcome: Finished, shape: str | None = None) -> None:
    """Write it; shape: name of the file of the aircraft."""
    told = {name: words for name, words in FILES.items() if (outcome.folder / name).exists()} | DRAWN
    if shape is not None:
        told = {"study.toml": told.pop("study.toml"), shape: "the shape", **told}
    names = {name: name + "/" if "." not in name else name for name in told}
    width = max(map(len, names.values())) + 2
    proof = outcome.refinement
    error = "unknown; add a [refine] table to the study" if proof is None else proof.verdict
    title = outcome.study.title
    lines = [title, "=" * len(title), "", *(f"{names[name]:<{width}}{words}" for name, words in told.items())]
    lines += ["", f"mesh: {outcome.mesh.n_cells} cells, fingerprint {outcome.mesh.fingerprint}", f"mesh error: {error}"]
    write_text(outcome.folder / "README.txt", "\n".join(lines) + "\n")
