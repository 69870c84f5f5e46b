"""Places far smaller than the elements that cannot be left out: necks, slots, splinters, edges that leave a corner at a
small angle. Elements there are small and good, and grow away steeply."""

import numpy as np
import pytest
from dice import LONG, seeds

from lithon.brep.topology import Edge, Model, Vertex
from lithon.geometry.curves import Circle, Line
from lithon.geometry.frames import Frame
from lithon.mesh.remake import Thin, finer, remade
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.skin import Skin, side_of
from lithon.mesh.surface import parted, surface_mesh
from lithon.mesh.tetrahedra import tetrahedral_mesh
from lithon.samples.build import Piece, face_toward, prism, raised, rectangle

SLOT = [(0, 0), (10, 0), (10, 3), (8, 3), (8, 3.01), (10, 3.01), (10, 6), (0, 6)]
SPLINTER = [(0.0, 0.0), (20.0, 0.0), (20.0, 9.98), (19.985, 10.0), (0.0, 10.0)]


def outlined(points, height):
    return prism([Piece(c) for c in points], height)


@pytest.mark.parametrize("wide", [0.3, 0.05])
def test_strips_and_foils_get_elements_as_good_as_their_width_allows(wide):
    """A step along a block that nothing passes over, and a foil thinner than what is passed over: neither can be left
    out, and elements as long as those around would be flat in them."""
    step = outlined([(0, 0), (20, 0), (20, 8), (12, 8), (12, 8 - wide), (0, 8 - wide)], 10.0)
    mesh = tetrahedral_mesh(Model.of([step]), SizeRules(4.0, ignore=0.02))
    assert mesh.quality.smallest_angle.min() > 12.0 and mesh.quality.scaled_jacobian.min() > 0.1
    foil = prism(rectangle(0, 0, 6, 4), wide)
    mesh = tetrahedral_mesh(Model.of([foil]), SizeRules(4.0, ignore=0.4))
    assert mesh.volume_ratio == pytest.approx(1.0, rel=1e-9)
    assert mesh.quality.smallest_angle.min() > 12.0 and len(mesh.elements) < 60_000


def test_what_may_be_spent_on_foils_is_bounded():
    """A foil too thin for that gets a few flat elements rather than millions."""
    foil = prism(rectangle(0, 0, 6, 4), 0.008)
    mesh = tetrahedral_mesh(Model.of([foil]), SizeRules(4.0, ignore=0.4))
    assert mesh.volume_ratio == pytest.approx(1.0, rel=1e-9) and len(mesh.elements) < 10_000


def boss_near_a_rim():
    """A block with a boss whose foot stands a hundredth of a millimetre from the block's own edge."""
    body = prism(rectangle(0, 0, 20, 10), 8.0)
    side = face_toward(body, (0, -1, 0))
    return raised(body, side, Frame.of((10, 0, 0), (0, -1, 0), (1, 0, 0)), rectangle(-2, 0.01, 2, 4), 3.0)


@pytest.mark.parametrize("ignore", [None, 0.2] if LONG else [0.2])
@pytest.mark.parametrize("name", ["slot", "splinter", "boss"])
def test_what_is_small_and_stays_gets_good_elements(name, ignore):
    """The volume is the body's own, so nothing is left out that was not to be; no needle is."""
    body = {"slot": lambda: outlined(SLOT, 3.0), "splinter": lambda: outlined(SPLINTER, 20.0), "boss": boss_near_a_rim}
    model = Model.of([body[name]()])
    mesh = tetrahedral_mesh(model, SizeRules(2.0 if name != "splinter" else 4.0, ignore=ignore))
    assert mesh.volume_ratio == pytest.approx(1.0, rel=1e-9 if ignore is None else 2e-4) and mesh.conformal()
    assert mesh.quality.scaled_jacobian.min() > 0.1 and mesh.quality.smallest_angle.min() > 12.0
    assert len(mesh.elements) < 15_000  # not as small as that all over


def test_elements_are_smaller_where_triangles_are_thin_and_nowhere_else():
    body = boss_near_a_rim()
    plain = surface_mesh((body,), size_field((body,), SizeRules(2.0)))
    thin = Thin.of(plain)
    side = next(f for f in body.faces if abs(f.surface.frame.z[1]) > 0.9 and abs(f.surface.frame.origin[1]) < 1e-9)
    touched = {plain.faces[k] for k in plain.triangles()[1][thin.rows]}
    assert side in touched and thin.height.max() < 0.12 * 2.0 and thin.lack > 0.0
    sizes = plain.sizes.steeper(finer(plain, thin))
    beside, far = np.array([[10.0, 0.0, 0.005], [9.0, 0.0, 0.0]]), np.array([[0.0, 9.0, 8.0], [19.0, 9.0, 4.0]])
    assert (sizes.at(beside) < 0.25).all() and sizes.at(far) == pytest.approx(plain.sizes.at(far))
    again = surface_mesh((body,), sizes, plain)
    assert Thin.of(again).lack < 0.05 * thin.lack
    # What is not near is taken over as it was: the far end's triangles are the same in space.
    far_side = face_toward(body, (-1, 0, 0))
    was, now = (m.points()[m.by_face[far_side]] for m in (plain, again))
    assert was.shape == now.shape and np.abs(was - now).max() == 0.0
    fresh = surface_mesh((body,), sizes)
    assert len(fresh.triangles()[0]) == pytest.approx(len(again.triangles()[0]), rel=0.05)


