"""The jobs that are played, by their numbers."""

from __future__ import annotations

import numpy as np

import lithon.do as do
from lithon.arrays import cross_product
from lithon.brep.measures import face_area, volume
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Face
from lithon.exchange.step_read import read_step
from lithon.exchange.step_write import write_step
from lithon.jobs import assembly, covered, draped, removal, sheets, wheel
from lithon.jobs.job import Bench, Job
from lithon.mesh.second_order import quadratic
from lithon.operations.places import Axis, Cut, Spot
from lithon.samples import ANCHOR, STRAP, collar_anchor, hinge_strap, sill_blocks
from lithon.samples.gudgeon_scan import GUDGEON, gudgeon_scan
from lithon.samples.job_parts import DRIVE, LEVER, STRIP, latch_lever, paddle_drive

# ---- J02


def _solid_of_strap(b: Bench) -> None:
    b.take(do.solid())
    made = b.model.bodies[0]
    b.check("volume", b.volume, STRAP.volume, 1e-3)
    kinds = [f.surface.kind for f in made.faces]
    b.check("planes", kinds.count("plane"), 14)
    b.check("cylinders", kinds.count("cylinder"), 4)
    for face in made.faces:
        if face.surface.kind == "cylinder":
            b.check("radius", face.surface.radius, STRAP.root, 1e-3)  # type: ignore[attr-defined]
    b.take(do.clear("fillets"))
    b.check("cleared", b.volume, sum(STRAP.blocks), 1e-3)


def _by_hand(b: Bench) -> None:
    """The largest patch parted in two, and made one again."""
    b.take(do.find_patches())

    def patches() -> dict[str, list[Face]]:
        out: dict[str, list[Face]] = {}
        for face, word in b.ledger.state.marks.all("patch").items():
            if isinstance(face, Face):
                out.setdefault(str(word), []).append(face)
        return out

    whole = patches()
    b.check("patches", len(whole), 18)
    word = max(whole, key=lambda w: sum(face_area(f) for f in whole[w]))
    across = face_mesh(whole[word][0]).points
    way = np.eye(3)[int(np.ptp(across, axis=0).argmax())]
    b.take(do.part_patch(whole[word], Cut.at(across.mean(axis=0), way)))
    parted = patches()
    b.check("parted", len(parted), 19)
    b.take(do.unite_patches([f for w, faces in parted.items() if w == word or w not in whole for f in faces]))
    b.check("one again", len(patches()), 18)
    b.take(do.solid())
    kinds = [f.surface.kind for f in b.model.bodies[0].faces]
    b.check("planes", kinds.count("plane"), 14)
    b.check("cylinders", kinds.count("cylinder"), 4)
    b.check("volume", b.volume, STRAP.volume, 1e-3)


def _scan(b: Bench) -> None:
    b.take(do.clean_triangles())
    b.check("bodies", len(b.model.bodies), 1)
    b.take(do.solid())
    b.check("volume", b.volume, GUDGEON.volume, 1e-3)
    b.check("faces", len(b.model.bodies[0].faces), 7)
    b.take(do.clear("holes"))
    b.check("cleared", b.volume, GUDGEON.length * GUDGEON.width * GUDGEON.height, 1e-3)


def _facets(b: Bench) -> None:
    before = b.volume
    b.take(do.solid(kind="facets"))
    b.check("volume", b.volume, before, 1e-9)


# ---- J06


def _spindle_alone(b: Bench) -> float:
    b.take(do.drop_bodies(["bush", "neck bush"]))
    b.check("bodies", len(b.model.bodies), 1)
    b.check("volume", b.volume, DRIVE.turned_volume + DRIVE.teeth_volume)
    return b.volume


def _there_and_back(b: Bench) -> None:
    path = b.folder / "out.step"
    write_step(b.model, path)
    again = read_step(path).model
    b.check("written and read back", sum(map(volume, again.bodies)), b.volume)


def _teeth_cleared(b: Bench) -> None:
    before = _spindle_alone(b)
    b.take(do.carve(f"z = {DRIVE.collar_end!r}"))
    b.check("bodies", len(b.model.bodies), 2)
    teeth = [
        f for f in b.model.faces()
        if (f.surface.kind == "cylinder" and abs(f.surface.radius - DRIVE.tip) < 1e-6)  # type: ignore[attr-defined]
        or (f.surface.kind == "plane" and abs(float(f.surface.frame.z[2])) < 1e-9)
        or (f.surface.kind == "plane" and abs(float(f.surface.frame.origin[2]) - DRIVE.toothed) < 1e-6)
    ]  # fmt: skip
    b.take(do.clear(teeth))
    b.check("teeth gone", before - b.volume, DRIVE.teeth_volume)
    b.check("all", b.volume, DRIVE.turned_volume)
    _there_and_back(b)


