"""Bridge: a lofted solid between two faces."""

from __future__ import annotations

from lithon.arrange.boolean import combine
from lithon.brep.topology import Model
from lithon.errors import Refusal
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import Flag, one_face
from lithon.operations.trim.mirror import free_name
from lithon.trim.bridge import bridged, facing


class Bridge(Operation):
    """Loft a solid between two plane faces, and make one body of it and what it joins."""

    first: Choice = param(one_face("from", "a plane face"))
    second: Choice = param(one_face("to", "one that looks at it"))
    join: bool = param(Flag(title="join", help="one body of all", default=True, optional=True))

    unbonded = "bridge"

    @classmethod
    def of(cls, chosen: Chosen) -> Bridge | None:
        plane = len(chosen.faces) == 2 and all(f.surface.kind == "plane" for f in chosen.faces)
        if not plane or chosen.edges or chosen.vertices:
            return None
        uses = [b.use_of(f) for f in chosen.faces for b in chosen.model.bodies if b.use_of(f) is not None]
        alike = len(uses) == 2 and all(u is not None and len(u.face.loops) == 1 for u in uses)
        sides = {sum(1 for _ in f.edges()) for f in chosen.faces}
        if not alike or len(sides) > 1 or uses[0] is None or uses[1] is None or not facing(uses[0], uses[1]):
            return None
        return cls(chosen.faces[0], chosen.faces[1])

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return cls.of(chosen) is not None

    def do(self, bench: Bench) -> Made:
        (a,), (b,) = bench.faces("first"), bench.faces("second")
        if a is b:
            raise Refusal("a face cannot be bridged with itself", remedy="choose another face", entities=(a,))
        one, two = bench.model.owners(a)[0], bench.model.owners(b)[0]
        use_a, use_b = one.use_of(a), two.use_of(b)
        assert use_a is not None and use_b is not None
        made = bridged(use_a, use_b, free_name("bridge", {x.name for x in bench.model.bodies}))
        if not self.join:
            return Made(Model((*bench.model.bodies, made), bench.tolerance), "bridge two faces")
        whole = combine(one, made, "union", bench.tolerance)
        out = bench.model.replaced(one, whole)
        if two is not one:
            (whole_one,) = whole
            joined = combine(whole_one, two, "union", bench.tolerance)
            left = Model(tuple(x for x in out.bodies if x is not two), out.tolerance)
            out = left.replaced(whole_one, joined)
        return Made(out, "bridge two faces and join")
