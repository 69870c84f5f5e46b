"""Reopen: a hole that a removal has buried is there again."""

from __future__ import annotations

import numpy as np

from lithon.arrange.boolean import combine
from lithon.brep.boxes import box
from lithon.brep.tessellation.division import edge_points
from lithon.brep.topology import Body, Face
from lithon.errors import Refusal, spot
from lithon.geometry.rounds import Cone
from lithon.geometry.surfaces import Cylinder
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import Flag, faces, one_body
from lithon.samples.build import Piece, revolved
from lithon.words import many


class Reopen(Operation):
    """Open a hole again along round faces that were kept for reference, or that another body has."""

    faces: Choice = param(faces(help="round walls of what is opened"))
    body: Choice = param(one_body(help="what is opened"))
    through: bool = param(Flag(title="through", help="all the way, not only as far as the faces reach", default=False,
                               optional=True))  # fmt: skip

    on_sheets = True

    @classmethod
    def of(cls, chosen: Chosen) -> Reopen | None:
        walls = [f for f in chosen.faces if isinstance(f.surface, Cylinder | Cone)]
        kept = {f for b in chosen.model.bodies if b.reference for f in b.faces}
        solids = [b for b in chosen.model.bodies if not b.sheet]
        if not walls or not set(chosen.faces) <= kept or len(solids) != 1 or chosen.edges:
            return None
        return cls(walls, solids)

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return cls.of(chosen) is not None

    def do(self, bench: Bench) -> Made:
        body, chosen = bench.body(), bench.faces()
        if body.sheet:
            raise Refusal(f"{body.name} is a sheet, and a hole is opened in a solid", remedy="choose a solid")
        out = [body]
        for k, face in enumerate(chosen):
            bench.progress.tell(k / len(chosen), "opening")
            tool = _filled(face, body, self.through)
            out = [piece for one in out for piece in combine(one, tool, "subtract", bench.tolerance)]
        if not out:
            raise Refusal("nothing would be left", remedy="choose smaller faces")
        return Made(bench.model.replaced(body, out), f"reopen along {many(len(chosen), 'face')}")


def _filled(face: Face, body: Body, through: bool) -> Body:
    """The solid that a round face goes around, as far as it reaches along its axis or all through a body."""
    surface = face.surface
    if not isinstance(surface, Cylinder | Cone):
        raise Refusal(f"a {surface.kind} goes around nothing", where=spot(surface.frame.origin), entities=(face,),
                      remedy="choose cylinders or cones")  # fmt: skip
    h = surface.frame.local(np.concatenate([edge_points(e)[1] for e in face.edges()]))[:, 2]
    low, high = float(h.min()), float(h.max())
    if through and isinstance(surface, Cylinder):
        corners = np.stack(np.meshgrid(*box(body).T, indexing="ij"), axis=-1).reshape(-1, 3)
        reach = surface.frame.local(corners)[:, 2]
        low, high = float(min(low, reach.min() - 1.0)), float(max(high, reach.max() + 1.0))
    slope = float(np.tan(surface.angle)) if isinstance(surface, Cone) else 0.0
    rim = [(0.0, low), (surface.radius + slope * low, low), (surface.radius + slope * high, high), (0.0, high)]
    return revolved([Piece(corner) for corner in rim], surface.frame, "opening")
