"""The surface mesh remade over what is not followed: closed still, on the true surfaces, nothing lost that counts."""

import numpy as np
import pytest
from dice import seeds
from solids import motion

from lithon.brep.analysis.crossings import cutting_pairs
from lithon.brep.copies import moved
from lithon.brep.measures import area, face_width
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.carve.score import scored
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.geometry.triples import cosine, cross, length
from lithon.mesh.drapes import Ignored, ignored
from lithon.mesh.remake import remade
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.skin import Skin
from lithon.mesh.surface import surface_mesh
from lithon.mesh.tetrahedra import tetrahedral_mesh
from lithon.mesh.web import shape
from lithon.samples import cast_anchor
from lithon.samples.build import Piece, Round, face_toward, prism, rectangle, sink


def banded(seed):
    """A block whose top is parted in bands, some of them splinters; and how many are narrower than half a mm."""
    rng = np.random.default_rng(seed)
    body = prism(rectangle(0, 0, 40, 25), 15.0, name="banded")
    widths = [float(w) for w in rng.choice([0.02, 0.1, 0.3, 4.0, 7.0], size=5, p=[0.2, 0.2, 0.2, 0.2, 0.2])]
    places = 5.0 + np.cumsum(widths)
    for at in places:
        top = [f for f in body.faces if f.surface.kind == "plane" and f.surface.frame.z[2] > 0.9]
        body = scored(body, Plane.of((float(at), 0, 0), (1, 0.0, 0)), 1e-6, top)
    return body, sum(w < 0.5 for w in widths[1:])


def sides_of(triangles):
    return np.sort(triangles[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1)


def closed_up(skin):
    """Every side of a closed body's skin lies between two triangles."""
    triangles, _ = skin.triangles()
    _, count = np.unique(sides_of(triangles), axis=0, return_counts=True)
    return bool((count == 2).all())


def skin_area(skin):
    p = skin.points()[skin.triangles()[0]]
    return 0.5 * float(np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1).sum())


@pytest.mark.parametrize("seed", seeds(8))
def test_random_bands_are_passed_over_wherever_they_stand(seed):
    body, narrow = banded(seed)
    assert sum(face_width(f) < 0.5 for f in body.faces) == narrow and not flaws(body, 1e-6)
    place = motion(seed)
    model = Model.of([moved(body, place)])
    rules = SizeRules(4.0, ignore=0.5)
    plain = surface_mesh(model.bodies, size_field(model.bodies, rules))
    skin = remade(plain)
    assert isinstance(skin, Skin) == bool(narrow)
    assert closed_up(skin) and skin_area(skin) == pytest.approx(area(body), rel=1e-6)  # flat all over
    if narrow:
        assert not len(cutting_pairs(skin.points(), skin.triangles()[0]))
        for k, face in enumerate(skin.faces):
            own = skin.points()[np.unique(skin.triangles()[0][skin.triangles()[1] == k])]
            assert not len(own) or np.abs(face.surface.signed_distance(own)).max() < 1e-9
        # The block's own corners are all there.
        corners = (
            np.array([[x, y, z] for x in (0, 40) for y in (0, 25) for z in (0, 15)]) @ place[:3, :3].T + place[:3, 3]
        )
        off = np.linalg.norm(skin.points()[None] - corners[:, None], axis=2).min(axis=1)
        assert off.max() < 1e-9
    mesh = tetrahedral_mesh(model, rules)
    assert mesh.conformal() and mesh.volume_ratio == pytest.approx(1.0, rel=1e-9)
    assert mesh.quality.smallest_angle.min() > 12.0


def test_nothing_ignored_is_the_mesh_itself():
    model = Model.of([prism(rectangle(0, 0, 10, 10), 10.0)])
    plain = surface_mesh(model.bodies, size_field(model.bodies, SizeRules(3.0)))
    assert remade(plain) is plain and not ignored(model.bodies, SizeRules(3.0))
    assert not Ignored(frozenset(), frozenset(), frozenset(), ())


def test_what_is_to_be_avoided_is_followed():
    body, _ = banded(1)
    rules = SizeRules(4.0, ignore=0.5)
    found = ignored((body,), rules)
    assert found
    without = found.without([next(iter(found.small))])
    assert len(without.soft) < len(found.soft) and not without.soft - found.soft
    assert not found.without(body.faces).soft and found.without([]) is found


def test_sides_are_halved_and_nothing_opens():
    """The middle of a side on an edge lies on the edge, of one within a face on its surface."""
    base = prism(rectangle(0, 0, 20, 20), 8.0, name="plate")
    top = Frame.of((0, 0, 8), (0, 0, 1), (1, 0, 0))
    body = sink(base, face_toward(base, (0, 0, 1)), top, Round((10, 10), 4.0), 8.0, face_toward(base, (0, 0, -1)))
    body = scored(body, Plane.of((3.02, 0, 0), (1, 0, 0)), 1e-6, [face_toward(body, (0, 1, 0))])
    body = scored(body, Plane.of((3.0, 0, 0), (1, 0, 0)), 1e-6, [f for f in body.faces if f.surface.frame.z[1] > 0.9])
    rules = SizeRules(4.0, ignore=0.3)
    skin = remade(surface_mesh((body,), size_field((body,), rules)))
    assert isinstance(skin, Skin)
    rings = [side for side, edge in skin.segments.items() if edge.ring]
    before, nodes = skin_area(skin), len(skin.nodes)
    skin.refine(rings, {})
    assert len(skin.nodes) == nodes + len(rings) and closed_up(skin)
    added = np.array(skin.nodes[nodes:])
    assert np.abs(np.hypot(added[:, 0] - 10.0, added[:, 1] - 10.0) - 4.0).max() < 1e-12
    assert skin_area(skin) != pytest.approx(before, rel=1e-9)  # the polygon has come nearer to its circle
    inner = [
        tuple(s) for s in np.unique(sides_of(skin.triangles()[0]), axis=0).tolist() if tuple(s) not in skin.segments
    ]
    skin.refine(inner[:25], {})
    assert len(skin.nodes) == nodes + len(rings) + 25 and closed_up(skin)
    gone = set(inner[:25]) & {tuple(s) for s in sides_of(skin.triangles()[0]).tolist()}
    assert not gone and not len(cutting_pairs(skin.points(), skin.triangles()[0]))


