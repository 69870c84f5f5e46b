"""The command line as a stranger uses it: real processes, JSON alone on stdout, one line on errors."""

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from dice import LONG

import lithon
from lithon.samples import ANCHOR, hinge_strap


def run(*args: object, env: dict | None = None) -> subprocess.CompletedProcess:
    return subprocess.run(
        [sys.executable, "-m", "lithon", *map(str, args)],
        capture_output=True,
        text=True,
        timeout=300,
        env={**os.environ, **(env or {})},
    )


def test_survey(anchor_file):
    done = run("survey", anchor_file, "--size", 4, "--json")
    assert done.returncode == 0 and done.stderr == ""
    facts = json.loads(done.stdout)
    (body,) = facts["bodies"]
    assert body["volume_mm3"] == pytest.approx(ANCHOR.volume, rel=1e-9)
    assert body["box_mm"] == [pytest.approx([-60, -40, 0]), pytest.approx([60, 40, 54])]
    assert {f["kind"] for f in facts["findings"]} == {"small hole", "small fillet", "pocket", "thin wall"}
    seen = facts["forecast"]
    assert seen["parts"] == [{"part": "half, mirror y = 0", "elements": round(seen["elements"] / 2)}]
    prices = [f["elements"] for f in facts["findings"]]
    assert 0 < max(prices) < seen["for_small_things"] < seen["elements"] and min(prices) >= 0
    told = run("survey", anchor_file, "--size", 4).stdout
    assert "36 faces" in told and "half, mirror y = 0: about" in told and "2 x hole, diameter 2.5 mm" in told


def test_mesh(tmp_path):
    out, part = tmp_path / "m.vtu", tmp_path / "strap.step"
    lithon.write_step(hinge_strap(), part)
    done = run("mesh", part, "--size", 8, "--order", 2, "--elements", "tet", "--out", out, "--json")
    facts = json.loads(done.stdout)
    assert facts["conformal"] and facts["failures"] == [] and facts["min_scaled_jacobian"] > 0
    assert facts["volume_ratio"] == pytest.approx(1.0, abs=5e-3)
    import meshio

    mesh = meshio.read(out)
    assert len(mesh.points) == facts["nodes"] and len(mesh.cells_dict["tetra10"]) == facts["elements"]["tet"]


def test_recipe(anchor_file, prepared, tmp_path):
    recipe = tmp_path / "r.json"
    recipe.write_text(json.dumps({**prepared.recipe(), "size": 8.0}))
    done = run("run", recipe, anchor_file, "--out", tmp_path / "out", "--json")
    assert done.returncode == 0, done.stderr
    facts = json.loads(done.stdout)
    assert facts["unresolved"] == [] and facts["shared_faces"] == 2 and len(facts["steps"]) == 5
    model = lithon.read_step(tmp_path / "out" / "collar-anchor.step").model
    assert [len(b.faces) for b in model.bodies] == [b["faces"] for b in facts["bodies"]]
    assert len(model.shared()) == 2
    assert {p.suffix for p in (tmp_path / "out").iterdir()} == {".step", ".vtu", ".html", ".lithon"}
    bad = json.loads(recipe.read_text())
    bad["steps"].insert(1, lithon.do.clear("holes where diameter > 500 mm").as_json())
    recipe.write_text(json.dumps(bad))
    done = run("run", recipe, anchor_file, "--out", tmp_path / "two")
    assert done.returncode == 3 and "step 2" in done.stderr and "Traceback" not in done.stderr


def bad_inputs(tmp_path: Path, anchor_file: Path):
    empty = tmp_path / "empty.step"
    empty.write_bytes(b"")
    cut = tmp_path / "cut.step"
    cut.write_bytes(anchor_file.read_bytes()[:9000])
    noise = tmp_path / "noise.step"
    noise.write_bytes(bytes(range(256)) * 40)
    yield "survey", empty
    yield "survey", cut
    yield "survey", noise
    yield "survey", tmp_path / "gone.step"
    yield "survey", tmp_path
    yield "survey", anchor_file, "--size", "-1"
    yield "mesh", anchor_file, "--size", "nan", "--out", tmp_path / "x.vtu"
    yield "mesh", anchor_file, "--size", 9, "--elements", "hex", "--out", tmp_path / "x.vtu"
    yield "mesh", anchor_file, "--size", 30, "--out", "/proc/nowhere/x.vtu"
    yield "run", cut, anchor_file, "--out", tmp_path / "o"


def within(capfd, monkeypatch, *args: object) -> subprocess.CompletedProcess:
    """As `run`, in this process: nothing is started for it."""
    from lithon.cli import main

    monkeypatch.setattr(sys, "argv", ["lithon", *map(str, args)])
    code = 0
    try:
        main()
    except SystemExit as end:
        code = int(end.code or 0)
    out, err = capfd.readouterr()
    return subprocess.CompletedProcess(args, code, out, err)


def test_bad_input_gives_one_clear_line(anchor_file, tmp_path, capfd, monkeypatch):
    for k, args in enumerate(bad_inputs(tmp_path, anchor_file)):
        done = within(capfd, monkeypatch, *args) if k % 6 else run(*args)
        assert done.returncode not in (0, 3), args
        assert done.stdout == "" and "Traceback" not in done.stderr, args
        assert done.stderr.startswith("lithon: ") and len(done.stderr.strip().split("\n")) == 1, (args, done.stderr)


