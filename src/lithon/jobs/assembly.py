"""Jobs on parts among their neighbours: one that failed in service."""

from __future__ import annotations

import meshio
import numpy as np

import lithon.do as do
from lithon.brep.measures import volume
from lithon.brep.topology import Face
from lithon.exchange.vtu import write_vtu
from lithon.jobs.job import Bench, Job
from lithon.mesh.compare import facts
from lithon.operations.marks import held
from lithon.samples.tie_rod import EYE, tie_rod_eye
from lithon.survey.features import features


def _named(b: Bench, label: str) -> list[Face]:
    return [f for f in b.model.faces() if f.label == label]


def _failed(b: Bench) -> None:
    e = EYE
    out = b.take(do.set_aside(["rod"]))
    contact = 2.0 * np.pi * e.rod * (e.end - e.rod_from - 2.0 * e.depth * e.grooves) + np.pi * e.rod**2
    b.check("contact with the rod", sum(x["area_mm2"] for x in out.details), contact)
    before = b.volume
    b.take(do.clear("cones"))
    b.check("threads plain", b.volume - before, e.grooves * e.groove_volume)
    b.take(do.element_size(4.0))
    for hole in [f for f in features(b.model.bodies[0]) if abs(f.size - 2.0 * e.small) < 1e-6]:
        found = b.take(do.keep(list(hole.faces))).details
        b.check("wall beside it", found[0]["wall_mm"], e.wall, 1e-3)
        b.check("in element widths", found[0]["wall_elements"], e.wall / 4.0, 1e-3)
    reasons = set(b.ledger.state.marks.all("hold").values())
    b.check("the reason is recorded", float(all("elements wide" in str(r) for r in reasons)), 1.0)
    b.check("held", len(held(b.ledger.state.marks)), 2)
    whole = b.volume
    b.take(do.halve("quarter"))
    b.check("four quarters", 4.0 * b.volume, whole)
    for axis, gone in (("y", "uy rx rz = 0"), ("z", "uz rx ry = 0")):
        b.check(f"mirror {axis}", float(any(f.label.startswith(f"mirror {axis}") and gone in f.label
                                            for f in b.model.faces())), 1.0)  # fmt: skip
    bore = f"cylinders where radius = {e.bore}"
    b.take(do.score("x = 0", bore))
    b.take(do.name(f"{bore} and x < 0", "pressed"))
    b.take(do.name(_named(b, "contact rod"), "fixed"))
    pressed = _named(b, "pressed")
    b.check("half of the bore", len(pressed), 1)
    told = []
    for size in (4.0, 2.5):
        b.take(do.element_size(size))
        b.take(do.mesh("tet", "2"))
        assert b.mesh is not None
        told.append(facts(b.mesh))
        b.check("joined up", float(b.mesh.conformal()), 1.0)
        b.check("volume of the mesh", b.mesh.volume_ratio, 1.0, 5e-3)
    b.check("finer", float(told[1].elements > 1.3 * told[0].elements and told[1].largest < told[0].largest), 1.0)
    b.check("better all over", float(told[1].worst_jacobian > 0.05 and told[0].worst_jacobian > 0.05), 1.0)
    assert b.mesh is not None
    write_vtu(b.mesh, b.folder / "eye.vtu")
    again = meshio.read(b.folder / "eye.vtu")
    for name in ("pressed", "fixed", *(f.label for f in b.model.faces() if f.label.startswith("mirror"))):
        sides = int(sum(np.isin(b.mesh.face, [k for k, f in enumerate(b.mesh.faces) if f.label == name])))
        b.check(f"{name} as a set", int(np.concatenate(again.cell_data[name]).sum()), sides)
    b.check("one body", len(b.model.bodies), 1)
    b.check("volume", volume(b.model.bodies[0]), 0.25 * whole)


JOBS: tuple[Job, ...] = (Job("J07", "a part that failed in service", tie_rod_eye, (("", _failed),)),)
