"""Random brackets through every station: each truth, each refusal, each mesh is proved."""

import numpy as np
import pytest
from dice import seeds
from proof import sound
from solids import bracket

import lithon
from lithon.bond.share import bond
from lithon.brep.boxes import box
from lithon.brep.measures import mass_properties, volume
from lithon.brep.tessellation.tessellate import body_mesh, open_edges
from lithon.brep.tessellation.trees import inside, inside_lattice
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.errors import Refusal
from lithon.geometry.surfaces import Plane
from lithon.survey.features import features
from lithon.survey.findings import findings
from lithon.trim.clear import clear

SEEDS = seeds(16, 4)


@pytest.mark.parametrize("seed", SEEDS)
def test_built_measured_recognised(seed):
    known = bracket(seed)
    body = known.body
    assert flaws(body, known.model.tolerance) == []
    assert volume(body) == pytest.approx(known.volume, rel=1e-10)
    points, triangles, owner = body_mesh(body)
    assert open_edges(triangles) == 0 and len(np.unique(owner)) == len(body.uses)
    v = points[triangles]
    enclosed = np.einsum("ij,ij->", v[:, 0], np.cross(v[:, 1], v[:, 2])) / 6.0
    assert enclosed == pytest.approx(known.volume, rel=1e-2)
    found = [f.kind for f in features(body)]
    assert found.count("hole") == known.holes
    assert found.count("pocket") == known.pockets
    assert found.count("boss") == known.bosses
    assert found.count("fillet") == known.fillets


@pytest.mark.parametrize("seed", SEEDS)
def test_written_and_read_back(seed):
    known = bracket(seed)
    (back,) = lithon.parse_step(lithon.step_text(known.model)).model.bodies
    assert (len(back.faces), len(back.edges()), len(back.vertices())) == (
        len(known.body.faces),
        len(known.body.edges()),
        len(known.body.vertices()),
    )
    a, b = mass_properties(known.body), mass_properties(back)
    assert b.volume == pytest.approx(a.volume, rel=1e-10) and b.area == pytest.approx(a.area, rel=1e-10)
    assert np.allclose(a.centroid, b.centroid, atol=1e-8) and np.allclose(a.inertia, b.inertia, rtol=1e-8)
    assert flaws(back, known.model.tolerance) == []


@pytest.mark.parametrize("seed", SEEDS)
def test_every_feature_clears_alone_and_all_together(seed):
    known = bracket(seed)
    body, tolerance = known.body, known.model.tolerance
    everything = []
    for feature in features(body):
        ways = clear(body, feature.faces, tolerance)
        for way in ways:
            assert flaws(way.body, tolerance) == []
            assert len(way.body.faces) == len(body.faces) - len(feature.faces)
        grows = feature.kind in ("hole", "pocket") or (feature.kind == "fillet" and feature.convex)
        assert (ways[0].volume_change > 0) == grows
        everything += feature.faces
    if not everything:
        return
    bare = clear(body, dict.fromkeys(everything), tolerance)[0].body
    assert len(bare.faces) == 6 and len(bare.edges()) == 12 and len(bare.vertices()) == 8
    spans = mass_properties(bare)
    assert spans.volume == pytest.approx(np.prod(_sides(bare)), rel=1e-9)


def _sides(body) -> list[float]:
    """The three edge lengths of a block."""
    corner = body.vertices()[0]
    return [e.length for e in body.edges() if corner in (e.start, e.end)]


@pytest.mark.parametrize("seed", SEEDS)
def test_cut_twice_bonded_and_written(seed):
    rng = np.random.default_rng(1000 + seed)
    known = bracket(seed)
    model = known.model
    centre = mass_properties(known.body).centroid
    for _ in range(2):
        plane = Plane.of(centre + rng.uniform(-3, 3, 3), rng.normal(size=3))
        try:
            model = split(model, model.bodies, plane)
        except Refusal as refusal:
            assert "does not pass" in refusal.what or refusal.where
    assert sum(volume(b) for b in model.bodies) == pytest.approx(known.volume, rel=1e-9)
    assert all(flaws(b, model.tolerance) == [] for b in model.bodies)
    bonded, contacts = bond(model)
    assert {c.verdict for c in contacts} == {"shared"}
    assert sum(volume(b) for b in bonded.bodies) == pytest.approx(known.volume, rel=1e-9)
    back = lithon.parse_step(lithon.step_text(bonded)).model
    assert len(back.shared()) == len(bonded.shared())
    assert len(back.edges()) == len(bonded.edges())


@pytest.mark.parametrize("seed", seeds(10, 2))
def test_meshed_and_proved(seed):
    """As it is, and cut and bonded, at a size that suits it."""
    rng = np.random.default_rng(2000 + seed)
    known = bracket(seed)
    size = float(rng.uniform(2.0, 5.0))
    sound(lithon.tetrahedral_mesh(known.model, lithon.SizeRules(size)))
    centre = mass_properties(known.body).centroid
    normal = max(known.body.faces, key=lambda f: len(f.loops)).surface.frame.x
    cut = split(known.model, known.model.bodies, Plane.of(centre, normal))
    bonded, _ = bond(cut)
    mesh = lithon.tetrahedral_mesh(bonded, lithon.SizeRules(size))
    sound(mesh)
    for face in bonded.shared():
        assert len(mesh.face_nodes(face)) >= 3


@pytest.mark.parametrize("seed", seeds(8))
def test_findings_are_about_what_is_there(seed):
    known = bracket(seed)
    size = 3.0
    for finding in findings(known.model, size):
        assert finding.severity in ("costs", "note")
        assert finding.text and finding.consequence and finding.remedy
        place = np.array(finding.place)
        edges = [e.curve.point(np.linspace(e.t0, e.t1, 9)) for e in known.body.edges()]
        everything = np.concatenate(edges)
        assert (place >= everything.min(axis=0) - 1e-6).all() and (place <= everything.max(axis=0) + 1e-6).all()
        assert finding.body is known.body and set(finding.faces) <= set(known.body.faces)


def test_two_bodies_side_by_side_mesh_together_without_touching():
    a = bracket(3, straight=True).body
    from lithon.geometry.frames import Frame
    from lithon.samples.build import prism, rectangle

    block = prism(rectangle(0, 0, 10, 10), 10.0, Frame.of((200, 0, 0), (0, 0, 1), (1, 0, 0)), "block")
    model = Model.of([a, block])
    mesh = lithon.tetrahedral_mesh(model, lithon.SizeRules(4.0))
    sound(mesh)
    assert set(np.unique(mesh.body)) == {0, 1}
    assert not set(mesh.corners[mesh.body == 0].ravel()) & set(mesh.corners[mesh.body == 1].ravel())


@pytest.mark.parametrize("seed", seeds(6))
@pytest.mark.parametrize("straight", [False, True])
def test_a_lattice_within_has_the_volume(seed, straight):
    """Also where its lines run along the solid's own faces and edges."""
    known = bracket(seed, straight)
    low, high = box(known.body)
    step = float((high - low).max()) / 90.0
    count = np.ceil((high - low) / step).astype(int) + 1
    lattice = low + step * np.stack(np.meshgrid(*[np.arange(k) for k in count], indexing="ij"), -1).reshape(-1, 3)
    lattice = lattice + 0.5 * step + 1e-4 * np.array([0.7, 0.3, 0.9])
    held = inside_lattice(known.body, lattice, step)
    # Each bit of the surface counts at most half a cell too many or too few.
    assert abs(held.sum() * step**3 - known.volume) <= 0.5 * step * mass_properties(known.body).area
    rays = inside(known.body, lattice)
    assert (held != rays).mean() < 1e-4
