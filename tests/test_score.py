"""Lines scored on faces: areas on both sides, nothing else moved, and bands beside edges."""

import numpy as np
import pytest
from blocks import box, hole, plate
from dice import seeds
from operation_examples import edge_along
from solids import motion as any_motion

from lithon import do
from lithon.brep.area import area_of
from lithon.brep.copies import moved
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.carve.score import scored
from lithon.errors import Refusal
from lithon.geometry.surfaces import Plane
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples.build import Round, face_toward, prism

NEAR = 1e-6


@pytest.mark.parametrize("seed", seeds(6))
def test_a_plane_across_a_pin(seed):
    """Its wall and ends are parted; areas by the closed forms of a segment."""
    rng = np.random.default_rng(seed)
    r, h = rng.uniform(2, 6), rng.uniform(4, 9)
    away = float(rng.uniform(-0.8, 0.8)) * r
    motion = any_motion(seed)
    pin = moved(prism(Round((0.0, 0.0), r), h), motion)
    normal = motion[:3, :3] @ [1.0, 0.0, 0.0]
    plane = Plane.of(motion[:3, :3] @ [away, 0.0, 0.0] + motion[:3, 3], normal)
    made = scored(pin, plane, NEAR)
    assert not flaws(made, NEAR) and volume(made) == pytest.approx(volume(pin), rel=1e-12)
    half = np.arccos(away / r)
    segment = r**2 * (half - np.sin(half) * np.cos(half))
    ends = sorted(face_area(f) for f in made.faces if f.surface.kind == "plane")
    assert ends == pytest.approx(sorted([segment, segment, np.pi * r**2 - segment, np.pi * r**2 - segment]), rel=1e-9)
    walls = sorted(face_area(f) for f in made.faces if f.surface.kind == "cylinder")
    assert walls == pytest.approx(sorted([2 * half * r * h, (2 * np.pi - 2 * half) * r * h]), rel=1e-9)


def test_half_of_a_bore_for_the_pin_that_presses_it():
    """Only the bore is parted; its rims have vertices now, and the plate's faces go on as they were."""
    model = plate()
    (bore,) = hole(model, 4.0)
    out = run(State(model), do.score(do.Cut.at((8, 0, 0), (1, 0, 0)), bore))
    made = out.model.bodies[0]
    halves = [f for f in made.faces if getattr(f.surface, "radius", 0.0) == 2.0]
    assert [face_area(f) for f in halves] == pytest.approx([np.pi * 2 * 8.0] * 2, rel=1e-12)
    assert len(made.faces) == len(model.bodies[0].faces) + 1 and not flaws(made, NEAR)
    named = run(out.state, do.name(halves[0], "pressed"))
    assert sum(f.label == "pressed" for f in named.model.faces()) == 1
    back = run(out.state, do.merge(halves))
    assert len(back.model.bodies[0].faces) == len(model.bodies[0].faces)


def test_a_band_beside_an_edge():
    """A cylinder about an edge parts what lies nearer to it than its radius: an offset of the edge."""
    from operation_examples import HERE

    model = plate()
    edge = edge_along(model, HERE)
    out = run(State(model), do.score(do.Cut.round(edge, 2.0), list(model.bodies[1].faces)))
    block = out.model.bodies[1]
    bands = sorted(face_area(f) for f in block.faces if area_of(f) and face_area(f) == pytest.approx(20.0, rel=1e-9))
    assert len(bands) == 2  # on the top and on the side, 2 x 10 each
    quarters = [f for f in block.faces if face_area(f) == pytest.approx(np.pi, rel=1e-9)]
    assert len(quarters) == 2 and not flaws(block, NEAR)
    assert out.model.bodies[0] is model.bodies[0]


@pytest.mark.parametrize("turn", [0.0, 0.3])
def test_points_where_a_round_face_was_cut_open_are_inside_it(turn):
    """A full cylinder is rolled out by a cut that is no border of it, wherever its frame begins."""
    motion = np.eye(4)
    motion[:2, :2] = [[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]]
    pin = moved(prism(Round((0.0, 0.0), 5.0), 10.0), motion)
    (wall,) = [f for f in pin.faces if f.surface.kind == "cylinder"]
    frame = wall.surface.frame
    angles = np.concatenate([np.linspace(0, 2 * np.pi, 9), [1e-17, -1e-17, np.pi, -np.pi]])
    points = frame.world(np.column_stack([5 * np.cos(angles), 5 * np.sin(angles), np.full(len(angles), 4.0)]))
    assert (area_of(wall).side(points, 1e-6) == 1).all()


def test_what_it_does_not_pass_is_refused():
    block = box(0, 0, 5, 5, 0, 5, "b")
    with pytest.raises(Refusal, match="parts none"):
        scored(block, Plane.of((9, 0, 0), (1, 0, 0)), NEAR)
    with pytest.raises(Refusal, match="parts none"):
        scored(block, Plane.of((2, 0, 0), (1, 0, 0)), NEAR, [face_toward(block, (1, 0, 0))])
    with pytest.raises(Refusal):
        run(State(Model.of([block])), do.score("x = 99"))
