"""A skin whose faces all look outwards: what is turned round against its neighbours is turned back."""

from __future__ import annotations

from collections import defaultdict

from lithon.brep.measures import face_area, uses_volume
from lithon.brep.shells import closed
from lithon.brep.topology import Body, Edge, FaceUse
from lithon.errors import Refusal


def oriented(body: Body) -> Body | None:
    """A body each of whose edges is used once each way, with as little as can be of each shell turned, and which
    encloses a positive volume; none where it is that already. No point moves. Raises Refusal where there is no such: a
    skin of one side, or one that is open, of which nobody can say what is outside."""
    uses = list(body.uses)
    turned = _against(uses)
    made = _with(body, uses, turned)
    if closed(made) and not body.sheet and uses_volume(list(made.uses)) < 0.0:
        turned = [not t for t in turned]
        made = _with(body, uses, turned)
    return made if any(turned) else None


def _with(body: Body, uses: list[FaceUse], turned: list[bool]) -> Body:
    return body.with_uses(FaceUse(u.face, not u.forward) if t else u for u, t in zip(uses, turned, strict=True))


def _against(uses: list[FaceUse]) -> list[bool]:
    """Which uses are turned against the greater part of what they hang together with."""
    at: dict[Edge, list[tuple[int, bool]]] = defaultdict(list)
    for k, use in enumerate(uses):
        for loop in use.face.loops:
            for c in loop:
                at[c.edge].append((k, c.forward == use.forward))
    beside: list[list[tuple[int, bool]]] = [[] for _ in uses]
    for pair in at.values():
        if len(pair) == 2 and pair[0][0] != pair[1][0]:
            (i, one), (j, other) = pair
            beside[i].append((j, one == other))
            beside[j].append((i, one == other))
    turned: list[bool | None] = [None] * len(uses)
    for start in range(len(uses)):
        if turned[start] is not None:
            continue
        turned[start], shell = False, [start]
        for k in shell:
            for j, against in beside[k]:
                asked = bool(turned[k]) != against
                if turned[j] is None:
                    turned[j] = asked
                    shell.append(j)
                elif turned[j] != asked:
                    raise Refusal("its skin has one side only: it goes round to the other", entities=(uses[j].face,),
                                  remedy="part it where it crosses itself")  # fmt: skip
        area = [0.0, 0.0]
        for k in shell:
            area[bool(turned[k])] += face_area(uses[k].face)
        if area[1] > area[0]:
            for k in shell:
                turned[k] = not turned[k]
    return [bool(t) for t in turned]
