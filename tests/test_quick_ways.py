"""What quick, compiled ways tell is what plain ones do, on random cases: of triangles, of tetrahedra, of folds."""

import numpy as np
import pytest
import scipy
import shapely
from dice import seeds
from scipy.optimize import least_squares
from scipy.spatial import ConvexHull, Delaunay

from lithon.brep.faceted import Triangles, _beyond, bodies_of, soup_of
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.geometry.surfaces import Plane
from lithon.mend.folds import fold_through
from lithon.mend.links import lists, straightest
from lithon.mend.scan_patches import Scan
from lithon.mend.scans import _Parted
from lithon.mesh.delaunay import FACE, Tetrahedra
from lithon.mesh.fill import _fresh
from lithon.mesh.recover import _MOST_NODES, _regions, _walls, triple_keys

# ---- triangles


def sheet(rng, turns, n=160, scatter=0.0):
    """Triangles of a spiral staircase's tread, one strip of triangles that winds about the z axis."""
    at = np.linspace(0.0, 2.0 * np.pi * turns, n)
    inner, outer = (np.stack([r * np.cos(at), r * np.sin(at), 0.12 * at], axis=1) for r in (1.0, 2.0))
    points = np.concatenate([inner, outer]) + rng.normal(0.0, scatter, (2 * n, 3)) * [0.3, 0.3, 1.0]
    k = np.arange(n - 1)
    return points, np.concatenate([np.stack([k, k + n, k + n + 1], 1), np.stack([k, k + n + 1, k + 1], 1)])


def rim_of(face):
    """The rim of a facets face, seen along its mean normal: as many rings as it has loops."""
    mesh = face_mesh(face)
    v = mesh.points[mesh.triangles]
    way = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]).sum(axis=0)
    sides = {tuple(s) for t in mesh.triangles.tolist() for s in zip(t, [*t[1:], t[0]], strict=True)}
    rim = [(a, b) for a, b in sides if (b, a) not in sides]
    flat = Plane.of(np.zeros(3), way).flat(mesh.points)
    return shapely.linestrings([[flat[a], flat[b]] for a, b in rim])


@pytest.mark.parametrize("seed", seeds(5))
@pytest.mark.parametrize("turns", [0.8, 2.5, 4.0])
def test_no_face_of_triangles_lies_over_itself(turns, seed):
    rng = np.random.default_rng(seed)
    points, corners = sheet(rng, turns, scatter=0.004)
    (body,), notes = bodies_of([Triangles(points, corners, "tread")])
    assert not notes and len(soup_of(body).corners) == len(corners)
    assert len(body.faces) >= np.ceil(turns)
    for face in body.faces:
        rim = rim_of(face)
        assert not any(rim[i].crosses(rim[j]) for i in range(len(rim)) for j in range(i))


@pytest.mark.parametrize("seed", seeds(20))
def test_what_is_nearer_to_a_far_end_is_so_by_steps(seed):
    rng = np.random.default_rng(seed)
    n = 40
    tree = np.array([(i, rng.integers(max(0, i - 4), i)) for i in range(1, n)])
    near = np.full((n, 3), -1)
    for i, j in tree.tolist():
        for a, b in ((i, j), (j, i)):
            free = np.flatnonzero(near[a] < 0)
            near[a, free[:1]] = b
    graph = np.zeros((n, n))
    for i in range(n):
        graph[i, near[i][near[i] >= 0]] = 1.0
    away = scipy.sparse.csgraph.dijkstra(graph, unweighted=True)
    far = np.where(np.isfinite(away), away, -1.0)
    one = int(far[0].argmax())
    two = int(far[one].argmax())
    assert (_beyond(near) == (away[two] < away[one])).all()


