"""Numbers of things in words."""

from __future__ import annotations

_SEVERAL = {"body": "bodies", "boss": "bosses", "vertex": "vertices", "hexahedron": "hexahedra", "torus": "tori",
            "facets": "facets", "patch": "patches", "b-spline": "b-splines"}  # fmt: skip


def several(one: str) -> str:
    """The plural of a word of ours."""
    return _SEVERAL.get(one, f"{one}s")


def many(n: int, one: str) -> str:
    """'1 edge', '3 edges', '2 bodies'."""
    return f"{n} {one if n == 1 else several(one)}"
