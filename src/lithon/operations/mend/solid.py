"""Solid from triangles: facets become faces, and faces the simple surfaces that they are."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import replace
from typing import Any

import numpy as np

from lithon.arrange.tidy import tidied
from lithon.arrays import Floats, Ints, triangle_areas
from lithon.brep.cleaning import cleaned
from lithon.brep.faceted import Triangles, as_planes, bodies_of, faceted, soup_of
from lithon.brep.measures import area, volume
from lithon.brep.shells import closed
from lithon.brep.topology import Body, Model
from lithon.brep.validate import Flaw, flaws
from lithon.errors import Refusal, Spent, spot
from lithon.geometry.surfaces import Plane
from lithon.geometry.tolerance import MISS
from lithon.mend.borders import straightened, united
from lithon.mend.corners import untangled
from lithon.mend.relations import related
from lithon.mend.segments import Patch
from lithon.mend.slicing import smooth_sides
from lithon.mend.slivers import without_slivers
from lithon.mend.solid import Left, MostlyFacets, Solid, bordering, solid_of
from lithon.operations.choices import Choice
from lithon.operations.marks import Marks
from lithon.operations.mend.patches import LADDER, Patched
from lithon.operations.mend.triangles import made_of_triangles
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import Number, OneOf, length, some_bodies
from lithon.operations.prove.drapes import free_drape
from lithon.progress import Progress, now, seconds_left
from lithon.words import many

#: How long (s) what was found in time may take to be looked at and put in its place.
_FINISHING = 30.0
#: How long (s) patches that fail are parted, and more for each triangle.
_PARTING = 15.0, 8e-3
#: The share of a skin of which at most stays facets beside simple or free-form faces.
_MOST_LEFT = 0.9
#: In scatters of a scan: the resolution of a solid whose faces do not meet any nearer.
_OF_SCATTER = 0.5
#: How many times as far as allowed a few corners may stray that were given to the nearest surface.
_STRAY = 2.0
#: A share of the corners of a scan's patch that may stray further, and how many times as far; where more of any do
#: than this share it is not their surface.
_FEW_STRAY, _FURTHER, _MANY_STRAY = 0.01, 3.0, 0.03
#: Within this share of the diagonal corners lie on what they were made from; and so much of a skin may stay facets
#: before surfaces further off are looked for.
_EXACT, _LITTLE = 3e-5, 0.3
#: Where faces may stand off by more in parts: the share of that which is looked for; and in which they meet.
_SOUGHT, _OF_DEVIATION = 0.3, 0.012
#: A patch with fewer corners that are of no other lies on some surface as any few triangles do.
_OF_ITS_OWN = 3
#: Of so many triangles a body is free-form where more than this share of it lies on nothing simple.
_DENSE, _MOSTLY = 2000, 0.5
#: So many are enough where it was asked for.
_ENOUGH_ASKED = 300
#: Where no more of a skin stays facets no further deviation is tried.
_ENOUGH = 0.02
#: Free-form faces may miss each other by such a share of how high what is smooth stands over the triangles' sides.
_OF_SAGITTA = 0.04
#: Surfaces with more deviation are the same where they are no fewer than this share of those with less.
_ALIKE = 0.97
#: So many plane patches on a round one are its chords where they lean as it does (a cosine).
_CHORDS, _ALONG = 3, 0.99
#: So many times as long as it took to see that they do not all meet it takes to look for others.
_NEXT = 4.0
#: Another solid is worth making where no more than this share of what stays facets in the best so far does.
_LESS = 0.9
#: Within so many tolerances corners of triangles that are too small become one.
_BLUNT = 2.0
#: How faces of single triangles are told.
FACETS = "facets"


def _left(solid: Solid) -> float:
    """How much (mm2) of a solid stayed facets."""
    return float(sum(left.area for left in solid.left))


def _coarsened(model: Model, made: Body, tolerance: float) -> Model:
    """A model in which faces may miss each other as far as one of its bodies needs. Raises Refusal where another body
    has faces too small for that."""
    if tolerance <= model.tolerance:
        return model
    for body in model.bodies:
        if body is not made and not faceted(body) and flaws(body, tolerance):
            raise Refusal(
                f"its faces meet no nearer than {tolerance:.2g} mm, and {body.name} has smaller ones",
                remedy="make solids of them one by one, or keep the facets",
                entities=(made, body),
            )
    return replace(model, tolerance=tolerance)


def _told_apart(body: Body, tolerance: float) -> Body:
    """A closed body of triangles, none of which is too small to be told from nothing: beside what comes from a scan,
    which is no nearer than it scatters, some may be. Raises Refusal."""
    wrong = flaws(body, tolerance)
    if not wrong:
        return body
    if any(flaw.kind != "empty face" for flaw in wrong):
        raise Refusal(f"the triangles of {body.name} are not closed", remedy="clean the triangles first",
                      entities=(body,))  # fmt: skip
    return _without_specks(body, tolerance)


def _without_specks(body: Body, tolerance: float) -> Body:
    """A closed body of triangles without those that are too small, or too thin, to be told from nothing. Raises
    Refusal."""
    soup = soup_of(body)
    made = cleaned(soup.points, soup.corners, _BLUNT * tolerance)
    corners, _ = without_slivers(made.points, made.corners, (), tolerance)
    out = bodies_of([Triangles(made.points, corners, body.name, body.colour)])[0] if len(corners) else []
    if len(out) != 1 or flaws(out[0], tolerance):
        raise Refusal(f"{body.name} has triangles smaller than the model tells apart, {tolerance:.2g} mm",
                      remedy="weld within more, or make a solid of it by itself", entities=(body,))  # fmt: skip
    return replace(out[0], path=body.path)


def _flat_faces(body: Body, tolerance: float) -> Body:
    """A body of triangles as planes, those that go on in each other one face; triangle by triangle where they are so
    small beside the tolerance (mm) that faces of many would not be sound."""
    wrong: list[Flaw] = []
    for again in (False, True):
        planes = as_planes(_without_specks(body, tolerance) if again else body)
        for made in (tidied(planes, tolerance), planes):
            if not (wrong := flaws(made, tolerance)):
                return made
    raise Refusal(f"its triangles make no sound faces: {wrong[0].text}", where=spot(wrong[0].place),
                  remedy="clean the triangles, or make a solid of it by itself", entities=(body,))  # fmt: skip


def _strays(points: Floats, corners: Ints, patch: Patch, most: float, few: float) -> bool:
    """Whether corners of a patch stand further off its surface than they may (mm): more than a few, a share of them,
    or any by far more. Where those of a scan do they were given to the wrong one of two that meet there."""
    if patch.off <= most or patch.of_pipe:
        return False  # of a pipe none stand further off than they may
    assert patch.surface is not None
    off = np.abs(patch.surface.signed_distance(points[np.unique(corners[patch.rows])]))
    return bool(patch.off > _FURTHER * most or (off > most).sum() > few * len(off))


def _without_strays(points: Floats, corners: Ints, patch: Patch, most: float) -> list[Patch]:
    """A patch without the triangles that have corners off its surface by more than `most` (mm), and those by
    themselves; all without a surface where many corners are."""
    assert patch.surface is not None
    ids, where = np.unique(corners[patch.rows], return_inverse=True)
    far = np.abs(patch.surface.signed_distance(points[ids])) > most
    bad = far[where.reshape(-1, 3)].any(axis=1)
    if far.sum() > _MANY_STRAY * len(ids) or bad.all():
        return [Patch(None, patch.rows, 0.0)]
    off = patch.surface.signed_distance(points[np.unique(corners[patch.rows[~bad]])])
    good = Patch(patch.surface, patch.rows[~bad], float(np.abs(off).max()))
    return [good, Patch(None, patch.rows[bad], 0.0)]


def _few(sheet: Patched, tolerance: float | None) -> float:
    """The share of a patch's corners that may stray from its surface by more."""
    return _FEW_STRAY if sheet.noise() and tolerance is None else 0.0


