"""Halve: a half, quarter or eighth at mirror planes that are found. Sector: one of N like parts about an axis."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.brep.measures import mass_properties, volume
from lithon.brep.rewrite import rewrite
from lithon.brep.topology import Body, Face, Model, new_uid
from lithon.carve.mirrors import best_start, mirrors, square, turns, zero
from lithon.carve.split import split
from lithon.errors import Refusal
from lithon.geometry.surfaces import Plane
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import CutAt, Flag, Number, OneOf
from lithon.operations.places import Cut

_PARTS = {"half": 1, "quarter": 2, "eighth": 3}


def _vanishing(normal: Floats, word: str = "mirror") -> str:
    """The name of a mirror's cut face: what vanishes there, where its normal is along an axis."""
    k = int(np.abs(normal).argmax())
    if abs(float(normal[k])) < 1.0 - 1e-9:
        return f"{word}: displacement across it, rotations along it vanish"
    others = [c for c in "xyz" if c != "xyz"[k]]
    return f"{word} {'xyz'[k]}: u{'xyz'[k]} r{others[0]} r{others[1]} = 0"


def _cut(model: Model, plane: Plane, bench: Bench, label: str) -> Model:
    """What lies behind a plane, its cut faces named."""
    behind = [b for b in model.bodies if _side(b, plane) < 0.0]
    through = [b for b in model.bodies if _side(b, plane) == 0.0]
    if through:
        made = split(Model(tuple(through), model.tolerance), through, plane, bench.progress)
        behind += [_named(b, plane, label) for b in made.bodies if _middle(b, plane) < 0.0]
    order = {b.uid: k for k, b in enumerate(model.bodies)}
    names = {b.name.rpartition(" ")[0]: b.name for b in behind}
    whole = {b.name for b in model.bodies}
    out = [replace(b, name=b.name.rpartition(" ")[0], uid=new_uid())
           if b.name not in whole and names.get(b.name.rpartition(" ")[0]) == b.name
           and b.name.rpartition(" ")[0] in whole else b for b in behind]  # fmt: skip
    return Model(tuple(sorted(out, key=lambda b: order.get(b.uid, len(order)))), model.tolerance)


def _side(body: Body, plane: Plane) -> float:
    """Which side of a plane a body lies on; 0 where on both."""
    points = np.array([v.point for v in body.vertices()] + [e.at(s) for e in body.edges() for s in (0.25, 0.5, 0.75)])
    if not len(points):
        return 0.0
    d = plane.signed_distance(points)
    near = 1e-9 * (1.0 + float(np.abs(points).max()))
    return 1.0 if d.min() > -near else -1.0 if d.max() < near else 0.0


def _middle(body: Body, plane: Plane) -> float:
    return float(plane.signed_distance(mass_properties(body).centroid[None])[0])


def _named(body: Body, plane: Plane, label: str) -> Body:
    fresh: dict[Face, tuple[Face, bool]] = {}
    for face in body.faces:
        if face.label in ("", "cut") and face.surface.same_as(plane, 1e-6, 1e2):
            fresh[face] = replace(face, label=label, uid=new_uid(), before=None, origin=None), True
    return rewrite(body, faces=fresh) if fresh else body


class Halve(Operation):
    """Leave a half, quarter or eighth between mirror planes; their cut faces say what vanishes there."""

    part: str = param(OneOf(title="part", options=tuple(_PARTS), default="half", optional=True))
    plane: Cut | None = param(CutAt(title="plane", help="left out: a mirror that is found", plane=True, optional=True))
    other: bool = param(Flag(title="other side", help="keep what lies before the plane", default=False, optional=True))

    unbonded = "halve"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return False  # it is about the whole, whatever is in hand

    def do(self, bench: Bench) -> Made:
        wanted = _PARTS[self.part]
        if self.plane is not None:
            planes = [bench.given["plane"]]
            if wanted > 1:
                raise Refusal("one plane makes halves", remedy="ask for a half, or leave the plane out")
        else:
            bench.progress.tell(0.1, "looking for mirror planes")
            found = mirrors(bench.model)
            planes = square(found)[:wanted]
            if len(planes) < wanted:
                near = next((m for m in found if not m.exact), None)
                raise Refusal(
                    f"{len(planes) or 'no'} mirror plane{'s' if len(planes) != 1 else ''} square to each other "
                    f"{'is' if len(planes) == 1 else 'are'} exact",
                    remedy="give the plane to cut at" if near is None else
                    f"{100.0 * near.share:.1f} % of the surface agrees about another plane: clear what disagrees",
                    entities=near.against if near is not None else (),
                )  # fmt: skip
        out = bench.model
        before = sum(map(volume, out.bodies))
        for k, plane in enumerate(planes):
            bench.progress.tell(0.3 + 0.6 * k / len(planes), f"cutting at mirror {k + 1}")
            sense = plane if not self.other else Plane.of(plane.frame.origin, -plane.frame.z)
            out = _cut(out, sense, bench, _vanishing(plane.frame.z))
            if not out.bodies:
                raise Refusal("nothing lies on that side of the plane", remedy="move it, or keep the other side")
        left = sum(map(volume, out.bodies))
        details = [{"part": self.part, "planes": len(planes), "share": left / before}]
        return Made(out, f"halve to {'an' if self.part == 'eighth' else 'a'} {self.part}", details=details)


class Sector(Operation):
    """Leave one of the like parts about an axis, its two cut faces matched."""

    start: float | None = param(Number(title="from", unit="°", factor=np.pi / 180.0, optional=True,
                                       help="where it begins; left out: where it cuts least"))  # fmt: skip

    unbonded = "cut a sector"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return False  # it is about the whole, whatever is in hand

    def do(self, bench: Bench) -> Made:
        bench.progress.tell(0.1, "looking for turns")
        found = turns(bench.model)
        if found is None:
            raise Refusal("no turn takes the model onto itself but a whole one",
                          remedy="clear what disagrees first, or halve it")  # fmt: skip
        if found.count < 3:
            raise Refusal("a sector of two is a half", remedy="use Halve")
        start = best_start(bench.model, found) if self.start is None else self.start
        at = zero(found).frame
        out = bench.model
        for k, (turn, sense) in enumerate(((0, -1.0), (1, 1.0))):
            angle = start + 2.0 * np.pi * turn / found.count
            way = np.cos(angle) * at.x + np.sin(angle) * at.y
            normal = sense * cross_product(at.z, way)
            bench.progress.tell(0.2 + 0.4 * k, f"cutting side {k + 1}")
            out = _cut(out, Plane.of(at.origin, normal, way), bench, f"sector 1/{found.count} side {k + 1}")
        centre, axis = found.centre, found.axis
        details = [{"count": found.count, "start": start, "axis": axis.tolist(), "centre": centre.tolist()}]
        return Made(out, f"one sector of {found.count}, from {np.degrees(start):.4g}°", details=details)
