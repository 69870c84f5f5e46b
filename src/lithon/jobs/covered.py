"""Jobs about surfaces that are bad: what fails is named, an approximation is offered, a clean patch takes its place."""

from __future__ import annotations

import numpy as np

import lithon.do as do
from lithon.brep.measures import volume
from lithon.brep.topology import Body, Edge, Face
from lithon.errors import Refusal
from lithon.geometry.surfaces import Cylinder
from lithon.jobs.job import Bench, Job
from lithon.mesh.mesh import Mesh
from lithon.operations.places import Cut
from lithon.samples.gate_vane import VANE, gate_vane
from lithon.samples.lining_ring import RING, lining_ring
from lithon.samples.sill_ramp import RAMP, sill_ramp
from lithon.survey.findings import findings


def _tried(b: Bench, approximate: bool = False) -> Mesh:
    """A mesh that is not kept."""
    mesh = b.ledger.try_step(do.mesh("tet", approximate=approximate)).mesh
    assert mesh is not None
    return mesh


def _sound(b: Bench, volume: float) -> None:
    b.check("volume", b.volume, volume)
    b.take(do.mesh("tet"))
    assert b.mesh is not None
    b.check("joined up", float(b.mesh.conformal()), 1.0)
    b.check("volume of the mesh", b.mesh.volume_ratio, 1.0, 2e-3)
    b.check("every element is sound", float(b.mesh.quality.scaled_jacobian.min() > 0.1), 1.0)


# ---- J05


def _stopping(b: Bench) -> set[Face]:
    return {f for c in findings(b.model, 6.0) if c.severity == "stops" for f in c.faces}


def _fails(b: Bench) -> None:
    b.take(do.element_size(6.0))
    named = _stopping(b)
    b.check("the survey names a face that stops the mesh", len(named), 1)
    partly = _tried(b)
    b.check("no volume", float(partly.shape.flat), 1.0)
    b.check("the same face failed", float({f.face for f in partly.failures} == named), 1.0)
    b.check("the faces that could be are kept", len(partly.faces), len(b.model.faces()) - 1)
    about = _tried(b, approximate=True)
    b.check("approximated", float(about.volumes.sum()), VANE.volume, 2e-3)
    done = b.take(do.mend_safe(limit=0.01))
    moved = max(float(d["moved_mm"]) for d in done.details)
    b.check("moved by less than the limit", float(moved <= 0.01), 1.0)
    (foot,) = _stopping(b)
    done = b.take(do.patch_over(list(foot.edges())))
    b.check("the patch lies on its edges", float(done.details[0]["off_mm"] < b.model.tolerance), 1.0)
    b.check("faces", len(b.model.faces()), 5)
    b.check("nothing stops it", len(_stopping(b)), 0)
    _sound(b, VANE.volume)


# ---- J12


def _around(b: Bench) -> list[Edge]:
    """The edges around the ramp: its two walls' and those where the landing and the apron end."""

    def on(edge: Edge) -> bool:
        p = np.array([edge.at(s) for s in (0.0, 0.25, 0.5, 0.75, 1.0)])
        inside = (p[:, 0] > -1e-9).all() and (p[:, 0] < RAMP.length + 1e-9).all()
        return bool(inside and np.abs(p[:, 2] - RAMP.height(p[:, 0])).max() < 1e-9)

    def held(edge: Edge) -> bool:
        y = np.array([edge.at(0.0)[1], edge.at(1.0)[1]])
        return bool(np.isin(np.round(y, 9), (0.0, RAMP.width)).all())

    return [e for e in b.model.edges() if on(e) and held(e)]


