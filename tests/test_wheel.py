"""The wheel, installed without any extra, meshes and solves a section and a small aircraft; a missing extra is
named.
"""

import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

TOP = Path(__file__).parents[1]
EXTRAS = ("trimesh", "networkx", "shapely", "pyvista", "vtkmodules", "OCP", "jinja2", "plotly", "distributed")
JOB = """
import sys

class Absent:
    def find_spec(self, name, path=None, target=None):
        if name.split(".")[0] in EXTRAS:
            raise ModuleNotFoundError(f"No module named {name!r}", name=name)

sys.meta_path.insert(0, Absent())
import zephyrum as zy
assert SITE in zy.__file__, zy.__file__
quick = zy.Numerics(residual_drop=2, max_iterations=8)
mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O")
print("section", zy.solve(mesh, zy.Freestream(mach=0.3, alpha=2.0), numerics=quick).forces.CL > 0.1)
wing = zy.Wing(planform=zy.Planform(span=4.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012", tip="flat")
body = zy.Body(rings=[zy.Ring(x=-0.5, width=0.0), zy.Ring(x=0.3, width=0.3, height=0.3), zy.Ring(x=1.6, width=0.0)])
craft = zy.Aircraft(name="small", parts={"wing": wing, "body": body})
mesh = zy.mesh_aircraft(craft, 5.0, farfield=3.0)
print("aircraft", zy.solve(mesh, zy.Freestream(mach=0.2, alpha=4.0), numerics=quick).forces.CL > 0.05)
skin = craft.surface()
for call in (lambda: skin.write("skin.step"), lambda: skin.write("skin.ply")):
    try:
        call()
    except zy.InputError as refusal:
        print(refusal)
"""


class Wheel(unittest.TestCase):
    def test_it_flies_a_section_and_an_aircraft_without_extras(self):
        with tempfile.TemporaryDirectory() as folder:
            pip = [sys.executable, "-m", "pip", "-q", "--disable-pip-version-check"]
            build = [*pip, "wheel", "--no-deps", "--no-build-isolation", "-w", folder, str(TOP)]
            subprocess.run(build, check=True, capture_output=True)
            wheel = next(Path(folder).glob("zephyrum-*.whl"))
            site = Path(folder) / "site"
            subprocess.run(
                [*pip, "install", "--no-deps", "--no-index", "--target", str(site), str(wheel)],
                check=True,
                capture_output=True,
            )
            # kernels are known by the content of their sources: those of this tree serve the same sources there
            for compiled in (TOP / "src" / "zephyrum").rglob("*.nb[ic]"):
                target = site / compiled.relative_to(TOP / "src")
                target.parent.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(compiled, target)
            job = f"EXTRAS, SITE = {EXTRAS!r}, {str(site)!r}\n{JOB}"
            done = subprocess.run(
                [sys.executable, "-c", job],
                env=os.environ | {"PYTHONPATH": str(site)},
                cwd=folder,
                capture_output=True,
                text=True,
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            for words in ("section True", "aircraft True", "zephyrum[cad]", "zephyrum[surface]"):
                self.assertIn(words, done.stdout)


if __name__ == "__main__":
    unittest.main()
