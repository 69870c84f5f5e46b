"""Faces of revolution whose profile is a circle that crosses the axis, as domed caps and bent leads are written:
apples and lemons, also with a radius hundreds of times their rims'."""

from dataclasses import replace

import numpy as np
import pytest
import scipy
from dice import LONG, seeds

import lithon
from lithon import do
from lithon.brep.analysis.crossings import self_intersections
from lithon.brep.measures import volume
from lithon.brep.rewrite import rewrite
from lithon.brep.topology import Body, Model, new_uid
from lithon.brep.validate import flaws
from lithon.geometry.frames import Frame
from lithon.geometry.spindle import narrowed, skins, spindle
from lithon.geometry.tori import Torus
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples.build import Piece, revolved

#: Distance of the circle's centre from the axis (below 0: beyond it), its radius, the rim's.
KINDS = [(0.3, 2.0, 1.0), (-0.3, 2.0, 1.0), (-449.0, 450.0, 0.6), (100.0, 450.0, 1.0), (-3.0, 3.5, 0.3)]


def drawn(seed: int) -> tuple[float, float, float]:
    rng = np.random.default_rng(seed)
    radius = float(10.0 ** rng.uniform(0.2, 2.8))
    away = float(rng.uniform(-0.999, 0.999)) * radius
    most = radius + away if away < 0.0 else radius - away
    return away, radius, float(rng.uniform(0.2, 0.8)) * most


def domed(away: float, radius: float, rim: float, low: float = 0.0, frame: Frame | None = None) -> Body:
    """A pin with a domed end: its cap goes from the rim up to the axis, or to a flat of radius `low`."""
    z0 = -np.sqrt(radius**2 - (rim - away) ** 2)
    top = z0 + np.sqrt(radius**2 - (low - away) ** 2)
    foot = -deep(away, radius, rim)
    side = [Piece((0.0, foot)), Piece((rim, foot)), Piece((rim, 0.0), (away, z0), True)]
    side += [Piece((low, top)), Piece((0.0, top))] if low > 0.0 else [Piece((0.0, top))]
    return revolved(side, frame or Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0)), "pin")


def deep(away: float, radius: float, rim: float) -> float:
    """How far the pin reaches below its rim: further than the cap may dip towards the axis."""
    return rim + 2.0 * max(0.0, float(np.sqrt(radius**2 - (rim - away) ** 2) - np.sqrt(radius**2 - away**2)))


def filled(away: float, radius: float, rim: float, low: float = 0.0) -> float:
    """The volume, by shells about the axis."""
    z0 = -np.sqrt(radius**2 - (rim - away) ** 2)

    def height(r: float) -> float:
        return z0 + np.sqrt(radius**2 - (max(r, low) - away) ** 2)

    def shell(r: float) -> float:
        return 2.0 * np.pi * r * height(r)

    inner = scipy.integrate.quad(shell, 0.0, rim, points=[low], epsabs=0, epsrel=1e-12)[0]
    return float(inner + np.pi * rim**2 * deep(away, radius, rim))


def as_files_write_it(body: Body) -> Body:
    """With each of its spindle faces on the whole self-crossing surface, as it stands in files."""
    made = {}
    for face in body.faces:
        if face.surface.kind != "revolution":
            continue
        part = face.surface
        ends = np.concatenate([e.at(s)[None] for e in face.edges() for s in (0.1, 0.6)])
        (whole,) = (s for s in WHOLE[body] if np.abs(narrowed(s, ends).signed_distance(ends)).max() < 1e-7)
        same = float((narrowed(whole, ends).normal(ends) * part.normal(ends)).sum()) > 0.0
        made[face] = replace(face, surface=whole, along=face.along == same, uid=new_uid()), True
    assert made
    return rewrite(body, faces=made)


WHOLE: dict = {}


def pin(away: float, radius: float, rim: float, low: float = 0.0, frame: Frame | None = None) -> Body:
    body = domed(away, radius, rim, low, frame)
    f = frame or Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0))
    z0 = -np.sqrt(radius**2 - (rim - away) ** 2)
    WHOLE[body] = [spindle(Torus(f.shifted(z0 * f.z), away, radius))]
    return body