@pytest.mark.parametrize("seed", seeds(20))
def test_how_much_triangles_turn_is_the_most_that_two_side_by_side_do(seed):
    rng = np.random.default_rng(seed)
    i, j = np.unique(np.sort(rng.integers(0, 30, (70, 2)), axis=1), axis=0).T
    i, j = i[i != j], j[i != j]
    normal = rng.normal(size=(30, 3)) + [0.0, 0.0, 2.0]
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    rows = np.sort(rng.permutation(30)[: rng.integers(1, 30)])
    both = np.isin(i, rows) & np.isin(j, rows)
    want = min([1.0, *(normal[i[both]] * normal[j[both]]).sum(axis=1).tolist()])
    assert straightest(rows, *lists(30, i, j), normal) == pytest.approx(want, abs=1e-14)


def test_a_surface_that_nothing_changed_for_is_not_fitted_again():
    """Only a patch that gets or loses triangles is brought nearer to what it holds; the others are the same object."""
    rng = np.random.default_rng(1)
    p = rng.uniform(-1.0, 1.0, (900, 2))
    corners = Delaunay(p).simplices
    points = np.column_stack([p, np.maximum(0.0, 0.6 * p[:, 0]) + rng.normal(0.0, 0.002, len(p))])
    v = points[corners]
    cross = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
    cross *= np.sign(cross[:, 2:])
    area = 0.5 * np.linalg.norm(cross, axis=1)
    near = Delaunay(p).neighbors
    pairs = np.unique(np.sort([(i, j) for i in range(len(near)) for j in near[i].tolist() if j >= 0], axis=1), axis=0)
    parted = _Parted(Scan(points, corners, area, cross / (2.0 * area[:, None]), pairs, 0.002))
    side = (v[:, :, 0].mean(axis=1) > 0.0).astype(np.int64)
    parted.label[:] = side
    parted.surfaces += [Plane.of((0.0, 0.0, 0.01), (0.0, 0.1, 1.0)), Plane.of((0.0, 0.0, 0.0), (-0.5, 0.0, 1.0))]
    parted._refit()
    first = list(parted.surfaces)
    parted._refit()
    assert all(a is b for a, b in zip(first, parted.surfaces, strict=True))
    deep = np.flatnonzero((side == 1) & (v[:, :, 0].mean(axis=1) > 0.7))
    parted.label[deep] = -1
    parted._refit()
    assert parted.surfaces[0] is first[0] and parted.surfaces[1] is not first[1]
    for surface, slope in zip(parted.surfaces, (0.0, 0.6), strict=True):
        assert abs(surface.frame.z @ np.array([-slope, 0.0, 1.0]) / np.hypot(1.0, slope)) > np.cos(0.01)


# ---- folds


@pytest.mark.parametrize("seed", seeds(10))
def test_no_two_planes_come_nearer_than_a_fold_but_by_little(seed):
    """Against a general search over both planes, begun at the true ones."""
    rng = np.random.default_rng(seed)
    n, turn, place = int(rng.integers(12, 200)), rng.uniform(0.35, 1.2), rng.uniform(-0.4, 0.4)
    u, v = rng.uniform(-1.0, 1.0, (2, n))
    p = np.stack([u, 0.4 * v, np.tan(turn) * np.maximum(0.0, u - place) + rng.normal(0.0, 0.004, n)], axis=1)
    fold = fold_through(p)
    assert fold is not None

    def off(x):
        one, two = (x[3 * k] * p[:, 0] + x[3 * k + 1] * p[:, 1] + x[3 * k + 2] - p[:, 2] for k in range(2))
        size = [np.sqrt(1.0 + x[3 * k] ** 2 + x[3 * k + 1] ** 2) for k in range(2)]
        return np.minimum(one / size[0], two / size[1])  # above is the larger height: the lesser of what lacks

    slope = np.tan(turn)
    best = least_squares(off, [0.0, 0.0, 0.0, slope, 0.0, -slope * place])
    least = float(np.sqrt((best.fun**2).mean()))
    assert fold.off <= 1.05 * least + 1e-9
    assert fold.turn == pytest.approx(turn, abs=0.12)


# ---- tetrahedra


