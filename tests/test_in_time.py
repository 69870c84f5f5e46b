"""A search ends in time with the best it has; and what quick ways tell is what the slow ones do."""

import json

import numpy as np
import pytest
from dice import seeds
from scipy.optimize import least_squares
from test_cli import within
from test_smooth_patches import ball, block, knobbed, opened, waved

import lithon
from lithon import do
from lithon import progress as progress_of
from lithon.brep.measures import face_area, mass_properties
from lithon.brep.topology import Body, FaceUse
from lithon.brep.validate import flaws
from lithon.errors import Cancelled, Refusal, Spent
from lithon.geometry.cones import Cone
from lithon.geometry.elementary import in_numbers, least_strain
from lithon.geometry.spheres import Sphere
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.geometry.tori import Torus
from lithon.mend.seams import between
from lithon.mend.solid import Left, Solid
from lithon.operations.mend import solid as solid_operation
from lithon.operations.mend.solid import SolidFromTriangles
from lithon.progress import Progress
from lithon.samples.build import polyhedron, prism, rectangle

# ---- searches with a budget


def test_a_file_without_time_for_surfaces_is_a_sound_solid_of_its_facets(tmp_path, capfd, monkeypatch):
    monkeypatch.setattr("lithon.project.solid._EACH", 0.0)
    opened(tmp_path, *block(waved, 8))
    told = within(capfd, monkeypatch, "solid", tmp_path / "block.stl", "--unit", "mm", "--seconds", "1e-6", "--out",
                  tmp_path / "b.step", "--json")  # fmt: skip
    facts = json.loads(told.stdout)
    assert told.returncode == 0 and facts["closed"] and facts["valid"] and set(facts["faces"]) == {"plane"}
    (left,) = facts["left"]
    assert "no answer was found" in left["why"]
    # The flat sides are faces, not facets: what is left is the top and what stays a triangle.
    assert 24.0 < left["area_mm2"] < 30.0
    (again,) = lithon.open(tmp_path / "b.step").model.bodies
    assert len(again.faces) == sum(facts["faces"].values())
    assert within(capfd, monkeypatch, "solid", tmp_path / "block.stl", "--seconds", "0", "--out", tmp_path / "c.step"
                  ).returncode != 0  # fmt: skip


@pytest.mark.slow
def test_where_time_runs_out_the_best_so_far_is_taken(tmp_path, monkeypatch):
    """The first solid that comes out holds when the search for a better one has no time left; without any it is told
    that there was none."""
    points, corners = ball(500, knobbed)
    ledger = opened(tmp_path, points, corners, "knob")
    real, out = SolidFromTriangles.joined, []

    def joined(self, *asked):
        if out:
            raise Spent("no answer was found within 9 s", remedy="choose less")
        out.append(real(self, *asked))
        return out[0]

    monkeypatch.setattr(SolidFromTriangles, "joined", joined)
    step = ledger.take(do.solid())
    assert out and not flaws(ledger.model.bodies[0], ledger.model.tolerance)
    assert step.outcome.details[0]["faces"]["sphere"] == 1

    def never(self, *asked):
        raise Spent("no answer was found within 9 s", remedy="choose less")

    monkeypatch.setattr(SolidFromTriangles, "joined", never)
    fresh = opened(tmp_path, points, corners, "knob")
    with pytest.raises(Spent):
        fresh.take(do.solid())
    assert not fresh.entries


@pytest.mark.parametrize(
    ("wall", "at_work", "counted"),
    [(3.0, 3.0, 3.0), (3.0, 5.5, 3.0), (3.0, 2.0, 2.0), (3.0, 0.2, 1.0), (0.0, 0.5, 0.0)],
)
def test_what_others_take_of_the_machine_does_not_count(monkeypatch, wall, at_work, counted):
    """Up to two thirds of the time that passes; what two threads do at once counts once."""
    at = [100.0, 7.0]
    monkeypatch.setattr(progress_of.time, "monotonic", lambda: at[0])
    monkeypatch.setattr(progress_of.time, "process_time", lambda: at[1])
    own = progress_of._Own()
    first = own()
    for _ in range(4):
        at[0] += wall / 4
        at[1] += at_work / 4
        own()
    assert own() - first == pytest.approx(counted)


