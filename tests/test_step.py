"""STEP in and out: round trips, seams, units, sharing, and files that are broken."""

import random

import numpy as np
import pytest
from dice import examples

import lithon
from lithon.brep.measures import mass_properties, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import BadFile
from lithon.exchange.part21 import decode, encode
from lithon.exchange.step_write import save_atomically
from lithon.geometry.frames import Frame
from lithon.samples.build import Round, face_toward, prism, rectangle, sink


def facts(model: Model):
    out = []
    for body in model.bodies:
        mass = mass_properties(body)
        out.append((body.name, len(body.faces), len(body.edges()), len(body.vertices()), mass.volume, mass.area))
    return out


def same(a: Model, b: Model) -> None:
    for x, y in zip(facts(a), facts(b), strict=True):
        assert x[:4] == y[:4]
        assert x[4:] == pytest.approx(y[4:], rel=1e-9)
    assert len(a.shared()) == len(b.shared())
    assert len(a.edges()) == len(b.edges())


def test_what_is_written_reads_back_equal(anchor, prepared):
    for model in (anchor, prepared.model, *(e.outcome.model for e in prepared.entries)):
        arrival = lithon.parse_step(lithon.step_text(model, "part"))
        assert not arrival.notes
        same(model, arrival.model)
        assert not any(flaws(b, arrival.model.tolerance) for b in arrival.model.bodies)


def test_carved_at_a_slant_ellipses_survive(anchor_file):
    work = lithon.open(anchor_file)
    work.take(lithon.do.carve(lithon.do.Cut.at((0, 0, 30), (0.3, 0.1, 1.0))))
    assert any(e.curve.kind == "ellipse" for e in work.model.edges())
    same(work.model, lithon.parse_step(lithon.step_text(work.model)).model)


def test_seams_are_made_and_dropped():
    rod = prism(Round((0, 0), 4.0), 10.0, name="pin")
    text = lithon.step_text(Model.of([rod]), "pin")
    assert text.count("EDGE_CURVE(") == 3  # two rings and a seam
    (back,) = lithon.parse_step(text).model.bodies
    assert len(back.edges()) == 2 and all(e.ring for e in back.edges())


def test_units_are_honoured():
    text = lithon.step_text(Model.of([prism(rectangle(0, 0, 1, 2), 3.0)]))
    metres = text.replace(".MILLI.", "$")
    assert volume(lithon.parse_step(metres).model.bodies[0]) == pytest.approx(6e9)
    inch = text.replace(
        "(LENGTH_UNIT()NAMED_UNIT(*)SI_UNIT(.MILLI.,.METRE.))",
        "(CONVERSION_BASED_UNIT('INCH',#9001)LENGTH_UNIT()NAMED_UNIT(#9003))",
    ).replace(
        "ENDSEC;\nEND-ISO",
        "#9001=LENGTH_MEASURE_WITH_UNIT(LENGTH_MEASURE(25.4),#9002);\n"
        "#9002=(LENGTH_UNIT()NAMED_UNIT(*)SI_UNIT(.MILLI.,.METRE.));\n"
        "#9003=DIMENSIONAL_EXPONENTS(1.,0.,0.,0.,0.,0.,0.);\nENDSEC;\nEND-ISO",
    )
    assert volume(lithon.parse_step(inch).model.bodies[0]) == pytest.approx(6 * 25.4**3)


