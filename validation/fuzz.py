"""Mutated files of every kind that is read: each must be taken, or refused by one sentence, within bounded time and
memory.

`make fuzz` mutates every format at least 1,000 times and writes docs/fuzz.md (about an hour); `python -m
validation.fuzz 50 stl obj=200` a part. Every mutation is read in a forked process with limits of time and memory.
Readers of other libraries (PLY, surface VTU, STEP) are called in that process as they are in the child process that
protects users (`zephyrum._core.child_process`): what ends them there is refused here.
"""

import json
import os
import random
import resource
import select
import shutil
import signal
import sys
import tempfile
import time
import warnings
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

import zephyrum as zy
from zephyrum.geometry.surface.step_files import load_step
from zephyrum.geometry.surface.surface_reader import load_ply, load_vtu, read_triangles
from zephyrum.mesh.mesh_store import read_stored_mesh
from zephyrum.solver.checkpoint import Checkpoint
from zephyrum.studies.spec import template
from zephyrum.studies.study import Study, open_study
from zephyrum.studies.workspace import Workspace

TOP = Path(__file__).parents[1]
SECONDS = 20.0  # of processor time that a reading may take
PATIENCE = 120.0  # s by the clock, of a busy machine too
MEMORY = 3_000_000_000  # bytes of address space beyond that of the process
ODD = (
    b"nan",
    b"-1",
    b"0",
    b"1e999",
    b"-1e308",
    b"99999999999999999999",
    b"2147483648",
    b"",
    b"x",
    b"\xff\xfe",
    b"1,5",
    b"[]",
    b'""',
    b"=",
    b"true",
)
HEAD = """# Mutated files

Made by `make fuzz` with seed 1: files of every kind that Zephyrum reads, mutated (bytes flipped, cut out, put in,
doubled; numbers replaced by impossible ones; lines exchanged; files cut short). Every one must be taken, or refused by
one sentence. "Ends" counts files that end or fill the reader of another library, which runs in a child process: the
user sees one sentence. Traceback, crash and hang must be 0.

| format | mutations | taken | refused | ends its child | traceback | crash | hang | longest [s of processor time] |
|---|---|---|---|---|---|---|---|---|
"""


@dataclass(frozen=True)
class Format:
    """make(folder) writes good files and gives those to be mutated; read(path) reads one; foreign: by another library,
    in a child process.
    """

    make: Callable[[Path], list[Path]]
    read: Callable[[Path], object]
    foreign: bool = False


def mutated(data: bytes, rng: random.Random) -> bytes:
    """`data` with one to four changes."""
    for _ in range(rng.choice((1, 1, 2, 4))):
        n = max(len(data), 1)
        at, size = rng.randrange(n), rng.choice((1, 2, 8, 64, 512))
        kind = rng.randrange(8)
        if kind == 0:
            data = data[:at] + bytes([rng.randrange(256)]) + data[at + 1 :]
        elif kind == 1:
            data = data[:at] + data[at + size :]
        elif kind == 2:
            data = data[:at] + rng.randbytes(size) + data[at:]
        elif kind == 3:
            data = data[:at] + data[at : at + size] * rng.choice((2, 5)) + data[at + size :]
        elif kind == 4:
            data = data[:at]
        elif kind == 5:
            data = data[:at] + bytes([data[at] ^ (1 << rng.randrange(8))]) + data[at + 1 :] if data else data
        elif kind == 6:
            data = _other_word(data, rng)
        else:
            lines = data.split(b"\n")
            i, j = rng.randrange(len(lines)), rng.randrange(len(lines))
            lines[i], lines[j] = lines[j], lines[i]
            data = b"\n".join(lines)
    return data


def _other_word(data: bytes, rng: random.Random) -> bytes:
    """One word or number replaced by an odd one; in binary data eight bytes."""
    at = rng.randrange(max(len(data), 1))
    blank = b" \n\t,=[]\"'<>"
    low = at
    while low > 0 and at - low < 24 and data[low - 1] not in blank:
        low -= 1
    high = at
    while high < len(data) and high - at < 24 and data[high] not in blank:
        high += 1
    return data[:low] + rng.choice(ODD) + data[high:]


# -- what is read ------------------------------------------------------------------------------------------------------
def _skerry() -> str:
    return (resources.files("zephyrum") / "data" / "skerry-mailplane.toml").read_text(encoding="utf-8")


def _ball() -> zy.Surface:
    return zy.Body.ellipsoid(1.0, 0.5).surface(tolerance=0.05)


def _surface(ending: str) -> Callable[[Path], list[Path]]:
    return lambda folder: [_ball().write(folder / f"ball.{ending}")]


def _ascii_stl(folder: Path) -> list[Path]:
    ball, lines = _ball(), ["solid ball"]
    for corners in ball.points[ball.triangles]:
        lines += [
            "facet normal 0 0 1",
            "outer loop",
            *(f"vertex {x:.6g} {y:.6g} {z:.6g}" for x, y, z in corners),
            "endloop",
            "endfacet",
        ]
    path = folder / "ball.stl"
    path.write_text("\n".join([*lines, "endsolid ball"]) + "\n")
    return [path]


