"""What stands between this geometry and a mesh at the wanted element size."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Collection, Sequence
from contextlib import nullcontext
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.thickness import thickness
from lithon.brep.copies import Copied, Copy, copy_of, origin_of, root_of
from lithon.brep.faceted import faceted
from lithon.brep.measures import face_centroid, face_sides, face_width, prepare, uses_volume
from lithon.brep.needles import has_needles
from lithon.brep.shells import shells
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.topology import Body, Face, Model
from lithon.brep.validate import flaws, touching_edges
from lithon.errors import Refusal
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.mesh.closing import Closing
from lithon.mesh.drapes import asks_nothing, between_walls
from lithon.mesh.sizing import SizeRules
from lithon.remembered import Remembered
from lithon.survey.between import pair_cards
from lithon.survey.card import CLEAN, CLEAR, DRAPE, DRAW, DROP, FILL, NEEDLES, Finding, Severity, share, xyz
from lithon.survey.corners import corner_cards
from lithon.survey.crossings import crossing_cards
from lithon.survey.disguises import disguise_cards
from lithon.survey.features import Feature, features
from lithon.survey.openings import opening_cards, sheet_cards, sheet_faces
from lithon.survey.skin import skin_cards
from lithon.survey.walls import Thinness, joined, slots, walls
from lithon.threads import beside
from lithon.words import listed, many

#: Elements through a wall, at least, by default.
_THROUGH = SizeRules(size=1.0).through
#: A boss is low below this share of an element.
_LOW = 0.5

_RANK = {"stops": 0, "costs": 1, "note": 2}


def findings(model: Model, size: float, thorough: bool = True, rules: SizeRules | None = None) -> list[Finding]:
    """Everything found at this element size, worst first; at a first glance only what is seen at once. What the mesh
    does not follow by its rules, where they are given, is told in one note for each body."""
    roots = dict.fromkeys(root_of(body) for body in model.bodies)
    found = {root: body_findings(root, size, model.tolerance, thorough) for root in roots}
    if rules is not None and (rules.ignore or rules.drapes or rules.passed):
        # What is said of a copy holds for that one alone.
        said = {origin[0] for x in rules.named() if (origin := origin_of(x)) is not None}
        copies = [(body, copy) for body in model.bodies if (copy := copy_of(body)) is not None and copy in said]
        own = {body: _carried(found[root_of(body)], body, copy) for body, copy in copies}
        found = {body: _followed(cards, body, rules) for body, cards in (found | own).items()}
    found = _cleared_alone(found, model)
    pairs = pair_cards(model, size) if thorough else []
    pairs = [_of_triangles(f) if faceted(root_of(f.body)) else f for f in pairs]
    return _Cards(found, model.bodies, pairs)


def _cleared_alone(found: dict[Body, list[Finding]], model: Model) -> dict[Body, list[Finding]]:
    """The cards without those that would clear what another body shares: nothing of a bond goes for one of the two, and
    a pocket that is filled is none."""
    out = dict(found)
    for body in found if len(model.bodies) > 1 else ():
        if copy_of(body) is not None:
            continue
        shared = {face for face in body.faces if len(model.owners(face)) > 1}
        if not shared:
            continue
        out |= {
            other: _carried(found[body], other, copy)
            for other in model.bodies
            if other not in found and (copy := copy_of(other)) is not None and root_of(other) is body
        }
        out[body] = [f for f in found[body] if f.remedy != CLEAR or shared.isdisjoint(f.faces)]
    return out


def _followed(cards: list[Finding], body: Body, rules: SizeRules) -> list[Finding]:
    """The cards without those about what the mesh does not follow, and one about these."""
    if not cards or not body_is_drawn(body):
        return cards
    gone = [f for f, over in zip(cards, passed_over(cards, body, rules), strict=True) if over]
    if not gone:
        return cards
    count = Counter(f.kind for f in gone)
    what = listed([many(n, kind) for kind, n in count.items()])
    narrow = tuple(dict.fromkeys(x for f in gone if f.kind == "narrow face" for x in f.faces))
    needles = _have_needles(body, narrow, rules)
    told = Finding(
        "not followed",
        "note",
        max(f.size for f in gone),
        gone[0].place,
        f"{what} not followed",
        "The mesh goes over them as well as it can: some are needles between creases."
        if needles
        else "The mesh goes over them; the solid stays as it is.",
        NEEDLES if needles else "a smaller ignore size follows them; names and holds keep outlines",
        body,
        narrow,
        tuple(dict.fromkeys(x for f in gone for x in f.edges)),
        station="survey",
        by_cause=gone[0].by_cause,
    )
    return [*(f for f in cards if f not in set(gone)), told]


def _have_needles(body: Body, faces: Collection[Face], rules: SizeRules) -> bool:
    """Whether narrow faces of a body are of triangles, and needles of it can be taken out."""
    if not faces or not rules.ignore or not faceted(body) or body.sheet:
        return False
    points, corners, _ = body_mesh(body)
    return has_needles(points, corners, rules.ignore)


def passed_over(cards: Sequence[Finding], body: Body, rules: SizeRules) -> list[bool]:
    """Whether the mesh by some rules goes over what each card about a body is about: narrow faces, short edges and
    kinks that it does not follow, and corners of faces that it closes."""
    small, edges = asks_nothing(rules, body)
    closing = Closing((body,), rules)

    def over(f: Finding) -> bool:
        if f.kind == "narrow face":
            return f.faces[0] in small or any(e in edges for e in face_sides(f.faces[0]))
        if f.kind in ("spike", "small angle"):
            return closing.may(f.faces[0])
        return f.kind in ("short edge", "kink") and f.edges[0] in edges

    return [over(f) for f in cards]


class _Cards(list[Finding]):
    """The findings of bodies and of pairs, in order. To another process go those of copies only once."""

    def __init__(self, found: dict[Body, list[Finding]], bodies: tuple[Body, ...], pairs: list[Finding]):
        self._told = found, bodies, pairs
        out = list(pairs)
        for body in bodies:
            copy = copy_of(body)
            out += found[body] if copy is None or body in found else _carried(found[root_of(body)], body, copy)
        super().__init__(sorted(out, key=lambda f: (_RANK[f.severity], f.size)))

    def __reduce__(self) -> tuple[Any, ...]:
        return _Cards, self._told


def _carried(found: list[Finding], body: Body, copy: Copy) -> list[Finding]:
    """What was found in the body that another is a copy of, as it is in that."""
    places = copy.points(np.array([f.place for f in found]).reshape(-1, 3)).tolist()
    return [
        replace(f, place=xyz(place), body=body, faces=Copied(copy, f.faces), edges=Copied(copy, f.edges))
        for f, place in zip(found, places, strict=True)
    ]


def body_findings(body: Body, size: float, tolerance: float, thorough: bool = True) -> list[Finding]:
    """What is found in one body by itself."""
    own = _found(body, size, tolerance, thorough)
    return [_of_triangles(f) for f in own] if faceted(body) else own


def _of_triangles(f: Finding) -> Finding:
    """A finding about triangles: told by its cause; what is wrong with their skin is cleaned all together."""
    if f.other is not None and (f.offer is not None or not faceted(root_of(f.other))):
        return f
    if f.severity == "stops" and not f.body.sheet:
        return replace(f, by_cause=True, remedy=CLEAN, instead=tuple(f.offers), station="mend")
    return replace(f, by_cause=True)


def _found(body: Body, size: float, tolerance: float, thorough: bool) -> list[Finding]:
    if not thorough:
        return _short_edges(body, size, set()) + ([] if body.sheet else opening_cards(body, tolerance))
    if body.sheet:
        drawn = body_is_drawn(body)
        out = skin_cards(body, flaws(body, tolerance))
        out += disguise_cards(body, tolerance) if drawn else []
        narrow = _narrow_faces(body, size, set()) if drawn else []
        return out + _short_edges(body, size, {f for card in narrow for f in card.faces}) + narrow
    drawn = body_is_drawn(body)
    # Most of what walls take is compiled, most of what soundness takes is not.
    with beside(partial(thickness, body)) if drawn and not faceted(body) else nullcontext():
        out = _unsound(body, tolerance)
    if not drawn:
        return out
    out += crossing_cards(body, tolerance)
    out += disguise_cards(body, tolerance)
    out += _touching(body)
    known: set[Face] = set()
    thin = None
    if not any(f.severity == "stops" for f in out):  # walls and features want a closed skin
        out += _voids(body)
        out += _thin_walls(body, size)
        thin = Thinness(body)
        for feature in features(body):
            card = _feature_card(feature, size, body)
            if card is not None:
                out.append(card)
                known |= set(feature.faces)
        out += _thin_slots(body, size, known)
    narrow = _narrow_faces(body, size, known, thin)
    out += _short_edges(body, size, known | {f for card in narrow for f in card.faces}, thin) + narrow
    out += corner_cards(body, size, known)
    return out


def body_is_drawn(body: Body) -> bool:
    """Whether every face of a body has triangles."""
    try:
        body_mesh(body)
    except Refusal:
        return False
    return True


#: Flaws that `openings` tells better, by their place and measure.
_TOLD = ("open edge", "leak")


def _unsound(body: Body, tolerance: float) -> list[Finding]:
    opened = opening_cards(body, tolerance)
    sheets = sheet_faces(body)
    edges = {edge for face in sheets for edge in face.edges()}
    out = sheet_cards(body) + [f for f in opened if not edges.issuperset(f.edges)]
    told = [flaw for flaw in flaws(body, tolerance) if not (flaw.kind in _TOLD and opened)]
    return out + skin_cards(body, told)


def _voids(body: Body) -> list[Finding]:
    """Closed hollows inside the solid."""
    out = []
    for shell in shells(body)[1:]:
        hollow = -uses_volume(shell)
        if hollow <= 0.0:
            continue
        faces = tuple(use.face for use in shell)
        p = np.concatenate([face_mesh(f).points for f in faces])
        out.append(
            Finding(
                "void",
                "note",
                float(np.cbrt(hollow)),
                xyz(0.5 * (p.min(axis=0) + p.max(axis=0))),
                f"a closed hollow of {hollow:.4g} mm³",
                f"{len(faces)} faces that are meshed although nobody sees them.",
                DROP,
                body,
                faces,
                keep="It may be meant: a core that stays.",
            )
        )
    return out


def _touching(body: Body) -> list[Finding]:
    return [
        Finding(
            "touching edge",
            "note",
            edge.length,
            xyz(edge.at(0.5)),
            f"the body touches itself along an edge of {edge.length:.3g} mm",
            "It holds no stress there: the two sides are tied by the nodes of one line.",
            "cut it there, or add material",
            body,
            edges=(edge,),
            station="survey",
        )
        for edge in touching_edges(body)
    ]


def _feature_card(f: Feature, size: float, body: Body) -> Finding | None:
    place = xyz(f.place)
    if f.kind == "hole" and f.size < size:
        wall = wall_beside(f)
        keep = ""
        if wall is not None and wall < 1.5 * f.size:
            keep = (
                f"It stands {wall:.3g} mm from the outside, {share(wall, size)}: "
                "what runs around it may matter to the stress."
            )
        return Finding(
            "small hole",
            "costs",
            f.size,
            place,
            f.words(),
            f"Its rim asks for elements of {np.pi * f.size / 12.0:.2g} mm.",
            CLEAR,
            body,
            f.faces,
            keep=keep,
        )
    if f.kind == "fillet" and f.size < 0.75 * size:
        return Finding(
            "small fillet",
            "costs",
            f.size,
            place,
            f.words(),
            f"Its arc asks for elements of {np.pi * f.size / 6.0:.2g} mm along {f.depth:.3g} mm.",
            CLEAR,
            body,
            f.faces,
        )
    if f.kind == "chamfer" and f.size < 0.75 * size:
        return Finding(
            "small chamfer",
            "costs",
            f.size,
            place,
            f.words(),
            f"{share(f.size, size)} across, for {f.depth:.3g} mm.",
            CLEAR,
            body,
            f.faces,
        )
    if f.kind == "pocket" and min(f.size, f.depth) < 1.5 * size:
        return Finding(
            "pocket",
            "costs",
            min(f.size, f.depth),
            place,
            f.words(),
            f"{len(f.faces)} faces; its depth is {share(f.depth, size)}.",
            CLEAR,
            body,
            f.faces,
        )
    if f.kind == "boss" and f.depth < _LOW * size:
        return Finding(
            "low boss",
            "costs",
            f.depth,
            place,
            f.words(),
            f"{len(f.faces)} faces; its height is {share(f.depth, size)}.",
            CLEAR,
            body,
            f.faces,
        )
    return None


def wall_beside(hole: Feature) -> float | None:
    """The thinnest wall (mm) between a hole and the nearest other face that it does not open into."""
    least = _walls_behind(hole.body).get(hole.faces[0], np.inf)
    return least if np.isfinite(least) else None


_behind = Remembered[Body, dict[Face, float]]("survey/findings:behind")


def _walls_behind(body: Body) -> dict[Face, float]:
    """The thinnest wall (mm) behind each face, up to another face that looks the other way; infinite without one."""
    return _behind.of(body, _least_walls)


def _least_walls(body: Body) -> dict[Face, float]:
    where, wall, own, far, facing = thickness(body)
    rows = np.flatnonzero((own != far) & (facing < -0.5))
    rows = rows[np.argsort(wall[rows], kind="stable")]
    faces, first = np.unique(own[rows], return_index=True)
    least = dict.fromkeys((use.face for use in body.uses), np.inf)
    for k, row in zip(faces.tolist(), rows[first].tolist(), strict=True):
        own_face, beyond = body.uses[k].face, body.uses[int(far[row])].face
        least[own_face] = _between(own_face.surface, beyond.surface, where[row], float(wall[row]))
    return least


def _between(one: Surface, other: Surface, start: Floats, measured: float) -> float:
    """The distance between two surfaces near a point, by projections back and forth: rays begin and end on chords."""
    if {one.kind, other.kind} & {"facets"} or one.kind == other.kind == "plane":
        return measured
    if isinstance(one, Plane | Cylinder) and isinstance(other, Plane | Cylinder):
        apart = min(_along_one_way(one, other), key=lambda d: abs(d - measured), default=np.inf)
        if np.isfinite(apart):
            return apart if abs(apart - measured) < 0.1 * measured else measured
    p, away = one.project(start[None]), np.inf
    for _ in range(30):
        q = other.project(p)
        p = one.project(q)
        last, away = away, float(np.linalg.norm(p - q))
        if last - away < 1e-9 * away:
            break
    return away if abs(away - measured) < 0.1 * measured else measured


def _along_one_way(one: Plane | Cylinder, other: Plane | Cylinder) -> tuple[float, ...]:
    """The distances (mm) that two cylinders about parallel axes, or one along a plane, can have, outside each other or
    one in the other; none where they do not run one way."""
    if isinstance(one, Plane):
        one, other = other, one
    if isinstance(one, Plane):
        return ()
    lean = abs(float(one.frame.z @ other.frame.z))
    if abs(lean - (0.0 if isinstance(other, Plane) else 1.0)) > 1e-12:
        return ()
    if isinstance(other, Plane):
        away = abs(float(other.signed_distance(one.frame.origin)))
        return (abs(away - one.radius), away + one.radius)
    x, y, _ = other.frame.local(one.frame.origin)
    away = math.hypot(x, y)
    return (
        abs(away - one.radius - other.radius),
        abs(abs(one.radius - other.radius) - away),
        abs(one.radius + away - other.radius),
        abs(other.radius + away - one.radius),
    )


def _thin_walls(body: Body, size: float) -> list[Finding]:
    """Places where the solid is thinner than an element, one card for what is about as thick and hangs together."""
    return [
        Finding(
            "thin wall",
            "costs",
            wall,
            place,
            f"wall {wall:.3g} mm thick, {share(wall, size)}",
            f"Elements shrink to about {wall / _THROUGH:.2g} mm there.",
            "clear what thins it, or mesh its mid-surface",
            body,
            faces,
            station="survey",
        )
        for wall, faces, place in joined(body, walls(body, _THROUGH * size))
    ]


def _thin_slots(body: Body, size: float, known: set[Face]) -> list[Finding]:
    """Places where the solid's own sides come closer than a third of an element, but for small features."""
    return [
        Finding(
            "thin slot",
            "note",
            gap,
            place,
            f"slot {gap:.3g} mm wide, {share(gap, size)}",
            "Its sides are meshed apart; what looks for contacts at this size takes them for one.",
            "clear it: choose its faces; or keep it",
            body,
            faces,
            instead=(FILL,),
        )
        for gap, faces, place in joined(body, slots(body, 0.35 * size))
        if not known.issuperset(faces)
    ]