@pytest.mark.parametrize(
    ("stated", "believed"), [("2.E-3", True), ("1.E-6", False), ("-2.E-3", False), ("1.E400", False)]
)
def test_the_accuracy_that_a_file_states_explains_its_gaps(stated, believed):
    """A pin whose wall is a hundredth wider than its rings: as exact as the file says, or a finding; in any unit, and
    no word of it is believed that makes no sense. What has no gaps stays as exact as it is."""
    text = lithon.step_text(Model.of([prism(Round((0, 0), 4.0), 10.0, name="pin")]), "pin")
    before, after = text.split("UNCERTAINTY_MEASURE_WITH_UNIT(LENGTH_MEASURE(")
    said = f"{before}UNCERTAINTY_MEASURE_WITH_UNIT(LENGTH_MEASURE({stated}{after[after.index(')') :]}"
    exact = lithon.parse_step(said).model
    assert exact.tolerance == lithon.parse_step(text).model.tolerance
    at = said.index("CYLINDRICAL_SURFACE(")
    end = said.index(")", at)
    wide = said[:at] + said[at:end].rsplit(",", 1)[0] + ",4.01" + said[end:]
    for told, scale in ((wide, 1.0), (wide.replace(".MILLI.", ".CENTI."), 10.0)):
        arrival = lithon.parse_step(told)
        (pin,) = arrival.model.bodies
        assert volume(pin) == pytest.approx(np.pi * 16.0 * 10.0 * scale**3, rel=0.01)
        assert any("tolerance is loosened" in note for note in arrival.notes) == believed
        assert bool(flaws(pin, arrival.model.tolerance)) != believed


def test_names_with_every_letter():
    for text in ("Ösenplatte", "it's", "a\\b", "門", "plain"):
        assert decode(encode(text)[1:-1]) == text
    body = prism(rectangle(0, 0, 1, 1), 1.0, name="Ösen 'A'")
    assert lithon.parse_step(lithon.step_text(Model.of([body]))).model.bodies[0].name == "Ösen 'A'"
    assert decode("\\X\\C4\\S\\D") == "ÄÄ"


def test_other_ways_of_writing(anchor):
    """Comments, other spacing, scattered order, reversed edge senses and face bounds."""
    text = lithon.step_text(anchor, "part")
    head, _, rest = text.partition("DATA;\n")
    lines = rest.split("\n")
    end = lines.index("ENDSEC;")
    body, tail = lines[:end], lines[end:]
    random.Random(3).shuffle(body)
    scattered = head + "DATA;\n/* a comment; with a semicolon */\n" + "\n".join(x.replace("=", " =\n ") for x in body)
    same(anchor, lithon.parse_step(scattered + "\n" + "\n".join(tail)).model)


def test_a_full_wall_may_come_without_a_seam_or_in_halves():
    """Two bounds without a seam edge are read as they stand."""
    plate = prism(rectangle(0, 0, 10, 10), 4.0)
    up = Frame.of((0, 0, 4), (0, 0, 1), (1, 0, 0))
    body = sink(plate, face_toward(plate, (0, 0, 1)), up, Round((5, 5), 2.0), 4.0, face_toward(plate, (0, 0, -1)))
    text = lithon.step_text(Model.of([body]))
    lines = dict(line.rstrip(";").split("=", 1) for line in text.split("\n") if line.startswith("#"))
    wall = next(k for k, v in lines.items() if "ADVANCED_FACE" in v and "CYLINDRICAL" in lines[v.split(",")[-2]])
    bound = lines[wall].split("(")[2].split(")")[0]
    loop = lines[bound].split(",")[1]
    ring_a, _, ring_b, _ = lines[loop].split("((")[-1].split("(")[-1].rstrip(")").split(",")
    extra = [
        f"#8001=EDGE_LOOP('',({ring_a}))",
        f"#8002=EDGE_LOOP('',({ring_b}))",
        "#8003=FACE_BOUND('',#8001,.T.)",
        "#8004=FACE_BOUND('',#8002,.T.)",
    ]
    changed = text.replace(f"{wall}={lines[wall]}", f"{wall}={lines[wall].replace(bound, '#8003,#8004', 1)}")
    changed = changed.replace("ENDSEC;\nEND-ISO", ";\n".join(extra) + ";\nENDSEC;\nEND-ISO")
    (back,) = lithon.parse_step(changed).model.bodies
    assert volume(back) == pytest.approx(400 - 16 * np.pi)
    assert not flaws(back, 1e-6)


