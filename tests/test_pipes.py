"""Cables, coils and hoses of triangles become a pipe between flat ends: radius, and volume after Pappus."""

from collections import Counter

import numpy as np
import pytest
import scipy
from dice import LONG, seeds
from everyday import at, one, wire
from solids import motion
from test_solids_from_triangles import as_triangles

from lithon import do
from lithon.arrays import unit
from lithon.brep.copies import moved
from lithon.brep.faceted import Triangles, bodies_of
from lithon.brep.measures import volume
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.mend.pipes import pipes_among
from lithon.mesh.sizing import SizeRules
from lithon.mesh.tetrahedra import tetrahedral_mesh
from lithon.mesh.verdict import verdict
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples.build import prism, rectangle


def carried(spine, low, high, radius, rings, around, twist=0.0):
    """Triangles of a circle carried along spine(t), flat at its ends, and how long the spine is."""
    fine = np.linspace(low, high, 20001)
    long = np.append(0.0, np.cumsum(np.linalg.norm(np.diff(spine(fine), axis=0), axis=1)))
    t = np.interp(np.linspace(0.0, long[-1], rings), long, fine)
    p = spine(t)
    way = unit(spine(t + 1e-6) - spine(t - 1e-6))
    x = np.zeros_like(way)
    x[0] = unit(np.cross(way[0], (0.31, 0.2, 0.9))[None])[0]
    for k in range(1, rings):
        x[k] = unit((x[k - 1] - (x[k - 1] @ way[k]) * way[k])[None])[0]
    y = np.cross(way, x)
    angle = 2.0 * np.pi * np.arange(around) / around + twist * np.arange(rings)[:, None]
    points = p[:, None] + radius * (np.cos(angle)[..., None] * x[:, None] + np.sin(angle)[..., None] * y[:, None])
    points = np.concatenate([points.reshape(-1, 3), p[[0, -1]]])
    i = np.arange(rings * around).reshape(rings, around)
    j = np.roll(i, -1, axis=1)
    a, b, c, d = i[:-1].ravel(), j[:-1].ravel(), j[1:].ravel(), i[1:].ravel()
    first, last = len(points) - 2, len(points) - 1
    corners = np.concatenate([
        np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1),
        np.stack([j[0], i[0], np.full(around, first)], axis=1), np.stack([i[-1], j[-1], np.full(around, last)], axis=1),
    ])  # fmt: skip
    return points, corners, float(long[-1])


def helix(radius, rise):
    return lambda t: np.stack([radius * np.cos(t), radius * np.sin(t), rise * t / (2.0 * np.pi)], axis=-1)


def loose(t):
    """A cable that lies about."""
    return np.stack([30.0 * t, 8.0 * np.sin(5.0 * t), 6.0 * t * t * np.cos(4.0 * t)], axis=-1)


def level(t):
    """An S in one plane."""
    return np.stack([20.0 * t, 6.0 * np.cos(3.0 * t), 0.0 * t], axis=-1)


#: How far apart rings are (radii), how many corners each has, how far it is turned from the one before, and how far
#: corners scatter (a share of the side): fine, as coarse as may be, measured.
WAYS = {
    "fine": (0.6, 16, 0.0, 0.0),
    "coarse": (1.5, 8, 0.1, 0.0),
    "2 %": (0.6, 16, 0.0, 0.02),
    "10 %": (0.6, 16, 0.0, 0.1),
}
SPINES = {
    "spring": (helix(4.0, 3.0), 20.0, 0.9),
    "loose": (loose, 1.0, 1.0),
    "level": (level, 2.0, 1.2),
    "thin": (loose, 1.0, 0.3),
}


def scattered(spine, high, radius, way, seed=0):
    """A pipe of triangles somewhere in space, and where its spine runs (n,3) and how long it is."""
    step, around, twist, share = way
    long = carried(spine, 0.0, high, radius, 10, 6)[2]
    points, corners, long = carried(spine, 0.0, high, radius, max(8, int(long / (step * radius))), around, twist)
    side = min(2.0 * np.pi * radius / around, step * radius)
    rng = np.random.default_rng(seed)
    points = points + rng.normal(0.0, share * side / np.sqrt(3.0), points.shape)
    turn = motion(seed)
    points = points @ turn[:3, :3].T + turn[:3, 3]
    path = spine(np.linspace(0.0, high, 20001)) @ turn[:3, :3].T + turn[:3, 3]
    return bodies_of([Triangles(points.astype(np.float32).astype(float), corners, "cable")])[0], path, long


