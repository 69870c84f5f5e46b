"""Bodies that are congruent: the same fastener forty times, whether a file says so or not.

Volume, area and counts must agree; then a motion is sought that takes the marked points of one body
onto those of the other: their principal axes onto each other, and, where those leave a turn open, a point off
the axis onto each of its candidates. A mirror image is no twin.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy

from lithon.arrays import Floats, cross_product
from lithon.brep.copies import Copy, copy_of, root_of
from lithon.brep.measures import face_area, face_centroid, mass_properties
from lithon.brep.topology import Body, Face, Model
from lithon.geometry.curves import Ellipse
from lithon.remembered import Remembered

_NEAR = 1e-5


@dataclass(frozen=True, slots=True, eq=False)
class _Shape:
    """What does not change under a motion, and what moves with it: the middle, axes and points of what is marked."""

    numbers: Floats
    counts: tuple[int, ...]
    centre: Floats
    principal: Floats
    axes: Floats
    points: Floats


_shapes = Remembered[Body, _Shape]("brep/analysis/twins:shapes")


def _shape(body: Body) -> _Shape:
    return _shapes.over(body, copy_of, _found, _moved_shape)


def _moved_shape(copy: Copy, there: _Shape) -> _Shape:
    at, axes = copy.points(np.vstack([there.centre, there.points])), copy.ways(there.axes)
    return replace(there, centre=at[0], axes=axes, points=at[1:])


def _found(body: Body) -> _Shape:
    # The axes are those of the marked points, which a file gives to the last digit: the moments of what it encloses
    # hang on how well its edges lie on its faces, more so the farther it stands from the origin.
    mass = mass_properties(body)
    marked = [v.point for v in body.vertices()]
    for edge in body.edges():
        if not edge.ring:
            marked.append(edge.at(0.5))
        elif isinstance(edge.curve, Ellipse):
            marked.append(edge.curve.frame.origin)
    marked += [face.surface.frame.origin for face in body.faces if not face.loops]
    points = np.array(marked) if marked else mass.centroid[None]
    centre = points.mean(axis=0)
    principal, axes = np.linalg.eigh((points - centre).T @ (points - centre))
    size = float(np.cbrt(abs(mass.volume))) or 1.0
    spread = principal / (len(points) * size**2)
    numbers = np.array([mass.volume / size**3, mass.area / size**2, *spread, np.log(size)])
    kinds = [f.surface.kind for f in body.faces]
    counts = (len(kinds), len(body.edges()), *(kinds.count(k) for k in sorted(set(kinds))))
    return _Shape(numbers, counts, centre, spread, axes.T, points)


def twins(model: Model) -> list[list[Body]]:
    """The bodies in groups of congruent ones, in the model's order."""
    groups: list[list[Body]] = []
    for body in model.bodies:
        for group in groups:
            if motion_between(group[0], body) is not None:
                group.append(body)
                break
        else:
            groups.append([body])
    return groups


def motion_between(a: Body, b: Body) -> Floats | None:
    """The motion (4,4) that takes body a onto b, or None where they are not congruent."""
    here, there = copy_of(a), copy_of(b)
    if root_of(a) is root_of(b):
        from_root = np.eye(4) if here is None else here.motion
        onto = np.eye(4) if there is None else there.motion
        motion = np.asarray(onto @ np.linalg.inv(from_root))
        if np.linalg.det(motion[:3, :3]) > 0.0:
            return motion
    one, two = _shape(a), _shape(b)
    if one.counts != two.counts or len(one.points) != len(two.points):
        return None
    if not np.allclose(one.numbers, two.numbers, rtol=_NEAR, atol=_NEAR):
        return None
    reach = float(np.linalg.norm(one.points - one.centre, axis=1).max()) + 1e-12
    tree = scipy.spatial.cKDTree(two.points)
    for turn in _turns(one, two):
        moved = (one.points - one.centre) @ turn.T + two.centre
        if float(tree.query(moved)[0].max()) < 10.0 * _NEAR * reach:
            motion = np.eye(4)
            motion[:3, :3] = turn
            motion[:3, 3] = two.centre - turn @ one.centre
            return motion
    return None