def test_shares_of_parts_run_on_and_a_shorter_budget_goes_on_within():
    told = []
    whole = Progress(lambda share, what: told.append((round(share, 6), what)))
    for k in range(3):
        part = whole.part(k / 3, (k + 1) / 3)
        for share in (0.0, 0.5, 1.0):
            part.tell(share, f"part {k}")
        part.pulse()
    assert [x for x, _ in told] == sorted(x for x, _ in told) and told[-1] == (1.0, "part 2")
    assert whole.part(0.0, 1.0) is whole
    stopped = Progress(stopped=lambda: True).part(0.2, 0.4)
    with pytest.raises(Cancelled):
        stopped.pulse()
    short = Progress()
    with short.within(-1.0), short.within(100.0), pytest.raises(Spent):
        short.part(0.1, 0.2).tell(0.5)
    short.pulse()
    part = short.part(0.1, 0.2)
    with part.within(-1.0), pytest.raises(Spent):
        part.pulse()
    part.tell(1.0)


# ---- points between surfaces


def some_surface(rng, near):
    """One of five kinds that passes a point within a tenth."""
    at, way = near + rng.normal(0.0, 0.05, 3), rng.normal(size=3)
    way /= np.linalg.norm(way)
    across = np.cross(way, rng.normal(size=3))
    across /= np.linalg.norm(across)
    match rng.integers(5):
        case 0:
            return Plane.of(at, way)
        case 1:
            return Cylinder.of(at + 2.0 * across, way, 2.0)
        case 2:
            return Cone.of(at + 1.5 * across, way, 1.5, 0.4)
        case 3:
            return Sphere.of(at + 3.0 * way, 3.0)
    return Torus.of(at + 2.6 * across, way, 2.0, 0.6)


@pytest.mark.parametrize("seed", seeds(12))
def test_a_point_between_surfaces_strains_no_more_than_the_best(seed):
    """Against SciPy's own solver for the same sum of squares, from the same start."""
    rng = np.random.default_rng(seed)
    start = rng.normal(0.0, 1.0, (1, 3))
    surfaces = [some_surface(rng, start[0]) for _ in range(rng.integers(2, 5))]
    near, far = 10.0 ** rng.uniform(-6, -3), 10.0 ** rng.uniform(-1, 1)

    def off(p):
        return np.concatenate([[float(s.signed_distance(p[None])[0]) / near for s in surfaces], (p - start[0]) / far])

    made = between(surfaces, start, near, far)
    best = least_squares(off, start[0], xtol=1e-15, ftol=1e-15, gtol=1e-15, x_scale="jac", max_nfev=4000)
    mine = float((off(made[0]) ** 2).sum())
    assert mine <= 1.001 * 2.0 * best.cost + 1e-9
    rows = np.array([in_numbers(s) for s in surfaces])
    assert np.allclose(least_strain(rows, start[0].copy(), near, far, 80), made[0], atol=1e-12)


def test_planes_meet_in_their_own_point():
    rng, met = np.random.default_rng(2), 0
    for _ in range(20):
        corner, ways = rng.normal(size=3), rng.normal(size=(3, 3))
        if abs(np.linalg.det(ways / np.linalg.norm(ways, axis=1)[:, None])) < 0.1:
            continue
        planes = [Plane.of(corner + np.cross(w, rng.normal(size=3)), w) for w in ways]
        made = between(planes, corner[None] + 0.01, 1e-9, 10.0)
        assert np.abs(made[0] - corner).max() < 1e-7
        met += 1
    assert met > 10


def test_the_time_that_is_told_is_the_time_that_is_kept():
    from lithon.cli import cli
    from lithon.project.solid import SEARCH

    (seconds,) = [p for p in cli.commands["solid"].params if p.name == "seconds"]
    assert seconds.default == SEARCH


# ---- what is measured of triangles


def tetrahedron(rng):
    p = rng.normal(0.0, 4.0, (4, 3)) + rng.normal(0.0, 20.0, 3)
    if np.linalg.det(p[1:] - p[0]) < 0.0:
        p = p[[0, 2, 1, 3]]
    return p, polyhedron(p, [(0, 2, 1), (0, 1, 3), (1, 2, 3), (2, 0, 3)])


@pytest.mark.parametrize("seed", seeds(6))
def test_the_moments_of_a_tetrahedron_are_those_of_its_closed_form(seed):
    """Tonon (2004): volume, middle and inertia of a tetrahedron by its corners."""
    p, body = tetrahedron(np.random.default_rng(seed))
    made = mass_properties(body)
    size = np.linalg.det(p[1:] - p[0]) / 6.0
    q = p - p.mean(axis=0)
    second = size / 20.0 * (q.T @ q)  # of x x^T about the middle: the corners' own and their sum's, which is none
    assert made.volume == pytest.approx(size, rel=1e-9)
    assert made.centroid == pytest.approx(p.mean(axis=0), abs=1e-9)
    inertia = np.trace(second) * np.eye(3) - second
    assert np.allclose(made.inertia, inertia, rtol=1e-7, atol=1e-7 * np.abs(inertia).max())
    for face in body.faces:
        a, b, c = (coedge.first.point for coedge in face.loops[0])
        assert face_area(face) == pytest.approx(0.5 * np.linalg.norm(np.cross(b - a, c - a)), rel=1e-12)