def _ramp(b: Bench, smooth: bool) -> None:
    b.take(do.element_size(8.0))
    partly = _tried(b)
    b.check("both torn surfaces are named", len(partly.failures), 2)
    about = _tried(b, approximate=True)
    b.check("gone on with an approximation", float(about.volumes.sum()), RAMP.volume, 1e-3)
    edges = _around(b)
    b.check("edges around", len(edges), 4)
    ends = [e for e in edges if abs(e.direction(0.5)[1]) > 0.99] if smooth else []
    done = b.take(do.patch_over(edges, ends))
    told = done.details[0]
    b.check("what hung there is gone", float(told["part"] == "2 faces gone"), 1.0)
    b.check("off its edges", float(told["off_mm"] < 1e-6 * RAMP.length), 1.0)
    if smooth:
        b.check("smooth at both ends", float(told["kink_deg"] < 0.01), 1.0)
    b.check("faces", len(b.model.faces()), 8)
    # The cubic is the surface of least bending between its walls that is level at both ends; without that its mirror
    # symmetry still halves the volume.
    _sound(b, RAMP.volume)


def _level(b: Bench) -> None:
    _ramp(b, True)


def _free(b: Bench) -> None:
    _ramp(b, False)


# ---- J13


def _of(b: Bench, name: str) -> Body:
    return next(x for x in b.model.bodies if x.name.startswith(name))


def _bore(b: Bench, stave: int) -> Face:
    return next(
        f
        for f in _of(b, f"stave {stave}").faces
        if isinstance(f.surface, Cylinder) and abs(f.surface.radius - RING.bore) < 1e-9
    )


def _dirty(b: Bench) -> None:
    r = RING
    b.take(do.element_size(5.0))
    failed = {f.face for f in _tried(b).failures if f.face is not None}
    b.check("the failing mesh leads to the hidden sheet", len(failed), 1)
    b.check("in its stave", float(failed < set(_of(b, "stave 5").faces)), 1.0)
    b.take(do.drop(list(failed)))
    b.take(do.drop_bodies(["crumb 1", "crumb 2"]))
    done = b.take(do.skim(_bore(b, 6), 1.0, bodies=["stave 1", "stave 2", "stave 3"]))
    b.check("steps, groove and ledge are swallowed", done.details[0]["swallowed"], 9)
    b.check("as deep as the groove", done.details[0]["deepest_mm"], r.groove, 1e-6)
    for k in (0, 1, 2, 4, 5):
        b.check(f"stave {k + 1}", volume(_of(b, f"stave {k + 1}")), r.volume(k))
    try:
        b.ledger.try_step(do.skim(_bore(b, 4), 1.0))
        b.check("the lug cannot be swallowed", 0.0, 1.0)
    except Refusal:
        b.check("the lug cannot be swallowed", 1.0, 1.0)
    b.take(do.carve(Cut.surface(_bore(b, 4)), ["stave 4"]))
    pieces = sorted((x for x in b.model.bodies if x.name.startswith("stave 4")), key=volume)
    b.check("cut at the extended bore", len(pieces), 2)
    b.take(do.drop_bodies(pieces[0]))
    b.check("volume", b.volume, sum(r.volume(k) for k in range(r.staves)))
    inner = [f for f in b.model.faces() if isinstance(f.surface, Cylinder) and f.surface.radius < r.bore + 1.0]
    for face in inner:
        assert isinstance(face.surface, Cylinder)
        b.check("nominal radius", face.surface.radius, r.bore)
    told = b.take(do.bond()).details
    b.check("five of six joints are shared", len([x for x in told if x["verdict"] == "shared"]), 5)
    b.check("the gap is still there", len(b.model.shared()), 5)
    b.take(do.mesh("tet"))
    assert b.mesh is not None
    b.check("all mesh", len(b.mesh.bodies), r.staves)
    b.check("joined up", float(b.mesh.conformal()), 1.0)
    b.check("nothing failed", len(b.mesh.failures), 0)
    b.check("every element is sound", float(b.mesh.quality.scaled_jacobian.min() > 0.05), 1.0)


JOBS: tuple[Job, ...] = (
    Job("J05", "a mesh fails", gate_vane, (("", _fails),)),
    Job("J12", "bad surfaces covered", sill_ramp, (("smooth", _level), ("free", _free))),
    Job("J13", "dirty geometry", lining_ring, (("", _dirty),)),
)