def _on_surfaces(sheet: Patched, found: list[Patch], near: float) -> list[Patch]:
    """Patches whose surfaces are in the relations that they are in within a deviation (mm)."""
    pairs = bordering(len(sheet.points), sheet.corners, found)
    return related(sheet.points, sheet.corners, found, pairs, near / 3.0)


def _bordering_well(sheet: Patched, found: list[Patch], tolerance: float, mixed: bool) -> list[Patch]:
    """Patches of a scan, their borders where surfaces that may miss each other so far (mm) meet; `mixed`: those one
    that would stay facets because their surfaces are the same along their border."""
    points, corners = sheet.points, sheet.corners
    found = united(points, corners, found, bordering(len(points), corners, found), MISS * tolerance, mixed)
    return untangled(points, corners, straightened(points, corners, found, tolerance), MISS * tolerance)


def _loose(sheet: Patched, tolerance: float | None) -> float:
    """The share of a skin that lies on nothing simple within the least deviation."""
    points, corners, few = sheet.points, sheet.corners, _few(sheet, tolerance)
    found, near = next(sheet.found(tolerance, True), ([], 0.0))
    area = triangle_areas(points, corners)
    loose = (p for p in found if p.surface is None or _strays(points, corners, p, _STRAY * near, few))
    return sum(float(area[p.rows].sum()) for p in loose) / float(area.sum())


