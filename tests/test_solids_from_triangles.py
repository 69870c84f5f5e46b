"""Triangles become the solids that they were made from: kinds, radii, volumes, at any fineness and place."""

import json
import sys
from collections import Counter
from pathlib import Path

import numpy as np
import pytest
from blocks import box, plate
from dice import LONG, seeds
from solids import motion as any_motion
from solids import simple_solid
from test_cli import within

import lithon
from lithon import do
from lithon.arrange.boolean import combine
from lithon.brep.copies import moved
from lithon.brep.faceted import Triangles, bodies_of
from lithon.brep.measures import volume
from lithon.brep.shells import closed
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.exchange.deliver import write_triangles
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.mend.fitting import refined
from lithon.mend.noise import noise_of
from lithon.mend.relations import related
from lithon.mend.seams import between, tangent_curve
from lithon.mend.segments import Patch, segmented
from lithon.mend.slivers import without_slivers
from lithon.mend.solid import bordering, solid_of
from lithon.mend.starts import round_fits
from lithon.operations.places import Cut
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples import STRAP, cast_anchor, collar_anchor, gudgeon_scan, hinge_strap, paddle_frame, sluice_wheel
from lithon.samples.build import Piece, Round, face_toward, prism, raised, rounded_root
from lithon.samples.cover_plate import cover_plate
from lithon.samples.gudgeon_scan import GUDGEON, scanned
from lithon.survey.deviation import deviation
from lithon.trim.clear import clear

sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))
from returns import divided

UP = Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0))


def made_of(body, digits=np.float32, share=3e-6):
    points, corners, _ = body_mesh(body)
    points = points.astype(digits).astype(float)
    scale = float(np.linalg.norm(np.ptp(points, axis=0)))
    found = segmented(points, corners, share * scale)
    found = related(points, corners, found, bordering(len(points), corners, found), share * scale / 3)
    return found, solid_of(points, corners, found, 1e-7 * scale, body.name).body, scale


def kinds(body):
    return Counter(f.surface.kind for f in body.faces)


@pytest.mark.parametrize("make", [plate, hinge_strap, collar_anchor], ids=lambda f: f.__name__)
def test_samples_come_back_as_they_were(make):
    body = make().bodies[0]
    found, made, scale = made_of(body)
    assert kinds(made) == kinds(body) and not flaws(made, 1e-7 * scale)
    assert volume(made) == pytest.approx(volume(body), rel=1e-9)
    radii = [sorted(round(f.surface.radius, 6) for f in b.faces if f.surface.kind == "cylinder") for b in (made, body)]
    assert radii[0] == pytest.approx(radii[1], abs=2e-6)
    assert max(p.off for p in found) < 1e-5 * scale


@pytest.mark.parametrize("seed", seeds(4))
def test_at_any_place(seed):
    """Turned, no direction is along an axis any more; relations among themselves are found all the same."""
    body = moved(hinge_strap().bodies[0], any_motion(seed))
    _, made, scale = made_of(body)
    assert kinds(made) == kinds(body) and not flaws(made, 1e-6 * scale)
    assert volume(made) == pytest.approx(STRAP.volume, rel=1e-6)


def test_a_hole_of_the_result_is_cleared_like_any_other():
    body = plate().bodies[0]
    _, made, scale = made_of(body)
    bore = next(f for f in made.faces if f.surface.kind == "cylinder" and abs(f.surface.radius - 2.0) < 1e-6)
    out = clear(made, [bore], 1e-7 * scale)[0]
    assert out.volume_change == pytest.approx(np.pi * 4.0 * 8.0, rel=1e-6)


def test_a_boss_with_a_fillet_at_its_root():
    block = box(0, 0, 40, 40, 0, 10, "b")
    top = Frame.of((20, 20, 10), (0, 0, 1), (1, 0, 0))
    body = raised(block, face_toward(block, (0, 0, 1)), top, Round((0, 0), 8.0), 12.0, rounded_root(0.0, 12.0, 3.0))
    points, corners, _ = body_mesh(body)
    found = segmented(points, corners, 1e-4)
    (ring,) = [p.surface for p in found if p.kind == "torus"]
    assert (ring.major, ring.minor) == pytest.approx((11.0, 3.0), rel=1e-6)