def test_the_example_without_a_display(tmp_path):
    done = run("demo", "--out", tmp_path / "demo", env={"DISPLAY": "", "WAYLAND_DISPLAY": ""})
    assert done.returncode == 0, done.stderr
    made = {p.name: p.stat().st_size for p in (tmp_path / "demo").iterdir()}
    assert {
        "report.html",
        "mesh.png",
        "prepared.png",
        "as-read.png",
        "collar-anchor.vtu",
        "collar-anchor.lithon",
        "collar-anchor-prepared.step",
        "collar-anchor.recipe.json",
    } <= set(made)
    assert all(size > 500 for size in made.values()) and made["mesh.png"] > 20000
    assert "conformal: yes" in done.stdout and "report.html" in done.stdout


def test_triangles_and_the_desktop(tmp_path):
    import meshio
    import numpy as np

    from lithon.brep.measures import volume
    from lithon.desktop import install
    from lithon.exchange.deliver import write_triangles
    from lithon.samples import cast_anchor

    model = cast_anchor()
    for text in (False, True):
        path = tmp_path / "part.stl"
        write_triangles(model, path, text)
        read = meshio.read(path)
        v = read.points[read.cells[0].data].astype(float)
        inside = np.einsum("ij,ij->", v[:, 0], np.cross(v[:, 1], v[:, 2])) / 6.0
        assert abs(inside / volume(model.bodies[0]) - 1.0) < 2e-3
    entry, types = install(tmp_path / "share")
    assert "MimeType=model/step" in entry.read_text() and "*.lithon" in types.read_text()


@pytest.mark.skipif(not LONG, reason="in a long run")
def test_a_survey_as_a_page_with_pictures(tmp_path):
    """Run as a stranger would: a dirty part, its page, and what it tells."""
    import re

    import lithon
    from lithon.samples import pintle_shoe

    source, page = tmp_path / "pintle-shoe.step", tmp_path / "survey.html"
    lithon.write_step(pintle_shoe(), source, "pintle shoe")
    done = run("survey", str(source), "--size", "4", "--html", str(page))
    assert done.returncode == 0, done.stderr
    text = page.read_text("utf-8")
    pictures = re.findall(r"data:image/png;base64,([^\"]+)", text)
    assert 6 <= len(pictures) <= 9 and len(set(pictures)) == len(pictures)
    for words in ("hangs inside the solid", "that should meet stand", "written as a b-spline", "one plane in 3 faces"):
        assert words in text


def test_triangles_on_the_command_line(tmp_path):
    import json

    import lithon
    from lithon.samples import collar_anchor

    path = tmp_path / "anchor.stl"
    lithon.write_triangles(collar_anchor(), path)
    done = run("survey", str(path), "--unit", "cm", "--size", "40", "--json")
    assert done.returncode == 0, done.stderr
    (body,) = json.loads(done.stdout)["bodies"]
    exact = lithon.survey_of(collar_anchor(), 4.0)["bodies"][0]["volume_mm3"]
    assert body["representation"] == "facets" and body["closed"]
    assert abs(body["volume_mm3"] / (1000.0 * exact) - 1.0) < 2e-3
    assert "unit: cm (as you chose)" in done.stderr
    for name, data in (("empty.stl", b""), ("cut.stl", b"solid"), ("what.xyz", b"?")):
        (tmp_path / name).write_bytes(data)
        done = run("survey", str(tmp_path / name))
        assert done.returncode != 0 and "Traceback" not in done.stderr and done.stderr.count("\n") <= 2


def test_what_is_small_is_not_followed_and_told(tmp_path, capfd, monkeypatch):
    """A step of two hundredths along a block: passed over by default, followed when asked, refused where it makes no
    sense."""
    from lithon.brep.topology import Model
    from lithon.geometry.frames import Frame
    from lithon.samples.build import Piece, prism

    corners = [(0, 0), (20, 0), (20, 7.98), (10, 7.98), (10, 8), (0, 8)]
    block = prism([Piece((float(x), float(z))) for x, z in corners], 10.0, Frame.of((0, 10, 0), (0, -1, 0), (1, 0, 0)))
    lithon.write_step(Model.of([block]), tmp_path / "step.step")
    facts = {}
    for how in ("auto", "none", "0.01"):
        done = within(capfd, monkeypatch, "mesh", tmp_path / "step.step", "--size", 4, "--elements", "tet",
                      "--ignore", how, "--out", tmp_path / "m.vtu", "--json")  # fmt: skip
        assert done.returncode == 0, done.stderr
        facts[how] = json.loads(done.stdout)
    assert facts["auto"]["ignore_mm"] == pytest.approx(0.4) and facts["auto"]["ignored"]["narrow_faces"] == 1
    assert facts["none"]["ignore_mm"] is None and facts["none"]["ignored"]["edges_draped_over"] == 0
    assert facts["0.01"]["ignored"]["narrow_faces"] == 0
    assert facts["auto"]["elements"]["tet"] < 0.5 * facts["none"]["elements"]["tet"]
    assert all(f["volume_ratio"] == pytest.approx(1.0, abs=3e-3) for f in facts.values())
    done = within(capfd, monkeypatch, "mesh", tmp_path / "step.step", "--size", 4, "--ignore", "9",
                  "--out", tmp_path / "m.vtu")  # fmt: skip
    assert done.returncode == 1 and "no size to ignore below" in done.stderr
