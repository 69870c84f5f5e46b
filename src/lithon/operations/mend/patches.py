"""Patches of triangles: what will be one face of the solid, found by the program and put right by hand."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from functools import partial
from operator import is_not

import numpy as np

from lithon.arrays import Bools, Floats, Ints
from lithon.brep.faceted import connected_sets, faceted, regrouped, soup_of, welded
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.topology import Body, Face, Model, new_uid
from lithon.errors import Refusal
from lithon.geometry.surfaces import Surface
from lithon.mend.freeform import sagitta
from lithon.mend.noise import noise_of
from lithon.mend.pipes import Pipe, pipes_among
from lithon.mend.segments import KINDS, ROUGH, Patch, grown, patch_as, patch_on, segmented, with_pipes
from lithon.mend.strokes import parted_by, under
from lithon.operations.choices import Choice
from lithon.operations.marks import Marks
from lithon.operations.mend.triangles import made_of_triangles
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import CutAt, Flag, OneOf, Things, length, some_bodies
from lithon.operations.parameters import faces as faces_of
from lithon.operations.places import Cut
from lithon.operations.strokes import Over, Stroke
from lithon.remembered import Remembered
from lithon.words import many

#: Deviations that are tried where none is given, as shares of the diagonal; of a scan, in its noise.
LADDER, ROUGH_LADDER = (3e-6, 3e-5, 3e-4, 1.2e-3), (ROUGH, 1.5 * ROUGH)
#: What lies on no simple surface is called this.
FREE = "free"
#: So ends the word of a patch of which somebody said what kind it is.
SAID = ", said"


@dataclass(slots=True)
class _Known:
    """What was worked out of a body's triangles: their scatter (mm), pipes by how far (mm) corners may stand off, and
    by their triangles, how a scan was parted beside them, by what was allowed, and the patches found, by the deviation
    and whether what lies on nothing simple is left together."""

    noise: float | None = None
    sagitta: float | None = None
    parted: dict[float, dict[float, tuple[Ints, list[Surface]]]] = field(default_factory=dict)
    pipes: dict[float, list[Pipe]] = field(default_factory=dict)
    as_pipe: dict[bytes, Patch] = field(default_factory=dict)
    found: dict[tuple[float, float, bool], list[Patch]] = field(default_factory=dict)


_known = Remembered[Body, _Known]("operations/mend/patches:known")


@dataclass(slots=True)
class Patched:
    """The triangles of a body, points (n,3), corners (m,3), and the word of the patch that each is of, '' for none."""

    body: Body
    points: Floats
    corners: Ints
    words: list[str]
    known: _Known
    #: Patches through whose borders no free-form face was found; of one search alone, for what another finds may not
    #: hang on what was tried before.
    lost: dict[bytes, Refusal] = field(default_factory=dict)
    #: The patches that were looked at last, for what, and as their surfaces and borders were put right for it.
    ready: dict[str, tuple[list[Patch], tuple[float, ...], list[Patch]]] = field(default_factory=dict)

    @staticmethod
    def of(body: Body, marks: Marks) -> Patched:
        soup = soup_of(body)
        points, corners = welded(soup.points, soup.corners)
        if len(corners) != len(soup.corners):
            raise Refusal(f"some triangles of {body.name} have no area", remedy="clean the triangles first",
                          entities=(body,))  # fmt: skip
        words: list[str] = []
        for face in body.faces:
            words += [str(marks.get("patch", face) or "")] * len(face_mesh(face).triangles)
        return Patched(body, points, corners, words, _known.of(body, lambda _: _Known()))

    @property
    def whole(self) -> bool:
        """Whether every triangle is of a patch."""
        return all(self.words)

    @property
    def scale(self) -> float:
        return float(np.linalg.norm(np.ptp(self.points, axis=0)))

    def made_ready(
        self, how: str, found: list[Patch], what: tuple[float, ...], make: Callable[[], list[Patch]]
    ) -> list[Patch]:
        """Patches put right in a way, for some numbers; as they were where the same were asked for last."""
        was = self.ready.get(how)
        if was is None or was[1] != what or len(was[0]) != len(found) or any(map(is_not, was[0], found)):
            self.ready[how] = was = list(found), what, make()
        return list(was[2])

    def of_faces(self, faces: Sequence[Face]) -> Bools:
        """Which triangles (m,) are of some faces."""
        counts = [len(face_mesh(face).triangles) for face in self.body.faces]
        return np.repeat([face in faces for face in self.body.faces], counts)

    def rows(self) -> dict[str, Ints]:
        """The triangles of each patch."""
        words = np.array(self.words)
        return {str(word): np.flatnonzero(words == word) for word in dict.fromkeys(self.words)}

    def patches(self, free: bool = False) -> list[Patch]:
        """Each with the simplest surface that it lies on; `free`: none for such as lie on nothing simple."""
        return [self.patch(word, rows, free) for word, rows in self.rows().items()]

    def patch(self, word: str, rows: Ints, free: bool = False) -> Patch:
        """The patch of a word: on a surface of the kind that was said, a pipe, or the simplest that it lies on."""
        kind = word.split(" ")[0]
        if word.endswith(SAID):
            return Patch(None, rows, 0.0) if kind == FREE else patch_as(self.points, self.corners, rows, kind)
        if kind == "pipe":
            with suppress(Refusal):  # parted or grown it may be none any more
                return self._pipe(rows)
        return Patch(None, rows, 0.0) if free and kind == FREE else patch_on(self.points, self.corners, rows)

    def _pipe(self, rows: Ints) -> Patch:
        key = np.sort(rows).tobytes()
        if key not in self.known.as_pipe:
            self.known.as_pipe[key] = patch_as(self.points, self.corners, rows, "pipe")
        return self.known.as_pipe[key]

    def noise(self) -> float:
        """How far (mm) corners scatter about what they were taken from."""
        if self.known.noise is None:
            self.known.noise = noise_of(self.points, self.corners)
        return self.known.noise

    def sagitta(self) -> float:
        """How high (mm) what is smooth stands over the middles of triangles' sides that are bent, in the median."""
        if self.known.sagitta is None:
            self.known.sagitta = sagitta(self.points, self.corners)
        return self.known.sagitta

    def found(self, tolerance: float | None, free: bool = False) -> Iterator[tuple[list[Patch], float]]:
        """Patches as the program finds them, and the deviation it allowed; from the least deviation up. `free`: with
        what lies on nothing simple left together."""
        noise = self.noise()
        steps = [share * self.scale for share in LADDER] if not noise else [k * noise for k in ROUGH_LADDER]
        most = max(LADDER[-1] * self.scale, ROUGH * noise) if tolerance is None else tolerance
        for near in steps if tolerance is None else [tolerance]:
            if (near, most, free) not in self.known.found:
                known = self.known.parted.setdefault(most, {})
                self.known.found[near, most, free] = with_pipes(
                    self._pipes(most), self.corners,
                    partial(self._segmented, near=near, noise=noise, free=free, known=known),
                )  # fmt: skip
            if found := self.known.found[near, most, free]:
                yield list(found), near

    def _segmented(
        self, corners: Ints, near: float, noise: float, free: bool, known: dict[float, tuple[Ints, list[Surface]]]
    ) -> list[Patch]:
        return segmented(self.points, corners, near, noise, free, known)

    def _pipes(self, most: float) -> list[Pipe]:
        if most not in self.known.pipes:
            self.known.pipes[most] = pipes_among(self.points, self.corners, most)
        return self.known.pipes[most]

    def free_word(self, kind: str, taken: set[str]) -> str:
        """A name for a patch that none has yet; it is taken now."""
        word = next(w for k in range(1, len(taken) + 2) if (w := f"{kind} {k}") not in taken)
        taken.add(word)
        return word

    def put(self, model: Model, marks: Marks) -> tuple[Model, Marks]:
        """The model with this body's faces parted as its patches are, and the marks that say so."""
        order = {word: k for k, word in enumerate(dict.fromkeys(self.words))}
        label = np.array([order[word] for word in self.words], dtype=np.int64)
        uses, own = regrouped(self.points, self.corners, label)
        made = replace(self.body, uses=tuple(uses), uid=new_uid())
        out = model.replaced(self.body, [made])
        names = list(order)
        # What was said of its patches is said anew of each: nobody needs to know which face went on in which.
        marks = marks.put("patch", self.body.faces, None).carried(model, out)
        for use, k in zip(uses, own, strict=True):
            marks = marks.put("patch", [use.face], names[k] or None)
        return out, marks