def test_a_block_between_two_fillets_is_no_cylinder():
    """Corners of a flat and of one strip on each side lie on one circle; it is a flat all the same."""
    body = prism([Piece((2, 0)), Piece((18, 0), (18, 2)), Piece((20, 2)), Piece((20, 10)), Piece((0, 10)),
                  Piece((0, 2), (2, 2))], 5.0)  # fmt: skip
    points, corners, _ = body_mesh(body)
    found = segmented(points, corners, 1e-5)
    assert Counter(p.kind for p in found) == {"plane": 6, "cylinder": 2}


def turned(profile, count, twist):
    """Closed triangles of a profile (radius, height) about z, each ring turned against the one before by a share of a
    step; its two ends are flat."""
    rings = []
    for k, (r, z) in enumerate(profile):
        t = (np.arange(count) + k * twist) * 2.0 * np.pi / count
        rings.append(np.column_stack([r * np.cos(t), r * np.sin(t), np.full(count, z)]))
    points = np.vstack([*rings, [(0, 0, profile[0][1])], [(0, 0, profile[-1][1])]])
    i, j = np.arange(count), (np.arange(count) + 1) % count
    corners = [np.column_stack([i, j, j + count]) + count * k for k in range(len(profile) - 1)]
    corners += [np.column_stack([i, j + count, i + count]) + count * k for k in range(len(profile) - 1)]
    ends = len(points) - 2, count * (len(profile) - 1)
    corners += [np.column_stack([j, i, np.full(count, ends[0])])]
    corners += [np.column_stack([i + ends[1], j + ends[1], np.full(count, ends[0] + 1)])]
    return points.astype(np.float32).astype(float), np.vstack(corners)


@pytest.mark.parametrize("twist", [0.0, 0.37])
@pytest.mark.parametrize("round_by", [0.3, 0.5, 0.8])
def test_turned_pins_with_rounded_ends(round_by, twist, tmp_path):
    """A ball rolled along a rim by more than half its radius makes a torus that crosses its own axis. Rings may be
    divided against each other; bands between two rings lie on cones, and what three rings lie on says nothing."""
    arc = np.linspace(0.0, np.pi / 2.0, 9)
    end = np.column_stack([1.0 - round_by + round_by * np.cos(arc), 4.0 - round_by + round_by * np.sin(arc)])
    points, corners = turned([(0.6, -0.5), (1.0, 0.5), *end], 40, twist)
    body = bodies_of([Triangles(points, corners, "pin")])[0][0]
    out = run(State(Model.of([body])), do.solid())
    (made,) = out.model.bodies
    assert kinds(made) == {"plane": 2, "cylinder": 1, "cone": 1, "torus": 1} and not flaws(made, out.model.tolerance)
    (ring,) = [f.surface for f in made.faces if f.surface.kind == "torus"]
    assert (ring.major, ring.minor) == pytest.approx((1.0 - round_by, round_by), rel=1e-5)
    c, r = 1.0 - round_by, round_by  # Pappus: the quarter disc, the block inside it, the barrel and the cone
    tip = np.pi * c**2 * r + 2.0 * np.pi * (np.pi * r**2 / 4.0) * (c + 4.0 * r / (3.0 * np.pi))
    true = tip + np.pi * (3.5 - r) + np.pi * (0.36 + 0.6 + 1.0) / 3.0
    assert volume(made) == pytest.approx(true, rel=1e-5)
    lithon.write_step(out.model, tmp_path / "pin.step", "pin")
    assert volume(lithon.open(tmp_path / "pin.step").model.bodies[0]) == pytest.approx(true, rel=1e-5)


def test_a_slab_with_two_chamfers_is_no_cylinder():
    """Four corners of an even trapezoid lie on a circle."""
    corners = [(0, 0), (20, 0), (20, 8), (17, 9.5), (3, 9.5), (0, 8)]
    body = prism([Piece(c) for c in corners], 30.0)
    points, triangles, _ = body_mesh(body)
    assert Counter(p.kind for p in segmented(points, triangles, 1e-4)) == {"plane": 8}