def shapeless(body: Body, marks: Marks, tolerance: float | None) -> bool:
    """Whether most of a body of many triangles lies on nothing simple."""
    if len(soup_of(body).corners) < _DENSE:
        return False
    sheet = Patched.of(body, marks)
    return not sheet.whole and _loose(sheet, tolerance) > _MOSTLY


def _shapeless_as_one(points: Floats, corners: Ints, found: list[Patch]) -> list[Patch]:
    """Patches, of which those that lie on no surface are one: where it goes apart is found when it is cut. So do those
    that lie on one as any few triangles do: within what is smooth, and with hardly a corner that is theirs alone."""
    label = np.full(len(corners), -1, dtype=np.int64)
    for k, patch in enumerate(found):
        label[patch.rows] = k
    i, j, long, smooth = smooth_sides(points, corners)
    apart = label[i] != label[j]
    around = [
        np.bincount(np.r_[label[i[m]], label[j[m]]], np.tile(long[m], 2), len(found)) for m in (apart, apart & smooth)
    ]
    shared = np.zeros(len(points), dtype=np.int64)  # of how many patches a corner is
    own = [np.unique(corners[patch.rows]) for patch in found]
    np.add.at(shared, np.concatenate(own), 1)
    loose, kept = list[Ints](), list[Patch]()
    for k, patch in enumerate(found):
        few = int((shared[own[k]] == 1).sum()) < _OF_ITS_OWN
        if patch.surface is None or (few and around[1][k] > 0.5 * around[0][k]):
            loose.append(patch.rows)
        else:
            kept.append(patch)
    return [*kept, Patch(None, np.sort(np.concatenate(loose)), 0.0)] if loose else kept


