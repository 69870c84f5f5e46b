"""After an edit only what changed is looked at again; what is then known must be what looking at everything finds."""

import sys
from collections import Counter
from pathlib import Path

import numpy as np
import pytest
from dice import seeds
from solids import bracket

from lithon import remembered
from lithon.arrange.boolean import combine
from lithon.brep.analysis import adjacency, crossings, thickness
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.tessellation.trees import tree_of
from lithon.brep.topology import FaceUse, Model
from lithon.brep.validate import flaws
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.frames import Frame
from lithon.mesh.drapes import ignored
from lithon.mesh.sizing import SizeRules
from lithon.samples.build import prism, rectangle
from lithon.survey.features import features
from lithon.survey.findings import findings
from lithon.trim.clear import clear

sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))
from parts import perforated, pocketed


def forget():
    """As if no body had ever been looked at."""
    remembered.forget()
    for table in (thickness._whole, crossings._seen, adjacency._told, adjacency._index):
        table.clear()


def edits(body, tolerance, rng, many=3):
    """The body after one edit, after two, and so on: features cleared, a groove cut, a rib grown."""
    out = [body]
    for _ in range(many):
        now = out[-1]
        kind = rng.integers(3)
        found = features(now)
        if kind == 0 and found:
            out.append(clear(now, found[int(rng.integers(len(found)))].faces, tolerance)[0].body)
            continue
        p = body_mesh(now)[0]
        low, high = p.min(axis=0), p.max(axis=0)
        at = low + rng.uniform(0.2, 0.7, 3) * (high - low)
        bar = prism(rectangle(0.0, 0.0, *(0.13 * np.ptp(p, axis=0)[:2])), float(high[2] - low[2]),
                    Frame.of((at[0], at[1], at[2]), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0)))  # fmt: skip
        made = combine(now, bar, "union" if kind == 1 else "subtract", tolerance)
        if len(made) == 1:
            out.append(made[0])
    return out


@pytest.mark.parametrize("seed", seeds(6, 2))
@pytest.mark.parametrize("sense", [-1.0, 1.0])
def test_rays_go_as_far_as_in_the_whole_body(seed, sense):
    forget()
    rng = np.random.default_rng(seed)
    model = (perforated(24), pocketed(8), Model.of([bracket(seed).body]))[seed % 3]
    reach = np.inf if sense < 0.0 else 40.0
    again = 0
    for body in edits(model.bodies[0], model.tolerance, rng):
        spots, distance, own, far, facing = thickness._across(body, sense, reach)
        again += body not in thickness._whole
        points, _, owner = body_mesh(body)
        # Every sample lies on the face that it is said to lie on.
        for k in np.unique(own).tolist():
            on = spots[own == k]
            assert np.abs(body.uses[k].face.surface.signed_distance(on)).max() < 0.1
        assert set(own.tolist()) == set(range(len(body.uses)))
        ways = np.zeros_like(spots)
        for k in np.unique(own).tolist():
            ways[own == k] = sense * body.uses[k].outward(spots[own == k])
        flat = np.array([use.face.surface.kind == "plane" for use in body.uses])[own]
        tree, least = tree_of(body), 1e-7 * np.ptp(points, axis=0).max()
        which, there = tree.first_hits(spots[flat], ways[flat], least, reach)
        # A ray that just grazes something may go either way: those that a nudge changes do not count.
        aside = np.cross(ways[flat], rng.normal(size=3))
        nudged = [tree.first_hits(spots[flat] + step * aside, ways[flat], least, reach)[1] for step in (1e-5, -1e-5)]
        sure = np.all([np.isclose(there, other, atol=1e-3) for other in nudged], axis=0)
        assert sure.mean() > 0.97
        told = distance[flat]
        # Where a ball fits in that is narrower, it is as wide as one that knows nothing of what was there before.
        skin, scale = thickness._skin(body)
        anew = thickness._Rays.ready(spots, ways, own)
        anew.meet(np.arange(len(own)), skin, sense, 1e-7 * scale, reach)
        anew.swell(np.arange(len(own)), skin, sense, min(reach, scale / 12.0))
        anew.settle([skin])
        ball = anew.held[flat] >= 0
        told_ball = told < there * (1.0 - 1e-6)
        assert np.isclose(there, told, rtol=1e-6, atol=1e-6)[sure & ~ball & ~told_ball].all()
        # One that touches a round face where two of its triangles meet is on the rim of the one, not of the other.
        assert (ball != told_ball)[sure].mean() < 1e-3
        assert np.isclose(anew.wide[flat], told, rtol=1e-6, atol=1e-6)[sure & ball & told_ball].all()
        hit = sure & (which >= 0) & ~ball & ~told_ball
        # On the edge between two faces either is met.
        assert (owner[which[hit]] != far[flat][hit]).sum() <= 0.005 * hit.sum()
        assert np.abs(facing).max() <= 1.0 + 1e-9
    assert again >= 1  # some were found from what was known