def test_noise_is_told_from_the_triangles_alone():
    assert noise_of(*body_mesh(plate().bodies[0])[:2]) == 0.0
    soup, _ = scanned(3)
    from lithon.brep.cleaning import cleaned

    made = cleaned(soup.points, soup.corners)
    told = noise_of(made.points, made.corners)
    assert 0.3 * GUDGEON.noise < told < 2.0 * GUDGEON.noise


def test_what_is_open_or_free_is_refused():
    points, corners, _ = body_mesh(plate().bodies[0])
    with pytest.raises(Refusal, match="open"):
        found = segmented(points, corners[4:], 1e-5)
        solid_of(points, corners[4:], found, 1e-6)
    points, corners, _ = body_mesh(prism(Round((0.0, 0.0), 8.0), 6.0))
    found = [
        Patch(None if p.kind == "cylinder" else p.surface, p.rows, p.off) for p in segmented(points, corners, 1e-5)
    ]
    with pytest.raises(Refusal, match="no simple surface") as caught:
        solid_of(points, corners, found, 1e-6)
    assert caught.value.where and caught.value.remedy


def as_triangles(body, name="part"):
    points, corners, _ = body_mesh(body)
    return bodies_of([Triangles(points.astype(np.float32).astype(float), corners, name)])[0]


@pytest.mark.slow
def test_patches_put_right_by_hand_are_the_faces_of_the_solid():
    """A patch that is parted goes into no solid while both halves lie on one surface; grown whole again it does."""
    state = run(State(Model.of(as_triangles(plate().bodies[0], "plate"))), do.find_patches()).state
    words = {str(w) for w in state.marks.all("patch").values()}
    assert Counter(w.split()[0] for w in words) == kinds(plate().bodies[0])
    (floor,) = (f for f in state.model.faces() if (face_mesh(f).points[:, 2] < 1e-6).all())
    parted = run(state, do.part_patch(floor, Cut.at((15, 0, 0), (1, 0, 0)))).state
    halves = [f for f in parted.model.faces() if (face_mesh(f).points[:, 2] < 1e-6).all()]
    assert len({parted.marks.get("patch", f) for f in halves}) == 2
    with pytest.raises(Refusal, match="lie on one surface"):
        run(parted, do.solid())
    for step in (do.unite_patches(halves), do.grow_patch(halves[0], 0.01)):
        whole = run(parted, step).state
        assert len(set(whole.marks.all("patch").values())) == len(words)
        made = run(whole, do.solid()).model.bodies[0]
        assert kinds(made) == kinds(plate().bodies[0])
        assert volume(made) == pytest.approx(volume(plate().bodies[0]), rel=1e-6)
    apart = [next(f for f in state.model.faces() if state.marks.get("patch", f) == w) for w in sorted(words)[:2]]
    with pytest.raises(Refusal, match="do not touch"):
        run(state, do.unite_patches(apart))  # two of the corner rounds
    with pytest.raises(Refusal, match="of several patches"):
        run(state, do.part_patch(apart))


def test_with_too_much_deviation_the_patch_is_found_again_by_parting_it():
    """What too generous a deviation has thrown together is parted by what the triangles are."""
    body = hinge_strap().bodies[0]
    state = run(State(Model.of(as_triangles(body))), do.find_patches()).state
    every = dict.fromkeys(state.marks.all("patch").values())
    rounds = [w for w in every if w.startswith("cylinder")]
    beside = next(w for w in every if w.startswith("plane") and touching(state, w, rounds[0]))
    pair = [next(f for f, w in state.marks.all("patch").items() if w == word) for word in (rounds[0], beside)]
    one = run(state, do.unite_patches(pair)).state
    assert len(set(one.marks.all("patch").values())) == len(every) - 1
    merged = next(f for f, w in one.marks.all("patch").items() if w not in every or len(faces_of(one, w)) > 1)
    again = run(one, do.part_patch(merged)).state
    assert Counter(w.split()[0] for w in set(again.marks.all("patch").values())) == kinds(body)


def faces_of(state, word):
    return [f for f, w in state.marks.all("patch").items() if w == word]


def touching(state, one, two):
    edges = [{e for f in faces_of(state, word) for e in f.edges()} for word in (one, two)]
    return bool(edges[0] & edges[1])


