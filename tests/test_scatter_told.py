"""How far corners scatter, told of parts that bend, of parts that are all creases, and of what is exact."""

import sys
from collections import Counter
from pathlib import Path

import numpy as np
import pytest
from everyday import at, chain_link, heat_sink, hex_nut
from solids import motion
from test_shapeless_bodies import capped, rings, waist

from lithon.brep.copies import moved
from lithon.brep.faceted import soup_of, welded
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.mend.noise import noise_of
from lithon.operations.mend.solid import SolidFromTriangles
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples import cast_anchor, collar_anchor, paddle_frame
from lithon.samples.build import Piece, Round, prism, revolved

sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))
from returns import divided


def ball():
    return revolved([Piece((0.0, -10.0), (0.0, 0.0)), Piece((0.0, 10.0))], at((0.0, 0.0, 0.0)))


def comb():
    """Of which most corners are on an edge."""
    teeth = [(x + dx, y) for x in range(0, 30, 2) for dx, y in ((0.0, 1.0), (0.0, 2.0), (1.0, 2.0), (1.0, 1.0))]
    return prism([Piece(p) for p in reversed([(0.0, 0.0), *teeth, (29.0, 0.0)])], 1.5)


def triangles_of(body, fineness, scatter, seed):
    soup = soup_of(divided(body, fineness, scatter, seed))
    points, corners = welded(soup.points, soup.corners)
    return (
        points,
        corners,
        float(np.median(np.linalg.norm(points[corners] - np.roll(points[corners], 1, axis=1), axis=2))),
    )


PARTS = {
    "ball": (ball, 40), "bar": (lambda: prism(Round((0.0, 0.0), 3.0), 40.0), 40), "sink": (heat_sink, 40),
    "nut": (hex_nut, 40), "comb": (comb, 24), "anchor": (lambda: cast_anchor().bodies[0], 30),
    "collar": (lambda: collar_anchor().bodies[0], 20), "frame": (lambda: paddle_frame().bodies[0], 40),
}  # fmt: skip


@pytest.mark.parametrize("name", PARTS)
def test_scatter_is_told_whatever_the_part(name):
    """Against the dice, from a hundredth of a side to a third of it; of a comb to a tenth."""
    make, fineness = PARTS[name]
    exact, corners, side = triangles_of(make(), fineness, 0.0, 0)
    for seed, scatter in enumerate((0.01, 0.02, 0.05, 0.1, 0.2, 0.33)[: 4 if name == "comb" else 6]):
        true = scatter * side / np.sqrt(3.0)
        points = exact + np.random.default_rng(seed).normal(0.0, true, exact.shape)
        assert noise_of(points, corners) == pytest.approx(true, rel=0.5 if name == "comb" else 0.35)


@pytest.mark.parametrize("name", ["ball", "sink", "nut", "anchor"])
@pytest.mark.parametrize("fineness", [0, 20, 60])
def test_what_is_exact_does_not_scatter(name, fineness):
    """However coarse, and wherever it lies: numbers of files have seven digits."""
    for seed in range(2):
        points, corners, _ = triangles_of(moved(PARTS[name][0](), motion(seed)), fineness, 0.0, 0)
        assert noise_of(points, corners) == 0.0
    for radius in (waist, capped):
        points, corners = rings(24 + fineness // 4, radius)
        assert noise_of(points.astype(np.float32).astype(float), corners) == 0.0


@pytest.mark.parametrize("fineness,scatter", [(0, 0.0), (40, 0.0), (40, 0.02)])
@pytest.mark.parametrize("make,kinds", [(heat_sink, {"plane": 48, "cylinder": 2}),
                                        (hex_nut, {"plane": 8, "cylinder": 1, "cone": 14})])  # fmt: skip
def test_each_face_comes_back_by_its_kind(make, kinds, fineness, scatter):
    """Long triangles from end to end, and corners of a nut that have a few triangles each of one cone. Where it
    scatters these are flats."""
    body = moved(make(), motion(5))
    soup = divided(body, fineness, scatter, 1)
    model = run(State(Model.of([soup])), SolidFromTriangles(soup, kind="simple")).model
    (made,) = model.bodies
    got = Counter(f.surface.kind for f in made.faces)
    assert not flaws(made, model.tolerance) and volume(made) == pytest.approx(volume(body), rel=1e-3)
    if make is heat_sink:
        assert got.pop("plane") == sum(f.surface.kind == "plane" for f in body.faces) and got == {"cylinder": 2}
    else:
        assert sum(got.values()) == sum(kinds.values()) and (scatter or got == kinds)


@pytest.mark.parametrize("scatter", [0.0, 0.02])
def test_a_link_of_rod_is_bends_and_straight_stretches(scatter):
    """Where a bend leaves a straight stretch sideways the two are one for far longer than across."""
    body, true = chain_link()
    assert volume(body) == pytest.approx(true, rel=1e-9)
    soup = divided(moved(body, motion(5)), 40, scatter, 0)
    model = run(State(Model.of([soup])), SolidFromTriangles(soup, kind="simple")).model
    (made,) = model.bodies
    assert Counter(f.surface.kind for f in made.faces) == {"torus": 2, "cylinder": 2}
    assert not flaws(made, model.tolerance) and volume(made) == pytest.approx(true, rel=1e-3)
    for face in made.faces:
        radius = face.surface.minor if face.surface.kind == "torus" else face.surface.radius
        assert radius == pytest.approx(2.0, rel=1e-3)