class SolidFromTriangles(Operation):
    """Make exact solids of triangles; smooth: free-form where nothing simple fits; what is neither stays facets."""

    bodies: Choice = param(some_bodies("bodies", "made of triangles; left out: all of them"))
    kind: str = param(OneOf(title="faces", options=("simple", "smooth", "facets"), default="simple", optional=True))
    tolerance: float | None = param(length("deviation", "how far corners may stand off a surface; left out: the least "
                                           "with which a solid comes out", above=0.0, optional=True))  # fmt: skip
    left: float = param(Number(title="facets", unit="%", factor=0.01, above=0.0, most=1.0, default=_MOST_LEFT,
                               optional=True, help="where more of the skin would stay so, it is refused"))  # fmt: skip

    unbonded = "make a solid"
    gate = "own"
    budget = 600.0

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        found = chosen.of("bodies")
        return bool(found) and super().fits(chosen) and all(faceted(b) and closed(b) for b in found)

    def do(self, bench: Bench) -> Made:
        chosen = made_of_triangles(bench, "exact bodies are solids already")
        details: list[dict[str, Any]] = []
        out, stayed = bench.model, list[Left]()
        found = list[Solid]()
        for k, body in enumerate(chosen):
            bench.progress.tell(k / len(chosen), f"finding surfaces of {body.name}")
            found.append(self._of(body, bench))
        bench.progress.bring_home(_FINISHING)
        for body, solid in zip(chosen, found, strict=True):
            made = replace(solid.body, name=body.name, path=body.path, colour=body.colour)
            out = _coarsened(out.replaced(body, [made]), made, solid.tolerance)
            facets = {face for left in solid.left for face in left.faces}
            kinds = Counter(FACETS if f in facets else f.surface.kind for f in made.faces)
            told = [{"area_mm2": left.area, "place_mm": left.place.tolist(), "why": left.why} for left in solid.left]
            details.append({"body": body.name, "faces": dict(kinds), "deviation_mm": solid.off,
                            "volume_mm3": volume(made), "left": told})  # fmt: skip
            stayed += solid.left
        most = max(float(d["deviation_mm"]) for d in details)
        faces = sum(len(b.uses) for b in out.bodies if b not in bench.model.bodies)
        words = f"solid of {many(faces, 'face')}, {most:.2g} mm off at the most"
        marks = bench.state.marks.carried(bench.model, out)
        loose = [face for left in stayed for face in left.faces]
        if stayed:
            share = sum(left.area for left in stayed) / sum(area(b) for b in out.bodies if b not in bench.model.bodies)
            words += f"; {max(share, 0.001):.2g} of its skin stays facets"
            for left in stayed:
                marks = marks.put("drape", left.faces, free_drape(marks))
        return Made(
            out, words, details=details, marks=marks, shown=list(dict.fromkeys(e for f in loose for e in f.edges()))
        )

    def _of(self, body: Body, bench: Bench) -> Solid:
        """The solid of a body; the best so far where there is no time for a better one. Raises Refusal, Spent."""
        held: list[Solid] = []
        try:
            return self._sought(body, bench, held)
        except Spent:
            if not held:
                raise
            return min(held, key=_left)

    def _sought(self, body: Body, bench: Bench, held: list[Solid]) -> Solid:
        """As `_of`; what comes out on the way is put to `held`."""
        body = _told_apart(body, bench.tolerance)
        if self.kind == "facets":
            return Solid(_flat_faces(body, bench.tolerance), 0.0)
        sheet = Patched.of(body, bench.state.marks)
        given = self._given(sheet)
        if not given and len(loose := self._tolerances(sheet, bench)) > 1:
            with suppress(Refusal):  # beside what meets no nearer than it scatters more of them are too small
                sheet = Patched.of(_told_apart(body, loose[-1]), bench.state.marks)
        return _Search(self, sheet, given, self._tolerances(sheet, bench), held).run(bench.progress)

    def _given(self, sheet: Patched) -> list[tuple[list[Patch], float]]:
        """The patches that were put right by hand, with each deviation (mm) that is tried; none without such."""
        if not sheet.whole:
            return []
        smooth = self.kind == "smooth"
        given = sheet.patches(smooth)
        least = max(3.0 * max(p.off for p in given), LADDER[0] * sheet.scale)
        steps = [least, *(near for s in LADDER if (near := s * sheet.scale) > least)] if smooth else [least]
        return [(given, near) for near in ([self.tolerance] if self.tolerance else steps)]

    def _tolerances(self, sheet: Patched, bench: Bench) -> list[float]:
        """How far (mm) faces may miss each other: what is told from a scan is no nearer than it scatters, so faces that
        go on into each other there may not meet any nearer."""
        loose = _OF_SCATTER * sheet.noise()
        return [bench.tolerance, loose] if loose > bench.tolerance else [bench.tolerance]

    def joined(
        self, sheet: Patched, found: list[Patch], near: float, tolerance: float, mixed: bool, most: float = math.inf,
        parted: bool = False,
    ) -> Solid:  # fmt: skip
        """The sound solid of patches, of which no more than `most` (mm2) stays facets; `parted`: those that fail are
        cut in parts first. Raises Refusal."""
        points, corners = sheet.points, sheet.corners
        found = sheet.made_ready("on surfaces", found, (near,), lambda: _on_surfaces(sheet, found, near))
        if sheet.noise():
            held = found
            found = sheet.made_ready(
                "bordering", held, (tolerance, mixed), lambda: _bordering_well(sheet, held, tolerance, mixed)
            )
        few = _few(sheet, self.tolerance)
        strays = [p for p in found if p.surface is not None and _strays(points, corners, p, _STRAY * near, few)]
        if strays and not mixed:
            far = max(strays, key=lambda p: p.off)
            raise Refusal(f"corners stand {far.off:.2g} mm off the {far.kind} that they should lie on",
                          where=spot(points[corners[far.rows[0]]].mean(axis=0)),
                          remedy="part the patch there, or allow more deviation")  # fmt: skip
        for p in strays:
            found.remove(p)
            found += _without_strays(points, corners, p, _STRAY * near)
        if parted and not sheet.whole:
            found = _shapeless_as_one(points, corners, found)
        free = near if self.kind == "smooth" else 0.0
        if mixed:
            corners, found = without_slivers(points, corners, found, tolerance)
        loosely = (LADDER[-1] * sheet.scale if self.tolerance is None else near) if parted else None
        free = max(free, _SOUGHT * (loosely or 0.0))
        made = solid_of(points, corners, found, tolerance, sheet.body.name, free, mixed, most, sheet.lost, loosely,
                        coarse=_coarse(sheet))  # fmt: skip
        if wrong := flaws(made.body, tolerance):
            raise Refusal(f"the solid would not be sound: {wrong[0].text}",
                          remedy="allow more deviation, or keep the facets")  # fmt: skip
        return replace(made, off=max([made.off, *(p.off for p in found)]))


