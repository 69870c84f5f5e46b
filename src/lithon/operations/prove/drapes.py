"""What the mesh does not follow: a size below which all is ignored, and faces draped as one."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.topology import Body, Edge, Face
from lithon.errors import Refusal
from lithon.mesh.drapes import given_up, ignored
from lithon.mesh.sizing import SizeRules
from lithon.operations.choices import Choice
from lithon.operations.marks import Marks
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import Flag, Number, Things, length
from lithon.words import listed, many


class IgnoreBelow(Operation):
    """Set a size below which the mesh follows no face, edge or corner. Nothing is done to the solid."""

    size: float = param(length("size", "below which is ignored; 0 follows everything", least=0.0))

    on_sheets = True
    gate = "unchanged"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return False  # it is about the whole, whatever is in hand

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        return {"size": round(0.1 * chosen.size, 6)}

    def do(self, bench: Bench) -> Made:
        least = bench.state.smallest
        if self.size >= least:
            raise Refusal(f"elements are as small as {least:g} mm: what is ignored must be smaller than they are",
                          remedy=f"less than {least:g} mm, or larger elements first")  # fmt: skip
        settings = replace(bench.state.settings, ignore=self.size or None, share=0.0)
        found = ignored(bench.model.bodies, replace(bench.state, settings=settings).rules())
        words = f"ignore below {self.size:g} mm" if self.size else "follow everything"
        details = [{"faces": len(found.small), "edges": len(found.soft) + len(found.tiny), "drapes": len(found.groups)}]
        shown = [*found.soft, *found.tiny, *(e for f in found.small for e in f.edges())]
        return Made(bench.model, words, settings=settings, details=details, shown=list(dict.fromkeys(shown)))


class Drape(Operation):
    """Mesh faces as one, or go over edges, short ones drawn together. Names, holds and shared borders keep outlines."""

    faces: Choice = param(Things(title="faces", help="left out: all, by their strength", of="faces", optional=True))
    strength: float = param(
        Number(title="strength", unit="°", factor=np.pi / 180.0, default=np.pi, least=0.0, most=np.pi, optional=True,
               help="edges that turn more than this stay; 180° drapes over all of them")
    )  # fmt: skip
    edges: Choice = param(Things(title="edges", help="these are not followed", of="edges", optional=True))
    off: bool = param(Flag(title="take it off", help="their edges are followed again", default=False, optional=True))

    on_sheets = True
    gate = "unchanged"

    @classmethod
    def of(cls, chosen: Chosen) -> Drape | None:
        if chosen.vertices:
            return None
        if chosen.edges and not chosen.faces:
            rules = SizeRules(chosen.size, passed=chosen.edges)
            return cls(edges=chosen.edges) if _unfollowed(chosen.model.bodies, rules) else None
        if len(chosen.faces) < 2 or chosen.edges:
            return None
        return cls(chosen.faces) if _joined(chosen.model.bodies, set(chosen.faces), np.pi) else None

    def do(self, bench: Bench) -> Made:
        given = bench.given["faces"], bench.given["edges"]
        if self.off:
            return self._taken_off(bench)
        marks = bench.state.marks
        words = []
        if given[1]:
            marks = self._passed(bench, marks)
            words.append(many(len(bench.edges()), "edge"))
        if given[0] or not given[1]:
            marks, told = self._draped(bench, marks)
            words.append(told)
        bodies = bench.model.bodies
        before = ignored(bodies, bench.state.rules()).soft
        found = ignored(bodies, replace(bench.state, marks=marks).rules())
        shown = [*found.soft, *(e for e in bench.edges() if e in found.tiny)]
        far = max((0.5 * e.length for e in bench.edges() if e in found.tiny), default=0.0)  # an end to the middle
        details = [{"given_up_mm3": given_up(bodies, found.soft - before, bench.state.settings.size)}]
        details += [{"moved_mm": far}] if given[1] else []
        return Made(bench.model, f"drape {listed(words)}", marks=marks, shown=shown, details=details)

    def _taken_off(self, bench: Bench) -> Made:
        """The edges of what is chosen followed again; all, where nothing is."""
        marks = bench.state.marks
        every = not (bench.given["faces"] or bench.given["edges"])
        worn = [f for f in (marks.all("drape") if every else bench.faces()) if marks.get("drape", f) is not None]
        passed = [e for e in (marks.all("passed") if every else bench.edges()) if marks.get("passed", e)]
        if not worn and not passed:
            raise Refusal("none of these faces and edges is draped", remedy="choose some that are")
        marks = marks.put("drape", worn, None).put("passed", passed, None)
        words = [many(len(x), word) for x, word in ((worn, "face"), (passed, "edge")) if x]
        return Made(bench.model, f"take the drape off {listed(words)}", marks=marks)

    def _passed(self, bench: Bench, marks: Marks) -> Marks:
        """With edges that are not followed; a refusal where one of them has to be."""
        edges = tuple(bench.edges())
        marks = marks.put("passed", edges, True)
        done = _unfollowed(bench.model.bodies, replace(bench.state, marks=marks).rules())
        if left := [e for e in edges if e not in done]:
            raise Refusal("an outline of a name, a hold or a shared face, or an open edge, is followed",
                          remedy="edges between two faces of one name", entities=tuple(left))  # fmt: skip
        return marks

    def _draped(self, bench: Bench, marks: Marks) -> tuple[Marks, str]:
        """With groups of faces that are meshed as one, and how many."""
        chosen = set(bench.faces() or bench.model.faces())
        if not bench.given["faces"] and self.strength >= np.pi:
            raise Refusal("all faces would be one", remedy="choose faces, or a strength below 180°")
        groups = _joined(bench.model.bodies, chosen, self.strength)
        if not groups:
            raise Refusal("no two of these faces meet where an edge may be draped over",
                          remedy="faces side by side, or a greater strength", entities=tuple(chosen))  # fmt: skip
        for group in groups:
            marks = marks.put("drape", group, free_drape(marks))
        many_faces = sum(map(len, groups))
        return marks, many(many_faces, "face") + (f" in {len(groups)} groups" if len(groups) > 1 else "")


def free_drape(marks: Marks) -> str:
    """A word for faces that are draped together which no others bear."""
    taken = set(marks.all("drape").values())
    return next(word for k in range(1, len(taken) + 2) if (word := f"drape {k}") not in taken)


def _unfollowed(bodies: tuple[Body, ...], rules: SizeRules) -> frozenset[Edge]:
    """Of the edges that the rules pass over, those that the mesh does not follow then."""
    found = ignored(bodies, replace(rules, ignore=None, drapes=()))
    return found.soft | found.tiny


def _joined(bodies: tuple[Body, ...], faces: set[Face], strength: float) -> list[list[Face]]:
    """The faces that edges turning by no more than this (radians) join, of each body by itself."""
    out: list[list[Face]] = []
    left = dict.fromkeys(f for b in bodies for f in b.faces if f in faces)
    for body in bodies:
        adj = adjacency(body)
        mine = [f for f in body.faces if f in left]
        while mine:
            stack, group = [mine[0]], []
            while stack:
                face = stack.pop()
                if face not in left:
                    continue
                del left[face]
                group.append(face)
                stack += [g for g in adj.neighbours(face) if g in left and _softly(adj, face, g, strength)]
            if len(group) > 1:
                out.append(group)
            mine = [f for f in mine if f in left]
    return out


def _softly(adj, f: Face, g: Face, strength: float) -> bool:  # type: ignore[no-untyped-def]
    shared: list[Edge] = [e for e in f.edges() if len(adj.uses[e]) == 2 and adj.across(f, e) is g]
    return f.label == g.label and any(abs(adj.angle(e)) <= strength + 1e-12 for e in shared)