def _text(name: str, text: str) -> Callable[[Path], list[Path]]:
    def make(folder: Path) -> list[Path]:
        (folder / "skerry.toml").write_text(_skerry())
        (folder / name).write_text(text)
        return [folder / name]

    return make


def _mesh() -> zy.Mesh:
    return zy.mesh_airfoil(zy.Airfoil.naca("0012"), 24, 8, topology="O", farfield=8.0)


def _solved() -> zy.Solution:
    return zy.solve(_mesh(), zy.Freestream(mach=0.3, alpha=2.0), numerics=zy.Numerics(max_iterations=1))


def _checkpoint(folder: Path) -> list[Path]:
    solution = _solved()
    made = Checkpoint.of(folder / "c.going", solution.case)
    made(solution.flow.q, solution.flow.first_order_cells, 10.0, solution.history.rows)
    made.flush()
    return [folder / "c.going"]


def _workspace(folder: Path) -> list[Path]:
    text = (
        "[section]\n"
        'naca = "0012"\n'
        "[mesh]\n"
        "around = 96\n"
        "outward = 32\n"
        "[solver]\n"
        "max_iterations = 1\n"
        "[sweep]\n"
        "mach = 0.3\n"
        "alpha = [0, 2]\n"
        "[refine]\n"
        "mach = 0.3\n"
        "alpha = 2\n"
        "[run]\n"
        "processes = 1\n"
    )
    (folder / "s.toml").write_text(text)
    zy.run_study(folder / "s.toml", folder / "out")
    out = folder / "out"
    return [
        *sorted(out.glob("*.json")),
        *sorted((out / "points").iterdir()),
        out / "study.toml",
        out / "mesh.cgns",
        out / "mesh-parents.npz",
    ]


def _checked_study(path: Path) -> None:
    spec = zy.read_study(path)
    Study(spec, spec.source(), Workspace(path.parent / "none")).check()


def _opened(path: Path) -> None:
    folder = path.parent.parent if path.parent.name == "points" else path.parent
    study = open_study(folder)
    study.tables()


def _kept(path: Path) -> None:
    read_stored_mesh(path if path.suffix == ".cgns" else path.with_suffix(".cgns"))


AIRCRAFT_STUDY = """title = "t"
[aircraft]
file = "skerry.toml"
set = { "wing.controls.flap.deflection" = 20 }
[air]
altitude = "5000 ft"
[mesh]
resolution = "coarse"
farfield = 10
[solver]
model = "euler"
residual_drop = 4
[sweep]
mach = 0.2
alpha = { from = 0, to = 6, step = 3 }
[refine]
mach = 0.2
alpha = 3
[trim]
mach = 0.2
control = "tailplane.pitch"
mass = "3900 kg"
[derivatives]
mach = 0.2
alpha = 3
[vary]
number = "wing.controls.flap.deflection"
values = [0, 20]
mach = 0.2
alpha = 4
"""
FORMATS = {
    "coordinates": Format(
        lambda folder: [zy.Airfoil.naca("2412").resampled(61).write(folder / "s.dat")],
        lambda path: zy.Airfoil.read(path).measures,
    ),
    "section study": Format(_text("s.toml", template("section").format(file="s.toml", title="t")), _checked_study),
    "aircraft study": Format(_text("s.toml", AIRCRAFT_STUDY), _checked_study),
    "aircraft": Format(_text("craft.toml", _skerry()), lambda path: zy.Aircraft.read(path).measured_reference),
    "stl text": Format(_ascii_stl, read_triangles),
    "stl": Format(_surface("stl"), read_triangles),
    "obj": Format(_surface("obj"), read_triangles),
    "ply": Format(_surface("ply"), load_ply, True),
    "vtu surface": Format(_surface("vtu"), load_vtu, True),
    "step": Format(
        lambda folder: [zy.Body.ellipsoid(1.0, 0.5).surface(tolerance=0.05).write(folder / "ball.step")],
        load_step,
        True,
    ),
    "vtu mesh": Format(lambda folder: [zy.write_mesh(_mesh(), folder / "m.vtu")], zy.read_mesh),
    "cgns": Format(lambda folder: [zy.write_mesh(_mesh(), folder / "m.cgns")], zy.read_mesh),
    "solution": Format(lambda folder: [_solved().save(folder / "s.npz")], zy.load_solution),
    "checkpoint": Format(_checkpoint, lambda path: Checkpoint(path, "key").read()),
    "workspace": Format(_workspace, _opened),
}


