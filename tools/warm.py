"""Compile what is compiled on first use, on models as small as will reach it:  tools/warm.py solids | triangles

Run once after the environment is made or a kernel has changed, so that no first user and no test waits for it.
"""

import sys
from pathlib import Path
from tempfile import TemporaryDirectory

import lithon
from lithon.exchange.deliver import write_triangles
from lithon.mesh.make import mesh_of
from lithon.mesh.second_order import quadratic
from lithon.mesh.sizing import SizeRules
from lithon.samples import collar_anchor, gudgeon_scan, pintle_shoe
from lithon.samples.spoiled_anchor import spoiled_anchor
from lithon.survey.findings import findings


def solids() -> None:
    model = collar_anchor()
    findings(model, 8.0)
    quadratic(mesh_of(model, SizeRules(8.0), "tet"))
    mesh_of(spoiled_anchor(), SizeRules(25.0, ignore=4.0), "tet")


def triangles() -> None:
    findings(pintle_shoe(), 4.0)
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


if __name__ == "__main__":
    {"solids": solids, "triangles": triangles}[sys.argv[1]]()