@pytest.mark.parametrize("seed", seeds(6))
def test_edges_that_leave_a_corner_are_parted_at_the_same_distances(seed):
    """However small the angle: lines and arcs alike, halved again and again, have nodes at powers of two from it."""
    rng = np.random.default_rng(seed)
    corner = rng.uniform(-5.0, 5.0, 3)
    way = rng.normal(size=3)
    way /= np.linalg.norm(way)
    frame = Frame.of(corner, way, np.cross(way, [0.3, -0.2, 1.0]))
    long = float(rng.uniform(2.0, 9.0))
    line = Line(corner, frame.x)
    middle = corner + 40.0 * frame.y
    circle = Circle(Frame.of(middle, frame.z, -frame.y), 40.0, 40.0)
    for curve in (line, circle):
        top = long if curve is line else long / 40.0
        edge = Edge(curve, 0.0, top, Vertex(curve.point(np.array([0.0]))[0]), Vertex(curve.point(np.array([top]))[0]))
        assert np.allclose(curve.point(np.array([0.0]))[0], corner, atol=1e-9)
        t = parted(edge, 0.0, top, True, False)
        for _ in range(6):
            away = float(np.linalg.norm(curve.point(np.array([t]))[0] - corner))
            assert np.log2(away) == pytest.approx(np.round(np.log2(away)), abs=1e-6)
            t, before = parted(edge, 0.0, t, True, False), t
            assert 0.2 * before < t < 0.8 * before
        assert parted(edge, 0.0, top, True, True) == parted(edge, 0.0, top, False, False) == 0.5 * top


@pytest.mark.parametrize("seed", seeds(4))
def test_a_skin_is_delaunay_again_around_its_new_nodes(seed):
    """Within each flat face, about every node that came: no corner of a neighbour in a triangle's circle."""
    rng = np.random.default_rng(seed)
    body = outlined(SPLINTER, 20.0)
    skin = remade(surface_mesh((body,), size_field((body,), SizeRules(4.0, ignore=0.3))))
    assert isinstance(skin, Skin)
    triangles, of = skin.triangles()
    before, area = len(skin.nodes), _areas(skin)
    inner = sorted({side_of(int(a), int(b)) for t in triangles for a, b in zip(t, np.roll(t, -1), strict=True)}
                   - set(skin.segments))  # fmt: skip
    rows = rng.choice(len(triangles), 12, replace=False)
    weights = rng.dirichlet((3.0, 3.0, 3.0), 12)
    places = {int(t): w @ skin.points()[triangles[t]] for t, w in zip(rows, weights, strict=True)}
    taken = {
        side_of(int(a), int(b)) for t in rows for a, b in zip(triangles[t], np.roll(triangles[t], -1), strict=True)
    }
    free = [s for s in inner if s not in taken]
    skin.refine([free[k] for k in rng.choice(len(free), 12, replace=False)], places)
    assert len(skin.nodes) == before + 24
    triangles, of = skin.triangles()
    p, flat = skin.points(), {k for k, f in enumerate(skin.faces) if f.surface.kind == "plane"}
    sides: dict[tuple[int, int], list[int]] = {}
    for t, corners in enumerate(triangles.tolist()):
        for a, b in zip(corners, corners[1:] + corners[:1], strict=True):
            sides.setdefault(side_of(a, b), []).append(t)
    assert all(len(rows) == 2 for rows in sides.values()) and _areas(skin) == pytest.approx(area, rel=1e-6)
    looked = 0
    for side, (s, t) in sides.items():
        if side in skin.segments or of[s] != of[t] or of[s] not in flat:
            continue
        apexes = [next(v for v in triangles[r] if v not in side) for r in (s, t)]
        if max(apexes) < before:
            continue
        looked += 1
        angles = [np.arccos(np.clip(u @ w / np.linalg.norm(u) / np.linalg.norm(w), -1, 1))
                  for u, w in ((p[side[0]] - p[x], p[side[1]] - p[x]) for x in apexes)]  # fmt: skip
        assert sum(angles) < np.pi + 1e-5
    assert looked > 20


def _areas(skin):
    v = skin.points()[skin.triangles()[0]]
    return 0.5 * float(np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1).sum())
