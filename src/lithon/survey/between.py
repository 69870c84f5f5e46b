"""Pairs of bodies: doubled ones, one inside another, overlaps, and thin gaps."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.brep.copies import copy_of, root_of
from lithon.brep.faceted import faceted
from lithon.brep.measures import mass_properties
from lithon.brep.shells import closed
from lithon.brep.tessellation.sampling import spread_inside
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.tessellation.trees import inside, tree_of, triangle_normals
from lithon.brep.topology import Body, Face, Model, rough_box
from lithon.remembered import Remembered
from lithon.survey.card import BRING, DROP, DROP_BODY, DROP_CRUMB, PART, Finding, share, xyz

#: Gaps up to this many elements are worth a word.
_WIDE = 0.5
#: A body no thicker than such a share of an element is nothing to mesh.
_NOTHING = 2.5e-3


def pair_cards(model: Model, size: float) -> list[Finding]:
    """Everything between two bodies, boxes that come near each other only."""
    boxes = []
    for body in model.bodies:
        p = body_mesh(body)[0]
        boxes.append((p.min(axis=0), p.max(axis=0)))
    out = []
    for i, j in itertools.combinations(range(len(model.bodies)), 2):
        reach = _WIDE * size
        if (boxes[i][0] > boxes[j][1] + reach).any() or (boxes[j][0] > boxes[i][1] + reach).any():
            continue
        out += _between(model.bodies[i], model.bodies[j], size, model.tolerance)
    return out + _small(model, size)


def gaps(model: Model, reach: float) -> list[tuple[float, tuple[Face, Face], Body]]:
    """The narrowest place (mm) of every gap up to `reach` between two bodies, with the faces on both sides."""
    out = []
    spacing = reach / 5.0
    boxes = [(p.min(axis=0), p.max(axis=0)) for p in (body_mesh(b)[0] for b in model.bodies)]
    for i, j in itertools.combinations(range(len(model.bodies)), 2):
        if (boxes[i][0] > boxes[j][1] + reach).any() or (boxes[j][0] > boxes[i][1] + reach).any():
            continue
        one, other = model.bodies[i], model.bodies[j]
        spots, normals, own = _spots(one, spacing, frozenset())
        row, at = tree_of(other).nearest(spots)
        q, tri, owner = body_mesh(other)
        facing = (normals * triangle_normals(q, tri)[row]).sum(axis=1)
        straight = np.abs(((at - spots) * normals).sum(axis=1)) > 0.9 * np.linalg.norm(at - spots, axis=1)
        near = np.flatnonzero((facing < -0.7) & straight & (np.linalg.norm(at - spots, axis=1) < reach))
        if not len(near):
            continue
        true = _true_distance(one, own[near], other, row[near], spots[near])
        true = np.where(true > 20.0 * model.tolerance, true, np.inf)
        k = int(true.argmin())
        if np.isfinite(true[k]) and true[k] < reach:
            faces = (one.uses[int(own[near[k]])].face, other.uses[int(owner[row[near[k]]])].face)
            out.append((float(true[k]), faces, one))
    return out


def _small(model: Model, size: float) -> list[Finding]:
    """Bodies of next to no thickness, and among the others crumbs."""
    slivers = {b: t for b in model.bodies if not b.sheet and closed(b) and (t := _thickness(b)) < _NOTHING * size}
    if len(slivers) == len(model.bodies):
        return []
    return [
        Finding(
            "sliver body",
            "costs",
            t,
            xyz(mass_properties(body).centroid),
            f"{body.name} is {t:.2g} mm thick",
            "It is skin on both sides and nothing between; elements would be that small.",
            DROP_BODY if faceted(body) else DROP_CRUMB,  # a film may be meant
            body,
            body.faces,
            station="mend",
            by_cause=faceted(body),
        )
        for body, t in slivers.items()
    ] + _crumbs([b for b in model.bodies if b not in slivers])


def _thickness(body: Body) -> float:
    """How thick (mm) a plate of a solid's volume and skin is."""
    mass = mass_properties(body)
    return 2.0 * abs(mass.volume) / max(mass.area, 1e-300)


def _crumbs(bodies: Sequence[Body]) -> list[Finding]:
    """Bodies far smaller than the others: below the widest gap in the row of volumes, where it is wide."""
    bodies = sorted(bodies, key=lambda b: abs(mass_properties(b).volume))
    volumes = np.array([abs(mass_properties(b).volume) for b in bodies])
    if len(bodies) < 3 or volumes[0] <= 0.0:
        return []
    jumps = volumes[1:] / volumes[:-1]
    k = int(jumps.argmax())
    if jumps[k] < 100.0:
        return []
    return [
        Finding(
            "crumb",
            "costs",
            float(np.cbrt(v)),
            xyz(mass_properties(body).centroid),
            f"{body.name} is a crumb of {v:.4g} mm³",
            f"The next larger body has {_times(volumes[k + 1] / v)} times its volume: absorb it, or drop it.",
            DROP_CRUMB,
            body,
            body.faces,
        )
        for body, v in zip(bodies[: k + 1], volumes, strict=False)
    ]


