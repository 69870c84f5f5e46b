"""What leaves the house as a mesh: read again by other readers, with names and bodies; a recipe over a folder."""

import csv
import json

import meshio
import numpy as np
import pytest

import lithon
from lithon import do
from lithon.brep.topology import Model
from lithon.errors import BadFile, LithonError
from lithon.exchange.deliver import write_triangles
from lithon.exchange.meshes import write_mesh
from lithon.mesh.make import mesh_of
from lithon.mesh.second_order import quadratic
from lithon.mesh.sizing import SizeRules
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.project.batch import files_of, run_over
from lithon.project.report import off_what_was_read
from lithon.samples.build import Piece, prism, rectangle


def blocks():
    """Two blocks bonded, the far side of one named, and one name that is longer than the standard allows."""
    one = prism(rectangle(0, 0, 10, 10), 6.0, name="left")
    two = prism(rectangle(10, 0, 20, 10), 6.0, name="right / far")
    state = State(Model.of([one, two]), settings=Settings(4.0))
    long = "a name that is much longer than thirty-two letters"
    named = (("planes along x where x = 20", "held"), ("planes along z where z = 6", long))
    for step in (do.bond(), *(do.name(*n) for n in named)):
        state = run(state, step).state
    return state


LEFT = 'bodies in "left"'


def as_sets(group):
    """What CGNS calls regions and conditions of a zone, by name: where they are and which."""
    out = {}
    for name, node in group.items():
        if node.attrs.get("label", b"").rstrip(b"\0") in (b"ZoneSubRegion_t", b"BC_t"):
            where = bytes(node["GridLocation"][" data"][()].tobytes()).decode()
            out[name] = where, node["PointList"][" data"][:, 0]
    return out


@pytest.mark.parametrize(("kind", "order"), [("tet", 1), ("tet", 2), ("hex", 1), ("hex", 2)])
def test_cgns_holds_the_mesh_its_names_and_its_bodies(tmp_path, kind, order):
    h5py = pytest.importorskip("h5py")
    state = blocks()
    mesh = mesh_of(state.model, SizeRules(4.0), kind)
    mesh = quadratic(mesh)[0] if order == 2 else mesh
    write_mesh(mesh, tmp_path / "m.cgns")
    with h5py.File(tmp_path / "m.cgns") as file:
        assert file.attrs["label"].rstrip(b"\0") == b"Root Node of HDF5 File"
        base = file["Base"]
        zone = base["Zone"]
        assert zone[" data"][:, 0].tolist() == [len(mesh.points), len(mesh.elements), 0]
        points = np.stack([zone["GridCoordinates"][f"Coordinate{a}"][" data"][()] for a in "XYZ"], axis=1)
        assert np.array_equal(points, mesh.points)
        types = {("tet", 1): 10, ("tet", 2): 11, ("hex", 1): 17, ("hex", 2): 18}
        elements = zone["Elements"]
        assert elements[" data"][0] == types[(kind, order)]
        cells = elements["ElementConnectivity"][" data"][()].reshape(-1, mesh.elements.shape[1]) - 1
        assert elements["ElementRange"][" data"][()].tolist() == [1, len(cells)]
        assert np.array_equal(np.sort(cells, axis=1), np.sort(mesh.elements, axis=1))
        if (kind, order) == ("hex", 2):  # by the standard: nodes 13-16 upright, 17-20 in the top
            middle = points[cells]
            assert np.allclose(middle[:, 12], 0.5 * (middle[:, 0] + middle[:, 4]))
            assert np.allclose(middle[:, 16], 0.5 * (middle[:, 4] + middle[:, 5]))
        sides = zone["Sides"]
        low, high = sides["ElementRange"][" data"][()].tolist()
        assert low == len(cells) + 1 and high - low + 1 == len(mesh.triangles)
        across = sides["ElementConnectivity"][" data"][()].reshape(high - low + 1, -1) - 1
        families = [k for k in base if base[k].attrs.get("label", b"").rstrip(b"\0") == b"Family_t"]
        assert len(families) == 2 and "held" in families and all(len(k) <= 32 for k in families)
        where, rows = as_sets(zone["ZoneBC"])["held"]
        assert where == "FaceCenter" and np.allclose(points[across[rows - low]][..., 0], 20.0)
        known = as_sets(zone)
        where, nodes = known["held nodes"]
        assert where == "Vertex" and set(nodes - 1) == set(np.flatnonzero(np.abs(points[:, 0] - 20.0) < 1e-9))
        where, own = known["right - far"]
        assert where == "CellCenter" and (points[cells[own - 1]][..., 0].mean(axis=1) > 10.0).all()
        assert len(own) + len(known["left"][1]) == len(cells)


