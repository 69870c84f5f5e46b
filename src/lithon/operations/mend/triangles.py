"""Clean triangles: what a scanner or an export left behind."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from lithon.brep.cleaning import belonging, cleaned, winding_number
from lithon.brep.faceted import Triangles, bodies_of, faceted, soup_of
from lithon.brep.measures import area, volume
from lithon.brep.shells import closed
from lithon.brep.topology import Body, Model, rough_box
from lithon.errors import Refusal
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import length, some_bodies
from lithon.words import many

#: A body inside another with less than this share of its volume is a fragment.
_SMALL = 0.02


def made_of_triangles(bench: Bench, otherwise: str) -> list[Body]:
    """Those of the bodies of an operation that are. Raises Refusal where none is, with what to do then."""
    chosen = [b for b in bench.bodies() if faceted(b)]
    if not chosen:
        raise Refusal("none of the bodies is made of triangles", remedy=otherwise)
    return chosen


def _fragments(bodies: Sequence[Body]) -> list[Body]:
    """Small bodies of triangles that lie inside another one, of those that were cleaned or are as they were."""
    own = [b for b in bodies if faceted(b)]
    boxes = {b: rough_box([b]) for b in own}
    out = []
    for small in own:
        some = soup_of(small).points[:9]
        for big in own:
            if big is small or abs(volume(small)) > _SMALL * abs(volume(big)):
                continue
            if not ((some > boxes[big][0]) & (some < boxes[big][1])).all(axis=1).any():
                continue
            soup = soup_of(big)
            if bool((np.abs(winding_number(soup.points, soup.corners, some)) > 0.5).mean() > 0.5):
                out.append(small)
                break
    return out


def _torn(bodies: Sequence[Body], weld: float | None) -> list[list[Body]]:
    """Bodies that a file has apart though they are one skin, together, the largest first of each; of one part only."""
    parts: dict[tuple[object, ...], list[Body]] = {}
    for body in bodies:
        parts.setdefault((*body.path, body.name.rstrip("0123456789 ")), []).append(body)
    out: list[list[Body]] = []
    for own in parts.values():
        if len(own) == 1 or all(closed(b) for b in own):
            out += [[b] for b in own]
            continue
        soups = [soup_of(b) for b in own]
        group = belonging([(s.points, s.corners) for s in soups], weld)
        for k in np.unique(group).tolist():
            unit = [own[i] for i in np.flatnonzero(group == k).tolist()]
            out.append(sorted(unit, key=lambda b: -area(b)))
    return out


def _together(bodies: Sequence[Body]) -> Triangles:
    soups = [soup_of(b) for b in bodies]
    starts = np.cumsum([0, *(len(s.points) for s in soups)])
    corners = [s.corners + start for s, start in zip(soups, starts, strict=False)]
    first = soups[0]
    return Triangles(np.concatenate([s.points for s in soups]), np.concatenate(corners), first.name, first.colour)


class CleanTriangles(Operation):
    """Weld, drop what has no area or stands twice, turn, fill holes, drop islands and fragments, part what crosses."""

    bodies: Choice = param(some_bodies("bodies", "made of triangles; left out: all of them"))
    weld: float | None = param(length("weld", "points nearer than this become one", above=0.0, optional=True))

    unbonded = "clean"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        found = chosen.of("bodies")
        return bool(found) and super().fits(chosen) and all(faceted(b) and not closed(b) for b in found)

    def do(self, bench: Bench) -> Made:
        chosen = made_of_triangles(bench, "Mend what is safe does exact bodies")
        # What was one part in the file may hang together in nothing but its name.
        healed: dict[str, int] = {}
        out: list[Body] = []
        units = {unit[0]: unit for unit in _torn(chosen, self.weld)}
        torn = {body for unit in units.values() for body in unit[1:]}
        whole = sum(area(body) for body in chosen)
        for k, body in enumerate(bench.model.bodies):
            if body in torn:
                healed["torn off and put back"] = healed.get("torn off and put back", 0) + 1
                continue
            if body not in chosen:
                out.append(body)
                continue
            bench.progress.tell(k / len(bench.model.bodies), f"cleaning {body.name}")
            soup = _together(units[body])
            made = cleaned(soup.points, soup.corners, self.weld)
            if not len(made.corners):
                if area(body) > _SMALL * whole:
                    raise Refusal(f"nothing is left of {body.name}: it encloses nothing", entities=(body,),
                                  remedy="weld within less, or take it as a sheet")  # fmt: skip
                healed["fragments that enclose nothing"] = healed.get("fragments that enclose nothing", 0) + 1
                continue
            if made.left:
                raise Refusal(f"{many(made.left, 'hole')} of {body.name} could not be filled",
                              remedy="weld within more, or drop the body", entities=(body,))  # fmt: skip
            for what, n in made.healed.items():
                healed[what] = healed.get(what, 0) + n
            if not made.healed and len(units[body]) == 1:
                out.append(body)
                continue
            fresh = bodies_of([Triangles(made.points, made.corners, body.name, body.colour)])[0]
            out += [replace(b, path=body.path) for b in fresh]
        for body in _fragments(out):
            healed["inner fragments dropped"] = healed.get("inner fragments dropped", 0) + 1
            out.remove(body)
        if not healed:
            raise Refusal("there is nothing to clean", remedy="the triangles are closed, welded and turned alike")
        words = ", ".join(f"{n} {what}" for what, n in sorted(healed.items(), key=lambda x: -x[1]))
        return Made(Model(tuple(out), bench.tolerance), f"clean triangles: {words}",
                    details=[{"wound": what, "healed": n} for what, n in healed.items()])  # fmt: skip
