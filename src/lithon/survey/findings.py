"""What stands between this geometry and a mesh at the wanted element size."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from contextlib import nullcontext
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from lithon.brep.analysis.thickness import thickness
from lithon.brep.copies import Copied, Copy, copy_of, origin_of, root_of
from lithon.brep.faceted import faceted
from lithon.brep.measures import face_sides, uses_volume
from lithon.brep.needles import has_needles
from lithon.brep.shells import shells
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.topology import Body, Face, Model
from lithon.brep.validate import flaws, touching_edges
from lithon.errors import Refusal
from lithon.mesh.closing import Closing
from lithon.mesh.drapes import asks_nothing
from lithon.mesh.sizing import SizeRules
from lithon.survey.between import pair_cards
from lithon.survey.card import CLEAN, CLEAR, DROP, NEEDLES, Finding, xyz
from lithon.survey.corners import corner_cards
from lithon.survey.crossings import crossing_cards
from lithon.survey.disguises import disguise_cards
from lithon.survey.feature_cards import feature_card
from lithon.survey.features import features
from lithon.survey.openings import opening_cards, sheet_cards, sheet_faces
from lithon.survey.skin import skin_cards
from lithon.survey.small_cards import narrow_faces, short_edges, thin_slots, thin_walls
from lithon.survey.walls import Thinness
from lithon.threads import beside
from lithon.words import listed, many

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
        return short_edges(body, size, set()) + ([] if body.sheet else opening_cards(body, tolerance))
    if body.sheet:
        drawn = body_is_drawn(body)
        out = skin_cards(body, flaws(body, tolerance))
        out += disguise_cards(body, tolerance) if drawn else []
        narrow = narrow_faces(body, size, set()) if drawn else []
        return out + short_edges(body, size, {f for card in narrow for f in card.faces}) + narrow
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
        out += thin_walls(body, size)
        thin = Thinness(body)
        for feature in features(body):
            card = feature_card(feature, size, body)
            if card is not None:
                out.append(card)
                known |= set(feature.faces)
        out += thin_slots(body, size, known)
    narrow = narrow_faces(body, size, known, thin)
    out += short_edges(body, size, known | {f for card in narrow for f in card.faces}, thin) + narrow
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