@pytest.mark.parametrize("suffix", [".vtu", ".xdmf"])
def test_meshes_are_read_again_by_another_reader(tmp_path, suffix):
    state = blocks()
    mesh = mesh_of(state.model, SizeRules(4.0), "tet")
    write_mesh(mesh, tmp_path / f"m{suffix}")
    again = meshio.read(tmp_path / f"m{suffix}")
    assert np.allclose(again.points, mesh.points) and len(again.cells_dict["tetra"]) == len(mesh.elements)
    held = np.concatenate(again.cell_data["held"])
    assert held.sum() == np.isin(mesh.face, [k for k, f in enumerate(mesh.faces) if f.label == "held"]).sum() > 0
    with pytest.raises(LithonError, match="names no format"):
        write_mesh(mesh, tmp_path / "m.xyz")


def test_materials_and_groups_arrive_as_sets_of_elements(tmp_path):
    h5py = pytest.importorskip("h5py")
    state = blocks()
    for step in (do.material("bodies", "oak"), do.material(LEFT, "grey iron"), do.group(LEFT, "a")):
        state = run(state, step).state
    mesh = run(state, do.mesh()).mesh
    left = next(k for k, b in enumerate(mesh.bodies) if b.name == "left")
    rows = {"material grey iron": mesh.body == left, "material oak": mesh.body != left, "group a": mesh.body == left}
    assert all(0 < r.sum() < len(r) for r in rows.values())
    write_mesh(mesh, tmp_path / "m.vtu")
    write_mesh(mesh, tmp_path / "m.cgns")
    again = meshio.read(tmp_path / "m.vtu")
    with h5py.File(tmp_path / "m.cgns") as file:
        base = file["Base"]
        regions = as_sets(base["Zone"])
        for name, own in rows.items():
            assert np.array_equal(again.cell_data[name][0], own) and not again.cell_data[name][1].any()
            where, which = regions[f"{name} elements"]
            assert where == "CellCenter" and np.array_equal(which - 1, np.flatnonzero(own))
            assert base[name].attrs["label"].rstrip(b"\0") == b"Family_t"


@pytest.mark.slow
def test_a_recipe_over_a_folder_tells_what_came_of_each_file(tmp_path, capsys):
    """Three parts and one that is no part: the recipe is done on each, with the mesh that it asks for."""
    folder, out = tmp_path / "in", tmp_path / "out"
    folder.mkdir()
    for k in range(3):
        body = prism(rectangle(0, 0, 20 + 5 * k, 10), 6.0, name=f"part {k}")
        lithon.write_step(Model.of([body]), folder / f"part-{k}.step", f"part {k}")
    (folder / "broken.step").write_text("ISO-10303-21; nothing follows")
    (folder / "notes.txt").write_text("not a part")
    work = lithon.open(folder / "part-0.step")
    work.take(do.carve("x = 10"))
    work.take(do.bond())
    work.take(do.element_size(3.0))
    work.take(do.mesh("hex", "2"))
    recipe = tmp_path / "r.json"
    recipe.write_text(json.dumps(work.recipe()))
    files = files_of([folder])
    assert [f.name for f in files] == ["broken.step", "part-0.step", "part-1.step", "part-2.step"]
    done = run_over(json.loads(recipe.read_text()), files, out)
    assert [one.well for one in done] == [False, True, True, True]
    rows = list(csv.DictReader((out / "table.csv").open()))
    assert [r["file"] for r in rows] == [f.name for f in files] and rows[0]["trouble"] and not rows[1]["trouble"]
    for k, (one, row) in enumerate(zip(done[1:], rows[1:], strict=True)):
        assert one.mesh.order == 2 and one.mesh.kind == "hexahedra" == row["kind"]
        assert float(one.mesh.volumes.sum()) == pytest.approx((20 + 5 * k) * 60.0)
        assert (row["steps"], row["faces before"], row["faces after"], row["bodies"]) == ("4", "6", "11", "2")
        assert {p.suffix for p in out.glob(f"part-{k}.*")} == {".step", ".lithon", ".html", ".vtu"}
        assert meshio.read(out / f"part-{k}.vtu").cells_dict["hexahedron20"].shape == (int(row["elements"]), 20)
    with pytest.raises(BadFile, match="one name"):
        files_of([folder, folder / "part-0.step"])
    from lithon.cli import cli

    with pytest.raises(SystemExit) as left:
        cli(["run", str(recipe), str(folder), "--out", str(tmp_path / "again"), "--json"])
    told = capsys.readouterr()
    assert left.value.code == 3 and "broken.step" in told.err
    facts = json.loads(told.out)
    assert [len(f["steps"]) for f in facts] == [0, 4, 4, 4] and facts[1]["elements"] == {
        "hex": len(done[1].mesh.elements)
    }


