"""What things cost: against the forecasts with and without them, and against meshes."""

import numpy as np
import pytest
from dice import seeds

import lithon
from lithon.brep.topology import Model
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.mesh.sizing import SizeRules, size_field
from lithon.samples.build import Round, face_toward, prism, rectangle, sink
from lithon.survey.costs import Costs, costs
from lithon.survey.features import features
from lithon.survey.findings import findings
from lithon.survey.forecast import forecast
from lithon.trim.clear import clear

UP = (0.0, 0.0, 1.0)


def drilled(seed):
    """A block with small holes, some of them close together."""
    rng = np.random.default_rng(seed)
    block = prism(rectangle(0.0, 0.0, 60.0, 40.0), 12.0)
    top = Frame.of((0.0, 0.0, 12.0), UP, (1.0, 0.0, 0.0))
    for x, y in ((12.0, 10.0), (16.0, 10.0 + rng.uniform(0.0, 2.0)), (40.0, 25.0)):
        hole = Round((x, y), float(rng.uniform(0.5, 0.9)))
        block = sink(block, face_toward(block, UP), top, hole, 12.0, face_toward(block, (0.0, 0.0, -1.0)))
    return Model.of([block])


@pytest.mark.parametrize("seed", seeds(4))
def test_a_hole_costs_what_clearing_it_saves(seed):
    model, size = drilled(seed), 5.0
    price = Costs(costs(model, size))
    before = forecast(model, size).elements
    cards = [c for c in findings(model, size) if c.kind == "small hole"]
    assert len(cards) == 3
    for card in cards:
        (best, *_) = clear(model.bodies[0], card.faces, model.tolerance)
        saved = before - forecast(Model((best.body,), model.tolerance), size).elements
        assert price.of(card) == pytest.approx(saved, rel=0.06, abs=60.0)


def test_a_hole_costs_what_the_mesh_without_it_lacks():
    model, size = drilled(1), 5.0
    (feature, *_) = [f for f in features(model.bodies[0]) if f.place[0] > 30.0]
    (card,) = [c for c in findings(model, size) if set(c.faces) == set(feature.faces)]
    (best, *_) = clear(model.bodies[0], card.faces, model.tolerance)
    made = [
        len(lithon.tetrahedral_mesh(m, SizeRules(size)).elements) for m in (model, Model((best.body,), model.tolerance))
    ]
    assert Costs(costs(model, size)).of(card) == pytest.approx(made[0] - made[1], rel=0.2)


def test_the_samples_cost_no_more_than_they_have(anchor):
    price = Costs(costs(anchor, 4.0))
    cards = findings(anchor, 4.0)
    whole = forecast(anchor, 4.0).elements
    assert 0.3 * whole < price.total < whole
    assert all(0.0 <= price.of(c) < price.total for c in cards)
    # Four like fillets cost alike, and the most demanding things are all on cards.
    alike = [price.of(c) for c in cards if c.kind == "small fillet" and "radius 1.5 mm, 42 mm" in c.text]
    assert len(alike) == 4 and max(alike) < 1.1 * min(alike)
    told = {f for c in cards for f in c.faces}
    dear = [c for c in costs(anchor, 4.0) if c.elements > 0.02 * price.total]
    assert len(dear) > 5 and all(set(c.faces) & told for c in dear)


def test_the_field_without_a_group_is_the_field_of_the_others():
    """Against fields made from the other sources alone."""
    model = drilled(2)
    field = size_field(model.bodies, SizeRules(5.0))
    rng = np.random.default_rng(0)
    points = rng.uniform((0.0, 0.0, 0.0), (60.0, 40.0, 12.0), (500, 3))
    groups = np.arange(len(field.makers)) % 5
    ruling, sizes, without = field.with_and_without(points, groups)
    assert np.allclose(sizes, field.at(points), rtol=0.0101)
    assert (without >= sizes / 1.0101).all() and (without[ruling < 0] == sizes[ruling < 0]).all()
    of_source = groups[field._made_by]
    for k in range(5):
        at = points[ruling == k]
        others = field._tree.boxes.corners[:, 0][of_source[field._tree.boxes.order] != k]
        asked = field._tree.sizes[of_source[field._tree.boxes.order] != k]
        true = np.minimum((asked + 0.35 * np.linalg.norm(at[:, None] - others, axis=2)).min(axis=1), 5.0)
        assert np.allclose(without[ruling == k], true, rtol=0.0101)


def test_a_plain_block_costs_nothing_but_itself():
    model = Model.of([prism(rectangle(0.0, 0.0, 30.0, 20.0), 10.0)])
    assert costs(model, 4.0) == []
    assert forecast(model, 4.0).elements == pytest.approx(
        len(lithon.tetrahedral_mesh(model, SizeRules(4.0)).elements), rel=0.2
    )


def test_what_cannot_be_drawn_has_no_forecast_but_a_survey(monkeypatch):
    from lithon.survey import report

    def refused(*_):
        raise Refusal("a face cannot be drawn")

    monkeypatch.setattr(report, "forecast", refused)
    facts = lithon.survey_of(drilled(0), 5.0)
    assert facts["forecast"] is None and {f["elements"] for f in facts["findings"]} == {0}
