"""Lines scored on faces: a face is parted where a surface passes it, and the solid stays one."""

from __future__ import annotations

from collections.abc import Collection

from lithon.arrange.overlay import overlay
from lithon.brep.boxes import box
from lithon.brep.topology import Body, Face, FaceUse
from lithon.carve.split import sheet_on
from lithon.errors import Refusal, spot
from lithon.geometry.surfaces import Surface


def scored(body: Body, surface: Surface, tolerance: float, only: Collection[Face] = ()) -> Body:
    """The body with its faces, or only some of them, parted where a surface passes them.

    Raises Refusal where it parts none.
    """
    sheet = Body((FaceUse(sheet_on(surface, box(body))),), "score")
    made = overlay(body, sheet, tolerance)
    some = set(only)
    uses: list[FaceUse] = []
    parted = 0
    for use in body.uses:
        pieces = made.fragments[use.face]
        if len(pieces) > 1 and some and use.face not in some:
            pieces = [made.recut(use.face)]
        parted += len(pieces) > 1
        uses += [FaceUse(piece, use.forward) for piece in pieces]
    if not parted:
        raise Refusal(f"the {surface.kind} parts none of these faces", where=spot(surface.frame.origin),
                      remedy="move it, or choose faces that it passes")  # fmt: skip
    return body.with_uses(uses)
