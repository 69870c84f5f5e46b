"""What a scan was parted into wrongly is parted anew: patches over two faces, corners of too many, crumbs."""

from collections import Counter

import numpy as np
import pytest
from dice import seeds
from scipy.spatial import ConvexHull
from test_scans_settle import divided

from lithon.arrays import unit
from lithon.brep.cleaning import side_pairs
from lithon.brep.faceted import soup_of, welded
from lithon.brep.measures import volume
from lithon.brep.shells import closed
from lithon.geometry.crossing import onto_all
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.mend.borders import united
from lithon.mend.corners import untangled
from lithon.mend.fitting import placed
from lithon.mend.folds import fold_through
from lithon.mend.noise import noise_of
from lithon.mend.scan_patches import Scan
from lithon.mend.scans import _Parted
from lithon.mend.segments import ROUGH, Patch, segmented
from lithon.mend.solid import bordering, solid_of
from lithon.mend.strains import senses, strains
from lithon.samples import sluice_wheel
from lithon.samples.build import Piece, prism


def scanned(body, fineness, scatter, seed):
    soup = soup_of(divided(body, fineness, scatter, seed))
    return welded(soup.points, soup.corners)


def areas_and_normals(points, corners):
    a, b, c = (points[corners[:, k]] for k in range(3))
    cross = np.cross(b - a, c - a)
    return 0.5 * np.linalg.norm(cross, axis=1), unit(cross)


def scan_of(points, corners, noise):
    i, j, _ = side_pairs(corners, len(points))
    return Scan(points, corners, *areas_and_normals(points, corners), np.stack([i, j], axis=1), noise)


@pytest.mark.slow
@pytest.mark.parametrize("seed", seeds(31, 2))
def test_thin_rounds_between_blades_come_apart_and_are_of_their_radius(seed):
    """A wheel of 46 rounds a few triangles wide: as many patches as faces, each radius within a thirtieth."""
    body = sluice_wheel().bodies[0]
    points, corners = scanned(body, 20, 0.02, seed)
    noise = noise_of(points, corners)
    found = segmented(points, corners, ROUGH * noise, noise)
    assert abs(len(found) - len(body.faces)) <= 2
    radius = min(f.surface.radius for f in body.faces if f.surface.kind == "cylinder")
    told = [p.surface.radius for p in found if p.kind == "cylinder" and len(p.rows) > 100 and p.surface.radius < 5.0]
    near = [r for r in told if abs(r - radius) < radius / 30.0]
    want = sum(f.surface.kind == "cylinder" and f.surface.radius == pytest.approx(radius) for f in body.faces)
    assert len(near) >= want - 3


def roof(angle, seed, scatter=0.02):
    """The scan of a bar with a roof of two planes that part by an angle (radians)."""
    rise = 6.0 * np.tan(angle / 2.0)
    body = prism([Piece(p) for p in ((0, 0), (12, 0), (12, 6), (6, 6 + rise), (0, 6))], 14.0)
    return scanned(body, 40, scatter, seed)


@pytest.mark.parametrize("seed", seeds(32, 3))
def test_a_round_that_was_taken_for_two_planes_is_parted_into_them(seed):
    """Given a cylinder over both, which holds worse than they scatter; a true round of as many triangles stays."""
    angle = float(np.random.default_rng(seed).uniform(0.12, 0.2))
    points, corners = roof(angle, seed)
    noise = noise_of(points, corners)
    found = segmented(points, corners, ROUGH * noise, noise)
    slopes = [p for p in found if p.surface.frame.z[1] > 0.9 and p.kind == "plane"]
    assert len(slopes) == 2
    parted = _Parted(scan_of(points, corners, noise))
    for k, patch in enumerate(found):
        parted.label[patch.rows] = k
    parted.surfaces = [p.surface for p in found]
    one = found.index(slopes[0])
    parted.label[slopes[1].rows] = one
    width, rise = 12.0, 6.0 * np.tan(angle / 2.0)
    round_one = Cylinder.of((6.0, 6.0 + 0.8 * rise - width**2 / 16.0 / rise, 0.0), (0, 0, 1), width**2 / 16.0 / rise)
    parted.surfaces[one] = round_one
    parted._refit()
    assert parted.reconsider()
    parted.compete()
    over = [k for k in np.unique(parted.label[np.concatenate([s.rows for s in slopes])]).tolist()
            if (parted.label == k).sum() > 20]  # fmt: skip
    assert len(over) == 2 and all(isinstance(parted.surfaces[k], Plane) for k in over)
    right = [max((parted.label[s.rows] == k).mean() for k in over) for s in slopes]
    assert min(right) > 0.95