def test_triangles_that_pass_through_each_other_are_told_and_neighbours_are_not():
    flat = np.array([[0, 0, 0], [4, 0, 0], [0, 4, 0], [4, 4, 0], [1, 1, -1], [1, 1, 2], [1.5, 1, 2.0]])
    triangles = np.array([[0, 1, 2], [1, 3, 2], [4, 5, 6]])
    assert cutting_pairs(flat, triangles).tolist() == [[0, 2]]
    assert not len(cutting_pairs(flat, triangles[:2]))
    assert not len(cutting_pairs(flat + [0, 0, 5.0 * 0], triangles[[1, 2]]))


def test_measures_of_the_remaker():
    p = np.array([[0, 0, 0], [2, 0, 0], [1, np.sqrt(3), 0], [4, 0, 0.0]])
    assert cross(p, 0, 1, 2) == pytest.approx((0, 0, 2.0 * np.sqrt(3))) and length(p, 0, 2) == pytest.approx(2.0)
    assert shape(p, 0, 1, 2) == pytest.approx(1.0) and shape(p, 0, 1, 3) == 0.0
    assert cosine((1, 0, 0), (0, 3, 0)) == 0.0 and cosine((1, 1, 0), (2, 2, 0)) == pytest.approx(1.0)
    assert cosine((0, 0, 0), (1, 0, 0)) == 1.0


def test_a_cast_part_with_everything_draped_by_strength_keeps_its_sharp_edges():
    """Rounds go under one drape; the bore's rims, sharp as they are, stay."""
    (body,) = cast_anchor().bodies
    rounds = {f: "one" for f in body.faces if f.surface.kind in ("torus", "sphere")}
    rules = SizeRules(8.0, drapes=tuple(rounds.items()))
    plain = surface_mesh((body,), size_field((body,), rules))
    skin = remade(plain)
    rims = [e for e in body.edges() if e.ring]
    kept = set(skin.segments.values()) if isinstance(skin, Skin) else set(plain.edge_nodes)
    assert closed_up(skin) and set(rims) <= kept


def test_an_ignore_size_asks_for_no_small_elements():
    corners = [(0, 0), (40, 0), (40, 20), (20, 20), (20, 20.05), (0, 20.05)]
    body = prism([Piece(c) for c in corners], 30.0)
    spots = np.array([[20.0, 20.02, 0.0]])  # beside the step's short edge
    asked = size_field((body,), SizeRules(4.0)).at(spots)[0]
    passed = size_field((body,), SizeRules(4.0, ignore=0.5)).at(spots)[0]
    assert asked < 0.3 and passed == pytest.approx(4.0)


@pytest.mark.parametrize("sides", [4, 6])
def test_a_ledge_all_around_a_hole_is_passed_over_on_its_whole_side(sides):
    """A thousandth of a millimetre between a hole's walls and its funnel: a ring with as many neighbours within as
    without. Nothing of its width is left in the mesh, the walls' edges are."""
    from lithon.samples.build import Section

    body = prism(rectangle(-5, -5, 5, 5), 5.0, name="funnel")
    turn = 2.0 * np.pi / sides
    profile = [Piece((1.5 * float(np.cos(k * turn)), 1.5 * float(np.sin(k * turn)))) for k in range(sides)]
    top = Frame.of((0, 0, 5.0), (0, 0, 1), (1, 0, 0))
    section = Section.through((0.0, -5.0), (0.0, -1.0), (0.001, -1.0), (1.0, 0.0))
    body = sink(body, face_toward(body, (0, 0, 1)), top, profile, 5.0, face_toward(body, (0, 0, -1)), section)
    model = Model.of([body])
    assert not flaws(body, model.tolerance) and min(face_width(f) for f in body.faces) < 0.0011
    mesh = tetrahedral_mesh(model, SizeRules(1.0, ignore=0.1))
    t = mesh.triangles
    ends = mesh.points[t[:, [[0, 1], [1, 2], [2, 0]]]]
    assert np.linalg.norm(ends[..., 0, :] - ends[..., 1, :], axis=-1).min() > 0.1
    assert mesh.conformal() and mesh.volume_ratio == pytest.approx(1.0, abs=2e-3)
    assert float(mesh.quality.scaled_jacobian.min()) > 0.08
    corner = 1.5 * np.array([np.cos(turn), np.sin(turn)])  # a wall's edge, from the floor to the ledge
    on = mesh.points[np.linalg.norm(mesh.points[:, :2] - corner, axis=1) < 1e-9]
    assert on[:, 2].min() == pytest.approx(0.0) and on[:, 2].max() == pytest.approx(4.0, abs=2e-3)