def _shoulder_run(b: Bench) -> None:
    _spindle_alone(b)
    b.take(do.run_to(f"planes along z where z = {DRIVE.neck!r}", "planes along z where z = 0"))
    swallowed = np.pi * (DRIVE.collar**2 - DRIVE.root**2) * DRIVE.neck
    b.check("volume", b.volume, DRIVE.turned_volume + swallowed)
    _there_and_back(b)


def _swallowed(b: Bench) -> None:
    before = _spindle_alone(b)
    b.take(do.cylinder(DRIVE.tip, DRIVE.toothed, Spot.at((0, 0, 0)), Axis.along(_collar_face(b)), "cover"))
    b.take(do.unite(["spindle"], ["cover"]))
    filled = np.pi * (DRIVE.tip**2 - DRIVE.root**2) * DRIVE.toothed - DRIVE.teeth_volume
    b.check("filled", b.volume - before, filled)
    b.check("bodies", len(b.model.bodies), 1)
    _there_and_back(b)


def _collar_face(b: Bench):  # type: ignore[no-untyped-def]
    return next(f for f in b.model.faces() if abs(getattr(f.surface, "radius", 0.0) - DRIVE.long_radius) < 1e-6)


# ---- J08


def _bent(b: Bench) -> None:
    ends = [next(f for f in b.model.faces() if f.surface.kind == "plane" and abs(f.surface.frame.z[0]) > 0.9
                 and abs(float(f.surface.frame.origin[0]) - x) < 1e-6) for x in (0.0, LEVER.length)]  # fmt: skip
    sides = [next(f for f in b.model.faces() if f.surface.kind == "plane" and abs(f.surface.frame.z[1]) > 0.9
                  and abs(float(f.surface.frame.origin[1]) - y) < 1e-6) for y in (0.0, LEVER.width)]  # fmt: skip
    b.take(do.reference_plane(Cut.midway(*ends), "middle"))
    b.take(do.reference_plane(Cut.offset(ends[0], -40.0), "grip end"))
    b.take(do.reference_plane(Cut.midway(*sides), "centre"))
    b.check("midway", b.ledger.state.references.find("middle", "plane").origin[0], LEVER.length / 2.0)
    b.take(do.reference_axis(Axis.at((LEVER.length / 2.0, LEVER.width / 2.0, 0.0), (0, 0, 1)), "hinge"))
    b.take(do.carve("plane middle"))
    far = max(b.model.bodies, key=lambda x: float(np.mean([v.point[0] for v in x.vertices()])))
    near = next(x for x in b.model.bodies if x is not far)
    b.take(do.turn(far, "axis hinge", float(np.radians(12.0))))
    turned = next(x for x in b.model.bodies if x is not near)
    b.take(do.unite(near, turned))
    b.check("bodies", len(b.model.bodies), 1)
    notch = [
        f for f in b.model.faces()
        if f.surface.kind == "plane" and _in_notch(f.surface)  # the two cut faces that look at each other
    ]  # fmt: skip
    b.check("faces of the gap", len(notch), 2)
    b.take(do.clear(notch))
    # Mitred: what overlaps on one side is what is missing on the other.
    b.check("volume", b.volume, LEVER.volume)
    b.check("faces", len(b.model.bodies[0].faces), 9)


def _in_notch(s) -> bool:  # type: ignore[no-untyped-def]
    middle, z = np.array([LEVER.length / 2.0, LEVER.width / 2.0, 0.0]), s.frame.z
    through = abs(float((middle - s.frame.origin) @ z)) < 1e-6
    return through and abs(float(z[2])) < 1e-6 and abs(float(z[0])) > 0.9


def _longer(b: Bench) -> None:
    b.take(do.carve("x = 90"))
    far = max(b.model.bodies, key=lambda x: float(np.mean([v.point[0] for v in x.vertices()])))
    b.take(do.move(far, 40.0, "x"))
    cuts = [f for f in b.model.faces() if f.surface.kind == "plane" and abs(float(f.surface.frame.z[0])) > 0.9
            and any(abs(float(f.surface.frame.origin[0]) - x) < 1e-6 for x in (90.0, 130.0))]  # fmt: skip
    cuts.sort(key=lambda f: float(f.surface.frame.origin[0]))
    b.take(do.bridge(cuts[0], cuts[1]))
    b.check("bodies", len(b.model.bodies), 1)
    b.check("volume", b.volume, LEVER.volume + 40.0 * LEVER.width * LEVER.thickness)
    b.check("faces", len(b.model.bodies[0].faces), 7)


# ---- J10


def _budget(b: Bench) -> None:
    b.take(do.face_budget(30))
    start = b.ledger.model.face_count()
    b.take(do.clear("fillets where radius <= 1.5 mm"))
    b.take(do.clear("pockets"))
    first = len(b.ledger.entries) - 2
    b.check("within the budget", float(b.model.face_count() <= 30), 1.0)
    whole, count = b.volume, b.model.face_count()
    b.ledger.switch(first)
    b.check("switched off", float(b.model.face_count() > count), 1.0)
    b.ledger.switch(first)
    b.check("and on again", b.volume, whole)
    b.check("faces of the source", start, ANCHOR.faces)