def _times(ratio: float) -> str:
    return f"{ratio:,.0f}".replace(",", "\u00a0")


def _spots(body: Body, spacing: float, skip: frozenset[int]) -> tuple[Floats, Floats, Ints]:
    """Points (n,3) over a body's faces but the shared ones, outward normals (n,3) and face uses (n,)."""
    known = _laid.of(body, lambda body: {})
    if (spacing, skip) not in known:
        known[(spacing, skip)] = _lay(body, spacing, skip)
    return known[(spacing, skip)]


_Spots = tuple[Floats, Floats, Ints]
_laid = Remembered[Body, dict[tuple[float, frozenset[int]], _Spots]]("survey/between:laid")


def _lay(body: Body, spacing: float, skip: frozenset[int]) -> _Spots:
    points, triangles, owner = body_mesh(body)
    if skip:
        keep = np.array([use.face.uid not in skip for use in body.uses])[owner]
        triangles, owner = triangles[keep], owner[keep]
    if not len(triangles):
        return np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0, dtype=np.int64)
    spots, row = spread_inside(points[triangles], spacing, most=24)
    return spots, triangle_normals(points, triangles)[row], owner[row]


def _true_distance(one: Body, own: Ints, other: Body, row: Ints, points: Floats) -> Floats:
    """Signed distances (n,) of the true places of points (n,3) on faces `own` from the true surfaces under
    the triangles `row` of the other body, positive outside of it."""
    theirs = body_mesh(other)[2][row]
    out = np.empty(len(points))
    pairs = own * len(other.uses) + theirs
    for pair in np.unique(pairs):
        k = np.flatnonzero(pairs == pair)
        near, far_side = divmod(int(pair), len(other.uses))
        mine, use = root_of(one).uses[near], root_of(other).uses[far_side]
        at = _there(other, _here(one, mine.face.surface.project(_there(one, points[k]))))
        far = use.face.surface.signed_distance(at)
        out[k] = far if use.face.along == use.forward else -far
    return out


def _there(body: Body, points: Floats) -> Floats:
    """Points (n,3) where they are to the body that one is a copy of: its surfaces need not be made out for this."""
    copy = copy_of(body)
    return points if copy is None else copy.back(points)


def _here(body: Body, points: Floats) -> Floats:
    copy = copy_of(body)
    return points if copy is None else copy.points(points)


def _between(a: Body, b: Body, size: float, tolerance: float) -> list[Finding]:
    shared = frozenset(f.uid for f in a.made_faces()) & frozenset(f.uid for f in b.made_faces())
    whole = closed(a) and closed(b)
    if whole and not shared and _twin(a, b, tolerance):
        return [
            Finding(
                "doubled body",
                "stops",
                0.0,
                xyz(mass_properties(a).centroid),
                f"{a.name} and {b.name} are one and the same",
                "Two meshes would lie in each other.",
                DROP,
                b,
                b.faces,
                station="mend",
            )
        ]
    deepest: tuple[float, tuple[float, float, float] | None] = (0.0, None)
    nearest: tuple[float, tuple[float, float, float] | None] = (np.inf, None)
    deep: dict[Face, None] = {}
    close_by: tuple[Face, ...] = ()
    for one, other in ((a, b), (b, a)):
        spots, normals, own = _spots(one, 0.7 * size, shared)
        box = body_mesh(other)[0]
        reach = _WIDE * size
        close = ((spots > box.min(axis=0) - reach) & (spots < box.max(axis=0) + reach)).all(axis=1)
        if not close.any():
            continue
        p, n = spots[close], normals[close]
        row, at = tree_of(other).nearest(p)
        q, tri, whose = body_mesh(other)
        facing = (n * triangle_normals(q, tri)[row]).sum(axis=1)
        straight = np.abs(((at - p) * n).sum(axis=1)) > 0.9 * np.linalg.norm(at - p, axis=1)
        true = _true_distance(one, own[close], other, row, p)
        away, slack = np.abs(true), 20.0 * tolerance
        if whole:
            held = inside(other, p) & (true < -slack)
            if held.any():
                deep.update(dict.fromkeys(one.uses[u].face for u in np.unique(own[close][held]).tolist()))
                k = int(np.where(held, away, 0.0).argmax())
                if away[k] > deepest[0]:
                    deepest = (float(away[k]), xyz(p[k]))
            apart = ~held
        else:
            apart = np.ones(len(p), dtype=bool)
        # Straight across: what lies to the side of a contact is no gap.
        thin = apart & (away > slack) & (away < reach) & (facing < -0.7) & straight
        if thin.any():
            k = int(np.where(thin, away, np.inf).argmin())
            if away[k] < nearest[0]:
                nearest = (float(away[k]), xyz(p[k]))
                close_by = one.uses[int(own[close][k])].face, other.uses[int(whose[row[k]])].face
    out: list[Finding] = []
    for one, other in ((a, b), (b, a)):
        if closed(one) and _swallowed(one, other):
            return [
                Finding(
                    "fragment inside",
                    "stops",
                    float(np.cbrt(abs(mass_properties(one).volume))),
                    xyz(mass_properties(one).centroid),
                    f"{one.name} lies wholly inside {other.name}",
                    "Its space would be meshed twice.",
                    DROP,
                    one,
                    one.faces,
                    station="mend",
                )
            ]
    if deepest[1] is not None:
        out.append(
            Finding(
                "overlap",
                "stops",
                deepest[0],
                deepest[1],
                f"{a.name} and {b.name} overlap by up to {deepest[0]:.3g} mm",
                "The space they share would be meshed twice.",
                PART,
                a,
                tuple(deep),
                station="bond",
                other=b,
            )
        )
    elif nearest[1] is not None:
        out.append(
            Finding(
                "thin gap",
                "note",
                nearest[0],
                nearest[1],
                f"{a.name} and {b.name} stand {nearest[0]:.3g} mm apart",
                f"The gap is {share(nearest[0], size)}: it stays open unless they are brought together.",
                BRING,
                a,
                close_by,
                station="bond",
                other=b,
            )
        )
    return out