def test_a_report_shows_every_step_before_and_after(tmp_path, display):
    """Two pictures for each step that changes the solid, none for a setting; what is new is green, what goes red."""
    import base64

    from PIL import Image

    from lithon.app.pictures import pictures, pictures_of_steps
    from lithon.project.deliveries import DELIVERIES

    body = prism(rectangle(0, 0, 20, 10, 3.0), 6.0, name="plate")
    lithon.write_step(Model.of([body]), tmp_path / "plate.step", "plate")
    work = lithon.open(tmp_path / "plate.step")
    work.take(do.element_size(3.0))
    work.take(do.clear("fillets"))
    work.take(do.carve("x = 10"))
    shown = pictures_of_steps(work)
    assert [s.words for s in shown] == [e.outcome.words for e in work.entries[1:]]
    for step in shown:
        seen = []
        for text in (step.before, step.after):
            (tmp_path / "p.png").write_bytes(base64.b64decode(text.removeprefix("data:image/png;base64,")))
            seen.append(np.asarray(Image.open(tmp_path / "p.png").convert("RGB"), dtype=int))
        assert seen[0].shape == seen[1].shape == (360, 520, 3)
        red, green = (s[..., 0] - s[..., 1] for s in seen)
        assert (red > 60).sum() > 200 and (green < -20).sum() > 200
    report = next(d for d in DELIVERIES if d.name == "report")
    report.painted(work, None, tmp_path / "r.html", pictures)
    page = (tmp_path / "r.html").read_text("utf-8")
    assert page.count("data:image/png") == 4 and "Steps in pictures" in page
    report.write(work, None, tmp_path / "plain.html")
    plain = (tmp_path / "plain.html").read_text("utf-8")
    assert "data:image" not in plain and "How far off" not in plain


def test_a_report_of_triangles_says_how_far_the_solid_stands_off_them(tmp_path, display):
    """A drum of chords made a solid of true surfaces: the chords' sag, both ways, as numbers and as a picture."""
    from lithon.app.pictures import pictures
    from lithon.project.deliveries import DELIVERIES

    n, radius = 40, 10.0
    ring = [Piece((radius * np.cos(a), radius * np.sin(a))) for a in 2.0 * np.pi * np.arange(n) / n]
    write_triangles(Model.of([prism(ring, 8.0)]), tmp_path / "drum.stl")
    work = lithon.open(tmp_path / "drum.stl")
    work.take(do.find_patches())
    work.take(do.solid())
    assert sorted(f.surface.kind for f in work.model.faces()) == ["cylinder", "plane", "plane"]
    there, back = off_what_was_read(work)
    sag = radius * (1.0 - np.cos(np.pi / n))
    assert there.most < 1e-5 and back.most == pytest.approx(sag, rel=0.05)  # corners stand on it, chords within
    report = next(d for d in DELIVERIES if d.name == "report")
    report.painted(work, None, tmp_path / "r.html", pictures)
    page = (tmp_path / "r.html").read_text("utf-8")
    assert "How far off what was read" in page and f"{back.most:.3g}" in page and f"{there.mean:.3g}" in page
    assert page.count("data:image/png") == 2 * 2 + 1 and there.ends()[0] in page