BROKEN = {
    "empty": lambda t: "",
    "no step": lambda t: "solid cube\nfacet normal 0 0 1\n",
    "cut off": lambda t: t[: len(t) // 2],
    "no solid": lambda t: t.replace("MANIFOLD_SOLID_BREP", "SOMETHING_ELSE"),
}

WOUNDED = {
    "missing entity": lambda t: t.replace("\n#40=", "\n#90040=", 1),
    "self-reference": lambda t: t.replace("CLOSED_SHELL('',(", "CLOSED_SHELL('',(#1,", 1),
    "not a number": lambda t: t.replace("CARTESIAN_POINT('',(", "CARTESIAN_POINT('',('x',", 1),
    "absurd": lambda t: t.replace("CYLINDRICAL_SURFACE('',#", "CYLINDRICAL_SURFACE('',-#", 1),
    "huge": lambda t: t.replace("CARTESIAN_POINT('',(", "CARTESIAN_POINT('',(1.E300,", 1),
    "negative radius": lambda t: t.replace(",5.5)", ",-5.5)"),
    "zero direction": lambda t: t.replace("DIRECTION('',(0.0,0.0,1.0))", "DIRECTION('',(0.0,0.0,0.0))"),
    "unbalanced": lambda t: t.replace("EDGE_LOOP('',(", "EDGE_LOOP('',((((", 1),
}


@pytest.mark.parametrize("how", WOUNDED)
def test_what_a_wound_does_not_touch_arrives(anchor, how):
    """The faces that the wound touches are left out by number; the others are those of the sound file."""
    text = WOUNDED[how](lithon.step_text(anchor))
    arrival = lithon.parse_step(text)
    left_out = [note for note in arrival.notes if "left out" in note]
    whole = {f.surface.kind for f in anchor.faces()}
    (body,) = arrival.model.bodies
    assert left_out and all(note.startswith("face #") and len(note) < 200 for note in left_out)
    sound = len(anchor.faces()) - len(left_out) + (how == "self-reference")  # that one names a point as a face
    assert len(body.faces) == sound and {f.surface.kind for f in body.faces} <= whole


@pytest.mark.parametrize("how", BROKEN)
def test_broken_files_give_one_clear_error(anchor, how):
    with pytest.raises(BadFile) as caught:
        lithon.parse_step(BROKEN[how](lithon.step_text(anchor)))
    assert "\n" not in str(caught.value) and len(str(caught.value)) < 300


def test_no_mutation_gets_past_the_reader(anchor):
    """A few hundred mutated files: a model or a BadFile, never anything else."""
    text = lithon.step_text(Model.of([prism(rectangle(0, 0, 4, 3, 0.5), 2.0)]))
    rng = random.Random(5)
    refused = 0
    for _ in range(examples(300)):
        data = list(text)
        for _ in range(rng.randint(1, 6)):
            at = rng.randrange(len(data))
            data[at : at + rng.randint(0, 3)] = rng.choice(
                ["", "#", "(", ")", "'", "9", "-", ".", "#7", "$", "*", "E9"]
            )
        try:
            model = lithon.parse_step("".join(data)).model
            for body in model.bodies:
                flaws(body, model.tolerance)
        except BadFile:
            refused += 1
    assert examples(300) // 10 < refused < examples(300)


def test_a_face_that_cannot_be_read_is_counted_and_the_rest_arrives(anchor):
    text = lithon.step_text(anchor).replace("CYLINDRICAL_SURFACE", "STRANGE_SURFACE", 1)
    arrival = lithon.parse_step(text)
    assert len(arrival.notes) == 1 and "strange surface" in arrival.notes[0]
    assert len(arrival.model.bodies[0].faces) == 35
    assert {f.kind for f in flaws(arrival.model.bodies[0], arrival.model.tolerance)} == {"open edge"}


def test_a_failed_write_leaves_the_old_file(tmp_path, monkeypatch):
    target = tmp_path / "part.step"
    target.write_text("old")

    def full(*args):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("os.fsync", full)
    with pytest.raises(OSError, match="space"):
        save_atomically(target, b"new")
    assert target.read_text() == "old"
    assert [p.name for p in tmp_path.iterdir()] == ["part.step"]
