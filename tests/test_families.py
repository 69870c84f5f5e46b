"""Slots, ribs, words, threads and teeth: found where they were made, as many as were made, and nowhere else."""

from itertools import pairwise

import numpy as np
import pytest
from solids import motion as any_motion

from lithon import do
from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.geometry.frames import Frame
from lithon.operations.questions import ask
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.samples import SAMPLES
from lithon.samples.build import Piece, Round, face_toward, prism, raised, rectangle, sink
from lithon.samples.gear_cover import GEAR_COVER, gear_cover
from lithon.samples.sheet_parts import BEAM, lock_beam
from lithon.samples.tie_rod import EYE, tie_rod_eye
from lithon.survey.families import FAMILIES, families

UP = Frame.of((0, 0, 10), (0, 0, 1), (1, 0, 0))


def block():
    return prism(rectangle(0, 0, 100, 60), 10.0)


def obround(x, y, long, wide):
    """Two straight sides and two half circles."""
    r = 0.5 * wide
    a, b = x + r, x + long - r
    return [Piece((a, y)), Piece((b, y), (b, y + r)), Piece((b, y + wide)), Piece((a, y + wide), (a, y + r))]


def cut(body, profile, depth):
    return sink(body, face_toward(body, (0, 0, 1)), UP, profile, depth)


def put(body, profile, height):
    top = max((f for f in body.faces if abs(f.surface.frame.origin[2] - 10.0) < 1e-9 and len(f.loops) > 0
               and abs(f.surface.frame.z[2]) > 0.9), key=lambda f: len(f.loops))  # fmt: skip
    return raised(body, top, UP, profile, height)


def sizes(body, kind):
    return sorted((round(f.size, 6), round(f.depth, 6)) for f in families(body, kind))


@pytest.mark.parametrize("turn", [None, 3])
def test_slots_and_ribs_are_told_from_pockets_and_bosses(turn):
    body = block()
    for profile, depth in ((rectangle(5, 5, 25, 20), 3.0), (rectangle(5, 30, 45, 38), 2.0)):
        body = cut(body, profile, depth)
    body = put(body, rectangle(55, 5, 95, 9), 8.0)
    body = put(body, rectangle(60, 30, 80, 50), 5.0)
    if turn is not None:
        body = moved(body, any_motion(np.random.default_rng(turn)))
    assert sizes(body, "slot") == [(8.0, 2.0)]  # the other pocket is no three times as long as wide
    assert sizes(body, "rib") == [(4.0, 8.0)]
    assert not any(families(body, kind) for kind in ("word", "thread", "teeth"))


def test_words_are_letters_beside_each_other():
    body = block()
    letters = [(5.0, 6.0), (10.0, 6.0), (15.0, 6.0), (60.0, 6.0), (65.0, 6.0), (30.0, 40.0)]
    for x, y in letters:
        body = put(body, rectangle(x, y, x + 3.0, y + 6.0), 0.5)
    body = put(body, rectangle(80.0, 40.0, 90.0, 50.0), 4.0)  # as high as none of them
    found = families(body, "word")
    assert sorted(len(f.faces) for f in found) == [10, 15]
    state = State(Model.of([body]), settings=Settings(4.0))
    assert len(ask(state.model, "words").faces) == 25 and ask(state.model, "words").items == 2
    out = run(state, do.clear("words")).model
    assert volume(body) - volume(out.bodies[0]) == pytest.approx(5 * 3.0 * 6.0 * 0.5, rel=1e-9)


def test_teeth_stand_evenly_around():
    def ring(count, missing=()):
        body = prism(Round((0, 0), 30.0), 10.0)
        for k in set(range(count)) - set(missing):
            way = 2.0 * np.pi * k / count
            at = Frame.of((20.0 * np.cos(way), 20.0 * np.sin(way), 10.0), (0, 0, 1), (np.cos(way), np.sin(way), 0))
            top = max(
                (f for f in body.faces if abs(f.surface.frame.origin[2] - 10.0) < 1e-9), key=lambda f: len(f.loops)
            )
            body = raised(body, top, at, rectangle(-4.0, -1.0, 4.0, 1.0), 3.0)
        return body

    (teeth,) = families(ring(9), "teeth")
    assert len(teeth.faces) == 9 * 5 and teeth.depth == pytest.approx(3.0)
    assert not families(ring(9, missing=(4,)), "teeth") and not families(ring(5), "teeth")


def test_the_samples_have_what_was_made_into_them():
    cover, beam, eye = gear_cover().bodies[0], lock_beam().bodies[0], tie_rod_eye().bodies[0]
    (word,) = families(cover, "word")
    assert len(word.faces) == GEAR_COVER.mark_faces and word.depth == pytest.approx(GEAR_COVER.mark) and word.convex
    (slot,) = families(beam, "slot")
    assert slot.size == pytest.approx(BEAM.slot[1]) and slot.depth == pytest.approx(BEAM.web)
    (number,) = families(beam, "word")
    assert not number.convex and number.depth == pytest.approx(BEAM.stamp)
    (thread,) = families(eye, "thread")
    assert not thread.convex and "inner thread" in thread.words()
    state = State(tie_rod_eye(), settings=Settings(4.0))
    out = run(state, do.clear("threads")).model
    filled = sum(map(volume, out.bodies)) - sum(map(volume, state.model.bodies))
    assert filled == pytest.approx(EYE.grooves * EYE.groove_volume, rel=1e-6)


def test_each_face_of_a_family_is_a_face_of_its_body_and_told_once():
    for _, _, make, _ in SAMPLES:
        for body in make().bodies[:3]:
            for kind in FAMILIES:
                found = families(body, kind)
                every = [face for f in found for face in f.faces]
                assert len(every) == len(set(every)) and set(every) <= set(body.faces)
                assert all(a.kind == b.kind == kind for a, b in pairwise(found))
