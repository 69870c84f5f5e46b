"""Triangles become the solids that they were made from: kinds, radii, volumes, at any fineness and place."""

from collections import Counter

import numpy as np
import pytest
from dice import seeds
from operation_examples import box, plate
from solids import motion as any_motion

from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.mend.relations import related
from lithon.mend.segments import Patch, noise_of, segmented
from lithon.mend.solid import bordering, solid_of
from lithon.samples import STRAP, collar_anchor, hinge_strap
from lithon.samples.build import Piece, Round, face_toward, prism, raised, rounded_root
from lithon.samples.gudgeon_scan import GUDGEON, scanned
from lithon.trim.clear import clear

UP = Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0))


def made_of(body, digits=np.float32, share=3e-6):
    points, corners, _ = body_mesh(body)
    points = points.astype(digits).astype(float)
    scale = float(np.linalg.norm(np.ptp(points, axis=0)))
    found = segmented(points, corners, share * scale)
    found = related(points, corners, found, bordering(len(points), corners, found), share * scale / 3)
    return found, solid_of(points, corners, found, 1e-7 * scale, body.name), scale


def kinds(body):
    return Counter(f.surface.kind for f in body.faces)


@pytest.mark.parametrize("make", [plate, hinge_strap, collar_anchor], ids=lambda f: f.__name__)
def test_samples_come_back_as_they_were(make):
    body = make().bodies[0]
    found, made, scale = made_of(body)
    assert kinds(made) == kinds(body) and not flaws(made, 1e-7 * scale)
    assert volume(made) == pytest.approx(volume(body), rel=1e-9)
    radii = [sorted(round(f.surface.radius, 6) for f in b.faces if f.surface.kind == "cylinder") for b in (made, body)]
    assert radii[0] == pytest.approx(radii[1], abs=2e-6)
    assert max(p.off for p in found) < 1e-5 * scale


@pytest.mark.parametrize("seed", seeds(4))
def test_at_any_place(seed):
    """Turned, no direction is along an axis any more; relations among themselves are found all the same."""
    body = moved(hinge_strap().bodies[0], any_motion(seed))
    _, made, scale = made_of(body)
    assert kinds(made) == kinds(body) and not flaws(made, 1e-6 * scale)
    assert volume(made) == pytest.approx(STRAP.volume, rel=1e-6)


def test_a_hole_of_the_result_is_cleared_like_any_other():
    body = plate().bodies[0]
    _, made, scale = made_of(body)
    bore = next(f for f in made.faces if f.surface.kind == "cylinder" and abs(f.surface.radius - 2.0) < 1e-6)
    out = clear(made, [bore], 1e-7 * scale)[0]
    assert out.volume_change == pytest.approx(np.pi * 4.0 * 8.0, rel=1e-6)


def test_a_boss_with_a_fillet_at_its_root():
    block = box(0, 0, 40, 40, 0, 10, "b")
    top = Frame.of((20, 20, 10), (0, 0, 1), (1, 0, 0))
    body = raised(block, face_toward(block, (0, 0, 1)), top, Round((0, 0), 8.0), 12.0, rounded_root(0.0, 12.0, 3.0))
    points, corners, _ = body_mesh(body)
    found = segmented(points, corners, 1e-4)
    (ring,) = [p.surface for p in found if p.kind == "torus"]
    assert (ring.major, ring.minor) == pytest.approx((11.0, 3.0), rel=1e-6)


def test_a_block_between_two_fillets_is_no_cylinder():
    """Corners of a flat and of one strip on each side lie on one circle; it is a flat all the same."""
    body = prism([Piece((2, 0)), Piece((18, 0), (18, 2)), Piece((20, 2)), Piece((20, 10)), Piece((0, 10)),
                  Piece((0, 2), (2, 2))], 5.0)  # fmt: skip
    points, corners, _ = body_mesh(body)
    found = segmented(points, corners, 1e-5)
    assert Counter(p.kind for p in found) == {"plane": 6, "cylinder": 2}


def test_noise_is_told_from_the_triangles_alone():
    assert noise_of(*body_mesh(plate().bodies[0])[:2]) == 0.0
    soup, _ = scanned(3)
    from lithon.brep.cleaning import cleaned

    made = cleaned(soup.points, soup.corners)
    told = noise_of(made.points, made.corners)
    assert 0.3 * GUDGEON.noise < told < 2.0 * GUDGEON.noise


def test_what_is_open_or_free_is_refused():
    points, corners, _ = body_mesh(plate().bodies[0])
    with pytest.raises(Refusal, match="open"):
        found = segmented(points, corners[4:], 1e-5)
        solid_of(points, corners[4:], found, 1e-6)
    points, corners, _ = body_mesh(prism(Round((0.0, 0.0), 8.0), 6.0))
    found = [
        Patch(None if p.kind == "cylinder" else p.surface, p.rows, p.off) for p in segmented(points, corners, 1e-5)
    ]
    with pytest.raises(Refusal, match="no simple surface") as caught:
        solid_of(points, corners, found, 1e-6)
    assert caught.value.where and caught.value.remedy
