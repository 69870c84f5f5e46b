"""The jobs, each from its file to its end: every number holds, and the recipe gives the same."""

import numpy as np
import pytest

from lithon.brep.measures import volume
from lithon.brep.validate import flaws
from lithon.jobs.job import Check, play
from lithon.jobs.table import JOBS
from lithon.samples.job_parts import DRIVE, LEVER, latch_lever, paddle_drive


@pytest.mark.slow
@pytest.mark.parametrize("job", JOBS, ids=lambda job: job.ident)
def test_it_plays_and_every_number_holds(job):
    done = play(job)
    wrong = [(c.what, c.got, c.wanted) for c in done.checks if not c.holds]
    assert not wrong and len(done.checks) >= 4 * len(job.lines) and done.steps >= len(job.lines)


def test_a_check_can_fail():
    assert Check("x", 1.0, 1.0 + 1e-12).holds and not Check("x", 1.0, 1.0 + 1e-6).holds
    assert Check("x", 1e-10, 0.0).holds and not Check("x", 1e-6, 0.0).holds
    assert not Check("x", float("nan"), 0.0).holds and Check("x", 1.001, 1.0, 1e-2).holds


def test_the_parts_are_what_their_dimensions_say():
    drive = paddle_drive()
    assert not [f for b in drive.bodies for f in flaws(b, drive.tolerance)]
    spindle, *bushes = drive.bodies
    assert volume(spindle) == pytest.approx(DRIVE.turned_volume + DRIVE.teeth_volume, rel=1e-12)
    rings = [(DRIVE.root + 0.2, 22.0, 20.0), (DRIVE.long_radius + 0.2, 30.0, 30.0)]
    for bush, (inner, outer, height) in zip(bushes, rings, strict=True):
        assert volume(bush) == pytest.approx(np.pi * (outer**2 - inner**2) * height, rel=1e-12)
    (lever,) = latch_lever().bodies
    assert volume(lever) == pytest.approx(LEVER.volume, rel=1e-12) and len(lever.faces) == 7
