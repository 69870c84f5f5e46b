"""Numbers of things in words."""

from __future__ import annotations

from collections.abc import Sequence

_SEVERAL = {"body": "bodies", "boss": "bosses", "vertex": "vertices", "hexahedron": "hexahedra", "torus": "tori",
            "open boundary": "open boundaries", "gap between edges": "gaps between edges", "facets": "facets",
            "sliver body": "bodies of next to no thickness",
            "patch": "patches", "b-spline": "b-splines"}  # fmt: skip


def several(one: str) -> str:
    """The plural of a word of ours."""
    return _SEVERAL.get(one, f"{one}s")


def listed(parts: Sequence[str]) -> str:
    """'a', 'a and b', 'a, b and c'."""
    return " and ".join([", ".join(parts[:-1]), parts[-1]] if len(parts) > 1 else parts)


def many(n: int, one: str) -> str:
    """'1 edge', '3 edges', '2 bodies'."""
    return f"{n} {one if n == 1 else several(one)}"