def test_flats_do_not_take_the_place_of_a_round_face():
    """A round in chords, with scatter told too small: many flats hold it better, and it stays one face."""
    n = 20
    a = 2.0 * np.pi * np.arange(n) / n
    body = prism([Piece((8.0 * np.cos(x), 8.0 * np.sin(x))) for x in a], 20.0)
    points, corners = scanned(body, 40, 0.02, 1)
    noise = noise_of(points, corners)
    around = np.abs(areas_and_normals(points, corners)[1][:, 2]) < 0.5
    parted = _Parted(scan_of(points, corners, noise))
    parted.label[around] = 0
    _, normal = areas_and_normals(points, corners)
    parted.label[~around] = np.where(normal[~around, 2] > 0.0, 1, 2)
    parted.surfaces = [
        Cylinder.of((0, 0, 0), (0, 0, 1), 7.95), Plane.of((0, 0, 20), (0, 0, 1)), Plane.of((0, 0, 0), (0, 0, -1))
    ]  # fmt: skip
    parted.label[np.flatnonzero(~around)[:3]] = -1  # what is left beside it stays so
    before = parted.label.copy()
    assert not parted.reconsider()
    assert (parted.label == before).all() and len(parted.surfaces) == 3


_KINDS = [
    Plane.of((1, 2, 3), (1, 1, 0.5)), Cylinder.of((0, 1, 0), (0.2, 1, 0.3), 2.5), 
    Sphere(Frame.of((1, 0, 2), (0, 0, 1)), 3.0),
    Cone(Frame.of((0, 0, 1), (0.1, 0.2, 1.0)), 2.0, 0.5), Torus(Frame.of((0, 2, 0), (1, 0, 1)), 5.0, 1.5),
]  # fmt: skip