def patch_words(bench: Bench, faces: Sequence[Face]) -> Mapping[Body, dict[str, None]]:
    """The patches that faces are of, by body. Raises Refusal where one is of none."""
    out: dict[Body, dict[str, None]] = {}
    for body, own in bench.by_body(faces):
        for face in own:
            word = bench.state.marks.get("patch", face)
            if word is None:
                raise Refusal("a face is of no patch yet", remedy="find patches first", entities=(face,))
            out.setdefault(body, {})[str(word)] = None
    return out


def _one_body(bench: Bench, words: Mapping[Body, dict[str, None]]) -> tuple[Body, list[str]]:
    if len(words) != 1:
        raise Refusal("the faces are of several bodies", remedy="patches of one body")
    ((body, own),) = words.items()
    return body, list(own)


def _one_patch(bench: Bench) -> tuple[Body, str]:
    body, words = _one_body(bench, patch_words(bench, bench.faces()))
    if len(words) > 1:
        raise Refusal("the faces are of several patches", remedy="faces of one patch", entities=tuple(bench.faces()))
    return body, words[0]


def _worn(chosen: Chosen) -> set[str | None]:
    """The patches of the faces in hand; None where one is of none, or they are of several bodies."""
    words = {chosen.marks.get("patch", face) for face in chosen.faces}
    return words if len(chosen.of("bodies")) == 1 else {None}


