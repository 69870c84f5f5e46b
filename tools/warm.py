"""Compile what is compiled on first use, on models as small as will reach it:  tools/warm.py

Run once after the environment is made or a kernel has changed, so that no first user and no test waits for it.
What all use is compiled first; then each has a process of its own.
"""

from multiprocessing import get_context
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

import lithon
from lithon.brep.faceted import Triangles, bodies_of
from lithon.brep.needles import without_needles
from lithon.brep.topology import Model
from lithon.exchange.deliver import write_triangles
from lithon.geometry.crossing import crossings
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.geometry.tori import Torus
from lithon.mesh.make import mesh_of
from lithon.mesh.remake import graded
from lithon.mesh.second_order import quadratic
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.surface import surface_mesh
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples import collar_anchor, gudgeon_scan, pintle_shoe
from lithon.samples.build import Piece, prism
from lithon.samples.spoiled_anchor import spoiled_anchor
from lithon.survey.findings import findings


def solids() -> None:
    quadratic(mesh_of(collar_anchor(), SizeRules(8.0), "tet"))


def draped() -> None:
    """What is made anew in space, tips drawn together too; and where a torus and a plane across it meet, which no other
    part comes by."""
    at = Frame.of((0.0, 0.0, 0.0), (0.0, 0.0, 1.0))
    torus, plane = Torus(at, 6.0, 2.0), Plane.of((0.0, 0.0, 0.5), (0.4, 0.0, 1.0))
    turn = np.linspace(0.0, 2.0 * np.pi, 60)
    crossings(torus, plane, plane.project(np.column_stack([6.0 * np.cos(turn), 6.0 * np.sin(turn), 0.0 * turn])))
    wedge = prism([Piece((0.0, 0.0)), Piece((10.0, 0.0)), Piece((10.0, 0.6))], 3.0)
    for bodies, rules in (
        (spoiled_anchor().bodies, SizeRules(25.0, ignore=4.0)),
        ((wedge,), SizeRules(1.5, ignore=0.15)),
    ):
        graded(surface_mesh(bodies, size_field(bodies, rules)), ())


def triangles() -> None:
    with TemporaryDirectory() as folder:
        path = Path(folder) / "scan.stl"
        write_triangles(gudgeon_scan(), path)
        work = lithon.open(path)
        work.take(lithon.do.clean_triangles())
        work.take(lithon.do.solid())
        bar = lithon.Ledger.empty()
        bar.take(lithon.do.block(4, 2, 2, (0, 0, 0), called="bar"))
        bar.take(lithon.do.round("edges along z where x >= 3", 0.5))
        write_triangles(bar.model, path)  # exact ones go another way than those of a scan
        lithon.open(path).take(lithon.do.solid())
    mesh_of(bar.model, SizeRules(1.0), "hex")


def smooth() -> None:
    """Triangles that lie on nothing simple become splines, and needles of others are taken out."""
    ball = lithon.Ledger.empty()
    ball.take(lithon.do.sphere(10.0, (0, 0, 0)))
    mesh = surface_mesh(ball.model.bodies, size_field(ball.model.bodies, SizeRules(1.1)))
    points, corners = mesh.points(), mesh.triangles()[0]
    without_needles(points, corners, 0.1)
    egg = Triangles(points * (1.0, 1.3, 0.8) * (1.0 + 0.02 * points[:, 2:]), corners, "egg")
    run(State(Model.of(bodies_of([egg])[0])), lithon.do.solid(kind="smooth"))


def main() -> int:
    findings(collar_anchor(), 8.0)
    findings(pintle_shoe(), 4.0)
    others = [get_context("fork").Process(target=part) for part in (triangles, draped, smooth)]
    for process in others:
        process.start()
    solids()
    for process in others:
        process.join()
    return int(any(process.exitcode for process in others))


if __name__ == "__main__":
    raise SystemExit(main())
