"""Where the skin of a body passes through itself.

Pairs of triangles that cut each other come from the tree of boxes; on exact faces, whose triangles are
only near them, a pair counts where a point on both true surfaces lies within both faces.
"""

from __future__ import annotations

from weakref import WeakKeyDictionary

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints
from lithon.brep.area import area_of
from lithon.brep.tessellate import body_mesh
from lithon.brep.topology import Body, Face
from lithon.brep.trees import tree_of
from lithon.errors import LithonError
from lithon.geometry.crossing import onto_both
from lithon.geometry.facets import Facets
from lithon.survey.card import Finding, xyz

_found: WeakKeyDictionary[Body, list[tuple[Face, Face, Floats]]] = WeakKeyDictionary()


def self_intersections(body: Body, tolerance: float) -> list[tuple[Face, Face, Floats]]:
    """Pairs of faces that cut each other (or one that cuts itself), with points (k,3) where they do; cached."""
    hit = _found.get(body)
    if hit is not None:
        return hit
    points, triangles, owner = body_mesh(body)
    tree = tree_of(body)
    pairs = tree.near_pairs(tree)
    pairs = pairs[pairs[:, 0] < pairs[:, 1]]
    a, b = triangles[pairs[:, 0]], triangles[pairs[:, 1]]
    apart = ~(a[:, :, None] == b[:, None, :]).any(axis=(1, 2))
    pairs = pairs[apart]
    facets = np.array([isinstance(use.face.surface, Facets) for use in body.uses])
    same = owner[pairs[:, 0]] == owner[pairs[:, 1]]
    pairs = pairs[~same | facets[owner[pairs[:, 0]]]]
    cut, at = _cuts(points, triangles, pairs)
    groups: dict[tuple[int, int], list[Floats]] = {}
    for (i, j), place in zip(pairs[cut].tolist(), at[cut], strict=True):
        key = (int(min(owner[i], owner[j])), int(max(owner[i], owner[j])))
        groups.setdefault(key, []).append(place)
    made = []
    for (i, j), places in groups.items():
        one, two = body.uses[i].face, body.uses[j].face
        spots = np.array(places)
        if not (facets[i] and facets[j]):
            spots = _confirmed(one, two, spots, tolerance)
        if len(spots):
            made.append((one, two, spots))
    _found[body] = made
    return made


def _confirmed(one: Face, two: Face, spots: Floats, tolerance: float) -> Floats:
    """Of places where triangles cut each other, those where the true faces do."""
    common = set(one.edges()) & set(two.edges())
    try:
        p, off = onto_both(one.surface, two.surface, spots[:200])
        moved = np.linalg.norm(p - spots[:200], axis=1)
        scale = float(np.ptp(spots, axis=0).max()) + 100.0 * tolerance
        keep = (off < tolerance) & (moved < 0.2 * scale + 1e3 * tolerance)
        keep &= (area_of(one).side(p, 20.0 * tolerance) > 0) & (area_of(two).side(p, 20.0 * tolerance) > 0)
        # Where smooth neighbours touch along their edge, nothing is cut.
        across = np.linalg.norm(np.cross(one.surface.normal(p), two.surface.normal(p)), axis=1)
        keep &= across > (0.05 if common else 1e-3)
        return p[keep]
    except (LithonError, ValueError):
        return np.zeros((0, 3))


@njit(cache=True)
def _pierces(a: Floats, b: Floats, t: Floats, out: Floats) -> bool:
    """Whether the segment a-b passes through the inside of triangle t (3,3); fills out with the place."""
    e, f, d, s = t[1] - t[0], t[2] - t[0], b - a, a - t[0]
    h = np.cross(d, f)
    det = e @ h
    size = np.sqrt((e @ e) * (f @ f) * (d @ d))
    if abs(det) <= 1e-12 * size:
        return False
    u = (s @ h) / det
    q = np.cross(s, e)
    v = (d @ q) / det
    w = (f @ q) / det
    edge = 1e-9
    if u < edge or v < edge or u + v > 1.0 - edge or w < edge or w > 1.0 - edge:
        return False
    for c in range(3):
        out[c] = a[c] + w * d[c]
    return True


@njit(cache=True)
def _cuts(points: Floats, triangles: Ints, pairs: Ints) -> tuple[Ints, Floats]:
    """Rows of the pairs of triangles that cut each other and, for every pair, where (n,3)."""
    at = np.zeros((len(pairs), 3))
    hit = np.zeros(len(pairs), np.bool_)
    s, t = np.empty((3, 3)), np.empty((3, 3))
    for n in range(len(pairs)):
        for k in range(3):
            s[k], t[k] = points[triangles[pairs[n, 0], k]], points[triangles[pairs[n, 1], k]]
        for k in range(3):
            if _pierces(s[k], s[(k + 1) % 3], t, at[n]) or _pierces(t[k], t[(k + 1) % 3], s, at[n]):
                hit[n] = True
                break
    return np.flatnonzero(hit), at


def crossing_cards(body: Body, tolerance: float) -> list[Finding]:
    found = self_intersections(body, tolerance)
    if not found:
        return []
    faces = tuple(dict.fromkeys(f for one, two, _ in found for f in (one, two)))
    every = np.concatenate([spots for *_, spots in found])
    reach = float(np.linalg.norm(np.ptp(every, axis=0)))
    return [
        Finding(
            "self-intersection",
            "stops",
            reach,
            xyz(every[len(every) // 2]),
            f"the skin passes through itself in {len(every)} places of {len(faces)} faces",
            "Inside and outside are not told apart there: the volume cannot be filled.",
            "mend",
            body,
            faces,
            station="mend",
        )
    ]