def _of_sagitta(sheet: Patched) -> float:
    """How far (mm) free-form faces may miss each other for how far apart exact corners are."""
    return 0.0 if sheet.noise() else _OF_SAGITTA * sheet.sagitta()


def _coarse(sheet: Patched) -> bool:
    """Whether that is further than what may be for the deviation that is allowed."""
    return _of_sagitta(sheet) > _OF_DEVIATION * LADDER[-1] * sheet.scale


def _of_chords(sheet: Patched, found: list[Patch], near: float) -> bool:
    """Whether several plane patches lie on one that is round, within a deviation (mm), and lean as it does: what was
    scanned, or divided again, had been drawn by chords."""
    flats = [(p, p.surface.frame.z) for p in found if isinstance(p.surface, Plane)]
    own = [sheet.points[np.unique(sheet.corners[p.rows])] for p, _ in flats]
    middles, ways = (np.array(x).reshape(-1, 3) for x in ([q.mean(axis=0) for q in own], [z for _, z in flats]))
    for patch in found:
        surface = patch.surface
        if surface is None or isinstance(surface, Plane) or not len(flats):
            continue
        lean = np.abs((surface.normal(middles) * ways).sum(axis=1))
        beside = (lean > _ALONG) & (np.abs(surface.signed_distance(middles)) <= near)
        chords = sum(
            len(flats[k][0].rows) < len(patch.rows) and float(np.abs(surface.signed_distance(own[k])).max()) <= near
            for k in np.flatnonzero(beside).tolist()
        )
        if chords >= _CHORDS:
            return True
    return False


#: Patches with the deviation (mm) that was allowed for them.
_Rung = tuple[list[Patch], float]


