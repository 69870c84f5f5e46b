"""Cuts that make a body sweepable: where one profile ends and another begins, a face is extended through the body.

Such places show as concave edges; the surfaces beside them are where a body can be parted (Shih & Sakurai, *Automated
hexahedral mesh generation by swept volume decomposition and recomposition*, 1996; Lu, Gadh & Tautges, *Feature based
hex meshing methodology*, 2001). Each is tried: the body is cut there, and its pieces are asked again.
"""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass

from lithon.arrange.tidy import same_surface
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.twins import twins
from lithon.brep.measures import volume
from lithon.brep.shells import closed
from lithon.brep.topology import Body, Edge, Face, Model
from lithon.carve.split import split_in
from lithon.errors import Refusal, Spent
from lithon.mesh.hexahedra import verdict
from lithon.progress import SILENT, Progress

#: Surfaces that can be extended far enough to cut with.
_CUTTING = ("plane", "cylinder", "cone", "sphere", "torus")
#: So many surfaces are tried, so many of the best results are cut further, and so many cuts are made one after another.
_MOST, _BEAM, _DEPTH = 12, 3, 3
#: Bodies of more faces, and more bodies than these, are not looked at unasked.
_FACES, _BODIES = 400, 4


@dataclass(frozen=True, slots=True, eq=False)
class Freeing:
    """Cuts one after another at the surfaces of faces, extended, each through what cannot be swept yet; how many pieces
    come of them, how many of these can be swept, and their share of the volume."""

    cuts: tuple[Face, ...]
    pieces: int
    swept: int
    share: float


@dataclass(frozen=True, slots=True, eq=False)
class _State:
    """Pieces that can be swept, by volume, and those that cannot."""

    cuts: tuple[Face, ...]
    done: tuple[float, ...]
    rest: tuple[Body, ...]

    def told(self) -> Freeing:
        swept = sum(self.done)
        whole = swept + sum(map(volume, self.rest))
        return Freeing(self.cuts, len(self.done) + len(self.rest), len(self.done), swept / whole)

    def rank(self) -> tuple[int, float, int]:
        """Least is best to go on from: few places where a profile changes, little that cannot be swept, few pieces."""
        changes = sum(len(_concave(b)) for b in self.rest)
        return changes, -round(self.told().share, 6), len(self.done) + len(self.rest)

    def worth(self) -> tuple[bool, float, int, int]:
        """Least is best to offer: all that can be swept in few cuts and pieces, else the most."""
        told = self.told()
        return told.swept < told.pieces, -round(told.share, 6), len(self.cuts), told.pieces


def freeing(body: Body, tolerance: float, progress: Progress = SILENT, budget: float = 6.0) -> list[Freeing]:
    """The best ways to cut a body so that its pieces can be swept, the best first, none where it can be already or
    nothing that was tried within the budget (s) helps. Raises Cancelled."""
    if body.sheet or not closed(body) or verdict(body)[0] != "tetrahedra":
        return []
    found: dict[tuple[Face, ...], _State] = {}
    with suppress(Spent), progress.within(budget), progress.under_way():
        _search(body, tolerance, progress, found)
    states = sorted((s for s in found.values() if s.done), key=_State.worth)
    return [s.told() for s in states[:_BEAM]]


def _search(body: Body, tolerance: float, progress: Progress, found: dict[tuple[Face, ...], _State]) -> None:
    """Cut at every surface; then what cannot be swept of the best at every other."""
    faces = candidates(body, tolerance)
    level = [_State((), (), (body,))]
    tried: set[frozenset[Face]] = set()
    for _ in range(_DEPTH):
        fresh: list[_State] = []
        for state in level:
            for k, face in enumerate(faces):
                cuts = frozenset((*state.cuts, face))
                if face in state.cuts or cuts in tried:
                    continue
                tried.add(cuts)
                progress.tell(k / len(faces), f"cutting {body.name} at a {face.surface.kind}")
                cut = _cut(state, face, tolerance)
                if cut is not None:
                    found[cut.cuts] = cut
                    fresh.append(cut)
        if any(not s.rest for s in fresh):
            return
        level = sorted(fresh, key=_State.rank)[:_BEAM]


def _cut(state: _State, face: Face, tolerance: float) -> _State | None:
    """The pieces that cannot be swept cut at a face's surface; none where it passes all of them by."""
    done, rest, any_cut = list(state.done), [], False
    for piece in state.rest:
        try:
            parted = split_in(Model((piece,), tolerance), piece, face.surface)
        except Refusal:
            return None
        if parted is None:
            rest.append(piece)
            continue
        any_cut = True
        for part in parted.bodies:
            if verdict(part)[0] == "tetrahedra":
                rest.append(part)
            else:
                done.append(volume(part))
    return _State((*state.cuts, face), tuple(done), tuple(rest)) if any_cut else None


def candidates(body: Body, tolerance: float) -> list[Face]:
    """Faces at whose surfaces a body can be cut where its profile changes, each surface once; those with the most
    concave edges first, planes before round ones."""
    adj = adjacency(body)
    out: list[tuple[Face, int]] = []
    for edge in _concave(body):
        for use, _ in adj.uses[edge]:
            face = use.face
            if face.surface.kind not in _CUTTING:
                continue
            k = next((k for k, (f, _) in enumerate(out) if same_surface(f.surface, face.surface, tolerance)), None)
            if k is None:
                out.append((face, 1))
            else:
                out[k] = out[k][0], out[k][1] + 1
    out.sort(key=lambda o: (o[0].surface.kind != "plane", -o[1]))
    return [face for face, _ in out[:_MOST]]


def _concave(body: Body) -> list[Edge]:
    adj = adjacency(body)
    adj.all_angles()
    return [e for e in adj.uses if adj.turn(e) == "concave"]


def proposed(model: Model, progress: Progress = SILENT, budget: float = 12.0) -> dict[Body, list[Freeing]]:
    """For the largest bodies that cannot be swept, one of each group of twins, the best ways to cut them within the
    budget (s) for all together. Raises Cancelled."""
    ones = [group[0] for group in twins(model) if not group[0].sheet and not group[0].reference]
    ones = [b for b in ones if closed(b) and len(b.uses) <= _FACES and verdict(b)[0] == "tetrahedra"]
    ones = sorted(ones, key=volume, reverse=True)[:_BODIES]
    return {body: freeing(body, model.tolerance, progress, budget / len(ones)) for body in ones}
