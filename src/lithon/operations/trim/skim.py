"""Skim: what lies under a clean surface is swallowed by one face on it."""

from __future__ import annotations

from lithon.brep.measures import face_centroid
from lithon.brep.topology import Body, Face
from lithon.errors import Refusal
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import Things, length, one_face, some_bodies
from lithon.trim.skim import Skimmed, lies_under, skimmed
from lithon.words import many


class Skim(Operation):
    """Swallow little steps, undercuts and splinters under a clean surface: one face on it takes their place."""

    surface: Choice = param(one_face("surface", "a face on the clean surface"))
    depth: float = param(length("depth", "how deep what is swallowed may lie under it", above=0.0))
    raised: float = param(length("raised", "how far the clean surface stands off that face", default=0.0,
                                 optional=True))  # fmt: skip
    only: Choice = param(Things(title="only", help="faces that are swallowed; left out: all of them", of="faces",
                                optional=True))  # fmt: skip
    bodies: Choice = param(some_bodies("bodies", "left out: the face's own"))

    unbonded = "skim"
    dragged = "depth"
    gate = "own"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        """One face is in hand, and something lies a little under its surface beside it."""
        if len(chosen.faces) != 1 or chosen.edges or chosen.vertices:
            return False
        face = chosen.faces[0]
        owner = chosen.model.owners(face)[0]
        return lies_under(owner, face, round(0.25 * chosen.size, 6), chosen.model.tolerance)

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        own = {"depth": round(0.25 * chosen.size, 6), "bodies": Choice("bodies", live=chosen.bodies)}
        return {**super().begun(chosen), **own}

    def do(self, bench: Bench) -> Made:
        (face,) = bench.faces("surface")
        owner = bench.model.owners(face)[0]
        at = face.surface.project(face_centroid(face)[None])
        ahead = float(owner.outward(face, at)[0] @ face.surface.normal(at)[0]) > 0.0
        surface = face.surface
        if self.raised:
            try:
                surface = surface.offset(self.raised if ahead else -self.raised)
            except ValueError as error:
                raise Refusal(f"the surface cannot stand off the face that far: {error}", entities=(face,),
                              remedy="raise it less") from error  # fmt: skip
        only = bench.faces("only")
        chosen: list[Body] = list(bench.given["bodies"]) or [owner]
        out, done = bench.model, list[Skimmed]()
        why: Refusal | None = None
        for k, body in enumerate(chosen):
            bench.progress.tell(k / len(chosen), f"skimming {body.name}")
            own: list[Face] = [f for f in only if body.use_of(f) is not None]
            if only and not own:
                continue
            try:
                made = skimmed(body, surface, ahead, self.depth + self.raised, bench.tolerance, own)
            except Refusal as refusal:
                if len(chosen) == 1 or refusal.what[:7] != "nothing":
                    raise
                why = refusal
                continue
            out = out.replaced(body, [made.body])
            done.append(made)
        if not done:
            raise why or Refusal("none of the chosen faces is of these bodies", remedy="choose faces of one of them")
        count, deepest = sum(d.swallowed for d in done), max(d.deepest for d in done) - self.raised
        words = f"skim {many(count, 'face')} under a {surface.kind}, as deep as {deepest:.3g} mm"
        return Made(out, words, details=[{"swallowed": count, "deepest_mm": deepest}])
