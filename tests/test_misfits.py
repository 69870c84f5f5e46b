"""Solids as other systems put them together: features that miss each other by thousandths, touch or run out in tips.

Whatever comes of it, a mesh by default is whole, joined up and good but for a handful of elements, which are named, and
what it gave up is told; with the cures that are offered taken it is so, too.
"""

import numpy as np
import pytest
from dice import LONG, seeds
from solids import motion

import lithon
from lithon import do
from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.mesh.partly import what_can
from lithon.mesh.sizing import SizeRules
from lithon.mesh.verdict import verdict
from lithon.operations.cures import cured
from lithon.operations.prove.mesh import MakeMesh
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.samples.build import Piece, Round, prism, rectangle

PLATE, SIZE, IGNORE = (60.0, 40.0, 6.0), 3.0, 0.3
#: No more of the elements (share) are poor, where a rim sticks out by a trace, and then it is said where.
FEW = 0.005
#: The places of features on the plate: corners (x0, y0) of fields twenty wide.
FIELDS = [(20.0 * i, 20.0 * j) for i in range(3) for j in range(2)]


def on_top(outline, tall, low=PLATE[2]):
    up = np.eye(4)
    up[2, 3] = low
    return moved(prism(outline, tall), up)


def post_as_wide_as_the_rim(x, y, rng):
    """A round post whose side runs along the plate's own, or almost."""
    r = float(rng.uniform(3.0, 6.0))
    off = float(rng.choice([0.0, 1e-3, -1e-3, 8e-3]))
    beside = r + off if y == 0.0 else PLATE[1] - r - off
    return [on_top(Round((x + 10.0, beside), r), float(rng.uniform(3.0, 8.0)))]


def blocks_with_a_slot(x, y, rng):
    """Two blocks that all but touch."""
    wide = float(rng.choice([1e-3, 5e-3, 2e-2]))
    tall = float(rng.uniform(3.0, 6.0))
    at = float(rng.uniform(8.0, 12.0))
    one, two = (x + 3.0, x + at), (x + at + wide, x + 17.0)
    return [on_top(rectangle(a, y + 4.0, b, y + 16.0), tall) for a, b in (one, two)]


def blocks_of_two_heights(x, y, rng):
    """Two blocks side by side, one a trace higher."""
    tall, step = float(rng.uniform(3.0, 6.0)), float(rng.choice([1e-3, 4e-3, 2e-2]))
    at = float(rng.uniform(8.0, 12.0))
    return [on_top(rectangle(x + 3.0, y + 4.0, x + at, y + 16.0), tall),
            on_top(rectangle(x + at, y + 4.0, x + 17.0, y + 15.0), tall + step)]  # fmt: skip


def block_beside_a_post(x, y, rng):
    """A post that touches the side of a block along a line, or goes into it by a trace."""
    r, deep = float(rng.uniform(2.5, 4.0)), float(rng.choice([2e-3, 1e-2]))
    return [on_top(rectangle(x + 3.0, y + 3.0, x + 9.0, y + 17.0), 5.0),
            on_top(Round((x + 9.0 + r - deep, y + 10.0), r), 5.0)]  # fmt: skip


def wedge_in_a_row(x, y, rng):
    """A wedge that runs out flat on the plate."""
    angle = np.radians(float(rng.uniform(16.0, 30.0)))
    long = float(rng.uniform(8.0, 12.0))
    outline = [(x + 4.0, y + 6.0), (x + 4.0 + long, y + 6.0), (x + 4.0, y + 6.0 + long * np.tan(angle))]
    return [on_top([Piece(p) for p in outline], float(rng.uniform(3.0, 5.0)))]


FEATURES = [post_as_wide_as_the_rim, blocks_with_a_slot, blocks_of_two_heights, block_beside_a_post, wedge_in_a_row]


def put_together(seed):
    """A plate with a few of these on it, as one solid; where two of them cannot be made one it is told."""
    rng = np.random.default_rng(seed)
    body = prism(rectangle(0.0, 0.0, PLATE[0], PLATE[1]), PLATE[2], name="plate")
    total = volume(body)
    fields = rng.permutation(len(FIELDS))[: int(rng.integers(2, 5))]
    for k in fields.tolist():
        feature = FEATURES[int(rng.integers(len(FEATURES)))]
        for tool in feature(*FIELDS[k], rng):
            model = Model.of([body, tool])
            total += volume(tool)
            (body,) = run(State(model), do.unite([body], [tool])).model.bodies
    return moved(body, motion(seed)), total


@pytest.mark.parametrize("seed", seeds(40))
def test_whatever_is_put_together_by_thousandths_is_meshed(seed):
    body, total = put_together(seed)
    model = Model.of([body])
    assert not flaws(body, model.tolerance)
    assert volume(body) == pytest.approx(total, rel=2e-3)  # posts overlap a block, and hang over the rim, by a trace
    mesh = what_can(model, SizeRules(SIZE, ignore=IGNORE))
    assert not mesh.failures and mesh.kind == "tetrahedra" and mesh.conformal()
    told = verdict(mesh)
    assert (told.strict < FEW * len(mesh.elements) and told.where() != []) or told.good
    assert abs(mesh.volume_ratio - 1.0) < 0.02
    assert all(off <= SIZE for off in mesh.rounded.values())
    assert lithon.patch_test(mesh).passed


@pytest.mark.parametrize("seed", seeds(15, 2) if not LONG else range(100, 115))
def test_cures_of_what_was_put_together_leave_a_valid_solid_and_a_good_mesh(seed):
    """Every cure that is offered is taken, worst first; the solid stays one, sound, as large as it was but for traces,
    and no finer mesh is needed for what is left."""
    body, total = put_together(100 + seed)
    state = State(Model.of([body]), settings=Settings(SIZE, ignore=IGNORE))
    steps = []
    out = cured(state, 0.5 * SIZE, taken=lambda step: steps.append(step))
    state = steps[-1].state if steps else state
    (made,) = state.model.bodies
    assert not flaws(made, state.model.tolerance)
    assert volume(made) == pytest.approx(total, rel=5e-3)
    assert sum(tally["taken"] for tally in out.tally.values()) == sum(1 for _ in steps)
    before = run(State(Model.of([body]), settings=state.settings), MakeMesh()).mesh
    after = run(state, MakeMesh()).mesh
    assert not after.failures and after.conformal() and verdict(after).strict < FEW * len(after.elements)
    assert len(after.elements) < 1.3 * len(before.elements)


def test_what_cannot_be_made_one_is_refused_and_loses_nothing():
    """Two blocks whose corners alone touch are no solid together."""
    one, two = prism(rectangle(0, 0, 5, 5), 5.0), prism(rectangle(5, 5, 10, 10), 5.0)
    model = Model.of([one, two])
    with pytest.raises(Refusal, match="share no face"):
        run(State(model), do.unite([one], [two]))
    assert model.bodies == (one, two)