def cloud(rng, n=400):
    points = rng.uniform(0.0, 1.0, (n, 3))
    space = Tetrahedra.box(points.min(axis=0), points.max(axis=0))
    # What comes too near to another is refused, and numbers close up.
    done = space.add(points, clear=np.full(n, 0.04))
    return space, points[done], done


@pytest.mark.parametrize("seed", seeds(10))
def test_points_keep_their_order_where_some_are_refused(seed):
    rng = np.random.default_rng(seed)
    space, kept, done = cloud(rng)
    assert 0 < len(kept) < len(done) and space.points == len(kept) + 8
    assert np.abs(space.world()[8:] - kept).max() < 1e-6
    tets = space.tet[space.live]
    assert tets.min() >= 0 and set(np.unique(tets)) == set(range(space.points))
    hull = ConvexHull(space.world())
    v = space.world()[tets]
    volume = np.abs(np.linalg.det(v[:, 1:] - v[:, :1])).sum() / 6.0
    assert volume == pytest.approx(hull.volume, rel=1e-9)
    gaps = scipy.spatial.cKDTree(kept).query(kept, k=2)[0][:, 1]
    assert gaps.min() > 0.0399


@pytest.mark.parametrize("seed", seeds(10))
def test_only_new_tetrahedra_are_judged_again(seed):
    rng = np.random.default_rng(seed)
    space, _, _ = cloud(rng, 120)
    space.lab[:] = rng.integers(-1, 2, len(space.lab))

    def padded(a):
        return np.concatenate([a, np.full((len(space.tet) - len(a), 4), -1, dtype=np.int64)])

    def rows():
        live = space.live
        return live[space.lab[live] >= 0]

    judged = padded(np.full((0, 4), -1, dtype=np.int64))
    assert (_fresh(space.tet[: space.state[0]], space.lab, judged) == rows()).all()
    assert not len(_fresh(space.tet[: space.state[0]], space.lab, judged))
    before = space.tet.copy()
    space.add(rng.uniform(0.2, 0.8, (30, 3)))
    judged, before = padded(judged), padded(before)
    new = rows()[(space.tet[rows()] != before[rows()]).any(axis=1)]
    got = _fresh(space.tet[: space.state[0]], space.lab, judged)
    # What had no label before was not judged.
    assert set(new.tolist()) <= set(got.tolist()) and (judged[rows()] == space.tet[rows()]).all()


@pytest.mark.parametrize("seed", seeds(10))
def test_walls_are_the_faces_that_triangles_are_and_regions_what_they_part(seed):
    rng = np.random.default_rng(seed)
    space, _, _ = cloud(rng, 150)
    live = space.live
    tets = space.tet[live]
    faces = np.sort(tets[:, FACE], axis=2)
    # Triangles: faces within the walls of a box in the midst, and a few that are nowhere.
    middle = space.world()[tets].mean(axis=1)
    inside = (np.abs(middle - 0.5) < 0.25).all(axis=1)
    row = np.full(len(space.tet), -1)
    row[live] = np.arange(len(live))
    beside = row[space.nbr[live]]
    border = inside[:, None] & (space.nbr[live] >= 0) & ~inside[beside]
    wanted = np.concatenate([faces[border], [[8, 9, 149], [10, 11, 12]]])
    wanted = np.unique(wanted, axis=0)
    walls = _walls(tets, triple_keys(wanted, _MOST_NODES))
    number = {tuple(t): k for k, t in enumerate(wanted.tolist())}
    assert (walls == [[number.get(tuple(f), -1) for f in four] for four in faces.tolist()]).all()
    space.wall[:] = -1
    space.wall[live] = walls
    count, region = _regions(space.tet[: space.state[0]], space.nbr, space.wall)
    i, k = np.nonzero((walls < 0) & (space.nbr[live] >= 0))
    graph = scipy.sparse.coo_array((np.ones(len(i)), (i, beside[i, k])), shape=(len(live),) * 2)
    want, label = scipy.sparse.csgraph.connected_components(graph, directed=False)
    assert count == want and (np.delete(region, live) == -1).all()
    assert len(np.unique(np.stack([region[live], label]), axis=1).T) == count
