"""Jobs that end in sheets: a working copy cleaned to its mid-surface, and the plane model of a joint."""

from __future__ import annotations

import numpy as np

import lithon.do as do
from lithon.brep.measures import area
from lithon.brep.topology import Body, Edge
from lithon.jobs.job import Bench, Job
from lithon.mesh.mesh import Mesh
from lithon.operations.places import Axis, Cut
from lithon.samples.sheet_parts import BEAM, JOINT, culvert_joint, lock_beam


def _cleaned(b: Bench) -> None:
    s = BEAM
    b.check("as it comes", b.volume, s.volume)
    b.take(do.clear("pockets"))
    b.take(do.clear("windows"))
    b.take(do.clear("chamfers"))
    b.check("the plain I", b.volume, s.plain(s.root))
    b.check("its faces", len(b.model.bodies[0].faces), 18)
    b.take(do.resize(f"fillets where radius = {s.root}", 8.0))
    b.check("larger rounds", b.volume, s.plain(8.0))
    b.take(do.slide(f"planes along y where y > {s.height - s.flange - 1.0}", 20.0, "y"))
    b.check("flange raised", b.volume, s.plain(8.0, 20.0))
    side = f"planes along x where x > {s.width - 1.0} and y < {s.flange}"
    b.take(do.slide(side, 5.0))
    b.check("a wider flange", b.volume, s.plain(8.0, 20.0) + 5.0 * s.flange * s.length)
    b.take(
        do.reface(f"planes along x where x > {s.width + 1.0}", f"planes along x where x > {s.width - 1.0} and y > 100")
    )
    b.check("put on the other's surface", b.volume, s.plain(8.0, 20.0))
    b.check("faces as before", len(b.model.bodies[0].faces), 18)
    b.take(do.mid_surface())
    sheets = sorted(b.model.bodies, key=lambda x: x.thickness or 0.0)
    b.check("sheets", len(sheets), 3)
    wide, high = s.width * s.length, (s.height + 20.0 - s.flange) * s.length
    for sheet, thickness, wanted in zip(sheets, (s.web, s.flange, s.flange), (high, wide, wide), strict=True):
        b.check("thickness", sheet.thickness or 0.0, thickness)
        b.check("area", area(sheet), wanted)
    b.check("edges shared", len(_shared(b.model.bodies)), 2)
    _scored(b, sheets[-1])


def _scored(b: Bench, flange: Body) -> None:
    """A strip along the free edge of a flange, halved at its middle, each half with a name."""
    s = BEAM
    rim = next(e for e in flange.edges() if e.curve.kind == "line" and float(e.at(0.5)[0]) > s.width - 1e-6)
    level = float(rim.at(0.5)[1])
    beside = next(u.face for u in flange.uses if rim in set(u.face.edges()))
    b.take(do.score(Cut.round(Axis.along(rim), 15.0), beside))
    here = f"faces where y > {level - 1.0} and y < {level + 1.0} and x > {s.width - 15.0}"
    b.take(do.score(f"z = {0.5 * s.length}", here))
    for word, name in (("<", "near half"), (">", "far half")):
        b.take(do.name(f"{here} and z {word} {0.5 * s.length}", name))
    for name in ("near half", "far half"):
        named = [f for f in b.model.faces() if f.label == name]
        b.check(name, len(named), 1)
        b.check("its area", sum(area(Body((u,), "", sheet=True)) for x in b.model.bodies for u in x.uses
                                if u.face in named), 15.0 * 0.5 * s.length)  # fmt: skip
    b.take(do.element_size(10.0))
    b.take(do.mesh("quad"))
    assert b.mesh is not None
    b.check("mesh joined up", float(b.mesh.conformal()), 1.0)
    b.check("area of the mesh", b.mesh.volume_ratio, 1.0)


def _shared(bodies: tuple[Body, ...]) -> list[Edge]:
    """The edges that more than one of some sheets have."""
    count: dict[Edge, int] = {}
    for body in bodies:
        for edge in body.edges():
            count[edge] = count.get(edge, 0) + 1
    return [e for e, n in count.items() if n > 1]


def _plane_model(b: Bench) -> None:
    j = JOINT
    sides = [f for f in b.model.faces() if f.surface.kind == "plane" and abs(float(f.surface.frame.z[1])) > 0.9]
    b.take(do.slice(Cut.midway(*sides)))
    _meshed(b, 2.0)
    b.check("edges shared", len(_shared(b.model.bodies)), 2 * 7)
    b.check("whole", sum(map(area, b.model.bodies)), 2.0 * (j.spigot_area + j.seal_area + j.bell_area))


def _about(b: Bench) -> None:
    b.take(do.slice("y = 0", "z"))
    _meshed(b, 1.0)
    b.check("edges shared", len(_shared(b.model.bodies)), 7)
    b.check("on one side", float(min(v.point[0] for x in b.model.bodies for v in x.vertices()) > 0.0), 1.0)


def _meshed(b: Bench, sides: float) -> None:
    """The regions as they must be, and their meshes."""
    j = JOINT
    b.check("regions", len(b.model.bodies), 3)
    wanted = {"spigot": j.spigot_area, "seal": j.seal_area, "bell": j.bell_area}
    for body in b.model.bodies:
        b.check(body.name, area(body), sides * wanted[body.name])
    b.take(do.element_size(4.0))
    for kind in ("tri", "quad"):
        b.take(do.mesh(kind))
        assert b.mesh is not None
        b.check(f"{kind}: joined up", float(b.mesh.conformal()), 1.0)
        b.check(f"{kind}: area", b.mesh.volume_ratio, 1.0)
        for edge in _shared(b.model.bodies):
            b.check("nodes shared", _apart(b.mesh, edge), 0.0)
        _delivered(b)


def _apart(mesh: Mesh, edge: Edge) -> float:
    """How many nodes on an edge one of the regions that have it has alone."""
    from lithon.brep.area import off_edge

    on = set(np.flatnonzero(off_edge(edge, mesh.points) < 1e-9).tolist())
    owners = [set(mesh.body_nodes(x).tolist()) & on for x in mesh.bodies if edge in set(x.edges())]
    assert len(on) > 1
    return float(max(len(on - own) for own in owners))


def _delivered(b: Bench) -> None:
    """The file has the regions' names."""
    import meshio

    from lithon.exchange.vtu import write_vtu

    assert b.mesh is not None
    path = b.folder / "joint.vtu"
    write_vtu(b.mesh, path)
    again = meshio.read(path)
    for body in b.model.bodies:
        told = np.concatenate(again.cell_data[f"body {body.name}"])
        b.check(f"{body.name} as a set", int(told.sum()), int((b.mesh.body == b.mesh.bodies.index(body)).sum()))


JOBS: tuple[Job, ...] = (
    Job("J03", "a working copy cleaned", lock_beam, (("", _cleaned),)),
    Job("J09", "plane model of a joint", culvert_joint, (("midway", _plane_model), ("about an axis", _about))),
)  # fmt: skip