def _beside(thin: Thinness | None, size: float, places: Floats, faces: list[list[Face]]) -> Floats:
    """How large (mm) the elements are at some places (n,3) of some faces, where walls are thin there: what is no
    smaller than these is told with the wall."""
    return np.full(len(places), size) if thin is None else np.minimum(size, thin.at(places, faces) / _THROUGH)


def _short_edges(body: Body, size: float, known: set[Face], thin: Thinness | None = None) -> list[Finding]:
    adj = adjacency(body)
    short = [e for e in body.edges() if e.length < 0.35 * size and not any(u.face in known for u, _ in adj.uses[e])]
    places = np.array([e.at(0.5) for e in short]).reshape(-1, 3)
    near = [{e, *(g for end in (e.start, e.end) if end is not None for g in adj.at_vertex[end])} for e in short]
    faces = [list({u.face for g in edges for u, _ in adj.uses[g]}) for edges in near]
    out = []
    for edge, place, there in zip(short, places, _beside(thin, size, places, faces), strict=True):
        length = edge.length
        if length >= 0.35 * there:
            continue
        out.append(
            Finding(
                "short edge",
                "costs",
                length,
                xyz(place),
                f"edge {length:.3g} mm long",
                f"It is {share(length, size)}: the elements on it are that small.",
                DRAW,
                body,
                edges=(edge,),
            )
        )
    return out


