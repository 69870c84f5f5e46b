"""Rounds: what a rolling ball takes away or adds, by closed forms; undone by Clear, and the same as one resized."""

import numpy as np
import pytest
from blocks import box
from dice import seeds
from solids import motion as any_motion

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Sphere, Torus
from lithon.geometry.surfaces import Cylinder
from lithon.samples.build import Piece, Round, face_toward, prism, raised, rectangle, sink
from lithon.trim.clear import clear
from lithon.trim.resurface import resurfaced
from lithon.trim.rolling import rolled_to
from lithon.trim.rounding import rounded

NEAR = 1e-6
CORNER = 1.0 - np.pi / 4.0
UP = Frame.of((0, 0, 10), (0, 0, 1), (1, 0, 0))


def turned(body, kind):
    adj = adjacency(body)
    return [e for e in body.edges() if adj.turn(e) == kind]


def fresh(before, after):
    return [f for f in after.faces if f not in set(before.faces) and blend(f)]


def blend(face):
    return isinstance(face.surface, Cylinder | Torus | Sphere)


@pytest.mark.parametrize("seed", seeds(8))
def test_any_edges_of_any_block_that_meet_in_no_corner(seed):
    """Some parallel edges of a block that stands anywhere."""
    rng = np.random.default_rng(seed)
    x, y, z = rng.uniform(6.0, 20.0, 3)
    body = moved(box(0, 0, x, y, 0, z, "b"), any_motion(seed))
    axis = int(rng.integers(3))
    way = any_motion(seed)[:3, axis]
    edges = [e for e in body.edges() if abs(float(e.direction(0.5) @ way)) > 0.999]
    assert len(edges) == 4
    chosen = [edges[k] for k in rng.permutation(4)[: rng.integers(1, 5)]]
    r = float(rng.uniform(0.2, 2.5))
    made = rounded(body, chosen, r, NEAR)
    assert not flaws(made, NEAR) and len(made.faces) == 6 + len(chosen)
    gone = len(chosen) * CORNER * r**2 * (x, y, z)[axis]
    assert volume(made) == pytest.approx(x * y * z - gone, rel=1e-11)
    back = clear(made, [f for f in made.faces if isinstance(f.surface, Cylinder)], NEAR)[0].body
    assert volume(back) == pytest.approx(x * y * z, rel=1e-10)


@pytest.mark.parametrize("seed", seeds(6))
def test_all_edges_of_a_block_make_it_a_block_swept_by_a_ball(seed):
    rng = np.random.default_rng(seed)
    x, y, z = rng.uniform(6.0, 20.0, 3)
    r = float(rng.uniform(0.3, 2.8))
    body = box(0, 0, x, y, 0, z, "b")
    made = rounded(body, body.edges(), r, NEAR)
    a, b, c = x - 2 * r, y - 2 * r, z - 2 * r
    want = a * b * c + 2 * r * (a * b + b * c + c * a) + np.pi * r**2 * (a + b + c) + 4.0 / 3.0 * np.pi * r**3
    assert volume(made) == pytest.approx(want, rel=1e-11)
    kinds = [f.surface.kind for f in made.faces]
    assert (kinds.count("plane"), kinds.count("cylinder"), kinds.count("sphere")) == (6, 12, 8)
    assert not flaws(made, NEAR)


@pytest.mark.parametrize("n", [3, 5, 6])
def test_prisms_of_any_angle(n):
    """The upright edges of an n-sided prism: each loses what lies between its corner and the ball."""
    ring = [Piece((10.0 * np.cos(2 * np.pi * k / n), 10.0 * np.sin(2 * np.pi * k / n))) for k in range(n)]
    body = prism(ring, 7.0)
    edges = [e for e in body.edges() if abs(float(e.direction(0.5)[2])) > 0.999]
    r, half = 1.2, np.pi * (n - 2) / (2 * n)
    made = rounded(body, edges, r, NEAR)
    gone = n * r**2 * (1.0 / np.tan(half) - (np.pi / 2 - half)) * 7.0
    assert volume(body) - volume(made) == pytest.approx(gone, rel=1e-10)


def test_inner_edges_gain_what_outer_ones_lose():
    steps = prism([Piece((0, 0)), Piece((20, 0)), Piece((20, 4)), Piece((12, 4)), Piece((12, 9)), Piece((5, 9)),
                   Piece((5, 15)), Piece((0, 15))], 6.0)  # fmt: skip
    inner = turned(steps, "concave")
    assert len(inner) == 2
    made = rounded(steps, inner, 1.5, NEAR)
    assert volume(made) - volume(steps) == pytest.approx(2 * CORNER * 2.25 * 6.0, rel=1e-11)
    again = resurfaced(made, rolled_to(adjacency(made), fresh(steps, made), 2.5, NEAR), NEAR, False)
    straight = rounded(steps, inner, 2.5, NEAR)
    assert volume(again) == pytest.approx(volume(straight), rel=1e-12)


@pytest.mark.parametrize("n", [3, 4, 7])
def test_the_rim_of_a_prism_is_mitred(n):
    """Each round loses at both ends what the next one takes of it: its section, by how far that is from the rim."""
    ring = [Piece((10.0 * np.cos(2 * np.pi * k / n), 10.0 * np.sin(2 * np.pi * k / n))) for k in range(n)]
    body, r = prism(ring, 7.0), 1.2
    made = rounded(body, [e for e in body.edges() if e.at(0.5)[2] > 6.9], r, NEAR)
    side, lean = 20.0 * np.sin(np.pi / n), np.tan(np.pi / n)
    gone = n * (side * CORNER * r**2 - 2.0 * lean * (5.0 / 6.0 - np.pi / 4.0) * r**3)
    assert volume(body) - volume(made) == pytest.approx(gone, rel=1e-9)
    assert not flaws(made, NEAR) and len(made.faces) == 2 * n + 2