def off_the_spine(path, surface):
    """How far from a spine a surface is, at places all over its inner half."""
    low, high = surface.range
    u, v = np.meshgrid(np.linspace(low[0], high[0], 9), low[1] + (high[1] - low[1]) * np.linspace(0.25, 0.75, 61))
    return scipy.spatial.cKDTree(path).query(surface.at(u.ravel(), v.ravel())[0])[0]


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("name", SPINES if LONG else ["spring", "level"])
def test_a_pipe_between_two_flats_comes_back(name, way):
    spine, high, radius = SPINES[name]
    exact = WAYS[way][3] == 0.0
    triangles, path, long = scattered(spine, high, radius, WAYS[way], seed=3)
    out = run(State(Model.of(triangles)), do.solid(kind="smooth"))
    (body,) = out.model.bodies
    (pipe,) = (f for f in body.faces if f.surface.kind == "b-spline")
    # Of a handful of triangles that scatter nothing tells a flat from what is nearly so.
    ends = Counter(f.surface.kind for f in body.faces if f is not pipe)
    assert sum(ends.values()) == 2 and (ends == {"plane": 2} or not exact)
    assert not flaws(body, out.model.tolerance)
    assert volume(body) == pytest.approx(np.pi * radius**2 * long, rel=1e-4 if exact else 5e-3)
    off = off_the_spine(path, pipe.surface)
    assert off.mean() == pytest.approx(radius, rel=1e-4 if exact else 2e-3)
    assert np.abs(off - radius).max() < (1e-3 if exact else 0.04) * radius


@pytest.mark.parametrize("seed", seeds(5))
def test_what_is_made_of_lines_and_arcs_is_no_pipe(seed):
    """A straight bar, an elbow, a ring and a tube of two straight stretches and a bend are cylinders and tori."""
    rng = np.random.default_rng(seed)
    apart = 0.6  # between rings: one is where a stretch ends
    bend = apart * int(rng.integers(12, 20)) / (0.5 * np.pi)

    def tube(t):
        s = np.clip(t - 12.0, 0.0, 0.5 * np.pi * bend)
        beyond = np.maximum(t - 12.0 - 0.5 * np.pi * bend, 0.0)
        x = np.minimum(t, 12.0) + bend * np.sin(s / bend)
        return np.stack([x, bend * (1.0 - np.cos(s / bend)) + beyond, 0.0 * t], axis=-1)

    bar = lambda t: np.stack([t, 0.3 * t, 0.0 * t], axis=-1)  # noqa: E731
    elbow = lambda t: np.stack([9.0 * np.cos(t), 9.0 * np.sin(t), 0.0 * t], axis=-1)  # noqa: E731
    for spine, high in ((bar, 30.0), (elbow, 2.0), (tube, 24.0 + 0.5 * np.pi * bend)):
        for way in ("fine", "2 %"):
            (body,), _, _ = scattered(spine, high, 1.1, WAYS[way], seed)
            points, corners, _ = body_mesh(body)
            assert not pipes_among(points, corners, 0.05)
    high = 24.0 + 0.5 * np.pi * bend
    points, corners, _ = carried(tube, 0.0, high, 1.1, round(high / apart) + 1, 16)
    out = run(State(Model.of(bodies_of([Triangles(points, corners, "tube")])[0])), do.solid())
    assert Counter(f.surface.kind for f in out.model.bodies[0].faces) == {"plane": 2, "cylinder": 2, "torus": 1}


