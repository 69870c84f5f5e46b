"""What is worked out once: found again, carried to copies, counted, emptied, and never held alive."""

import gc

import numpy as np
import pytest
from blocks import box, plate
from solids import motion as any_motion

from lithon.brep.copies import moved
from lithon.brep.measures import mass_properties, volume
from lithon.brep.validate import flaws
from lithon.remembered import Remembered, counted, forget
from lithon.survey.features import features


class Thing:
    def __init__(self, body=None):
        self.body = body


def test_it_is_found_once_and_only_once():
    memory: Remembered = Remembered("tests:once")
    asked = []

    def find(thing):
        asked.append(thing)
        return len(asked)

    one, two = Thing(), Thing()
    assert [memory.of(one, find), memory.of(one, find), memory.of(two, find)] == [1, 1, 2] and len(asked) == 2
    assert counted()["tests:once"] == 2
    del asked[:], two
    gc.collect()
    assert counted()["tests:once"] == 1  # what nobody holds is forgotten
    with pytest.raises(ValueError, match="two memories"):
        Remembered("tests:once")


def test_copies_get_it_from_what_they_are_copies_of():
    memory: Remembered = Remembered("tests:copies")
    root = Thing()
    first, second = Thing(root), Thing(root)
    found = []

    def find(thing):
        found.append(thing)
        return 10

    def copied(thing):
        return thing if thing.body is not None else None

    for thing in (first, second, root):
        assert memory.over(thing, copied, find, lambda copy, there: there + 1) == (11 if thing.body else 10)
    assert found == [root]


def test_what_is_known_of_a_body_is_known_of_its_copies():
    body = plate().bodies[0]
    there = moved(body, any_motion(5))
    one, two = mass_properties(body), mass_properties(there)
    assert two.volume == one.volume and two.area == one.area
    turn = any_motion(5)
    assert two.centroid == pytest.approx(turn[:3, :3] @ one.centroid + turn[:3, 3])
    assert np.linalg.eigvalsh(two.inertia) == pytest.approx(np.linalg.eigvalsh(one.inertia))
    assert [f.words() for f in features(there)] == [f.words() for f in features(body)]


def test_emptied_it_is_all_found_again():
    body = box(0, 0, 3, 4, 0, 5, "b")
    assert volume(body) == pytest.approx(60.0) and not flaws(body, 1e-6) and counted()["brep/measures:masses"] >= 1
    forget()
    assert not any(counted().values())
    assert volume(body) == pytest.approx(60.0) and not flaws(body, 1e-6)
    assert [len(features(b)) for b in plate().bodies] == [6, 0]


def test_what_is_compiled_is_no_part_of_a_budget():
    from numba import njit

    from lithon.compiling import seconds
    from lithon.errors import Spent
    from lithon.progress import Progress

    def heavy(x):
        total = 0.0
        for i in range(x):
            total += np.sin(i) * np.cos(i)
        return total

    before, progress = seconds(), Progress(budget=0.05)
    njit(heavy)(3)  # far longer to compile than the budget
    assert seconds() - before > 0.06
    progress.pulse()
    with pytest.raises(Spent):
        for _ in range(10**7):
            progress.pulse()
