"""Mirror planes of a model, exact ones and those that nearly are: with the share of the surface that agrees and the
faces that do not; and the sector of a model that comes onto itself when it is turned."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.brep.analysis.symmetry import Symmetry, symmetry
from lithon.brep.measures import mass_properties
from lithon.brep.tessellation.sampling import spread_inside
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.tessellation.trees import tree_of
from lithon.brep.topology import Face, Model, rough_box
from lithon.geometry.surfaces import Plane
from lithon.progress import pulse

#: A point of the surface agrees where its image is within this share of the diagonal of the surface.
_NEAR = 2e-4
#: Below this share a plane is no mirror worth a word.
WORTH = 0.7


@dataclass(frozen=True, slots=True, eq=False)
class Mirror:
    """A plane, the share 0..1 of the surface whose image lies on the surface, and the faces that disagree."""

    plane: Plane
    share: float
    against: tuple[Face, ...]

    @property
    def exact(self) -> bool:
        return not self.against


def mirrors(model: Model) -> list[Mirror]:
    """Mirror planes through a model, the best first: those that hold exactly, and those near which most agrees."""
    found = symmetry(model)
    planes = [Plane.of(found.centre, n) for n in found.mirrors]
    if found.round:
        planes += [Plane.of(found.centre, n) for n in _across(found.axis)]
    out = [Mirror(plane, 1.0, ()) for plane in planes]
    for plane in _candidates(model):
        if any(plane.same_as(other, 1e-4, 10.0) for other in planes):
            continue
        pulse("looking for mirror planes")
        made = agreement(model, plane)
        if made.share >= WORTH:
            out.append(made)
            planes.append(plane)
    return sorted(out, key=lambda m: -m.share)


def _candidates(model: Model) -> list[Plane]:
    """Planes across the principal directions and the axes, through the middle of mass and of the box."""
    mass = [mass_properties(body) for body in model.bodies]
    volume = sum(m.volume for m in mass)
    centre = sum(m.volume * m.centroid for m in mass) / volume if volume else rough_box(model.bodies).mean(axis=0)
    spread = sum(
        m.inertia + m.volume * (float(d @ d) * np.eye(3) - np.outer(d, d)) for m in mass for d in (m.centroid - centre,)
    )
    principal = np.linalg.eigh(np.asarray(spread))[1].T
    middle = rough_box(model.bodies).mean(axis=0)
    return [Plane.of(at, way) for at in (middle, centre) for way in (*np.eye(3), *principal)]


def agreement(model: Model, plane: Plane) -> Mirror:
    """How much of a model's surface a plane mirrors onto the surface; by points spread over it."""
    box = rough_box(model.bodies)
    scale = float(np.linalg.norm(box[1] - box[0]))
    points, weights, owner = _spread(model, scale / 60.0)
    images = points - 2.0 * np.multiply.outer(plane.signed_distance(points), plane.frame.z)
    off = np.full(len(points), np.inf)
    for body in model.bodies:
        off = np.minimum(off, np.linalg.norm(tree_of(body).nearest(images)[1] - images, axis=1))
    good = off <= _NEAR * scale + _sagging(model)
    bad = np.bincount(owner, weights=np.where(good, 0.0, weights))
    whole = np.bincount(owner, weights=weights)
    faces = model.faces()
    against = tuple(faces[k] for k in np.flatnonzero(bad > 0.02 * whole))
    return Mirror(plane, float(weights[good].sum() / weights.sum()), against)


def _sagging(model: Model) -> float:
    """How far triangles may stand off curved faces, mm."""
    box = rough_box(model.bodies)
    curved = any(f.surface.kind not in ("plane", "facets") for f in model.faces())
    return 2e-3 * float(np.linalg.norm(box[1] - box[0])) if curved else 0.0


def _spread(model: Model, step: float) -> tuple[Floats, Floats, np.ndarray]:
    points, weights, owner = [], [], []
    for k, face in enumerate(model.faces()):
        mesh = face_mesh(face)
        corners = mesh.points[mesh.triangles]
        area = 0.5 * np.linalg.norm(cross_product(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
        at, of = spread_inside(corners, step, 12)
        count = np.bincount(of, minlength=len(corners))
        points.append(at)
        weights.append((area / np.maximum(count, 1))[of])
        owner.append(np.full(len(at), k))
    return np.concatenate(points), np.concatenate(weights), np.concatenate(owner)


def _across(axis: Floats) -> Sequence[Floats]:
    """Two directions square to an axis and to each other, along the coordinates as far as they go."""
    side = np.eye(3)[int(np.abs(axis).argmin())]
    first = unit(side - float(side @ axis) * axis)
    return first, cross_product(axis, first), axis


def square(found: Sequence[Mirror]) -> list[Plane]:
    """Of exact mirrors, as many as stand square to each other, those along the coordinates first."""
    out: list[Plane] = []
    for m in sorted(found, key=lambda m: -float(np.abs(m.plane.frame.z).max())):
        if m.exact and all(abs(float(m.plane.frame.z @ p.frame.z)) < 1e-6 for p in out):
            out.append(m.plane)
    return out


# ---- sectors


@dataclass(frozen=True, slots=True, eq=False)
class Turns:
    """An axis through `centre` about which a model comes onto itself `count` times in a turn."""

    centre: Floats
    axis: Floats
    count: int


def turns(model: Model) -> Turns | None:
    """The axis and count of a model's turns, if there are any."""
    found: Symmetry = symmetry(model)
    if found.round or found.count < 2:
        return None
    return Turns(found.centre, found.axis, found.count)


def best_start(model: Model, found: Turns, samples: int = 96) -> float:
    """The angle (radians, about the axis, from the direction `zero`) at which a cut crosses least of the surface: edges
    first, since each that is cut makes a short one, then area; away from where the surface runs along the cut."""
    frame = zero(found)
    step = 2.0 * np.pi / found.count
    edge_angles, lengths = [], []
    for body in model.bodies:
        for edge in body.edges():
            t = np.linspace(edge.t0, edge.t1, 9)
            p = frame.frame.local(edge.curve.point(t))
            edge_angles.append(np.mod(np.arctan2(p[:, 1], p[:, 0]), step))
            lengths.append(np.full(9, edge.length / 9.0))
    angles, weight = np.concatenate(edge_angles), np.concatenate(lengths)
    grid = (np.arange(samples) + 0.5) * step / samples
    gap = np.abs(angles[None, :] - grid[:, None])
    gap = np.minimum(gap, step - gap)
    near = np.exp(-0.5 * (gap / (0.02 * step)) ** 2) @ weight
    near = scipy.ndimage.gaussian_filter1d(near, 1.0, mode="wrap")
    return float(grid[int(near.argmin())])


def zero(found: Turns) -> Plane:
    """The plane across the axis whose x is where angles begin."""
    return Plane.of(frozen(found.centre), found.axis, _across(found.axis)[0])