def _of_one_patch(chosen: Chosen) -> bool:
    return len(_worn(chosen)) == 1 and None not in _worn(chosen)


def _counted(words: Sequence[str]) -> str:
    kinds = Counter(word.rsplit(" ", 1)[0] for word in dict.fromkeys(words))
    return ", ".join(many(n, kind) if kind != FREE else f"{n} on none" for kind, n in kinds.most_common())


class FindPatches(Operation):
    """Part triangles into patches that lie on one simple surface each, to be put right before a solid is made."""

    bodies: Choice = param(some_bodies("bodies", "made of triangles; left out: all of them"))
    tolerance: float | None = param(length("deviation", "how far corners may stand off a surface; left out: the least "
                                           "with which they are few", above=0.0, optional=True))  # fmt: skip
    free: bool = param(Flag(title="free-form too", help="what lies on nothing simple stays together, for a smooth face",
                            default=False, optional=True))  # fmt: skip

    unbonded = "find patches"
    gate = "own"
    budget = 600.0

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        found = chosen.of("bodies")
        return bool(found) and super().fits(chosen) and all(faceted(b) for b in found)

    def do(self, bench: Bench) -> Made:
        chosen = made_of_triangles(bench, "exact bodies have their faces")
        model, marks = bench.model, bench.state.marks
        every: list[str] = []
        for k, body in enumerate(chosen):
            bench.progress.tell(k / len(chosen), f"finding surfaces of {body.name}")
            sheet = Patched.of(body, marks)
            # With too little deviation a round face falls to strips; with more, patches become fewer until no more.
            best: list[Patch] | None = None
            for found, _ in sheet.found(self.tolerance, self.free):
                if best is not None and len(found) > 0.9 * len(best):
                    break
                best = found
            if best is None:  # much of it lies on nothing simple
                best, _ = next(sheet.found(self.tolerance, True))
            taken: set[str] = set()
            for patch in best:
                word = sheet.free_word(patch.kind if patch.surface is not None else FREE, taken)
                for row in patch.rows.tolist():
                    sheet.words[row] = word
            model, marks = sheet.put(model, marks)
            every += list(taken)
        return Made(model, f"find {many(len(every), 'patch')}: {_counted(every)}", marks=marks)


class UnitePatches(Operation):
    """Make one patch of several that touch: they will be one face of the solid."""

    faces: Choice = param(faces_of(help="one of each patch", least=2))

    gate = "own"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return super().fits(chosen) and len(_worn(chosen)) > 1 and None not in _worn(chosen)

    def do(self, bench: Bench) -> Made:
        body, words = _one_body(bench, patch_words(bench, bench.faces()))
        if len(words) < 2:
            raise Refusal("the faces are of one patch already", remedy="a face of each of several patches",
                          entities=tuple(bench.faces()))  # fmt: skip
        sheet = Patched.of(body, bench.state.marks)
        inside = np.isin(np.array(sheet.words), words)
        if len(np.unique(_sets(sheet, inside))) > 1:
            raise Refusal("the patches do not touch", remedy="patches side by side", entities=tuple(bench.faces()))
        patch = patch_on(sheet.points, sheet.corners, np.flatnonzero(inside))
        word = _named(sheet, patch, set(sheet.words) - set(words))
        sheet.words = [word if inside[k] else w for k, w in enumerate(sheet.words)]
        model, marks = sheet.put(bench.model, bench.state.marks)
        return Made(model, f"unite {many(len(words), 'patch')} to {word}", marks=marks, details=[_told(word, patch)])