# -- the forked reader -------------------------------------------------------------------------------------------------
def reading(read: Callable, path: Path) -> tuple[str, str, float]:
    """(taken, refused, traceback, crash or hang; what was said; seconds of processor time) of a reading in a forked
    process.
    """
    begin = time.perf_counter()
    mine, his = os.pipe()
    child = os.fork()
    if child == 0:
        _read_and_say(read, path, his)
    os.close(his)
    said = b""
    while time.perf_counter() - begin < PATIENCE:
        ready, _, _ = select.select([mine], [], [], 0.2)
        if ready:
            chunk = os.read(mine, 65536)
            if not chunk:
                break
            said += chunk
    else:
        os.kill(child, signal.SIGKILL)
    os.close(mine)
    _, status, spent = os.wait4(child, 0)
    used = spent.ru_utime + spent.ru_stime
    if os.WIFSIGNALED(status):
        late = os.WTERMSIG(status) == signal.SIGXCPU or time.perf_counter() - begin >= PATIENCE
        return ("hang" if late else "crash"), f"signal {os.WTERMSIG(status)}", used
    try:
        kind, words = json.loads(said)
    except ValueError:
        return "crash", f"exit code {os.WEXITSTATUS(status)}", used
    return kind, words, used


def _read_and_say(read: Callable, path: Path, pipe: int) -> None:
    """In the fork: read, say what came of it, and end at once."""
    null = os.open(os.devnull, os.O_RDWR)
    for stream in (0, 1, 2):
        os.dup2(null, stream)
    warnings.simplefilter("ignore")
    used = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (used + MEMORY, used + MEMORY))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CPU, (int(SECONDS), int(SECONDS) + 5))
    try:
        read(path)
        said = ("taken", "")
    except zy.ZephyrumError as cause:
        words = str(cause)
        said = (
            ("refused", words)
            if 15 < len(words) < 1000 and words[-1] in ".)?"
            else ("traceback", f"no sentence: {words[:200]!r}")
        )
    except BaseException as cause:
        said = ("traceback", f"{type(cause).__name__}: {cause}"[:300])
    os.write(pipe, json.dumps(said).encode()[:60000])
    os._exit(0)


def _made(form: Format, good: Path) -> list[Path]:
    """Files to be mutated, made in a process of its own: one that has used threads can't be forked."""
    child = os.fork()
    if child == 0:
        names = [str(path.relative_to(good)) for path in form.make(good)]
        (good.parent / "names.json").write_text(json.dumps(names))
        os._exit(0)
    os.waitpid(child, 0)
    return [Path(name) for name in json.loads((good.parent / "names.json").read_text())]


def fuzzed(name: str, count: int, seed: int = 1) -> tuple[Counter, float, list[str]]:
    """(outcomes, longest time [s], what went wrong) of so many mutations of a format."""
    form, rng = FORMATS[name], random.Random(f"{seed} {name}")
    found, longest, wrong = Counter(), 0.0, []
    with tempfile.TemporaryDirectory() as scratch:
        good = Path(scratch) / "good"
        good.mkdir()
        targets = _made(form, good)
        for target in targets:
            if (kind := reading(form.read, good / target)[:2])[0] != "taken" and name != "checkpoint":
                raise RuntimeError(f"{name}: the good file {target} is not taken: {kind[1]}")
        for k in range(count):
            target = rng.choice(targets)
            position = good / target
            whole = position.read_bytes()
            position.write_bytes(mutated(whole, rng))
            kind, words, seconds = reading(form.read, position)
            if form.foreign:  # what it raises is a refusal of the child, what ends it too
                kind = {"traceback": "refused", "crash": "ends", "hang": "ends"}.get(kind, kind)
            found[kind] += 1
            longest = max(longest, seconds)
            if kind in ("traceback", "crash", "hang"):
                wrong.append(f"{name} mutation {k} of {target}: {kind}, {words}")
                if (keep := os.environ.get("FUZZ_KEEP")) is not None:
                    Path(keep).mkdir(parents=True, exist_ok=True)
                    shutil.copyfile(position, Path(keep) / f"{name.replace(' ', '-')}-{k}{position.suffix}")
            position.write_bytes(whole)
    return found, longest, wrong


def main(words: list[str]) -> int:
    """Fuzz all formats with so many mutations each, or those named ("stl=40": with another number); 1 if anything went
    wrong.
    """
    count = int(words[0]) if words and words[0].isdigit() else 1000
    asked = dict(word.partition("=")[::2] for word in words[1:])
    lines, bad = [], 0
    for name in FORMATS:
        own = next((many for word, many in asked.items() if word == name), None)
        if asked and own is None:
            continue
        many = int(own or count)
        found, longest, wrong = fuzzed(name, many)
        bad += len(wrong)
        line = (
            f"| {name} | {many} | {found['taken']} | {found['refused']} | {found['ends']} | {found['traceback']} | "
            f"{found['crash']} | {found['hang']} | {longest:.1f} |"
        )
        print(line, flush=True)
        for one in wrong[:12]:
            print(f"  {one}", flush=True)
        lines.append(line)
    if not asked and count >= 1000:
        (TOP / "docs" / "fuzz.md").write_text(HEAD + "\n".join(lines) + "\n", encoding="utf-8")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