# ---- J11


def _strip(b: Bench) -> None:
    s = STRIP
    low = 0.5 * (s.width - s.narrow)
    b.take(do.element_size(3.0))
    b.take(do.block(s.grip, s.width, s.thickness, (0, 0, 0), called="grip"))
    b.take(do.block(s.waist, s.narrow, s.thickness, (s.grip, low, 0), called="waist"))
    b.take(do.block(s.grip, s.width, s.thickness, (s.grip + s.waist, 0, 0), called="other"))
    b.take(do.unite(["grip"], ["waist"]))
    b.take(do.unite(["grip"], ["other"]))
    b.check("one body", len(b.model.bodies), 1)
    inner = f"edges along z where x >= {s.grip} and x <= {s.grip + s.waist} and y >= {low} and y <= {low + s.narrow}"
    b.take(do.round(inner, s.radius))
    b.check("volume", b.volume, s.volume)
    for x in (s.grip, s.grip + s.radius, s.grip + s.waist - s.radius, s.grip + s.waist):
        b.take(do.carve(Cut.through([(x, 0, 0), (x, 1, 0), (x, 0, 1)])))
    for y in (low - s.radius, low + s.narrow + s.radius):
        b.take(do.carve(Cut.through([(0, y, 0), (1, y, 0), (0, y, 1)])))
    b.check("pieces", len(b.model.bodies), 9)
    b.take(do.bond())
    b.take(do.divide("edges along y", 6))
    b.take(do.mesh("hex", "2"))
    mesh = b.mesh
    assert mesh is not None
    b.check("volume of the mesh", mesh.volume_ratio, 1.0, 1e-3)
    linear = b.ledger.try_step(do.mesh("hex", "1")).mesh
    assert linear is not None
    second = quadratic(linear)[0]
    worst = 0.0
    for k, face in enumerate(second.faces):
        if face.surface.kind == "cylinder":
            own = np.unique(second.triangles[second.face == k])
            worst = max(worst, float(np.abs(face.surface.signed_distance(second.points[own])).max()))
    b.check("mid-nodes off the rounds", worst, 0.0)
    for edge in b.model.edges():
        if edge.curve.kind == "line" and abs(float(edge.direction(0.5)[1])) > 0.999:
            off = np.linalg.norm(cross_product(linear.points - edge.at(0.0), edge.direction(0.5)), axis=1)
            along = (linear.points - edge.at(0.0)) @ edge.direction(0.5)
            on = (off < 1e-9) & (along > -1e-9) & (along < edge.length + 1e-9)
            b.check("nodes across", int(on.sum()), 7)


# ---- J16


def _poor(b: Bench) -> None:
    b.take(do.cover(["boulder 1", "boulder 2"]))
    b.take(do.solid(["ground", "course 1", "course 2", "course 3"], "facets"))
    b.take(do.drop_bodies([f"crumb {k}" for k in range(1, 6)]))
    b.check("bodies", len(b.model.bodies), 6)
    whole = b.volume
    b.take(do.carve("z = 399.7", ["course 1", "course 2", "course 3"]))
    b.check("slivers", len(b.model.bodies), 9)
    b.take(do.crumbs())
    b.check("no crumb", len(b.model.bodies), 6)
    b.check("volume", b.volume, whole)


def _one_for_all(b: Bench) -> None:
    b.take(do.cover(["boulder 1", "boulder 2"], together=True))
    b.check("bodies", len(b.model.bodies), 10)
    b.check("convex", float(len(b.model.bodies[-1].faces) > 20), 1.0)


JOBS: tuple[Job, ...] = tuple(sorted((
    Job("J02", "triangles to a solid", hinge_strap, (("simple", _solid_of_strap), ("by hand", _by_hand),
        ("facets", _facets)), ".stl", "smooth surfaces"),
    Job("J02b", "a scan to a solid", gudgeon_scan, (("simple", _scan),), ".stl"),
    Job("J06", "one part of an assembly", paddle_drive,
        (("cleared", _teeth_cleared), ("run to", _shoulder_run), ("swallowed", _swallowed))),
    Job("J08", "change an import", latch_lever, (("bent", _bent), ("longer", _longer))),
    Job("J10", "within a budget", collar_anchor, (("", _budget),)),
    Job("J11", "made from nothing", None, (("", _strip),)),
    Job("J16", "poor bodies, crumbs", sill_blocks, (("each", _poor), ("one for all", _one_for_all)), ".obj"),
    *assembly.JOBS, *covered.JOBS, *draped.JOBS, *removal.JOBS, *sheets.JOBS, *wheel.JOBS,
), key=lambda job: job.ident))  # fmt: skip
