"""Two meshes beside each other: counts, sizes of elements, quality."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.mesh.mesh import Mesh
from lithon.mesh.verdict import LENIENT, STRICT, below


@dataclass(frozen=True, slots=True)
class Facts:
    """Of one mesh: sizes are lengths of element edges, mm; strict and lenient: how many elements are below."""

    kind: str
    nodes: int
    elements: int
    smallest: float
    median: float
    largest: float
    worst_jacobian: float
    worst_angle: float
    volume_ratio: float
    strict: int
    lenient: int


def facts(mesh: Mesh) -> Facts:
    """What is told of a mesh."""
    ends = np.unique(np.sort(mesh.corners[:, mesh.shape.edges].reshape(-1, 2), axis=1), axis=0)
    length = np.linalg.norm(mesh.points[ends[:, 0]] - mesh.points[ends[:, 1]], axis=1)
    q = mesh.quality
    poor = [int(below(q, limits).sum()) for limits in (STRICT, LENIENT)]
    return Facts(
        mesh.kind, len(mesh.points), len(mesh.elements), float(length.min()), float(np.median(length)),
        float(length.max()), float(q.scaled_jacobian.min()), float(q.smallest_angle.min()), mesh.volume_ratio, *poor,
    )  # fmt: skip


def compared(one: Mesh, two: Mesh) -> list[tuple[str, str, str]]:
    """Line by line, what is told of a mesh and of another."""
    a, b = facts(one), facts(two)
    return [
        ("elements", f"{a.elements} {a.kind}", f"{b.elements} {b.kind}"),
        ("nodes", str(a.nodes), str(b.nodes)),
        ("edges, mm", _range(a), _range(b)),
        ("worst scaled Jacobian", f"{a.worst_jacobian:.3f}", f"{b.worst_jacobian:.3f}"),
        ("smallest angle", f"{a.worst_angle:.1f}°", f"{b.worst_angle:.1f}°"),
        ("below strict limits", str(a.strict), str(b.strict)),
        ("below lenient limits", str(a.lenient), str(b.lenient)),
        (
            "volume off" if not one.shape.flat else "area off",
            f"{100.0 * (a.volume_ratio - 1.0):+.3f} %",
            f"{100.0 * (b.volume_ratio - 1.0):+.3f} %",
        ),
    ]


def _off(f: Facts) -> str:
    return f"{100.0 * (f.volume_ratio - 1.0):+.3f} %"


def _range(f: Facts) -> str:
    return f"{f.smallest:.3g} to {f.largest:.3g}, mostly {f.median:.3g}"