def on_twins(model: Model, faces: Sequence[Face]) -> list[Face]:
    """Faces, and behind them those that lie alike on the twins of their bodies."""
    out = dict.fromkeys(faces)
    for body in model.bodies:
        own = [f for f in faces if f in body.faces]
        if not own:
            continue
        for other in model.bodies:
            if other is not body and (motion := motion_between(body, other)) is not None:
                out.update(dict.fromkeys(_alike(own, other, motion)))
    return list(out)


def _alike(faces: Sequence[Face], other: Body, motion: Floats) -> list[Face]:
    """The faces of another body that a motion takes these onto."""
    theirs = other.faces
    places = np.array([face_centroid(f) for f in theirs])
    areas = np.array([face_area(f) for f in theirs])
    out = []
    for face in faces:
        away = np.linalg.norm(places - (motion[:3, :3] @ face_centroid(face) + motion[:3, 3]), axis=1)
        strange = np.array([f.surface.kind != face.surface.kind for f in theirs])
        out.append(theirs[int(np.where(strange, np.inf, away + np.abs(areas - face_area(face)) ** 0.5).argmin())])
    return out


def _turns(one: _Shape, two: _Shape) -> Iterator[Floats]:
    """Rotations (3,3) that take the principal axes of one onto those of the other."""
    p = one.principal
    same = np.abs(np.diff(p)) <= 1e-4 * float(p.max())
    if not same.any():
        for x, y in itertools.product((1.0, -1.0), repeat=2):
            signs = np.array([x, y, 1.0])
            axes = two.axes * signs[:, None]
            axes[2] = cross_product(axes[0], axes[1])
            start = one.axes.copy()
            start[2] = cross_product(start[0], start[1])
            yield np.asarray(axes.T @ start)
        return
    # A turn is open: about the odd axis, or about all. Two marked points fix it.
    away = one.points - one.centre
    odd = None if same.all() else one.axes[0 if same[1] else 2]
    other = None if same.all() else two.axes[0 if same[1] else 2]
    far = np.linalg.norm(away, axis=1)
    if odd is None:
        k = int(far.argmax())
        if far[k] < 1e-9:
            yield np.eye(3)
            return
        odd = away[k] / far[k]
        theirs = two.points - two.centre
        length = np.linalg.norm(theirs, axis=1)
        like = np.flatnonzero(np.abs(length - far[k]) < 100.0 * _NEAR * far[k])
        ways = [theirs[j] / length[j] for j in like[:200]]
    else:
        assert other is not None
        ways = [other, -other]
    side = away - np.multiply.outer(away @ odd, odd)
    off = np.linalg.norm(side, axis=1)
    k = int(off.argmax())
    for way in ways:
        if off[k] < 1e-6 * (float(far.max()) + 1e-12):
            yield _onto(odd, None, way, None)
            continue
        theirs = two.points - two.centre
        flat = theirs - np.multiply.outer(theirs @ way, way)
        length = np.linalg.norm(flat, axis=1)
        near = (np.abs(length - off[k]) < 100.0 * _NEAR * off[k]) & (
            np.abs(theirs @ way - away[k] @ odd) < 100.0 * _NEAR * float(far.max())
        )
        for j in np.flatnonzero(near)[:200]:
            yield _onto(odd, side[k] / off[k], way, flat[j] / length[j])


def _onto(z: Floats, x: Floats | None, new_z: Floats, new_x: Floats | None) -> Floats:
    """The rotation that takes one pair of directions at right angles onto another."""

    def frame(main: Floats, side: Floats | None) -> Floats:
        if side is None:
            least = np.eye(3)[int(np.argmin(np.abs(main)))]
            side = least - main * float(least @ main)
            side = side / np.linalg.norm(side)
        return np.array([side, cross_product(main, side), main])

    return np.asarray(frame(new_z, new_x).T @ frame(z, x))