@pytest.mark.parametrize("seed", seeds(6, 2))
def test_cards_after_edits_are_those_of_a_fresh_look(seed):
    forget()
    rng = np.random.default_rng(100 + seed)
    model = (perforated(24), pocketed(8), Model.of([bracket(seed).body]))[seed % 3]
    size = 3.0 + seed
    steps = edits(model.bodies[0], model.tolerance, rng)
    known = [findings(Model((body,), model.tolerance), size) for body in steps]
    for body, cards in zip(steps, known, strict=True):
        forget()
        fresh = findings(Model((body,), model.tolerance), size)
        thin = {"thin wall", "thin slot"}  # where exactly these are thinnest hangs on the samples
        assert Counter((c.kind, round(c.size, 6), c.text) for c in cards if c.kind not in thin) == Counter(
            (c.kind, round(c.size, 6), c.text) for c in fresh if c.kind not in thin
        )
        pairs = [{frozenset(c.faces): c.size for c in some if c.kind in thin} for some in (cards, fresh)]
        both = set(pairs[0]) & set(pairs[1])
        assert len(both) >= 0.9 * max(len(pairs[0]), len(pairs[1]))
        assert all(pairs[0][faces] == pytest.approx(pairs[1][faces], rel=0.15) for faces in both)


@pytest.mark.parametrize("seed", seeds(6, 2))
def test_features_after_edits_are_those_of_a_fresh_look(seed):
    forget()
    rng = np.random.default_rng(500 + seed)
    model = (perforated(12), pocketed(6), Model.of([bracket(seed).body]))[seed % 3]
    steps = edits(model.bodies[0], model.tolerance, rng, many=6)
    known = [features(body) for body in steps]
    assert sum(len(some) for some in known) > 10
    for body, some in zip(steps, known, strict=True):
        forget()
        assert [facts(f) for f in features(body)] == [facts(f) for f in some]
        assert all(f.body is body and set(f.faces) <= set(body.faces) for f in some)


def facts(f):
    place = tuple(np.round(f.place, 6).tolist())
    return f.kind, f.faces, round(f.size, 9), round(f.depth, 9), place, f.through, f.convex


def test_a_cut_through_itself_is_carried_over_an_edit():
    """Two blocks in one skin that pass through each other, and a hole elsewhere that is then closed."""
    forget()
    one = perforated(4).bodies[0]
    p = body_mesh(one)[0]
    corner = p.max(axis=0)
    other = prism(
        rectangle(0.0, 0.0, 8.0, 8.0), 30.0, Frame.of((corner[0] - 4.0, corner[1] - 4.0, -9.0), (0, 0, 1), (1, 0, 0))
    )
    body = one.with_uses([*one.uses, *other.uses])
    before = crossings.self_intersections(body, 1e-6)
    assert before
    hole = next(f for f in features(one) if f.kind == "hole")
    closed = clear(one, hole.faces, 1e-6)[0].body
    after = crossings.self_intersections(closed.with_uses([*closed.uses, *other.uses]), 1e-6)
    assert len(after) == len(before)
    assert {f for one, two, _ in after for f in (one, two)} <= set(closed.faces) | set(other.faces)
    forget()
    fresh = crossings.self_intersections(closed.with_uses([*closed.uses, *other.uses]), 1e-6)
    assert {frozenset(c[:2]) for c in fresh} == {frozenset(c[:2]) for c in after}