class PartPatch(Operation):
    """Part a patch in two where a plane passes or a line is drawn, or into what a bend divides."""

    faces: Choice = param(faces_of(help="of one patch"))
    cut: Cut | None = param(CutAt(title="at", help="a plane; left out: where its triangles turn most", optional=True))
    line: Stroke | None = param(Over(title="line", help="over it, from border to border or round, in place of a plane",
                                     optional=True))  # fmt: skip

    gate = "own"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return super().fits(chosen) and _of_one_patch(chosen)

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        """Across the longest way of the patch, in its middle."""
        start: dict[str, object] = {"faces": Choice("faces", live=chosen.faces)}
        if cls.fits(chosen):
            (word,) = _worn(chosen)
            (body,) = chosen.of("bodies")
            own = [f for f in body.faces if chosen.marks.get("patch", f) == word]
            points = np.concatenate([face_mesh(f).points for f in own])
            axis = int(np.argmax(np.ptp(points, axis=0)))
            middle = 0.5 * (points.min(axis=0) + points.max(axis=0))
            start["cut"] = Cut.at(middle.tolist(), np.eye(3)[axis].tolist())
        return start

    def do(self, bench: Bench) -> Made:
        body, word = _one_patch(bench)
        sheet = Patched.of(body, bench.state.marks)
        rows = sheet.rows()[word]
        if self.line is not None:
            parts, way = (
                parted_by(sheet.points, sheet.corners, rows, bench.given["line"]),
                "the line does not divide it",
            )
        elif self.cut is not None:
            parts, way = self._beside(bench, sheet, rows), "the plane passes it by"
        else:
            parts, way = self._surfaces(sheet, rows), "it lies on one surface"
        if len(parts) < 2:
            raise Refusal(f"{word} cannot be parted: {way}", remedy="a plane through it, or a line across it",
                          entities=tuple(bench.faces()))  # fmt: skip
        taken = set(sheet.words) - {word}
        details = []
        for own in parts:
            patch = patch_on(sheet.points, sheet.corners, own)
            fresh = _named(sheet, patch, taken)
            details.append(_told(fresh, patch))
            for row in own.tolist():
                sheet.words[row] = fresh
        model, marks = sheet.put(bench.model, bench.state.marks)
        return Made(model, f"part {word} into {len(parts)}", marks=marks, details=details)

    def _beside(self, bench: Bench, sheet: Patched, rows: Ints) -> list[Ints]:
        middle = sheet.points[sheet.corners[rows]].mean(axis=1)
        above = bench.surface().signed_distance(middle) > 1e-9 * sheet.scale  # halved: below
        return [own for own in (rows[above], rows[~above]) if len(own)]

    def _surfaces(self, sheet: Patched, rows: Ints) -> list[Ints]:
        """What the program would make of these triangles alone, from the most deviation down."""
        for share in reversed(LADDER):
            found = segmented(sheet.points, sheet.corners[rows], share * sheet.scale)
            if len(found) > 1:
                return [rows[patch.rows] for patch in found]
        return [rows]


class GrowPatch(Operation):
    """Let a patch take from those beside it the triangles that lie on its surface."""

    faces: Choice = param(faces_of(help="of one patch"))
    tolerance: float = param(length("deviation", "how far corners may stand off its surface", above=0.0))

    gate = "own"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return super().fits(chosen) and _of_one_patch(chosen)

    def do(self, bench: Bench) -> Made:
        body, word = _one_patch(bench)
        sheet = Patched.of(body, bench.state.marks)
        rows = sheet.rows()[word]
        patch = sheet.patch(word, rows)
        if patch.surface is None:
            raise Refusal(f"{word} lies on no simple surface to grow along", remedy="part it first",
                          entities=tuple(bench.faces()))  # fmt: skip
        wider = grown(sheet.points, sheet.corners, patch, self.tolerance)
        if len(wider) <= len(rows):
            raise Refusal(f"nothing beside {word} lies within {self.tolerance:g} mm of its surface",
                          remedy="allow more deviation", entities=tuple(bench.faces()))  # fmt: skip
        fresh = np.setdiff1d(wider, rows)
        return _given(bench, sheet, patch, word, fresh, f"grow {word} by {many(len(fresh), 'triangle')}")


