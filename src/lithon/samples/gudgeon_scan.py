"""The gudgeon scan of Tarnhow Lock: a bracket with a bore as a scanner sees it.

Triangles of a known solid, finely divided, with noise, then holes torn into them, triangles turned round
and doubled, and a fragment left inside. The dice are thrown from a seed; every wound is written down.
"""

from __future__ import annotations

import functools
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, Ints, triangle_areas
from lithon.brep.faceted import Triangles, bodies_of
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Body, Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Round, face_toward, prism, rectangle, sink
from lithon.samples.wounds import Wound


@dataclass(frozen=True, slots=True)
class Gudgeon:
    """Dimensions in mm and the closed form that follows from them."""

    length: float = 70.0
    width: float = 44.0
    height: float = 26.0
    bore: float = 13.0
    spacing: float = 2.4
    noise: float = 0.02

    @property
    def volume(self) -> float:
        return float(self.length * self.width * self.height - np.pi * self.bore**2 * self.height)


GUDGEON = Gudgeon()


def sound_gudgeon() -> Body:
    g = GUDGEON
    x, y = g.length / 2.0, g.width / 2.0
    block = prism(rectangle(-x, -y, x, y), g.height, name="gudgeon")
    up = Frame.of((0, 0, g.height), (0, 0, 1), (1, 0, 0))
    top, under = face_toward(block, (0, 0, 1)), face_toward(block, (0, 0, -1))
    return sink(block, top, up, Round((0.0, 0.0), g.bore), g.height, under)


def finer(points: Floats, corners: Ints, spacing: float) -> tuple[Floats, Ints]:
    """Triangles cut at the middles of sides longer than the spacing, both neighbours alike, until none is."""
    for _ in range(40):
        n = len(points)
        sides = np.concatenate([corners[:, [k, (k + 1) % 3]] for k in range(3)])
        low, high = sides.min(axis=1), sides.max(axis=1)
        key, back = np.unique(low * n + high, return_inverse=True)
        long = np.linalg.norm(points[key // n] - points[key % n], axis=1) > spacing
        if not long.any():
            break
        number = np.full(len(key), -1)
        number[long] = n + np.arange(int(long.sum()))
        points = np.vstack([points, 0.5 * (points[key[long] // n] + points[key[long] % n])])
        middle = number[back.reshape(-1)].reshape(3, -1).T
        made = []
        for (a, b, c), (ab, bc, ca) in zip(corners.tolist(), middle.tolist(), strict=True):
            cut = (ab >= 0) + 2 * (bc >= 0) + 4 * (ca >= 0)
            if cut == 7:
                made += [(a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca)]
                continue
            while cut in (2, 4, 6, 5):  # turned until the cut sides come first
                a, b, c, ab, bc, ca = b, c, a, bc, ca, ab
                cut = (ab >= 0) + 2 * (bc >= 0) + 4 * (ca >= 0)
            if cut == 0:
                made.append((a, b, c))
            elif cut == 1:
                made += [(a, ab, c), (ab, b, c)]
            else:
                made += [(ab, b, bc), (a, ab, bc), (a, bc, c)]
        corners = np.array(made, dtype=np.int64)
    return points, corners


@functools.cache
def _fine_gudgeon() -> tuple[Floats, Ints]:
    points, corners, _ = body_mesh(sound_gudgeon())
    return finer(points, corners, GUDGEON.spacing)


def scanned(seed: int = 7) -> tuple[Triangles, list[Wound]]:
    """The scan, and what is wrong with it."""
    dice = np.random.default_rng(seed)
    points, corners = _fine_gudgeon()
    corners = corners.copy()  # some of them will be turned round
    # Noise, less of it where triangles are small: a scanner does not fold its own triangles.
    shortest = np.full(len(points), np.inf)
    for k in range(3):
        a, b = corners[:, k], corners[:, (k + 1) % 3]
        length = np.linalg.norm(points[a] - points[b], axis=1)
        np.minimum.at(shortest, a, length)
        np.minimum.at(shortest, b, length)
    height = 2.0 * triangle_areas(points, corners) / _longest(points, corners)
    for k in range(3):
        np.minimum.at(shortest, corners[:, k], height)
    scale = np.minimum(GUDGEON.noise, 0.05 * shortest)
    points = points + scale[:, None] * np.clip(dice.normal(size=points.shape), -2.5, 2.5)
    at = points[corners].mean(axis=1)
    wounds: list[Wound] = []
    taken: list[Floats] = []

    def place(away: float) -> int:
        """A triangle well off all wounds and off the solid's edges."""
        g = GUDGEON
        half = 0.5 * np.array([g.length, g.width, g.height])
        while True:
            k = int(dice.integers(len(corners)))
            p = at[k] - [0.0, 0.0, 0.5 * g.height]
            inner = int((np.abs(p) < half - 4.0).sum()) == 2 and abs(np.hypot(p[0], p[1]) - g.bore) > 5.0
            if inner and all(float(np.linalg.norm(at[k] - t)) > away for t in taken):
                taken.append(at[k])
                return k

    keep = np.ones(len(corners), dtype=bool)
    for _ in range(3):
        k, radius = place(16.0), float(dice.uniform(2.5, 4.0))
        gone = np.linalg.norm(at - at[k], axis=1) < radius
        keep &= ~gone
        sides = np.concatenate([corners[gone][:, [i, (i + 1) % 3]] for i in range(3)])
        walked = {(a, b) for a, b in sides.tolist()}
        outer = [(a, b) for a, b in walked if (b, a) not in walked]
        around = float(sum(np.linalg.norm(points[a] - points[b]) for a, b in outer))
        wounds.append(Wound("open boundary", _tuple(at[k]), radius + 3.0, around))
    for kind in ("flipped face", "doubled face"):
        for _ in range(2):
            k = place(9.0)
            if kind == "flipped face":
                corners[k] = corners[k, ::-1]
            else:
                corners = np.vstack([corners, corners[k]])
                keep, at = np.append(keep, True), np.vstack([at, at[k]])
            wounds.append(Wound(kind, _tuple(at[k]), 3.0, None))
    # A fragment: a small tetrahedron in the material beside the bore.
    centre = np.array([24.0, float(dice.uniform(-10.0, 10.0)), float(dice.uniform(9.0, 17.0))])
    r = float(dice.uniform(1.5, 3.0))
    base = len(points)
    tips = r * np.array([[1, 1, 1], [1, -1, -1], [-1, 1, -1], [-1, -1, 1]]) / np.sqrt(3.0)
    points = np.vstack([points, centre + tips])
    four = base + np.array([[0, 1, 2], [0, 3, 1], [0, 2, 3], [1, 3, 2]])
    wounds.append(Wound("fragment inside", _tuple(centre), r, None))
    corners = np.vstack([corners[keep], four])
    # As the format keeps it: each triangle by itself, in single precision.
    soup = points.astype(np.float32).astype(float)[corners].reshape(-1, 3)
    return Triangles(soup, np.arange(len(soup)).reshape(-1, 3), "gudgeon"), wounds


def _longest(points: Floats, corners: Ints) -> Floats:
    p = points[corners]
    return np.asarray(np.linalg.norm(p - np.roll(p, 1, axis=1), axis=2).max(axis=1))


def _tuple(p: Floats) -> tuple[float, float, float]:
    return float(p[0]), float(p[1]), float(p[2])


def gudgeon_scan() -> Model:
    """As it stands on the intake table."""
    return Model.of(bodies_of([scanned()[0]])[0])