@pytest.mark.parametrize("kind", [*KINDS, *map(drawn, seeds(7))])
def test_a_sound_file_is_read_as_sound(kind):
    """The cap as a whole circle turned about an axis that it crosses: sound, not cut by itself, of the right volume."""
    rng = np.random.default_rng(int(1e6 * kind[2]) % 2**31)
    frame = Frame.of(rng.uniform(-20, 20, 3), rng.normal(size=3), rng.normal(size=3))
    for low in (0.0, 0.4 * kind[2]):
        body = pin(*kind, low, frame)
        text = lithon.step_text(Model.of([as_files_write_it(body)]))
        assert "SURFACE_OF_REVOLUTION" in text and "CIRCLE" in text
        model = lithon.parse_step(text).model
        (back,) = model.bodies
        assert not flaws(back, model.tolerance) and not self_intersections(back, model.tolerance)
        assert volume(back) == pytest.approx(filled(*kind, low), rel=1e-9)
        assert len(back.faces) == len(body.faces)
        again = lithon.parse_step(lithon.step_text(model)).model
        assert volume(again.bodies[0]) == pytest.approx(volume(back), rel=1e-9)


@pytest.mark.parametrize("seed", seeds(8))
def test_closest_points_on_either_skin(seed):
    """Against a dense look along the profile; the foot is no further away than any sample."""
    rng = np.random.default_rng(seed)
    away, radius, _ = drawn(seed + 50)
    whole = spindle(Torus(Frame.of(rng.uniform(-5, 5, 3), rng.normal(size=3)), abs(away), radius))
    assert len(skins(whole)) == 2
    for part in skins(whole):
        t = np.linspace(part.profile.low, part.profile.high, 40001)
        half = part._half(t)
        assert half[0, 0] < 1e-9 * radius and half[-1, 0] < 1e-9 * radius
        at = part.at(np.stack([rng.uniform(part.profile.low, part.profile.high, 60), rng.uniform(0, 6, 60)], axis=1))[0]
        p = at + rng.normal(size=(60, 3)) * 0.05 * radius * rng.uniform(size=(60, 1))
        local = part.frame.local(p)
        flat = np.stack([np.hypot(local[:, 0], local[:, 1]), local[:, 2]], axis=1)
        seen = np.sqrt(((flat[:, None] - half[None]) ** 2).sum(axis=2).min(axis=1))
        found = np.abs(part.signed_distance(p))
        assert (found <= seen + 1e-9 * radius).all() and (found >= seen - 1e-4 * radius).all()
        assert np.abs(part.signed_distance(part.project(p))).max() < 1e-9 * radius


@pytest.mark.parametrize("kind", [KINDS[0], KINDS[2], KINDS[4], drawn(20)])
def test_it_can_be_cut_and_meshed(kind):
    body = pin(*kind, 0.4 * kind[2])
    model = Model.of([body])
    exact, rim = filled(*kind, 0.4 * kind[2]), kind[2]
    rng = np.random.default_rng(3)
    slanting = rng.normal(size=(1, 3)) if LONG or kind is not KINDS[2] else ()
    for normal in ((0, 0, 1), (1, 0, 0), *slanting):
        cut = run(State(model), do.carve(do.Cut.at((0.02 * rim, 0.03 * rim, -0.4 * rim), normal))).model
        assert sum(map(volume, cut.bodies)) == pytest.approx(exact, rel=1e-7)
        assert all(not flaws(b, cut.tolerance) for b in cut.bodies)
    if LONG:
        mesh = lithon.tetrahedral_mesh(model, lithon.SizeRules(0.4 * rim))
        assert mesh.conformal() and mesh.volume_ratio == pytest.approx(1.0, abs=0.05)
    if LONG or kind is not KINDS[2]:
        mesh = lithon.tetrahedral_mesh(Model.of([pin(*kind)]), lithon.SizeRules(0.4 * rim))
        assert mesh.conformal() and mesh.quality.smallest_angle.min() > 8.0
