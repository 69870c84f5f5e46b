"""STEP files (AP203, AP214, AP242) to a model: what is there, read and put in its place."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.same import folded
from lithon.brep.copies import copy_of, moved
from lithon.brep.faceted import bodies_of
from lithon.brep.topology import Body, Edge, Face, FaceUse, Model, new_uid
from lithon.errors import BadFile, Refusal
from lithon.exchange.part21 import Instance, read_exchange
from lithon.exchange.settling import settled
from lithon.exchange.step_assembly import TRIANGLES, Assembly, Placed
from lithon.exchange.step_faces import FaceReader
from lithon.exchange.step_tessellated import triangles_of
from lithon.log import fault


@dataclass(slots=True)
class Arrival:
    """What came out of a file: the model and what could not be taken, in words."""

    model: Model
    notes: list[str] = field(default_factory=list)
    #: How the unit was chosen, where the file names none (an `intake.UnitChoice`).
    unit: Any = None


def read_step(path: str | Path) -> Arrival:
    """Read a file. Raises BadFile with one clear message when nothing usable is in it."""
    path = Path(path)
    try:
        data = path.read_bytes()
    except OSError as error:
        raise BadFile(f"{path.name} cannot be opened: {error.strerror or error}") from error
    return parse_step(data.decode("utf-8", errors="replace"), path.stem)


def parse_step(text: str, name: str = "part") -> Arrival:
    exchange = read_exchange(text)
    try:
        return _Reader(FaceReader(exchange), Assembly(exchange), name).run()
    except (IndexError, KeyError, TypeError, ValueError, RecursionError) as error:
        raise BadFile(f"the STEP file is not well formed ({error})") from error
    except AttributeError as error:  # no file is to blame for that
        raise fault(error, "reading a STEP file") from error


@dataclass(slots=True)
class _Reader:
    faces: FaceReader
    assembly: Assembly
    name: str

    def run(self) -> Arrival:
        placed = list(self.assembly.placed())
        notes = [*self.assembly.notes]
        colours = self.assembly.colours()
        parts: dict[int, Body] = {}
        units = dict.fromkeys((p.scale, p.radians) for p in placed)
        for scale, radians in units:
            self.faces.set_units(scale, radians)
            shapes = dict.fromkeys(p.shape.number for p in placed if (p.scale, p.radians) == (scale, radians))
            parts |= self._bodies([self.faces.x.get_number(n) for n in shapes], colours)
        notes += self.faces.notes
        bodies: list[Body] = []
        taken: set[int] = set()
        names: Counter[str] = Counter()
        for place in placed:
            part = parts.get(place.shape.number)
            if part is None:
                continue
            try:
                body = self._at(part, place, place.shape.number in taken)
            except Refusal as refusal:
                notes.append(f"{part.name} left out: {refusal.what}")
                continue
            base = self._name(place, len(bodies))
            names[base] += 1
            name = base if names[base] == 1 else f"{base} {names[base]}"
            bodies.append(replace(body, name=name, path=place.path, uid=new_uid()))
            if body is part:
                parts[place.shape.number] = bodies[-1]  # where it stands next is a copy of it
            taken.add(place.shape.number)
        if not bodies:
            why = f" ({'; '.join(notes[:3])})" if notes else ""
            raise BadFile(f"the STEP file holds no solid that Lithon can read{why}")
        return Arrival(folded(settled(reshared(Model.of(bodies)), notes, stated=self.assembly.accuracy())), told(notes))

    def _bodies(self, shapes: list[Instance], colours: dict[int, tuple[float, float, float]]) -> dict[int, Body]:
        """The solids and sheet models of one unit, by number, each where it was modelled."""
        kept: dict[int, list[tuple[int, bool]]] = {}
        for shape in shapes:
            if shape.kind in TRIANGLES:
                continue
            try:
                shells = self.faces.shells(shape)
            except (BadFile, IndexError, TypeError) as error:
                self.faces.notes.append(f"the solid #{shape.number} is left out: {error}")
                continue
            uses = [(int(ref), forward) for shell, forward in shells for ref in shell.values[1]]
            kept[shape.number] = [(face, forward) for face, forward in uses if self.faces.face(face)]
        faces = self.faces.frozen_faces()
        out = {}
        for number, uses in kept.items():
            if uses:
                colour = colours.get(number) or _commonest([colours.get(face) for face, _ in uses])
                bound = tuple(FaceUse(faces[face], forward) for face, forward in uses)
                out[number] = Body(bound, self.name, colour=colour)
        if not out:  # triangles beside exact solids are pictures of those
            for shape in shapes:
                try:
                    made, notes = bodies_of([triangles_of(self.faces.x, shape, self.faces.scale)])
                except (BadFile, IndexError, TypeError, ValueError) as error:
                    self.faces.notes.append(f"the triangles #{shape.number} are left out: {error}")
                    continue
                self.faces.notes += notes
                every = tuple(use for body in made for use in body.uses)
                out[shape.number] = Body(every, self.name, colour=colours.get(shape.number))
        return out

    def _at(self, part: Body, place: Placed, again: bool) -> Body:
        if not again and np.abs(place.motion - np.eye(4)).max() == 0.0:
            return part
        return moved(part, _orthonormal(place.motion))

    def _name(self, place: Placed, index: int) -> str:
        own = place.shape.values[0]
        if isinstance(own, str) and own.strip() and own.strip().upper() not in ("NONE", "SOLID"):
            return own.strip()
        if place.path and place.path[-1]:
            return place.path[-1]
        product = next(self.assembly.x.of_kind("PRODUCT"), None)
        base = str(product.values[1] or product.values[0] or self.name) if product else self.name
        return base


_MOST_NOTES = 40


def told(notes: list[str]) -> list[str]:
    """Each note once, and no endless list of them."""
    once = list(dict.fromkeys(notes))
    return once if len(once) <= _MOST_NOTES else [*once[:_MOST_NOTES], f"and {len(once) - _MOST_NOTES} more of these"]


def _commonest(colours: list[tuple[float, float, float] | None]) -> tuple[float, float, float] | None:
    found = Counter(c for c in colours if c is not None).most_common(1)
    return found[0][0] if found else None


def _orthonormal(motion: Floats) -> Floats:
    """The nearest matrix that only moves, turns or mirrors: written directions carry few digits."""
    u, size, v = np.linalg.svd(motion[:3, :3])
    if np.abs(size - 1.0).max() > 1e-4:
        return motion
    out = motion.copy()
    out[:3, :3] = u @ v
    return out


def reshared(model: Model) -> Model:
    """Faces of two bodies on the very same edges and surface become one shared face.

    STEP's solids cannot share a face, but they can share its edges; that is how a bonded contact is
    written, and this is how it is found again.
    """
    first: dict[frozenset[Edge], tuple[Face, Body, bool]] = {}
    bodies: list[Body] = []
    for body in model.bodies:
        if copy_of(body) is not None:  # its edges are nobody else's
            bodies.append(body)
            continue
        uses = list(body.uses)
        for i, use in enumerate(uses):
            key = frozenset(use.face.edges())
            if len(key) == 0:
                continue
            hit = first.get(key)
            if hit is None:
                first[key] = (use.face, body, use.forward)
                continue
            other = hit[0]
            if hit[1] is body or not other.surface.same_as(use.face.surface, 10.0 * model.tolerance, 1.0):
                continue
            at = next(iter(key)).at(0.3)[None]
            if float(use.outward(at)[0] @ FaceUse(other, hit[2]).outward(at)[0]) < 0.0:
                uses[i] = FaceUse(other, not hit[2])
        changed = any(a is not b for a, b in zip(uses, body.uses, strict=True))
        bodies.append(body.with_uses(uses) if changed else body)
    return Model(tuple(bodies), model.tolerance)