@pytest.mark.parametrize("way", ["union", "subtract"])
def test_a_cable_out_of_a_block_and_a_channel_through_one_are_meshed(way):
    """Of the cable, all but what is in the block; of the channel, what is."""
    t = np.linspace(0.0, 1.0, 60)
    cable = wire(np.stack([4.0 * np.sin(4.0 * t), 3.0 * t * t, 22.0 * t - 2.0], axis=1), 0.8, "cable")
    low, high = (-4.0, 0.0) if way == "union" else (0.0, 18.0)
    block = prism(rectangle(-6.0, -6.0, 6.0, 6.0), high - low, at((0.0, 0.0, low)), "block")
    body = one(block, cable, way)
    out = run(State(Model.of(as_triangles(body))), do.solid(kind="smooth"))
    (made,) = out.model.bodies
    assert Counter(f.surface.kind for f in made.faces) == {"plane": 7 if way == "union" else 6, "b-spline": 1}
    assert not flaws(made, out.model.tolerance)
    assert volume(made) == pytest.approx(volume(body), rel=1e-3)
    assert verdict(tetrahedral_mesh(Model.of([made]), SizeRules(1.0))).good


def test_a_pipe_that_was_found_before_is_one_of_the_solid():
    """Patches looked at first are the faces of the solid."""
    triangles, _, long = scattered(level, 2.0, 0.7, WAYS["2 %"])
    state = run(State(Model.of(triangles)), do.find_patches()).state
    words = Counter(str(word).split()[0] for word in set(state.marks.all("patch").values()))
    assert words == {"pipe": 1, "plane": 2}
    (made,) = run(state, do.solid()).model.bodies
    assert Counter(f.surface.kind for f in made.faces) == {"plane": 2, "b-spline": 1}
    assert volume(made) == pytest.approx(np.pi * 0.49 * long, rel=5e-3)


def test_a_patch_is_said_to_be_a_pipe():
    """What the program leaves to cylinders may be said to be one; a block is none."""
    elbow = lambda t: np.stack([9.0 * np.cos(t), 9.0 * np.sin(t), 0.0 * t], axis=-1)  # noqa: E731
    state = run(State(Model.of(scattered(elbow, 2.0, 1.1, WAYS["fine"])[0])), do.find_patches()).state
    (wall, *_) = (f for f, word in state.marks.all("patch").items() if word.startswith("torus"))
    said = run(state, do.say_kind([wall], "pipe"))
    assert "is a pipe" in said.words
    (flat, *_) = (f for f, word in said.state.marks.all("patch").items() if word.startswith("plane"))
    with pytest.raises(Refusal, match="no pipe comes near"):
        run(said.state, do.say_kind([flat], "pipe"))
    made = run(said.state, do.solid()).model.bodies[0]
    assert Counter(f.surface.kind for f in made.faces) == {"plane": 2, "b-spline": 1}
    assert volume(made) == pytest.approx(np.pi * 1.1**2 * 18.0, rel=1e-3)


def test_what_ends_nowhere_is_no_pipe():
    """A ring closes on itself; it is a torus, and a bent one is left to free-form faces."""
    spine = lambda t: np.stack([9.0 * np.cos(t), 6.0 * np.sin(t), np.sin(2.0 * t)], axis=-1)  # noqa: E731
    points, _, _ = carried(spine, 0.0, 2.0 * np.pi, 0.9, 80, 12)
    ring = np.arange(79 * 12).reshape(79, 12)
    i = np.concatenate([ring, ring[:1]])
    j = np.roll(i, -1, axis=1)
    a, b, c, d = i[:-1].ravel(), j[:-1].ravel(), j[1:].ravel(), i[1:].ravel()
    corners = np.concatenate([np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1)])
    assert not pipes_among(points[: 79 * 12], corners, 0.05)


def test_copies_are_found_one_by_one():
    """Two cables side by side are two pipes."""
    (body,), _, _ = scattered(level, 2.0, 0.7, WAYS["fine"])
    points, corners, _ = body_mesh(body)
    beside = np.eye(4)
    beside[2, 3] = 5.0
    further, more, _ = body_mesh(moved(body, beside))
    found = pipes_among(np.concatenate([points, further]), np.concatenate([corners, more + len(points)]), 0.05)
    assert [pipe.radius for pipe in found] == pytest.approx([0.7, 0.7], rel=1e-5)
