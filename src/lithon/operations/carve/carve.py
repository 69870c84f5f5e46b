"""Carve: bodies are cut at a surface."""

from __future__ import annotations

from functools import partial

import numpy as np

from lithon.brep.topology import Edge, Face, rough_box
from lithon.carve.freeing import Freeing
from lithon.carve.sheets import split_sheets
from lithon.carve.split import split
from lithon.errors import Refusal
from lithon.geometry.meet import midway
from lithon.geometry.surfaces import Plane, Surface
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import CutAt, some_bodies
from lithon.operations.places import Cut


class Carve(Operation):
    """Cut bodies at a plane, or at the surface of a face, extended."""

    on_sheets = True

    cut: Cut = param(CutAt(title="cut at", help="z = 3, midway between two faces, offset from one, through points"))
    bodies: Choice = param(some_bodies())

    def do(self, bench: Bench) -> Made:
        surface = bench.surface()
        chosen = list(bench.given["bodies"]) or list(bench.model.bodies)
        sheets, solids = [b for b in chosen if b.sheet], [b for b in chosen if not b.sheet]
        out, missed = bench.model, None
        for some, way in ((sheets, split_sheets), (solids, partial(split, progress=bench.progress))):
            try:
                out = way(out, some, surface) if some else out
            except Refusal as refusal:  # it need not pass through both kinds
                missed = refusal
        if out is bench.model and missed is not None:
            raise missed
        return Made(out, f"carve {at_words(surface)}")

    @classmethod
    def of(cls, chosen: Chosen) -> Carve | None:
        cut = cut_of(chosen)
        return None if cut is None else cls(cut=cut)

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return cut_of(chosen) is not None

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        made = cls.of(chosen)
        return {"cut": made.cut if made is not None else across(chosen), "bodies": Choice("bodies", live=chosen.bodies)}

    def subject(self) -> str:
        names = {"midway": "midway between two faces", "offset": f"{self.cut.by:g} mm off a face",
                 "through": "through three points", "surface": "at the chosen face, extended"}  # fmt: skip
        return names.get(self.cut.way, at_words(Plane.of(list(self.cut.origin), list(self.cut.normal))))


def cut_of(chosen: Chosen) -> Cut | None:
    """The cut that what is in hand describes: three points, two plane faces, one, or a round one."""
    planes = [f for f in chosen.faces if isinstance(f.surface, Plane)]
    if len(chosen.points) == 3:
        return Cut.through(chosen.points)
    if chosen.edges or chosen.vertices or not 1 <= len(chosen.faces) <= 2:
        return None
    if len(planes) == 2:
        a, b = planes
        one, two = a.surface, b.surface
        if (
            not (isinstance(one, Plane) and isinstance(two, Plane))
            or abs(float(one.frame.z @ two.frame.z)) < 1.0 - 1e-9
        ):
            return None
        return Cut.midway(a, b) if _passes(chosen, midway(one, two)) else None
    if len(chosen.faces) != 1:
        return None
    face = chosen.faces[0]
    if planes:
        return Cut.offset(face, -chosen.size)
    return Cut.surface(face) if face.surface.kind in ("cylinder", "cone", "sphere", "torus") else None


def round_cut(chosen: Chosen) -> Cut | None:
    """A cylinder about what is in hand, if that is one edge or face with an axis: as wide as it is, or an element."""
    things: list[Face | Edge] = [*chosen.faces, *chosen.edges]
    if len(things) != 1:
        return None
    thing = things[0]
    shape = thing.surface if isinstance(thing, Face) else thing.curve
    if shape.kind not in ("cylinder", "cone", "torus", "line", "circle"):
        return None
    return Cut.round(thing, float(getattr(shape, "radius", chosen.size)))


def _passes(chosen: Chosen, plane: Plane) -> bool:
    """Whether a plane comes between the corners of a body's box: bodies apart may have nothing midway."""
    for body in chosen.model.bodies:
        corners = np.stack(np.meshgrid(*rough_box([body]).T, indexing="ij"), axis=-1).reshape(-1, 3)
        away = plane.signed_distance(corners)
        if away.min() < -chosen.model.tolerance and away.max() > chosen.model.tolerance:
            return True
    return False


def across(chosen: Chosen) -> Cut:
    """A plane across the middle of everything, for a start."""
    middle = rough_box(chosen.model.bodies).mean(axis=0)
    return Cut.at((0.0, round(float(middle[1]), 6) + 0.0, 0.0), (0.0, 1.0, 0.0))


def at_words(surface: Surface) -> str:
    """Where a cut is, in words: z = 3, at a cylinder."""
    if not isinstance(surface, Plane):
        return f"at a {surface.kind}"
    for k, name in enumerate("xyz"):
        if abs(abs(float(surface.frame.z[k])) - 1.0) < 1e-9:
            return f"{name} = {round(float(surface.frame.origin[k]), 6) + 0.0:g}"
    return "at a plane"


def place_of(face: Face) -> str:
    """Where a cut at a face's surface is: at z = 3, at a cylinder."""
    return f"at {at_words(face.surface).removeprefix('at ')}"


def cuts_in_words(way: Freeing) -> str:
    """Where to cut, and what can be swept afterwards."""
    places = ", then ".join(place_of(face) for face in way.cuts)
    freed = "all" if way.swept == way.pieces else f"{100.0 * way.share:.0f} %"
    return f"Cut {places}: {way.swept} of {way.pieces} pieces can be swept, {freed} of the volume."