#: What a person can do about a strip that stands between two walls.
_BETWEEN = {"rim": "mesh it finer, or make a sheet of the wall", "floor": "mesh it finer, or clear the whole slot"}


def _narrow_faces(body: Body, size: float, known: set[Face], thin: Thinness | None = None) -> list[Finding]:
    """Faces whose width, taken as twice the area over the perimeter, is a fraction of an element."""
    out, adj = [], adjacency(body)
    prepare(f for f in body.faces if f not in known)
    narrow = [f for f in body.faces if f not in known and face_width(f) < 0.2 * size]
    places = np.array([f.surface.project(face_centroid(f)[None])[0] for f in narrow]).reshape(-1, 3)
    around = [[f, *adj.neighbours(f)] for f in narrow]
    for face, place, there in zip(narrow, places, _beside(thin, size, places, around), strict=True):
        width = face_width(face)
        if width < 0.2 * there:
            walls = between_walls(adj, face)
            out.append(
                Finding(
                    "narrow face",
                    "costs",
                    width,
                    xyz(place),
                    f"face about {width:.3g} mm wide",
                    f"It is {share(width, size)} across.",
                    _BETWEEN[walls] if walls else NEEDLES if faceted(body) else CLEAR,
                    body,
                    (face,),
                    instead=() if walls else (DRAPE,),
                )
            )
    return out


__all__ = ["Finding", "Severity", "findings", "share", "wall_beside"]