def test_what_speaks_against_triangles_is_what_the_surfaces_say():
    """Against the surfaces' own distances and normals, for each kind, looking either way."""
    rng = np.random.default_rng(8)
    m, noise, each = 120, 0.05, 4.5
    owner = rng.integers(len(_KINDS), size=m)
    flip = rng.choice([-1.0, 1.0], len(_KINDS))
    points, corners = [], np.arange(3 * m).reshape(m, 3)
    for k in owner.tolist():
        at = _KINDS[k].project(rng.normal(size=(1, 3)) * 4.0 + 2.0)
        points.append(at + rng.normal(size=(3, 3)) * 0.1)
    points = np.concatenate(points)
    normal = np.stack([
        flip[k] * unit(_KINDS[k].normal(points[c].mean(axis=0)[None])[0] + 0.3 * rng.normal(size=3))
        for k, c in zip(owner.tolist(), corners, strict=True)
    ])  # fmt: skip
    lean = rng.uniform(0.1, 0.4, m)
    kinds, here = np.empty(len(_KINDS), dtype=np.int64), np.zeros((len(_KINDS), 14))
    for k, s in enumerate(_KINDS):
        kinds[k], own = placed(s)
        here[k, : len(own)] = own
    sense = senses(kinds, here, np.arange(m), owner, corners, points, normal)
    assert (sense == flip).all()
    some = rng.permutation(m)[: m // 2]  # where few are asked they tell it as well
    told = np.bincount(owner[some], minlength=len(kinds)) > 0
    assert (senses(kinds, here, some, owner[some], corners, points, normal)[told] == flip[told]).all()
    patch = rng.integers(len(_KINDS), size=m)
    told = strains(np.arange(m), patch, kinds, here, sense, corners, points, normal, lean, noise, each)
    for i, k in enumerate(patch.tolist()):
        s, p = _KINDS[k], points[corners[i]]
        off = np.minimum((s.signed_distance(p) / noise) ** 2, 4.0 * each**2).mean()
        cos = flip[k] * float(s.normal(p.mean(axis=0)[None])[0] @ normal[i])
        turn = min((np.arccos(np.clip(cos, -1.0, 1.0)) / lean[i]) ** 2, 3.0 * each**2)
        assert told[i] == pytest.approx(off + turn, rel=1e-6)


def notched(seed):
    """The exact patches of a bar with a notch half an element deep, and its triangles."""
    deep = 0.5
    body = prism([Piece(p) for p in ((0, 0), (12, 0), (12, 8), (7, 8), (7, 8 - deep), (0, 8 - deep))], 10.0)
    points, corners = scanned(body, 20, 0.0, seed)
    found = segmented(points, corners, 1e-5, 0.0)
    assert len(found) == len(body.faces)
    return points, corners, found


def tangled(points, corners, patches):
    """The corners at which more than three patches come together whose surfaces have no point in common there."""
    label = np.empty(len(corners), dtype=np.int64)
    for k, p in enumerate(patches):
        label[p.rows] = k
    around = [set() for _ in points]
    for t, k in zip(corners.tolist(), label.tolist(), strict=True):
        for v in t:
            around[v].add(k)
    out = []
    for v, own in enumerate(around):
        if len(own) > 3:
            at, missed = onto_all([patches[k].surface for k in own], points[v][None])
            if missed[0] > 0.02 or np.linalg.norm(at[0] - points[v]) > 0.3:
                out.append(v)
    return out


def test_a_corner_of_four_patches_that_do_not_meet_becomes_two_of_three():
    """Triangles between two corners given to a wrong patch, as chance does: what is parted has every corner on its
    surfaces, no triangle further from its own than before, and the right ones stay as they are."""
    points, corners, found = notched(1)
    assert not tangled(points, corners, found)
    assert [p.rows.tolist() for p in untangled(points, corners, found, 0.01)] == [p.rows.tolist() for p in found]
    label = np.empty(len(corners), dtype=np.int64)
    for k, p in enumerate(found):
        label[p.rows] = k
    rng = np.random.default_rng(3)
    points = points + rng.normal(0.0, 0.004, points.shape)
    wrong = 0
    i, j, _ = side_pairs(corners, len(points))
    for t in np.unique(i[label[i] != label[j]]).tolist():
        for to in set(label[j[i == t]].tolist() + label[i[j == t]].tolist()) - {int(label[t])}:
            bad = label.copy()
            bad[t] = to
            patches = [
                Patch(p.surface, np.flatnonzero(bad == k), 0.7) for k, p in enumerate(found)
            ]  # as far off as a triangle over the notch is
            if not tangled(points, corners, patches):
                continue
            wrong += 1
            after = untangled(points, corners, patches, 0.02)
            assert Counter(np.concatenate([p.rows for p in after]).tolist()) == Counter(range(len(corners)))
            assert len(tangled(points, corners, after)) < len(tangled(points, corners, patches))
    assert wrong > 1


def test_crumbs_on_the_surface_beside_them_are_of_it():
    points, corners, found = notched(2)
    large = found[0]
    crumb = large.rows[:2]
    cut = [Patch(large.surface, large.rows[2:], 0.0), *found[1:], Patch(Plane.of(
        large.surface.frame.origin + 1e-4 * large.surface.frame.z, large.surface.frame.z), crumb, 0.0)]  # fmt: skip
    after = united(points, corners, cut, bordering(len(points), corners, cut), 0.01)
    assert sorted(len(p.rows) for p in after) == sorted(len(p.rows) for p in found)
    # Planes that touch in a short side, and part from there, are two: a strip beside one is not of it.
    slant = Plane.of(large.surface.frame.origin, large.surface.frame.z + 0.2 * large.surface.frame.x)
    ends = points[np.unique(corners[crumb])]
    tilted = Plane.of(ends.mean(axis=0), slant.frame.z)
    far = float(np.abs(large.surface.signed_distance(points[np.unique(corners[found[1].rows])])).max())
    assert far > 1.0
    others = [Patch(large.surface, large.rows, 0.0), Patch(tilted, found[1].rows, 5.0), *found[2:]]
    assert len(united(points, corners, others, bordering(len(points), corners, others), 0.05)) == len(others)
    apart = united(points, corners, cut, bordering(len(points), corners, cut), 1e-6)
    assert len(apart) == len(found) + 1


def comb(teeth, wide, tip, drop):
    """A bar with square teeth of which two sides lean in at the end, as those of pins do."""
    profile = [(0.0, 0.0), (4.0 * teeth, 0.0), (4.0 * teeth, 3.0)]
    for k in reversed(range(teeth)):
        x = 4.0 * k + 1.0
        profile += [(x + wide, 3.0), (x + wide, 9.0 - drop), (x + wide - tip, 9.0), (x + tip, 9.0), (x, 9.0 - drop)]
        profile.append((x, 3.0))
    return prism([Piece(p) for p in [*profile, (0.0, 3.0)]], wide)


@pytest.mark.parametrize(("wide", "fineness"), [(1.0, 24), (1.0, 30), (0.64, 30)])
@pytest.mark.parametrize("seed", seeds(41, 2))
def test_sides_of_pins_one_or_two_triangles_wide_are_planes(seed, wide, fineness):
    """Side and slope of a tooth lie on a cone as well, as far as their few corners tell; three more at the most."""
    body = comb(7, wide, 0.25 * wide, 1.2)
    points, corners = scanned(body, fineness, 0.02, seed)
    noise = noise_of(points, corners)
    found = segmented(points, corners, ROUGH * noise, noise)
    assert {p.kind for p in found} == {"plane"}
    assert len(body.faces) <= len(found) <= len(body.faces) + 3


@pytest.mark.parametrize("seed", seeds(42, 5))
def test_a_fold_is_found_through_points_of_two_planes(seed):
    """Its angle, and on which side of it each lies; through an arch it is off by what that bends."""
    rng = np.random.default_rng(seed)
    angle, cut = rng.uniform(0.05, 1.2), rng.uniform(-0.6, 0.6)
    flat = rng.uniform(-1.0, 1.0, (80, 2))
    turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
    for sign in (1.0, -1.0):
        up = sign * np.maximum(flat[:, 0] - cut, 0.0) * np.tan(angle)
        fold = fold_through(np.column_stack([flat, up + rng.normal(0.0, 1e-3, 80)]) @ turn.T)
        assert fold is not None and fold.off < 1.5e-3
        assert fold.turn == pytest.approx(angle, abs=0.02)
        side = fold.first(np.column_stack([flat, up]) @ turn.T)
        clear = np.abs(flat[:, 0] - cut) > 0.1
        assert len(set((side[clear] == (flat[clear, 0] > cut)).tolist())) == 1
    arch = fold_through(np.column_stack([flat, 0.5 * flat[:, 0] ** 2]) @ turn.T)
    assert 0.02 < arch.off < 0.125
    assert fold_through(flat[:5] @ turn[:2]) is None


def test_chords_of_a_round_face_are_no_fold():
    """Two of twelve flats of a bar go on into the others; those of a roof do not."""
    corner = [(6.0 * np.cos(a), 6.0 * np.sin(a)) for a in np.arange(12) * np.pi / 6.0]
    rod = prism([Piece(p) for p in corner], 9.0)
    for body, goes_on in (
        (rod, True),
        (prism([Piece(p) for p in ((0, 0), (12, 0), (12, 6), (6, 7.6), (0, 6))], 9.0), False),
    ):
        points, corners = scanned(body, 20, 0.01, 3)
        parted = _Parted(scan_of(points, corners, noise_of(points, corners)))
        walls = [f.surface for f in body.faces if abs(f.surface.frame.z[2]) < 0.5]
        near = [np.abs(w.signed_distance(parted.middle)) < 0.1 for w in walls]
        one, two = sorted(range(len(walls)), key=lambda k: -walls[k].frame.z[1])[:2]
        turn = float(np.arccos(walls[one].frame.z @ walls[two].frame.z))
        assert parted._goes_on(*(np.flatnonzero(near[k]) for k in (one, two)), turn) == goes_on


@pytest.mark.parametrize("seed", seeds(43, 3))
def test_a_step_that_is_less_than_scatter_is_no_face(seed):
    """A shaft of two widths that differ by less than corners scatter: its slivers, turned any way, go to what is beside
    them, and what comes of it is the solid without the step."""
    step = 0.004
    corners = ((0, 0), (20, 0), (20, 5), (12, 5), (12, 9), (12 - step, 9), (12 - step, 14), (0, 14))
    body = prism([Piece(p) for p in corners], 6.0)
    points, corners = scanned(body, 40, 0.02, seed)
    noise = noise_of(points, corners)
    assert noise > step
    found = segmented(points, corners, ROUGH * noise, noise)
    assert [p.kind for p in found] == ["plane"] * 8
    body = solid_of(points, corners, found, ROUGH * noise).body
    assert len(body.faces) == 8 and closed(body)
    assert volume(body) == pytest.approx(6.0 * (20.0 * 5.0 + 12.0 * 9.0), rel=1e-3)


def test_what_a_patch_falls_into_are_patches():
    """A plane of which two halves hang together no more: the smaller is a patch as well, crumbs of it are none."""
    body = prism([Piece(p) for p in ((0, 0), (12, 0), (12, 6), (0, 6))], 6.0)
    points, corners = scanned(body, 20, 0.01, 1)
    parted = _Parted(scan_of(points, corners, noise_of(points, corners)))
    top = Plane.of((0.0, 6.0, 0.0), (0.0, 1.0, 0.0))
    on = np.abs(parted.middle[:, 1] - 6.0) < 0.05
    x = parted.middle[:, 0]
    crumb = np.flatnonzero(on & (x > 7.0) & (x < 8.0))[0]
    parted.surfaces = [top]
    parted.label[:] = np.where(on & ((x < 6.0) | (x > 9.0)), 0, -1)
    parted.label[crumb] = 0
    parted._whole()
    assert parted.surfaces == [top, top]
    assert set(parted.label[on & (x < 6.0)]) == {0} and set(parted.label[on & (x > 9.0)]) == {1}
    assert parted.label[crumb] == -1


def test_a_handful_of_triangles_is_a_shape_and_no_scatter():
    """A hull of few corners: whatever bends it is its own, and it does not become what is a tenth of it off."""
    rng = np.random.default_rng(12)
    points = unit(rng.normal(size=(18, 3))) * [3.0, 2.0, 1.0]
    hull = ConvexHull(points)
    corners = hull.simplices.copy()
    a, b, c = (points[corners[:, k]] for k in range(3))
    inwards = (hull.equations[:, :3] * np.cross(b - a, c - a)).sum(axis=1) < 0.0
    corners[inwards] = corners[inwards][:, ::-1]
    assert noise_of(points, corners) == 0.0
