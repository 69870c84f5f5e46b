"""Jobs of removal: in passes, and as the daily tool."""

from __future__ import annotations

import time

import numpy as np

import lithon.do as do
from lithon.brep.measures import area, volume
from lithon.brep.topology import Body, Face
from lithon.errors import Cancelled
from lithon.jobs.job import Bench, Job
from lithon.operations.alike import alike
from lithon.operations.questions import ask
from lithon.operations.running import run
from lithon.progress import Progress
from lithon.samples.cover_plate import COVER, cover_plate
from lithon.samples.gear_cover import GEAR_COVER, gear_cover
from lithon.survey.features import features


def _plate(b: Bench) -> Body:
    return next(x for x in b.model.bodies if x.name == "cover plate")


def _boss(b: Bench) -> list[Face]:
    """The wall and the top of the boss, and the bore through it."""
    c = COVER
    round_ = [f for f in _plate(b).faces if f.surface.kind == "cylinder"
              and any(abs(f.surface.radius - r) < 1e-9 for r in (c.boss, c.bore))]  # type: ignore[attr-defined]  # fmt: skip
    top = [f for f in _plate(b).faces if f.surface.kind == "plane"
           and abs(float(f.surface.frame.origin[2]) - c.thickness - c.boss_high) < 1e-9]  # fmt: skip
    return [*round_, *top]


def _in_passes(b: Bench) -> None:
    c = COVER
    b.take(do.sheet(["lid"], 1.0))
    b.check("as it comes", volume(_plate(b)), c.volume)
    _stopped(b)
    rim = next(f for f in features(_plate(b)) if f.kind == "fillet" and abs(f.size - c.edge) < 1e-9)
    long = [f for f in rim.faces if f.surface.kind == "cylinder"][:1]
    whole = volume(_plate(b))
    b.take(do.clear(list(rim.faces), but=long))
    section = (1.0 - np.pi / 4.0) * c.edge**2
    kept = section * (c.length - 2.0 * c.corner)
    b.check("part of the chain kept", volume(_plate(b)) - whole, c.edge_volume - kept)
    b.take(do.clear("bosses"))
    b.check("the web gone", volume(_plate(b)), c.volume - c.web_volume + c.edge_volume - kept)
    bore = np.pi * c.bore**2
    b.take(do.clear(_boss(b), reference=True))
    b.check("the boss gone, the bore buried", volume(_plate(b)), c.slab - kept)
    (reference,) = [x for x in b.model.bodies if x.reference]
    b.check("kept for reference", len(reference.uses), 3)
    wall = [f for f in reference.faces if abs(getattr(f.surface, "radius", 0.0) - c.bore) < 1e-9]
    b.take(do.reopen(wall, _plate(b), through=True))
    b.check("the bore open again", volume(_plate(b)), c.slab - kept - bore * c.thickness)
    b.take(do.drop_bodies([reference]))
    b.take(do.clear([f for f in _plate(b).faces if getattr(f.surface, "radius", 0.0) == c.edge]))
    b.check("bare", volume(_plate(b)), c.slab - bore * c.thickness)


def _stopped(b: Bench) -> None:
    """A removal that is stopped: it answers at once, and nothing is lost."""
    asked = time.monotonic()
    before = b.ledger.state
    try:
        run(before, do.clear("fillets"), Progress(stopped=lambda: True))
        b.check("it stops", 0.0, 1.0)
    except Cancelled:
        b.check("it stops", float(time.monotonic() - asked < 0.3), 1.0)
    b.check("nothing is lost", float(b.ledger.state.model is before.model), 1.0)


def _what_can_go(b: Bench) -> None:
    """Among much that is chosen some cannot go: the rest does."""
    c = COVER
    b.take(do.sheet(["lid"], 1.0))
    outer = [f for f in _plate(b).faces if f.surface.kind == "plane" and float(f.surface.frame.origin[2]) == 0.0]
    web = [x for f in features(_plate(b)) if f.kind == "boss" for x in f.faces]
    found = b.take(do.clear([*outer, *web], partly=True))
    b.check("left", found.details[0]["left"], len(outer))
    b.check("gone", volume(_plate(b)), c.volume - c.web_volume)


def _another_way(b: Bench) -> None:
    """Four slopes can meet in two ways where the flat between them goes: the nearer is offered, the other chosen."""
    c = COVER
    b.take(do.drop_bodies(["cover plate", "lid"]))
    whole = b.volume
    flat = next(f for f in b.model.faces() if abs(float(f.surface.frame.origin[2]) - c.flat) < 1e-9
                and abs(float(f.surface.frame.z[2])) > 0.999)  # fmt: skip
    away, added = c.knots
    nearer = run(b.ledger.state, do.clear([flat]))
    b.check("ways", nearer.solutions, 2)
    b.check("the nearer", volume(nearer.model.bodies[0]) - whole, -away)
    b.take(do.clear([flat]).with_(solution=1))
    b.check("the other", b.volume - whole, added)


