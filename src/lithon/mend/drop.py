"""Things that do not belong to a solid are dropped: loose sheets, hollows, whole bodies."""

from __future__ import annotations

from collections.abc import Sequence

from lithon.brep.gate import kinds, worse
from lithon.brep.measures import uses_volume
from lithon.brep.shells import closes, connected
from lithon.brep.topology import Body, Face
from lithon.errors import Refusal, spot


def dropped(body: Body, faces: Sequence[Face], tolerance: float) -> Body | None:
    """The body without the sets of connected faces that the chosen ones belong to; None where nothing is left.

    A sheet, a hollow or a whole body can go. Raises Refusal where a part of the outer skin is chosen.
    """
    chosen = set(faces)
    sets = connected(body.uses)
    gone = [s for s in sets if any(use.face in chosen for use in s)]
    if len(gone) == len(sets):
        return None
    skin = max(sets, key=lambda s: abs(uses_volume(s)) if closes(s) else 0.0)
    if any(s is skin for s in gone):
        raise Refusal(
            "a part of the outer skin cannot be dropped",
            remedy="clear the faces instead, so that their neighbours close up",
            entities=tuple(faces),
        )
    out = body.with_uses([use for s in sets if not any(s is g for g in gone) for use in s])
    if found := worse(out, [body], tolerance):
        raise Refusal(f"without these faces the body would be worse off ({kinds(found)})", where=spot(found[0].place))
    return out
