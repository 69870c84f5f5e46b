"""Planes through random turned bodies with beads and grooves, at every angle and distance, also just touching."""

from dataclasses import replace

import numpy as np
import pytest

from lithon.brep.measures import volume
from lithon.brep.rewrite import rewrite
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Body, Model, new_uid
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.errors import Refusal
from lithon.geometry.curves import Circle
from lithon.geometry.frames import Frame
from lithon.geometry.rational import rational
from lithon.geometry.surfaces import Plane
from lithon.geometry.swept import Revolution
from lithon.geometry.tori import Torus
from lithon.samples.build import Piece, revolved


def can(seed: int, free: bool) -> tuple[Body, Frame, list[float], list[float]]:
    """A can with a rolled bead or groove in its wall and another in its lid; the levels and the distances from its axis
    at which they are widest. `free`: the rolled faces are written as surfaces of revolution."""
    rng = np.random.default_rng(seed)
    frame = (
        Frame.of(rng.uniform(-5, 5, 3), rng.normal(size=3), rng.normal(size=3))
        if seed % 3
        else Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0))
    )
    radius, height = rng.uniform(4, 9), rng.uniform(6, 14)
    b = rng.uniform(0.2, 0.18 * radius)  # half the mouth of the roll in the wall
    deep = rng.uniform(0.3, 0.98) * b  # how far its arc's centre stands off the wall, inwards for a bead
    z = rng.uniform(0.3, 0.7) * height
    out = bool(rng.integers(2))
    centre = (radius - deep if out else radius + deep, z)
    r = float(np.hypot(deep, b))
    c = rng.uniform(0.2, 0.15 * radius)
    lid = rng.uniform(0.35, 0.6) * radius
    up = bool(rng.integers(2))
    rise = rng.uniform(0.0, 0.9) * c
    top = (lid, height - rise if up else height + rise)
    q = float(np.hypot(rise, c))
    pieces = [
        Piece((0.0, 0.0)), Piece((radius, 0.0)), Piece((radius, z - b), centre, out), Piece((radius, z + b)),
        Piece((radius, height)), Piece((lid + c, height), top, up), Piece((lid - c, height)), Piece((0.0, height)),
    ]  # fmt: skip
    body = revolved(pieces, frame, "can")
    if free:
        made = {
            f: (replace(f, surface=as_revolution(f.surface), uid=new_uid()), True)
            for f in body.faces
            if f.surface.kind == "torus"
        }
        body = rewrite(body, faces=made)
    levels = [z, z - b, z + b, height, top[1] + (q if up else -q), height - 0.5 * c]
    reaches = [radius, centre[0] + (r if out else -r), lid, lid - c, lid + c, 0.0]
    return body, frame, levels, reaches


def as_revolution(torus: Torus) -> Revolution:
    """The same surface, with the same normal, as a spline turned about an axis."""
    f = torus.frame
    tube = Circle.about(Frame.of(f.origin + torus.major * f.x, -f.y, f.x), torus.minor)
    for profile in (rational(tube, -np.pi, np.pi), rational(tube, -np.pi, np.pi).moved(np.eye(4))):
        for axis in (f.z, -f.z):
            made = Revolution.of(profile, f.origin, axis)
            p = made.project((f.origin + (torus.major + torus.minor) * f.x)[None])
            if float((made.normal(p) * torus.normal(p)).sum()) > 0.0:
                return made
    raise AssertionError("neither way round")


def planes(seed: int, frame: Frame, levels: list[float], reaches: list[float]):
    """Across the axis, along it and aslant: anywhere, and just where something is widest, or a little beside that; with
    whether a plane all but touches."""
    rng = np.random.default_rng(seed + 1000)
    beside = [0.0, 1e-7, -1e-7, 1e-4, -1e-4, 1e-2, -1e-2]
    for level in levels:
        off = float(rng.choice(beside))
        yield Plane.of(frame.origin + (level + off) * frame.z, frame.z), abs(off) < 1e-3
    for reach in reaches:
        way = np.cos(a := rng.uniform(0, 6)) * frame.x + np.sin(a) * frame.y
        off = float(rng.choice(beside))
        yield Plane.of(frame.origin + (reach + off) * way, way), abs(off) < 1e-3 and reach > 0.0
    for _ in range(4):
        yield Plane.of(frame.origin + rng.uniform(0.2, 8.0) * frame.z + rng.normal(size=3), rng.normal(size=3)), False


def wrong(body: Body, plane: Plane, touching: bool) -> str:
    """What is wrong with a plane's cut: it fills the body's space soundly, or is refused where it only touches."""
    model = Model.of([body])
    try:
        out = split(model, [body], plane)
    except Refusal as refusal:
        away = plane.signed_distance(body_mesh(body)[0])  # beside all of it, but for its chords
        beside = bool(away.min() > -0.02 or away.max() < 0.02)
        return "" if touching or (beside and refusal.remedy) else refusal.what
    found = [f.text for b in out.bodies for f in flaws(b, out.tolerance)]
    total = sum(map(volume, out.bodies))
    if not found and total == pytest.approx(volume(body), rel=1e-7):
        return ""
    return "; ".join(found) or f"volume {total} for {volume(body)}"


@pytest.mark.parametrize(("seed", "free"), [(1, False), (5, False), (3, True)])
def test_planes_through_cans(seed, free):
    body, frame, levels, reaches = can(seed, free)
    assert not flaws(body, Model.of([body]).tolerance)
    every = list(planes(seed, frame, levels, reaches))[seed % 3 :: 4 if free else 2]
    told = [(k, wrong(body, plane, touching)) for k, (plane, touching) in enumerate(every)]
    assert not [x for x in told if x[1]]