@pytest.mark.parametrize("seed", seeds(4))
def test_deviation_is_the_distance_to_what_has_become_of_it(seed):
    """A ball read as triangles and made exact is on it; a ball grown by d stands d outside everywhere; a block whose
    side was pushed in is off by that there and nowhere else."""
    rng = np.random.default_rng(seed)
    d, motion = float(rng.uniform(-0.4, 0.4)), any_motion(seed)
    balls = [Model.of([moved(ball(r), motion)]) for r in (5.0, 5.0 + d)]
    soup = Model.of(as_triangles(balls[0].bodies[0]))
    assert deviation(soup, balls[0]).most < 1e-5
    off = deviation(soup, balls[1])
    assert off.off == pytest.approx(-d, abs=1e-5) and off.mean == pytest.approx(abs(d), abs=1e-5)
    one, two = (Model.of([moved(box(0, 0, x, 10, 0, 8, "block"), motion)]) for x in (20.0, 20.0 - abs(d)))
    found = deviation(one, two)
    back = (found.points - motion[:3, 3]) @ motion[:3, :3]
    assert found.off == pytest.approx(np.where(back[:, 0] > 19.999, abs(d), 0.0), abs=1e-9)
    assert "off what was read" in found.words() and 0.0 < found.reach <= found.most


def ball(radius):
    return run(State(Model(())), do.sphere(radius, (1.0, 2.0, 3.0))).model.bodies[0]


@pytest.mark.parametrize("kind", ["plane", "cylinder", "sphere", "cone", "torus"])
def test_a_surface_is_brought_nearest_to_scattered_points(kind):
    """From a start that is off by a twentieth, the radii come back within what the scatter allows, and no other surface
    nearby is nearer."""

    rng = np.random.default_rng(7)
    frame = Frame.of((1.0, 2.0, 3.0), (1.0, 1.0, 2.0))
    make, numbers = {
        "plane": (Plane, ()), "cylinder": (Cylinder, (5.0,)), "sphere": (Sphere, (5.0,)), "cone": (Cone, (5.0, 0.4)),
        "torus": (Torus, (7.0, 2.0)),
    }[kind]  # fmt: skip
    points = make(frame, *numbers).project(rng.uniform(-6.0, 6.0, (300, 3)) + frame.origin)
    points = points + rng.normal(0.0, 0.01, points.shape)
    tilted = Frame.of(frame.origin + [0.1, -0.2, 0.1], frame.z + np.array([0.02, -0.03, 0.01]))
    found = refined(make(tilted, *(1.05 * n for n in numbers)), points)
    told = [getattr(found, n) for n in ("radius", "angle", "major", "minor") if hasattr(found, n)]
    where = slice(1, 2) if kind == "cone" else slice(None)  # a cone's radius is that where its origin happens to be
    assert told[where] == pytest.approx(list(numbers[where]), abs=0.01)
    least = float((found.signed_distance(points) ** 2).sum())
    assert least <= float((make(frame, *numbers).signed_distance(points) ** 2).sum())
    for _ in range(20):
        turn = found.frame.z + rng.normal(0.0, 1e-3, 3)
        other = make(Frame.of(found.frame.origin + rng.normal(0.0, 1e-3, 3), turn), *told)
        assert float((other.signed_distance(points) ** 2).sum()) >= least * (1.0 - 1e-9)