@pytest.mark.parametrize("seed", seeds(3))
def test_a_body_turned_inside_out_is_told_of_and_one_of_hardly_any_thickness_is_sound(seed):
    _, body = tetrahedron(np.random.default_rng(seed))
    assert not flaws(body, 1e-6)
    turned = Body(tuple(FaceUse(u.face, not u.forward) for u in body.uses), "turned")
    assert [f.kind for f in flaws(turned, 1e-6)] == ["inside-out"]
    for thin in (1e-1, 1e-3):
        plate = prism(rectangle(0.0, 0.0, 100.0, 80.0), thin)
        assert not flaws(plate, 1e-6)
        over = Body(tuple(FaceUse(u.face, not u.forward) for u in plate.uses), "over")
        assert [f.kind for f in flaws(over, 1e-6)] == ["inside-out"]


def test_a_face_as_thin_as_nothing_is_told_of():
    """A sliver whose area is less than the resolution tells apart, amid faces that are not."""
    p = np.array([(0.0, 0.0, 0.0), (5.0, 0.0, 0.0), (2.5, 1e-7, 0.0), (2.5, 0.0, 3.0)])
    body = polyhedron(p, [(0, 2, 1), (0, 1, 3), (1, 2, 3), (2, 0, 3)])
    assert "empty face" in {f.kind for f in flaws(body, 1e-2)}


@pytest.mark.parametrize(("left", "counts", "seconds", "want"), [
    (0.5, (30, 30), 1e9, "held"),  # the next deviation is as many patches, and fails as well
    (0.5, (30, 12), 1e9, "whole"),  # fewer, and they meet
    (0.5, (30, 12), 1e-3, "held"),  # fewer, but there is no time to look
    (None, (30, 12), 1e9, "whole"),
    (None, (30, 30), 1e9, "other"),
])  # fmt: skip
def test_where_a_few_faces_of_a_scan_do_not_meet_more_deviation_is_tried_as_far_as_it_helps(
    monkeypatch, left, counts, seconds, want
):
    """A search with what comes of each attempt given: which solid is taken, and that it is not looked for in vain."""
    asked, looked = [], []

    class Sheet:
        corners = range(9)

        def noise(self):
            return 0.1

        def found(self, tolerance, free=False):
            for near, count in zip((0.8, 1.2), counts, strict=True):
                looked.append(near)
                yield [object()] * count, near

    class Asked:
        kind, tolerance, left = "simple", None, 0.9

        def joined(self, sheet, found, near, tolerance, mixed, most=np.inf, parted=False):
            asked.append((near, mixed, tolerance))
            if mixed and near < 1.0 and left is not None and most >= left:
                return Solid(None, 0.0, (Left((), left, None, ""),))
            if not mixed and near > 1.0 and len(found) < 20:
                return Solid(None, 0.0)
            if mixed and most > 30.0:
                return Solid(None, 0.0, (Left((), 40.0, None, ""),))
            raise Refusal("they do not meet", remedy="part them")

    monkeypatch.setattr(solid_operation, "area", lambda body: 100.0)
    monkeypatch.setattr(solid_operation, "seconds_left", lambda: seconds)
    monkeypatch.setattr(Sheet, "body", None, raising=False)
    monkeypatch.setattr(solid_operation, "_NEXT", 1e6)
    search = solid_operation._Search(Asked(), Sheet(), [], [1e-6, 0.05], [])
    monkeypatch.setattr(search, "shapeless", lambda: None)
    out = search.run(Progress())
    facets = sum(one.area for one in out.left)
    assert facets == {"held": left, "whole": 0.0, "other": 40.0}[want]
    if want == "held":
        assert looked == ([0.8] if seconds < 1.0 else [0.8, 1.2])
    assert asked[:3] == [(0.8, False, 1e-6), (0.8, False, 0.05), (0.8, True, 0.05)]
    # What comes together may meet as nearly as what is exact; what is the same does not.
    after = [one[1:] for one in asked[3:] if one[0] > 1.0][:1]
    assert after == {"whole": [(False, 1e-6)], "other": [(False, 0.05)], "held": after}[want]
