"""The jobs, each from its file to its end: every number holds, and the recipe gives the same."""

import numpy as np
import pytest

from lithon.brep.copies import root_of
from lithon.brep.measures import area, face_width, volume
from lithon.brep.validate import flaws
from lithon.jobs.job import Check, play
from lithon.jobs.pages import pages, read
from lithon.jobs.table import JOBS
from lithon.samples.cover_plate import COVER, cover_plate
from lithon.samples.gate_vane import VANE, gate_vane
from lithon.samples.gear_cover import GEAR_COVER, gear_cover
from lithon.samples.job_parts import DRIVE, LEVER, latch_lever, paddle_drive
from lithon.samples.lining_ring import RING, lining_ring
from lithon.samples.sheet_parts import BEAM, JOINT, culvert_joint, lock_beam
from lithon.samples.sill_ramp import RAMP, sill_ramp
from lithon.samples.spoiled_anchor import SPOILED, spoiled_anchor
from lithon.samples.tie_rod import EYE, tie_rod_eye


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


@pytest.mark.slow
def test_the_parts_of_the_later_jobs_are_what_their_dimensions_say():
    joint = {b.name: b for b in culvert_joint().bodies}
    rings = {"spigot": (JOINT.bore, JOINT.spigot, JOINT.seat), "seal": (JOINT.spigot, JOINT.groove, 10.0)}
    for name, (inner, outer, height) in rings.items():
        assert volume(joint[name]) == pytest.approx(np.pi * (outer**2 - inner**2) * height, rel=1e-12)
    assert volume(joint["bell"]) == pytest.approx(JOINT.bell_volume, rel=1e-12)
    (beam,) = lock_beam().bodies
    assert volume(beam) == pytest.approx(BEAM.volume, rel=1e-12)
    eye, rod = tie_rod_eye().bodies
    assert volume(rod) == pytest.approx(np.pi * EYE.rod**2 * (EYE.rod_to - EYE.rod_from), rel=1e-12)
    grooves = [f for f in eye.faces if f.surface.kind == "cone"]
    assert len(grooves) == 2 * EYE.grooves
    plate, lid, rib = cover_plate().bodies
    assert volume(plate) == pytest.approx(COVER.volume, rel=1e-12) and area(lid) == pytest.approx(
        COVER.lid_area, rel=1e-12
    )
    # The rib's walls by the trapezoid rule over each of its slopes, exact for planes; its flat cuts what lies below.
    x, y = (np.linspace(-1.0, 1.0, 601)[:-1] + 1.0 / 600.0) * np.array(COVER.rib)[:, None]
    (m, k), e = COVER.fall, COVER.twist
    a, b = e + m * x[:, None] - k * y, m * x[:, None] + k * y
    c, d = e - m * x[:, None] + k * y, -m * x[:, None] - k * y
    low, high = np.maximum(np.minimum(a, b), np.minimum(c, d)), np.minimum(np.maximum(b, c), np.maximum(a, d))
    top = np.maximum(low, np.minimum(high, COVER.flat))
    assert volume(rib) == pytest.approx(4.0 * np.prod(COVER.rib) * (top.mean() - COVER.floor), rel=1e-4)
    cover, *held = gear_cover().bodies
    assert len({root_of(b) for b in held}) == 2 and len(held) == 8  # each stored once
    g = GEAR_COVER
    assert volume(held[-1]) == pytest.approx(g.nut_volume, rel=1e-12)
    holes = np.pi * (12 * g.vent**2 + 4 * g.bolt**2) * g.thickness
    block = g.length * g.width * g.thickness - g.pockets * float(np.prod(g.pocket))
    assert volume(cover) == pytest.approx(block - holes + g.marks_volume, rel=1e-12)
    anchor, *small = spoiled_anchor().bodies
    assert sum(map(volume, small)) == pytest.approx(3.0 * SPOILED.bolt_volume, rel=1e-12)
    widths = sorted(face_width(f) for f in anchor.faces)
    assert widths[:2] == pytest.approx([0.03, 0.04], rel=2e-2) and widths[2] > 0.2
    shortest = sorted(e.length for e in anchor.edges())
    assert sum(abs(x - SPOILED.nick) < 1e-9 for x in shortest) == 3
    (vane,), (ramp,) = gate_vane(spoiled=False).bodies, sill_ramp(torn=False).bodies
    assert volume(vane) == pytest.approx(VANE.volume, rel=1e-12)
    assert volume(ramp) == pytest.approx(RAMP.volume, rel=1e-12)
    *staves, _, _ = lining_ring().bodies
    assert volume(staves[5]) == pytest.approx(RING.volume(5), rel=1e-12)
    assert all(volume(b) < RING.volume(k) for k, b in enumerate(staves[:3]))
    for body in (vane, ramp, staves[0], staves[1], staves[2], staves[3]):
        assert not flaws(body, 1e-5), body.name
    for body in (*joint.values(), beam, eye, rod, plate, rib, cover, *held, anchor, *small):
        assert not flaws(body, 1e-6), body.name


def test_every_job_has_a_page_with_steps_and_every_page_a_job():
    from pathlib import Path

    numbers = {job.ident.rstrip("b") for job in JOBS}
    assert {p.ident for p in pages()} == numbers == {f"J{k:02}" for k in range(1, 17)}
    titles = {job.ident: job.title for job in JOBS}
    for page in pages():
        assert page.title == titles[page.ident] and page.lead and len(page.steps) >= 3
        assert all(step and not step[0].isspace() and "\n" not in step for step in page.steps)
    table = (Path(__file__).parent.parent / "docs/jobs/README.md").read_text("utf-8")
    assert all(f"[{n}]({n}.md)" in table for n in numbers)
    with pytest.raises(ValueError, match="begins with"):
        read("nothing\n\n1. a step")