@pytest.mark.slow
def test_a_solid_on_the_command_line(tmp_path, capfd, monkeypatch):
    exact = hinge_strap()
    write_triangles(exact, tmp_path / "strap.stl")
    told = within(capfd, monkeypatch, "solid", tmp_path / "strap.stl", "--unit", "mm", "--out", tmp_path / "s.step",
                  "--json")  # fmt: skip
    facts = json.loads(told.stdout)
    assert told.returncode == 0 and facts["closed"] and facts["valid"] and not facts["left"] and not facts["healed"]
    assert facts["faces"] == Counter(f.surface.kind for b in exact.bodies for f in b.faces)
    assert facts["volume_mm3"] == pytest.approx(sum(map(volume, exact.bodies)), rel=1e-3)
    assert 0.0 <= facts["deviation_mm"]["rms"] <= facts["deviation_mm"]["largest"] < 1e-3
    again = lithon.read_step(tmp_path / "s.step").model
    assert again.face_count() == exact.face_count()
    plain = within(capfd, monkeypatch, "solid", tmp_path / "strap.stl", "--unit", "mm", "--kind", "facets", "--out",
                   tmp_path / "f.step")  # fmt: skip
    assert plain.returncode == 0 and " plane; " in plain.stdout
    scan = tmp_path / "scan.stl"
    write_triangles(gudgeon_scan(), scan)
    facts = json.loads(
        within(capfd, monkeypatch, "solid", scan, "--unit", "mm", "--out", tmp_path / "g.step", "--json").stdout
    )
    assert facts["healed"] and facts["closed"] and facts["valid"] and facts["bodies"] == 1
    bad = within(capfd, monkeypatch, "solid", tmp_path / "s.step", "--out", tmp_path / "x.step")
    assert bad.returncode == 1 and "holds no triangles" in bad.stderr and not (tmp_path / "x.step").exists()


def turned_into_a_solid(bodies):
    state = run(State(Model.of(bodies)), do.solid())
    return state.model.bodies[0], state.model.tolerance


@pytest.mark.parametrize(
    ("make", "fineness"),
    [
        *((make, 0) for make in (hinge_strap, sluice_wheel, cover_plate)),
        *((make, 40) for make in (collar_anchor, paddle_frame, *([cast_anchor] if LONG else []))),
        *((make, fineness) for make in (collar_anchor, cast_anchor, hinge_strap) for fineness in (20, 80) if LONG),
    ],
    ids=lambda x: x.__name__ if callable(x) else str(x),
)  # fmt: skip
def test_as_many_faces_of_each_kind_come_back_at_any_fineness(make, fineness):
    body = make().bodies[0]
    made, tolerance = turned_into_a_solid([divided(body, fineness)])
    assert kinds(made) == kinds(body) and not flaws(made, tolerance)
    assert volume(made) == pytest.approx(volume(body), rel=1e-4)
    radii = [sorted(f.surface.radius for f in b.faces if f.surface.kind == "cylinder") for b in (made, body)]
    assert radii[0] == pytest.approx(radii[1], rel=1e-3)


@pytest.mark.parametrize("make", [collar_anchor, hinge_strap, paddle_frame], ids=lambda f: f.__name__)
@pytest.mark.parametrize("seed", seeds(2))
def test_corners_that_scatter_by_a_fiftieth_of_a_side_lead_back_too(make, seed):
    body = make().bodies[0]
    made, tolerance = turned_into_a_solid([divided(body, 40, 0.02, seed)])
    want, got = kinds(body), kinds(made)
    assert sum((want & got).values()) >= 0.94 * want.total() and got.total() <= want.total() + 1
    assert not flaws(made, tolerance) and closed(made)
    assert volume(made) == pytest.approx(volume(body), rel=5e-3)
    radii = [np.array(sorted(f.surface.radius for f in b.faces if f.surface.kind == "cylinder")) for b in (made, body)]
    near = np.abs(radii[0][:, None] - radii[1]).min(axis=1)
    assert (near < 0.01 * radii[0]).mean() > 0.9


@pytest.mark.parametrize("seed", [2, 11, 14, 17, 23, 31])
def test_two_random_solids_united_or_cut_come_back(seed):
    """Blocks, bars, cones down to their apex and balls, one on or out of another: as many faces of each kind, and the
    volume. Towards an apex triangles get smaller without end; a ring and an apex lie on a sphere as well."""
    rng = np.random.default_rng(seed)
    one, other = simple_solid(rng, "bcks"), simple_solid(rng, "bcks")
    body = max(combine(one, other, rng.choice(["union", "subtract"]), 1e-6), key=volume)
    points, corners, _ = body_mesh(body)
    (read,), _ = bodies_of([Triangles(points.astype(np.float32).astype(float), corners, "part")])
    model = run(State(Model.of([read])), do.solid()).model
    assert kinds(model.bodies[0]) == kinds(body) and not flaws(model.bodies[0], model.tolerance)
    assert volume(model.bodies[0]) == pytest.approx(volume(body), rel=1e-4)


