"""Edges no longer than the tolerance of a file: points, before anybody works on them."""

import numpy as np
import pytest

import lithon
from lithon.arrange.boolean import combine
from lithon.brep.copies import copy_of, moved
from lithon.brep.measures import mass_properties
from lithon.brep.shells import closed
from lithon.brep.topology import Body, Model
from lithon.brep.validate import flaws
from lithon.geometry.frames import Frame
from lithon.samples.build import polyhedron, prism, rectangle

#: Of the model's tolerance: specks, and what is small but there.
SPECK, SMALL = 1.5, 40.0


def notched(speck: float) -> Body:
    """A block of 4 x 3 x 2 whose corner is two vertices that stand so far apart."""
    corners = np.array([
        [0, 0, 0], [4, 0, 0], [4, 3, 0], [0, 3, 0], [0, 0, 2], [4, 0, 2], [4, 3, 2], [0, 3, 2], [4, 3 - speck, 2],
    ])  # fmt: skip
    sides = [[3, 2, 1, 0], [4, 5, 8, 6, 7], [0, 1, 5, 4], [1, 2, 6, 8, 5], [2, 3, 7, 6], [3, 0, 4, 7]]
    return polyhedron(corners, sides, "notched")


def stepped(speck: float) -> Body:
    """A block of 4 x 3 x 2 with a step of such a height across its lower side: a strip between two specks."""
    x, y = [0, 2, 2, 4, 4, 0], [0, 0, speck, speck, 3, 3]
    low, high = (np.stack([x, y, np.full(6, z)], axis=1) for z in (0.0, 2.0))
    around = [[k, (k + 1) % 6, 6 + (k + 1) % 6, 6 + k] for k in range(6)]
    return polyhedron(np.concatenate([low, high]), [[5, 4, 3, 2, 1, 0], [6, 7, 8, 9, 10, 11], *around], "stepped")


def read(*bodies: Body) -> tuple[Model, list[str]]:
    arrival = lithon.parse_step(lithon.step_text(Model.of(bodies), "part"))
    return arrival.model, arrival.notes


@pytest.mark.parametrize(("made", "faces"), [(notched, 6), (stepped, 7)])
def test_an_edge_shorter_than_the_tolerance_becomes_a_point(made, faces) -> None:
    tolerance = Model.of([made(0.1)]).tolerance
    model, notes = read(made(SPECK * tolerance))
    (body,) = model.bodies
    assert min(edge.length for edge in body.edges()) > 1.0
    assert len(body.faces) == faces
    assert closed(body)
    assert not flaws(body, model.tolerance)
    assert mass_properties(body).volume == pytest.approx(24.0, abs=30.0 * tolerance)
    assert sum("shorter than the tolerance" in note for note in notes) == 1
    # What unites finds the same corner on both sides.
    lump = prism(rectangle(3, 2, 5, 4), 3.0, Frame.of((0, 0, 1), (0, 0, 1), (1, 0, 0)))
    (out,) = combine(body, lump, "union", model.tolerance)
    assert not flaws(out, model.tolerance)
    assert mass_properties(out).volume == pytest.approx(24.0 + 12.0 - 1.0, abs=60.0 * tolerance)


def test_what_is_longer_than_the_tolerance_stays() -> None:
    tolerance = Model.of([notched(0.1)]).tolerance
    model, notes = read(notched(SMALL * tolerance))
    assert min(edge.length for edge in model.bodies[0].edges()) == pytest.approx(SMALL * tolerance, rel=1e-3)
    assert not any("shorter" in note for note in notes)


def test_copies_lose_their_specks_too() -> None:
    body = notched(SPECK * Model.of([notched(0.1)]).tolerance)
    away = moved(body, np.array([[1, 0, 0, 10], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]]))
    model, _ = read(body, away)
    assert len(model.bodies) == 2
    assert any(copy_of(b) is not None for b in model.bodies)
    for b in model.bodies:
        assert min(edge.length for edge in b.edges()) > 1.0
        assert not flaws(b, model.tolerance)
    low = sorted(float(min(v.point[0] for v in b.vertices())) for b in model.bodies)
    np.testing.assert_allclose(low, [0.0, 10.0], atol=1e-5)