def _on_the_sheet(b: Bench) -> None:
    c = COVER
    (lid,) = [x for x in b.model.bodies if x.name == "lid"]
    b.take(do.drop_bodies(["cover plate", "splash rib"]))
    b.take(do.sheet(lid, 1.0))
    (lid,) = b.model.bodies
    b.check("as it comes", area(lid), c.lid_area)
    flat = max(lid.faces, key=lambda f: area(Body((lid.use_of(f),), "", sheet=True)))  # type: ignore[arg-type]
    b.take(do.clear([f for f in lid.faces if f is not flat]))
    b.check("the pit gone", area(b.model.bodies[0]), float(np.prod(c.lid)) - np.pi * c.hole**2)
    (lid,) = b.model.bodies
    b.take(do.patch_over([e for e in lid.edges() if e.ring]))
    b.take(do.merge(list(b.model.bodies[0].faces)))
    b.check("the hole gone", area(b.model.bodies[0]), float(np.prod(c.lid)))
    b.check("one face", len(b.model.bodies[0].faces), 1)
    b.take(do.element_size(4.0))
    b.take(do.mesh("quad"))
    assert b.mesh is not None
    b.check("meshed", float(b.mesh.conformal()), 1.0)


def _daily(b: Bench) -> None:
    g = GEAR_COVER
    plate = next(x for x in b.model.bodies if x.name == "gear cover")
    holes = [f for f in features(plate) if f.kind == "hole"]
    vents = [f for f in holes if abs(f.size - 2.0 * g.vent) < 1e-9]
    count = g.vents[0] * g.vents[1]
    told = {x.title: x for x in alike(b.model, list(vents[0].faces))}
    b.check("of this size here", told["of this size here"].count, count)
    b.check("everywhere", told["of this size"].count, count)
    b.check("at most this", told["at most this"].count, count + 2 * len(g.bolts_at))
    b.check("all holes", told["all holes"].count, count + 4 * len(g.bolts_at))
    wide = next(f for f in holes if abs(f.size - 2.0 * g.bolt) < 1e-9)
    between = alike(b.model, [*vents[0].faces, *wide.faces])[0]
    b.check("between two", between.count, count + 2 * len(g.bolts_at))
    pocket = next(f for f in features(plate) if f.kind == "pocket")
    floor = next(f for f in pocket.faces if abs(float(f.surface.frame.z[2])) > 0.99)
    fence = [f for f in plate.faces if len(f.loops) > 5]
    within = alike(b.model, [floor, *fence])[0]
    b.check("from a seed up to a fence", within.count, 5)
    b.check("as the question says", float(set(ask(b.model, within.question).faces) == set(pocket.faces)), 1.0)
    marks = ask(b.model, f"bosses where depth = {g.mark}")
    b.check("marks", marks.items, g.marks)
    b.check("their faces", len(marks.faces), g.mark_faces)
    before = b.volume
    b.take(do.clear(f"bosses where depth = {g.mark}"))
    b.check("the raised marks gone", before - b.volume, g.marks_volume)
    before = b.volume
    b.take(do.clear(told["of this size here"].question))
    b.check("the vents closed", b.volume - before, count * np.pi * g.vent**2 * g.thickness)
    before = b.volume
    b.take(do.clear("pockets where depth < 3"))
    b.check("the pockets filled", b.volume - before, g.pockets * float(np.prod(g.pocket)))
    before = b.volume
    bolt = next(x for x in b.model.bodies if x.name == "bolt 1")
    cross = next(f for f in features(bolt) if f.kind == "hole")
    b.take(do.clear(list(cross.faces)).on_twins(True))
    b.check("on every bolt", b.volume - before, len(g.bolts_at) * np.pi * g.cross**2 * 3.0)
    before = b.volume
    nut = next(x for x in b.model.bodies if x.name == "nut 1")
    dot = next(f for f in features(nut) if f.kind == "hole" and abs(f.size - 2.0 * g.dot[0]) < 1e-9)
    b.take(do.clear(list(dot.faces)).on_twins(True))
    b.check("on every nut", b.volume - before, len(g.bolts_at) * np.pi * g.dot[0] ** 2 * g.dot[1])


JOBS: tuple[Job, ...] = (
    Job("J14", "removal in passes", cover_plate,
        (("in passes", _in_passes), ("what can go", _what_can_go), ("another way", _another_way),
         ("on the sheet", _on_the_sheet))),
    Job("J15", "removal as the daily tool", gear_cover, (("", _daily),)),
)  # fmt: skip