def runs_into(before: Model, after: Model) -> tuple[Body, Body] | None:
    """A body that a step changed and one beside it that it left alone, into which the first now reaches where it was
    not before; none where nothing does."""
    stayed = set(before.bodies) & set(after.bodies)
    old = [b for b in before.bodies if b not in stayed]
    known = {face for body in old for face in body.made_faces()}
    slack = 20.0 * after.tolerance
    for body in (b for b in after.bodies if b not in stayed and not b.sheet and not faceted(b)):
        fresh = [face_mesh(face) for face in body.faces if face not in known]
        spots = [np.concatenate([m.points, m.points[m.triangles].mean(axis=1)]) for m in fresh if len(m.triangles)]
        if not spots:
            continue
        p = np.concatenate(spots)
        for other in (b for b in after.bodies if b in stayed):
            low, high = rough_box([other])
            near = p[((p > low + slack) & (p < high - slack)).all(axis=1)]
            for was in old if len(near) else ():
                near = near[np.linalg.norm(tree_of(was).nearest(near)[1] - near, axis=1) > slack]
            if not len(near) or other.sheet or not closed(other):
                continue
            deep = _depth(near, other)
            # What overlapped before is told by itself; less of it is that chords of one round are not the other's.
            if deep > slack and all(_depth(body_mesh(was)[0], other) < 0.5 * deep for was in old):
                return body, other
    return None


def _depth(points: Floats, body: Body) -> float:
    """How deep (mm) any of points (n,3) lies within a body; 0 where none does."""
    held = points[inside(body, points)]
    return float(np.linalg.norm(tree_of(body).nearest(held)[1] - held, axis=1).max()) if len(held) else 0.0


#: What is nearer to a skin than this share of its diagonal lies on it; a body of which more than this share does fits
#: into a pocket.
_ON_SKIN, _FITTED = 1e-5, 0.2


def _swallowed(one: Body, other: Body) -> bool:
    """Whether a body lies wholly within the skin of another, which may have small holes. What fits into a pocket lies
    on that skin, and not within."""
    p, q = body_mesh(one)[0], body_mesh(other)[0]
    if (p.min(axis=0) <= q.min(axis=0)).any() or (p.max(axis=0) >= q.max(axis=0)).any():
        return False
    p = p[:: max(1, len(p) // 200)]
    off = np.linalg.norm(tree_of(other).nearest(p)[1] - p, axis=1)
    if (off <= _ON_SKIN * np.linalg.norm(np.ptp(q, axis=0))).mean() > _FITTED:
        return False
    return bool(inside(other, p).mean() > 0.95)


def _twin(a: Body, b: Body, tolerance: float) -> bool:
    """Whether two bodies fill the same space."""
    one, two = mass_properties(a), mass_properties(b)
    scale = float(np.cbrt(max(abs(one.volume), 1e-30)))
    return bool(
        abs(one.volume - two.volume) < 1e-6 * abs(one.volume)
        and np.linalg.norm(one.centroid - two.centroid) < 1e-6 * scale + 10.0 * tolerance
        and abs(one.area - two.area) < 1e-6 * one.area
    )
