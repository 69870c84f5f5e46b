"""Faces that were split for no reason become one again."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from lithon.arrange.tidy import tidied
from lithon.brep.topology import Body, Edge, Face
from lithon.errors import Refusal


def merged(body: Body, faces: Sequence[Face], tolerance: float) -> Body:
    """The body with the chosen faces joined over the edges between them, where one surface goes on there.

    Exact: no point moves. Raises Refusal where nothing can be joined.
    """
    chosen = set(faces)
    count: Counter[Edge] = Counter(e for f in chosen for e in set(f.edges()))
    between = [edge for edge, n in count.items() if n > 1]
    out = tidied(body, tolerance, between)
    if out is body or len(out.faces) >= len(body.faces):
        if len({f.label for f in faces}) > 1:
            raise Refusal("faces with different names stay apart", remedy="give them one name first",
                          entities=tuple(faces))  # fmt: skip
        raise Refusal(
            "these faces do not go on as one surface", remedy="choose faces on one plane or cylinder, side by side",
            entities=tuple(faces),
        )  # fmt: skip
    return out