def _around_corner(corner, r):
    """What a round of radius r takes from a quarter of a convex rim of a cylinder, by Pappus."""
    section = (1.0 - np.pi / 4.0) * r**2
    inward = (r**3 / 2.0 - np.pi * r**2 / 4.0 * (r - 4.0 * r / (3.0 * np.pi))) / section
    return section * 0.5 * np.pi * (corner - inward)


@pytest.mark.parametrize("r", [0.4, 1.0, 2.0])
def test_rims_of_holes_and_bosses(r):
    """A ring's round is its section turned about the axis: areas and centroids by Pappus."""
    base = box(-20, -20, 20, 20, 0, 10, "b")
    pocket = sink(base, face_toward(base, (0, 0, 1)), UP, Round((0, 0), 6.0), 5.0)
    boss = raised(base, face_toward(base, (0, 0, 1)), UP, Round((0, 0), 6.0), 5.0)
    area = CORNER * r**2
    off = r * (10.0 - 3.0 * np.pi) / (12.0 - 3.0 * np.pi)  # of the section's centroid from the corner
    cases = [(pocket, "convex", -1.0, off), (pocket, "concave", 1.0, -off), (boss, "convex", -1.0, -off),
             (boss, "concave", 1.0, off)]  # fmt: skip
    for body, kind, sign, shift in cases:
        (rim,) = [e for e in turned(body, kind) if e.ring]
        made = rounded(body, [rim], r, NEAR)
        assert volume(made) - volume(body) == pytest.approx(sign * 2.0 * np.pi * area * (6.0 + shift), rel=1e-9)
        assert [f.surface.kind for f in fresh(body, made)].count("torus") == 1


def test_a_chain_around_a_rounded_plate():
    """Top edges of a plate with round corners: straight runs and tori, smoothly one after the other."""
    body = prism(rectangle(0, 0, 30, 20, 5.0), 6.0)
    top = [e for e in body.edges() if min(float(e.at(s)[2]) for s in (0.0, 0.5, 1.0)) > 5.9]
    assert len(top) == 8
    r = 1.5
    made = rounded(body, top, r, NEAR)
    off = r * (10.0 - 3.0 * np.pi) / (12.0 - 3.0 * np.pi)
    gone = CORNER * r**2 * (2 * (20 + 10) + 2.0 * np.pi * (5.0 - off))
    assert volume(body) - volume(made) == pytest.approx(gone, rel=1e-9)
    kinds = [f.surface.kind for f in fresh(body, made)]
    assert kinds.count("torus") == 4 and kinds.count("cylinder") >= 4
    back = clear(made, _rounds(made, r), NEAR)
    assert volume(back[0].body) == pytest.approx(volume(body), rel=1e-9)


def _rounds(body, r):
    out = []
    for f in body.faces:
        s = f.surface
        if (isinstance(s, Cylinder) and abs(s.radius - r) < 1e-9) or (isinstance(s, Torus) and abs(s.minor - r) < 1e-9):
            out.append(f)
    return out


def test_what_has_no_answer_is_refused_in_words():
    block = box(0, 0, 10, 10, 0, 10, "b")
    edges = list(block.edges())
    with pytest.raises(Refusal):
        rounded(block, edges[:1], 12.0, NEAR)
    skewed = prism([Piece((0, 0)), Piece((10, 0)), Piece((14, 10)), Piece((0, 10))], 6.0)
    corner = [e for e in skewed.edges() if any(np.allclose(v.point, (10, 0, 6)) for v in (e.start, e.end))]
    upright = next(e for e in corner if abs(e.direction(0.5)[2]) > 0.9)
    with pytest.raises(Refusal, match="third edge"):
        rounded(skewed, [upright, next(e for e in corner if e is not upright)], 1.0, NEAR)
    # Where an edge goes on smoothly and is not rounded the round stops at a flat end.
    slab = prism(rectangle(0, 0, 30, 20, 5.0), 6.0)
    rim = [e for e in slab.edges() if abs(e.at(0.5)[2] - 6.0) < 1e-9]
    for count in (1, 2, 3, 5):
        made = rounded(slab, rim[:count], 1.0, NEAR)
        taken = [(1.0 - np.pi / 4.0) * e.length if e.curve.kind == "line" else _around_corner(5.0, 1.0)
                 for e in rim[:count]]  # fmt: skip
        assert volume(slab) - volume(made) == pytest.approx(sum(taken), rel=1e-7)
        assert len(made.faces) == len(slab.faces) + count + 2 and not flaws(made, NEAR)
    smooth = prism(rectangle(0, 0, 30, 20, 5.0), 6.0)
    soft = turned(smooth, "smooth")
    with pytest.raises(Refusal, match="smoothly"):
        rounded(smooth, soft[:1], 1.0, NEAR)
    opened = block.with_uses(block.uses[1:])
    rim = next(e for e, uses in adjacency(opened).uses.items() if len(uses) == 1)
    with pytest.raises(Refusal, match="two faces"):
        rounded(opened, [rim], 1.0, NEAR)
    inside = sink(block, face_toward(block, (0, 0, 1)), UP, rectangle(2, 2, 8, 8), 4.0)
    deep = [e for e in turned(inside, "concave") if abs(float(e.direction(0.5)[2])) > 0.9]
    with pytest.raises(Refusal):
        rounded(inside, deep, 4.0, NEAR)  # two of them leave nothing of a wall