class _Search:
    """The ways in which a body of triangles becomes a solid, tried one after the other: all of it in simple faces, then
    some left as facets or made free-form, then what fails in parts. What comes out on the way is put to `held`."""

    def __init__(
        self, asked: SolidFromTriangles, sheet: Patched, given: list[_Rung], tolerances: list[float], held: list[Solid]
    ):
        self.asked, self.sheet, self.given, self.held = asked, sheet, given, held
        self.tolerances, self.loosest = tolerances, tolerances[-1]
        self.smooth, self.area = asked.kind == "smooth", area(sheet.body)
        #: Whether there are so many triangles, none of them in a patch that was put right by hand.
        self.dense = len(sheet.corners) >= (_ENOUGH_ASKED if self.smooth else _DENSE) and not given
        self.refusal: Refusal | None = None
        #: Of corners that are exact: the solid with facets where they lie on nothing, or why there is none.
        self.tried: Solid | MostlyFacets | None = None
        #: Patches that all lie on something, but do not all meet.
        self.named: _Rung | None = None
        self.best: Solid | None = None

    def run(self, progress: Progress) -> Solid:
        """The first that is good, else the best. Raises Refusal, Spent."""
        if not self.smooth and (solid := self.simple()) is not None:
            return solid
        if self.given and all(patch.surface is not None for patch in self.given[0][0]):
            assert self.refusal is not None
            raise self.refusal  # it is for them who parted it to put it right
        shapeless = self.shapeless()
        rung = self.partly() if shapeless is None else shapeless
        if self.smooth and rung is not None and not self.enough():
            try:
                with progress.within(_PARTING[0] + _PARTING[1] * len(self.sheet.corners)):
                    return self.asked.joined(self.sheet, *rung, self.meeting(), True, self.most(), True)
            except Refusal as error:
                self.refusal = self.refusal or error
            except Spent:
                if self.best is None and progress.seconds_left() <= 0.0:
                    raise
        if shapeless is not None and self.best is None:
            self.partly()
        if self.best is not None:
            return self.best
        raise self.refusal or Refusal("nothing of it lies on a surface",
                                      remedy="allow more deviation, or keep the facets")  # fmt: skip

    def meeting(self) -> float:
        """How far (mm) free-form faces in parts may miss each other: a small share of how far corners may stand off."""
        if self.asked.tolerance is not None or self.given:
            return self.loosest
        return max(self.loosest, _OF_DEVIATION * LADDER[-1] * self.sheet.scale, _of_sagitta(self.sheet))

    def rungs(self, free: bool = False) -> Iterator[_Rung]:
        return iter(self.given) if self.given else self.sheet.found(self.asked.tolerance, free)

    def most(self) -> float:
        """How much (mm2) of what is tried next may stay facets."""
        return self.asked.left * self.area if self.best is None else _LESS * _left(self.best)

    def little(self) -> float:
        """So little (mm2) may stay facets that nothing else is tried."""
        return _ENOUGH * self.area

    def enough(self) -> bool:
        """Whether so little stays facets that nothing else is tried."""
        return self.best is not None and _left(self.best) <= self.little()

    def simple(self) -> Solid | None:
        """All in simple faces, from the least deviation up."""
        exact = self.asked.tolerance is None and not self.given and not self.sheet.noise()
        first, began = 0, now()
        for found, near in self.rungs():
            if exact and near > _EXACT * self.sheet.scale:
                # Its corners are exact: what does not lie on anything as they are is free-form, and little of it.
                exact, self.tried = False, self.exactly()
                if isinstance(self.tried, Solid):
                    self.held.append(self.tried)
                    if _left(self.tried) <= _LITTLE * self.area:
                        return min(self.held, key=_left)
            if exact and first and len(found) > first:
                continue  # they fell into pieces
            if self.sheet.noise() and self.dense and _loose(self.sheet, self.asked.tolerance) > _LITTLE:
                return None  # with more deviation it lies on nothing simple either
            # The same patches do not meet any nearer than before; fewer ones may, as nearly as what is exact.
            alike = bool(first) and len(found) > _ALIKE * first
            for tolerance in self.tolerances[alike:] or self.tolerances:
                try:
                    made = self.asked.joined(self.sheet, found, near, tolerance, False)
                except Refusal as error:
                    self.refusal = self.refusal or error
                    continue
                if first or not self.sheet.noise() or not _of_chords(self.sheet, found, near):
                    return made
                first = len(found)  # with more deviation the chords of a round face may be one
                self.held.append(made)
                break
            if not first and (exact or self.sheet.noise()):
                first, took = len(found), now() - began
                with suppress(Refusal):  # all lies on something, and a few do not meet
                    self.held.append(self.asked.joined(self.sheet, found, near, self.loosest, True, self.little()))
                    if exact or seconds_left() < _NEXT * took:
                        return self.held[-1]
            elif alike and self.held:
                return min(self.held, key=_left)  # with more deviation it is the same
            if self.tried is not None and self.named is None and all(patch.surface is not None for patch in found):
                self.named = found, near
        found_so_far = min(self.held, key=_left, default=None)
        return found_so_far if found_so_far is not None and _left(found_so_far) <= self.little() else None

    def exactly(self) -> Solid | MostlyFacets | None:
        """The solid whose faces lie on what its corners lie on exactly, the rest facets, or that too much would be;
        none where there is none."""
        for found, near in self.sheet.found(_EXACT * self.sheet.scale, True):
            try:
                return self.asked.joined(self.sheet, found, near, self.loosest, True, self.most())
            except MostlyFacets as refusal:
                return refusal
            except Refusal:
                return None
        return None

    def shapeless(self) -> _Rung | None:
        """The patches with the least deviation of a scan of many triangles, or where most of them lie on nothing
        simple: there faces in parts are what is wanted; none where that is not so."""
        if not self.smooth or not self.dense or self.tried is not None:
            return None
        found, near = next(self.rungs(True), (None, 0.0))
        if found is None or not (self.sheet.noise() or _loose(self.sheet, self.asked.tolerance) > _LITTLE):
            return None
        return found, near

    def partly(self) -> _Rung | None:
        """With some of it left as facets, or in free-form faces; the rung that was tried last."""
        self.best = self.tried if isinstance(self.tried, Solid) else None
        self.refusal = self.tried if isinstance(self.tried, MostlyFacets) else None
        if self.tried is not None and self.named is not None:
            # What lies on nothing simple does not with more deviation either; but all does, and does not all meet.
            with suppress(Refusal):
                self.keep(self.asked.joined(self.sheet, *self.named, self.loosest, True, self.most()))
        rung: _Rung | None = None
        for rung in self.rungs(True) if self.given or self.tried is None else ():
            try:
                self.keep(self.asked.joined(self.sheet, *rung, self.loosest, True, self.most()))
            except Refusal as error:
                self.refusal = self.refusal or error
                if isinstance(error, MostlyFacets) and (self.best is not None or not self.smooth):
                    break
                continue
            if not self.smooth or self.enough():
                break
        return rung

    def keep(self, solid: Solid) -> None:
        self.best = solid
        self.held.append(solid)