class PaintPatch(Operation):
    """Give the triangles under a line that is drawn over them to a patch, or make one of them."""

    line: Stroke | None = param(Over(title="line", help="drawn over the triangles"))
    width: float = param(length("width", "how far from the line triangles are taken", above=0.0))
    faces: Choice = param(Things(title="patch", help="a face of the one that gets them; left out: a new one",
                                 of="faces", optional=True))  # fmt: skip

    gate = "own"

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        return {**super().begun(chosen), "width": round(0.5 * chosen.size, 6)}

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return super().fits(chosen) and _of_one_patch(chosen)

    def do(self, bench: Bench) -> Made:
        line = bench.given["line"]
        body, word = _one_patch(bench) if bench.given["faces"] else (_under(bench, line), "")
        sheet = Patched.of(body, bench.state.marks)
        if not sheet.whole:
            raise Refusal(f"{body.name} is not parted into patches", remedy="find patches first", entities=(body,))
        rows = under(sheet.points, sheet.corners, line, self.width)
        rows = np.array([row for row in rows.tolist() if sheet.words[row] != word], dtype=np.int64)
        if not len(rows):
            raise Refusal(f"all triangles under the line are of {word}", remedy="draw it beyond the patch")
        wider = np.union1d(rows, sheet.rows()[word]) if word else rows
        patch = sheet.patch(word, wider) if word else patch_on(sheet.points, sheet.corners, wider)
        word = word or _named(sheet, patch, set(sheet.words))
        return _given(bench, sheet, patch, word, rows, f"give {many(len(rows), 'triangle')} to {word}")


class SayKind(Operation):
    """Say of what kind of surface a patch is, where the program takes it for another."""

    faces: Choice = param(faces_of(help="of one patch"))
    kind: str = param(OneOf(title="kind", options=(*KINDS, FREE), default=KINDS[0]))

    gate = "own"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return super().fits(chosen) and _of_one_patch(chosen)

    def do(self, bench: Bench) -> Made:
        body, word = _one_patch(bench)
        sheet = Patched.of(body, bench.state.marks)
        rows = sheet.rows()[word]
        fresh = sheet.free_word(self.kind, {w.removesuffix(SAID) for w in sheet.words}) + SAID
        patch = sheet.patch(fresh, rows)
        for row in rows.tolist():
            sheet.words[row] = fresh
        model, marks = sheet.put(bench.model, bench.state.marks)
        words = f"{word} is a {self.kind}" if patch.surface is not None else f"{word} is {self.kind}"
        words += f", corners off it by {patch.off:.2g} mm at most" if patch.surface is not None else ""
        return Made(model, words, marks=marks, details=[_told(fresh, patch)])


def _given(bench: Bench, sheet: Patched, patch: Patch, word: str, rows: Ints, words: str) -> Made:
    """What comes of giving triangles (rows) to the patch of a word, in `words`; and which others are gone by that."""
    before = set(sheet.words)
    for row in rows.tolist():
        sheet.words[row] = word
    gone = before - set(sheet.words)
    model, marks = sheet.put(bench.model, bench.state.marks)
    if gone:
        words += f", {many(len(gone), 'patch')} swallowed"
    return Made(model, words, marks=marks, details=[_told(word, patch)])


def _under(bench: Bench, line: Floats) -> Body:
    """The body of triangles that a line is drawn over."""
    found = [b for b in bench.model.bodies if faceted(b)]
    if not found:
        raise Refusal("no body is made of triangles", remedy="exact bodies have their faces")
    return min(found, key=lambda b: float(np.linalg.norm(body_mesh(b)[0] - line.mean(axis=0), axis=1).min()))


def _sets(sheet: Patched, inside: Bools) -> Ints:
    return connected_sets(len(sheet.points), sheet.corners[inside])


def _named(sheet: Patched, patch: Patch, taken: set[str]) -> str:
    return sheet.free_word(FREE if patch.surface is None else patch.kind, taken)


def _told(word: str, patch: Patch) -> dict[str, object]:
    return {"patch": word, "triangles": len(patch.rows), "deviation_mm": patch.off}