def test_a_clear_beside_an_old_cut_is_not_blamed_for_it():
    """A post stuck through the plate next to a hole: the hole can still be closed, and the post stays a finding."""
    forget()
    one = perforated(4).bodies[0]
    hole = next(f for f in features(one) if f.kind == "hole")
    x, y = hole.place[:2] + 0.44 * hole.size  # beside the rim, within its box
    half = 0.03 * hole.size
    post = prism(rectangle(-half, -half, half, half), 30.0, Frame.of((x, y, -9.0), (0, 0, 1), (1, 0, 0)))
    body = one.with_uses([*one.uses, *post.uses])
    assert crossings.self_intersections(body, 1e-6)
    closed = clear(body, hole.faces, 1e-6)[0].body
    assert len(closed.uses) == len(body.uses) - len(hole.faces)
    assert crossings.self_intersections(closed, 1e-6)


def test_a_tree_is_blind_to_what_was_taken_out():
    rng = np.random.default_rng(4)
    corners = rng.uniform(-1.0, 1.0, (400, 1, 3)) + 0.2 * rng.normal(size=(400, 3, 3))
    points, triangles = corners.reshape(-1, 3), np.arange(1200).reshape(-1, 3)
    gone = rng.random(400) < 0.4
    blind = BoxTree.of(points, triangles).without(gone)
    left = np.flatnonzero(~gone)
    other = BoxTree.of(points, triangles[left])
    origins, ways = rng.normal(size=(3000, 3)), rng.normal(size=(3000, 3))
    a, far_a = blind.first_hits(origins, ways, 0.0)
    b, far_b = other.first_hits(origins, ways, 0.0)
    assert (np.where(b >= 0, left[b], -1) == a).all() and np.array_equal(far_a, far_b) and (a >= 0).sum() > 500


@pytest.mark.parametrize("seed", seeds(8, 3))
def test_what_is_taken_over_from_the_body_before_is_what_a_fresh_look_finds(seed):
    """Who meets whom, what is wrong, what a mesh does not follow: of bodies edited soundly, and then torn and turned, a
    face at a time."""
    forget()
    rng = np.random.default_rng(seed)
    model = (perforated(24), pocketed(8), Model.of([bracket(seed).body]))[seed % 3]
    chain = edits(model.bodies[0], model.tolerance, rng, 4)
    for kind in ["double", *rng.permutation(["lose", "turn", "lose", "turn"])]:
        uses = list(chain[-1].uses)
        k = int(rng.integers(len(uses)))
        if kind == "lose":
            uses.pop(k)
        elif kind == "turn":
            uses[k] = FaceUse(uses[k].face, not uses[k].forward)
        else:
            chain.append(chain[-1].with_uses([*uses, uses[k]]))  # and once only again
        chain.append(chain[-1].with_uses(uses))
    size = 0.1 * float(np.ptp(body_mesh(chain[0])[0], axis=0).max())

    def told(body):
        adj = adjacency.adjacency(body)
        meets = [(edge, list(entries)) for edge, entries in adj.uses.items()]
        wrong = Counter((f.kind, f.entity if not isinstance(f.entity, type(body)) else None)
                        for f in flaws(body, model.tolerance))  # fmt: skip
        less = [ignored((body,), SizeRules(size, ignore=share * size)) for share in (0.3, 1.2)]
        return meets, wrong, [(x.small, x.soft, x.tiny, set(x.groups)) for x in less]

    taken = [told(body) for body in chain]
    assert len({len(wrong) for _, wrong, _ in taken}) > 1
    for body, found in zip(chain, taken, strict=True):
        forget()
        again = told(body)
        assert found[0] == again[0] and found[1] == again[1] and found[2] == again[2]
