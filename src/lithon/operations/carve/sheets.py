"""Sheets: sections of solids as regions of a plane, the middles of walls, and open skins taken as what they are."""

from __future__ import annotations

from collections.abc import Collection
from contextlib import suppress
from dataclasses import replace

import numpy as np

from lithon.bond.share import bond
from lithon.brep.measures import area
from lithon.brep.topology import Body, Face, Model, new_uid
from lithon.carve.sheets import Wall, mid_surfaces, regions, walls_between
from lithon.errors import Refusal
from lithon.geometry.surfaces import Plane
from lithon.operations.carve.carve import across, cut_of
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import About, CutAt, Flag, Things, bodies, length, some_bodies
from lithon.operations.places import Axis, Cut
from lithon.words import many


def _put(bench: Bench, chosen: list[Body], made: list[Body], keep: bool) -> Model:
    """The model with sheets in the place of the bodies they were made of, or after all that stay."""
    kept = bench.model.bodies if keep else tuple(b for b in bench.model.bodies if b not in set(chosen))
    taken = {b.name for b in kept}
    names = [b.name if b.name not in taken else f"{b.name} sheet" for b in made]
    return Model(
        (*kept, *(replace(b, name=n, uid=new_uid()) for b, n in zip(made, names, strict=True))), bench.tolerance
    )


class Slice(Operation):
    """Make a plane model: the section of solids as regions named as they are, which share their edges."""

    plane: Cut = param(CutAt(title="plane", help="such as: z = 3", plane=True))
    about: Axis | None = param(About(title="axis", help="only what is on one side of it stays", optional=True))
    bodies: Choice = param(some_bodies())
    keep: bool = param(Flag(title="keep the solids", help="beside the regions", default=False, optional=True))

    @classmethod
    def of(cls, chosen: Chosen) -> Slice | None:
        cut = cut_of(chosen)
        return cls(plane=cut) if cut is not None and cut.way in ("midway", "offset", "through") else None

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return cls.of(chosen) is not None

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        made = cls.of(chosen)
        return {"plane": made.plane if made is not None else across(chosen), "about": None,
                "bodies": Choice("bodies", live=chosen.bodies), "keep": False}  # fmt: skip

    def do(self, bench: Bench) -> Made:
        plane, chosen = bench.surface("plane"), bench.bodies()
        assert isinstance(plane, Plane)
        together = Model(tuple(chosen), bench.tolerance)
        if len(chosen) > 1:
            bench.progress.tell(0.0, "looking at what touches")
            with suppress(Refusal):  # nothing touches: there is nothing to share
                together, _ = bond(together)
        made = regions(together, plane, bench.given["about"], bench.progress)
        total = sum(map(area, made))
        details = [{"region": b.name, "area_mm2": area(b)} for b in made]
        return Made(_put(bench, chosen, made, self.keep), f"slice to {many(len(made), 'region')}, {total:.6g} mm²",
                    details=details)  # fmt: skip


class MidSurface(Operation):
    """Make sheets midway between the two sides of walls, each with the wall's thickness; they share their edges."""

    bodies: Choice = param(some_bodies())
    sides: Choice = param(
        Things(title="sides", help="faces of the walls; left out: all walls that are found", of="faces", optional=True)
    )
    most: float | None = param(length("thickest", "that is a wall; left out: by its extent", above=0.0, optional=True))
    keep: bool = param(Flag(title="keep the solids", help="beside the sheets", default=False, optional=True))

    @classmethod
    def of(cls, chosen: Chosen) -> MidSurface | None:
        if chosen.edges or chosen.vertices or len(chosen.faces) % 2 or not (chosen.faces or chosen.bodies):
            return None
        if chosen.faces and not _pairs(chosen):
            return None
        return cls(bodies=chosen.bodies, sides=chosen.faces)

    def do(self, bench: Bench) -> Made:
        sides = bench.faces("sides")
        chosen = list(dict.fromkeys(b for f in sides for b in bench.model.owners(f))) if sides else bench.bodies()
        out: list[Body] = []
        details = []
        most = self.most or (np.inf if sides else None)  # sides that are chosen are those of a wall, however thick
        for body in chosen:
            walls = [w for w in walls_between(body, bench.tolerance, most) if _asked(w, set(sides))]
            if not walls:
                raise Refusal(
                    f"no wall with two parallel or coaxial sides is found on {body.name}",
                    remedy="a larger thickest wall, or choose the two sides"
                    if not sides
                    else "choose both sides of it",
                    entities=body.faces,
                )
            made = mid_surfaces(body, walls, bench.tolerance, bench.progress)
            out += made
            details += [{"sheet": b.name, "thickness_mm": b.thickness, "area_mm2": area(b)} for b in made]
        thick = sorted({float(np.round(b.thickness or 0.0, 9)) for b in out})
        words = ", ".join(f"{t:g}" for t in thick[:3]) + (" …" if len(thick) > 3 else "")
        return Made(_put(bench, chosen, out, self.keep), f"{many(len(out), 'mid-surface')}, {words} mm thick",
                    details=details)  # fmt: skip


def _asked(wall: Wall, sides: Collection[Face]) -> bool:
    return not sides or all(any(f in sides for f in side) for side in (wall.one, wall.other))


def _pairs(chosen: Chosen) -> bool:
    """Whether what is in hand are sides of walls."""
    faces = set(chosen.faces)
    for body in chosen.of("bodies"):
        for wall in walls_between(body, chosen.model.tolerance, float("inf")):
            if _asked(wall, faces):
                faces -= {*wall.one, *wall.other}
    return not faces


class TakeAsSheet(Operation):
    """Say that bodies are sheets: their free edges are meant, and they carry triangles or quads."""

    bodies: Choice = param(bodies())
    thickness: float | None = param(length("thickness", "of what the sheet stands for", above=0.0, optional=True))

    on_sheets = True
    gate = "own"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        from lithon.brep.shells import closed

        some = chosen.bodies
        return bool(some) and cls.taken(chosen) is not None and not any(closed(b) for b in some)

    def do(self, bench: Bench) -> Made:
        chosen = set(bench.bodies())
        # What was the copy of a solid is a sheet by itself.
        out = tuple(
            replace(b, uses=tuple(b.uses), sheet=True, thickness=self.thickness or b.thickness, uid=new_uid())
            if b in chosen
            else b
            for b in bench.model.bodies
        )
        return Made(Model(out, bench.tolerance), f"take {many(len(chosen), 'body')} as a sheet")