@pytest.mark.parametrize("seed", seeds(6))
def test_slivers_give_way_and_the_skin_stays(seed):
    """Corners put on sides of a part's triangles, each with a triangle of no height before it, and folds that no other
    diagonal undoes: all go, the skin stays closed, with the same volume, and so does the area of every patch."""
    rng = np.random.default_rng(seed)
    points, corners, owner = body_mesh(plate().bodies[0])
    scale = float(np.linalg.norm(np.ptp(points, axis=0)))
    plain = corners
    corners, owner, points = corners.tolist(), owner.tolist(), points.tolist()
    rows = rng.permutation(len(corners)).tolist()
    for t in rows[:15]:
        a, b, c = corners[t]
        share = rng.uniform(0.1, 0.9)
        middle = (1.0 - share) * np.array(points[a]) + share * np.array(points[b])
        points.append((middle + rng.choice([0.0, 1e-9]) * (np.array(points[c]) - middle)).tolist())
        m = len(points) - 1
        corners[t] = [a, m, c]
        corners += [[m, b, c], [a, b, m]]
        owner += [owner[t], owner[t]]
    whole = len(corners)
    for t in rows[15:21]:  # a corner beyond another one, with no more than three triangles about it
        b, c, d = corners[t]
        points.append((1.2 * np.array(points[c]) - 0.2 * np.array(points[b])).tolist())
        x = len(points) - 1
        corners[t] = [x, b, c]
        corners += [[b, x, d], [x, c, d]]
        owner += [owner[t], owner[t]]
    points, corners, owner = np.array(points), np.array(corners), np.array(owner)
    patches = [Patch(None, np.flatnonzero(owner == k), 0.0) for k in np.unique(owner)]
    tolerance = 1e-4 * scale

    def areas(corners):
        v = points[corners]
        return 0.5 * np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1)

    def volume_of(corners):
        v = points[corners]
        return (v[:, 0] * np.cross(v[:, 1], v[:, 2])).sum() / 6.0

    before = [areas(plain)[owner[: len(plain)] == k].sum() for k in np.unique(owner)]
    assert (areas(corners) <= tolerance**2).sum() >= 15
    after, kept = without_slivers(points, corners, patches, tolerance)
    assert len(after) == whole < len(corners) and areas(after).min() > tolerance**2
    sides = Counter((int(t[k - 1]), int(t[k])) for t in after for k in range(3))
    assert set(sides.values()) == {1} and all((b, a) in sides for a, b in sides)
    assert volume_of(after) == pytest.approx(volume_of(corners), rel=1e-9)
    assert sorted(np.concatenate([p.rows for p in kept]).tolist()) == list(range(len(after)))
    assert [areas(after)[p.rows].sum() for p in kept] == pytest.approx(before, rel=1e-6)


@pytest.mark.parametrize("seed", seeds(5))
@pytest.mark.parametrize("kind", [Cylinder, Cone, Sphere, Torus], ids=lambda k: k.__name__.lower())
def test_a_surface_is_told_from_a_few_triangles(kind, seed):
    """A patch of a random surface anywhere, in a few rows of triangles: the surface is among those that are found, to
    the last digits, and everything that is found passes through all corners."""
    rng = np.random.default_rng(seed)
    frame = Frame.of(rng.uniform(-50, 50, 3), rng.normal(size=3), rng.normal(size=3))
    numbers = {Cylinder: (3.0,), Cone: (4.0, 0.4), Sphere: (5.0,), Torus: (6.0, 2.0)}[kind]
    surface = kind(frame, *numbers)
    u, v = np.meshgrid(np.linspace(0.0, 1.2, 7), np.linspace(0.2, 1.0, 4), indexing="ij")
    if kind is Torus:
        flat = np.stack([(6.0 + 2.0 * np.cos(v)) * np.cos(u), (6.0 + 2.0 * np.cos(v)) * np.sin(u), 2.0 * np.sin(v)], -1)
    elif kind is Sphere:
        flat = 5.0 * np.stack([np.cos(v) * np.cos(u), np.cos(v) * np.sin(u), np.sin(v)], axis=-1)
    else:
        r = 3.0 if kind is Cylinder else 4.0 + v * np.tan(0.4)
        flat = np.stack([r * np.cos(u), r * np.sin(u), v + 0.0 * u], axis=-1)
    p = frame.origin + flat.reshape(-1, 3) @ np.array([frame.x, frame.y, frame.z])
    assert np.abs(surface.signed_distance(p)).max() < 1e-12
    a = np.arange(28).reshape(7, 4)
    one, two, three, four = (x.ravel() for x in (a[:-1, :-1], a[1:, :-1], a[1:, 1:], a[:-1, 1:]))
    corners = np.concatenate([np.stack([one, two, three], axis=1), np.stack([one, three, four], axis=1)])
    w = p[corners]
    normal = np.cross(w[:, 1] - w[:, 0], w[:, 2] - w[:, 0])
    normal /= np.linalg.norm(normal, axis=1)[:, None]
    near = 1e-6
    found = round_fits(p, surface.normal(p), w.mean(axis=1), normal, near)
    assert any(type(s) is kind and s.same_as(surface, 1e-7, 10.0) for _, s in found)
    for lean, s in found:
        assert np.abs(s.signed_distance(p)).max() <= near
        angle = np.arccos(np.clip(np.abs((s.normal(w.mean(axis=1)) * normal).sum(axis=1)), 0.0, 1.0))
        assert lean == pytest.approx(angle.mean(), abs=1e-6)


def test_a_curve_along_which_faces_are_tangent_is_the_line_or_circle_of_their_border():
    """Against the closed forms of a fillet around a disc: on a flat, on a wall, and where its tube goes on straight."""
    ring, angle = Torus(UP, 10.0, 2.0), np.linspace(0.1, 1.3, 9)
    around = np.column_stack([np.cos(angle), np.sin(angle), np.zeros(9)])
    wall = Cylinder(UP, 12.0)
    for other, border, centre, radius in (
        (Plane.of((0, 0, 2), (0, 0, 1)), 10.0 * around + (0, 0, 2), (0, 0, 2), 10.0),
        (wall, 12.0 * around, (0, 0, 0), 12.0),
        (Cylinder(Frame.of((10, 0, 0), (0, 1, 0)), 2.0),
         np.column_stack([10 + 2 * np.cos(angle), np.zeros(9), 2 * np.sin(angle)]), (10, 0, 0), 2.0),
    ):  # fmt: skip
        shaken = border + 1e-7 * np.random.default_rng(1).standard_normal(border.shape)
        curve = tangent_curve(ring, other, shaken, [shaken[0], shaken[-1]], 1e-6, 1e-6)
        assert curve.kind == "circle" and curve.radius == pytest.approx(radius, abs=1e-6)
        assert np.allclose(curve.frame.origin, centre, atol=1e-6)
    line = np.column_stack([np.full(5, 12.0), np.zeros(5), np.linspace(-1, 5, 5)])
    straight = tangent_curve(wall, Plane.of((12, 0, 0), (1, 0, 0)), line, [line[0], line[-1]], 1e-6, 1e-6)
    assert straight.kind == "line"
    # What crosses is for Meet, and what only one surface holds is no curve of both.
    assert tangent_curve(ring, Plane.of((0, 0, 1), (0, 0, 1)), 10.0 * around + (0, 0, 1), [], 1e-6, 1e-6) is None
    assert tangent_curve(wall, Plane.of((12, 0, 0), (1, 0, 0)), 12.0 * around[:3], [], 1e-6, 1e-6) is None


def test_a_corner_between_faces_that_all_but_touch_stays_there():
    flat, round_one = Plane.of((0, 0, 0), (0, 1, 0)), Cylinder(Frame.of((0, -5.02, 0), (0, 0, 1)), 5.0)
    end = Plane.of((0, 0, 3), (0, 0, 1))
    at = between([flat, round_one, end], np.array([[0.1, -0.03, 2.97]]), 1e-3, 0.3)[0]
    assert abs(at[2] - 3.0) < 1e-3 and abs(at[0]) < 0.2 and -0.021 < at[1] < 0.0
    sharp = between([flat, Plane.of((0, 0, 0), (1, 1, 0)), end], np.array([[0.1, 0.1, 2.9]]), 1e-4, 0.3)[0]
    assert np.allclose(sharp, (0, 0, 3), atol=1e-3)
