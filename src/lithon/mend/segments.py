"""Triangles parted into patches that lie on one surface each: planes, cylinders, cones, spheres, tori, pipes.

From seed triangles a surface is fitted to their neighbourhood, then grown over all that lies on it (region growing with
robust fits: Schnabel, Wahl & Klein 2007; Attene, Falcidieno & Spagnuolo 2006). A fit is made better by least squares
over what it has grown to. What lies on nothing simple is a patch of facets.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy

from lithon.arrays import Floats, Ints, cross_product
from lithon.brep.tessellation.trees import triangle_normals
from lithon.errors import Refusal, spot
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Plane, Surface
from lithon.mend.contest import Contest
from lithon.mend.fitting import refined
from lithon.mend.freeform import sagitta
from lithon.mend.growing import FEW, HOODS, SEVERAL, Growth, likeliest, rounds_of
from lithon.mend.links import flood, given_away
from lithon.mend.pipes import Pipe, pipe_through
from lithon.mend.scan_patches import Scan
from lithon.mend.scans import parted_scan
from lithon.progress import pulse

#: Within a flat of what was made triangles turn by less (radians).
_MADE = np.radians(0.02)
#: Of what scatters no such share lies in flats as exact as that.
_EXACTLY_FLAT = 0.2
#: Corners at which triangles turn by less (radians) are on no crease; they tell the scatter where so large a share are
#: so, and it is less than this share of a side: more turns all triangles.
_SMOOTH = np.radians(20.0)
#: Of fewer triangles more scatter than this share of the diagonal is none; of fewer than these less than such a share
#: of how high what is smooth stands over their sides.
_COARSE = 600, 4e-3, 2000, 0.2
#: Numbers as single precision writes them are off by so much of the largest, corners against each other.
_DIGITS = 2.0**-22
#: Corners to which a paraboloid is fitted, at so many places at the most; this share of them is the quietest, and this
#: share those that are most alike.
_FIT, _QUIET, _CLOSEST = (14, 3000), 0.25, 0.25
#: Quadrics leave less of scatter than paraboloids do, by no more.
_BENT = 1.5
#: Where scatter turns triangles at a share of the corners by less than so many times what it would it is told too
#: large; by so many times in the median.
_CALMEST, _TURNS = 0.1, (0.5, 1.1)
#: What is no higher than this share of its half width bends little.
_FLATTISH = 0.25
#: Less scatter than this share of a side is none.
_NOISE = 2e-3
#: Where free-form faces may be, a scan's remains of fewer triangles go to what lies beside them.
_SPARSE = 60
#: From so many triangles of what was left a round surface is looked for once more.
_AGAIN = 12
#: In scatters: how far corners of a scan may stand off, to begin with.
ROUGH = 8.0
#: Triangles that turn by less (radians) are of a face that bends; so many of them on nothing simple are no accident.
_FINE, _MISSES = np.radians(20.0), 60
#: What lies on surfaces outweighs as many misses, in triangles for each.
_OUTWEIGH = 30


@dataclass(frozen=True, slots=True, eq=False)
class Patch:
    """A surface, none where nothing simple fits, and the triangles (rows) that lie on it."""

    surface: Surface | None
    rows: Ints
    off: float

    @property
    def kind(self) -> str:
        if self.surface is None:
            return "facets"
        return "pipe" if self.of_pipe else self.surface.kind

    @property
    def of_pipe(self) -> bool:
        """Whether it is a circle carried along a curve: no other patch has such a surface before borders are known."""
        return isinstance(self.surface, BSplineSurface)


def segmented(
    points: Floats, corners: Ints, tolerance: float, noise: float = 0.0, free: bool = False,
    known: dict[float, tuple[Ints, list[Surface]]] | None = None,
) -> list[Patch]:  # fmt: skip
    """The patches of closed triangles, the largest first; `tolerance`: how far (mm) corners may stand off a surface;
    noise: as `noise_of` tells it. `free`: what lies on no surface but such as hold a handful of triangles is left
    together as patches without one; where they are not left so, no patches where much lies on nothing simple. `known`:
    how a scan of these was parted before, by what was allowed; added to."""
    grower = _Grower(points, corners, tolerance, noise, free)
    grower.known = {} if known is None else known
    return grower.run()


def noise_of(points: Floats, corners: Ints) -> float:
    """How far (mm, root mean square) corners scatter about the surface that they lie on; 0 for triangles that were
    made from exact faces. Told from paraboloids through those around a corner."""
    grower = _Grower(points, corners, 0.0, 0.0)
    # What scatters little is nearly flat, and only what was made is flat as exactly as files are written.
    flat = grower.parts(_MADE, _as_written(grower))
    pieces = np.bincount(flat)
    wide = float(grower.area[pieces[flat] >= SEVERAL].sum())
    if len(pieces) < 0.7 * len(corners) or wide > _EXACTLY_FLAT * float(grower.area.sum()):
        return 0.0  # made triangles lie in strips and flats, most of them or the large ones
    off, bent = _about_bends(points, corners)
    if not len(off):
        return 0.0
    side = float(np.median(np.linalg.norm(points[corners] - points[np.roll(corners, 1, axis=1)], axis=2)))
    uneven = _uneven(grower)
    if min(float(np.quantile(bent, _QUIET)), uneven) <= _NOISE * side:
        return 0.0
    if len(corners) < _COARSE[0] and uneven > _COARSE[1] * float(np.linalg.norm(np.ptp(points, axis=0))):
        return 0.0  # of so few it is their shape
    calm = (_turn_at(grower) < _SMOOTH).sum() > 0.5 * len(points)  # beside creases nothing tells how it bends
    if len(corners) < _COARSE[2] and calm and uneven < _COARSE[3] * sagitta(points, corners):
        return 0.0  # so does what bends unevenly between corners that are far apart
    return _not_of_creases(grower, min(_mode(off), _BENT * _mode(bent)))


def _uneven(grower: Growth) -> float:
    """How far (mm) quiet corners stand off the middle of those beside them by more than these do off theirs."""
    points, corners = grower.points, grower.corners
    i, j = corners[:, [0, 1, 2]].ravel(), corners[:, [1, 2, 0]].ravel()
    ring = scipy.sparse.csr_array((np.ones(2 * len(i)), (np.append(i, j), np.append(j, i))), shape=(len(points),) * 2)
    ring.data[:] = 1.0
    count = np.maximum(np.asarray(ring.sum(axis=1)).ravel(), 1.0)
    normal = np.zeros_like(points)
    for k in range(3):
        np.add.at(normal, corners[:, k], grower.normal * grower.area[:, None])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    off = ((points - (ring @ points) / count[:, None]) * normal).sum(axis=1)
    # What neighbours stand off alike is a bend; of scatter this leaves 1.36 times as much where six are around.
    even = np.abs(off - (ring @ off) / count) / 1.36
    told = np.minimum(np.abs(off) / np.sqrt(1.0 + 1.0 / count), even)
    return float(1.4826 * np.quantile(told, 0.4))


def _not_of_creases(grower: Growth, noise: float) -> float:
    """How far corners scatter, when so much was told of places that may all have creases in them: scatter turns
    triangles over every side, and where it hardly does over some it is the less."""
    i, j, turn = grower.turn
    side = np.linalg.norm(grower.points[grower.corners] - grower.points[np.roll(grower.corners, 1, axis=1)], axis=2)
    high = np.maximum(2.0 * grower.area / np.maximum(side.max(axis=1), 1e-300), 1e-300)
    by_scatter = _most_at(grower, turn / (noise / high[i] + noise / high[j]))
    calm = _turn_at(grower) < _SMOOTH
    if float(np.quantile(by_scatter, _CALMEST)) > _TURNS[0] or calm.mean() < _CALMEST:
        return noise
    return noise * float(np.median(by_scatter[calm])) / _TURNS[1]


def _mode(values: Floats) -> float:
    """Where positive numbers lie closest together by their ratios (Bickel & Fruehwirth 2006): what stands off for its
    scatter alone does so by much the same everywhere, what lies about creases by anything."""
    logs = np.sort(np.log(np.maximum(values, 1e-300)))
    few = max(int(_CLOSEST * len(logs)), 1)
    first = int(np.argmin(logs[few:] - logs[: len(logs) - few]))
    return float(np.exp(np.median(logs[first : first + few])))


def _as_written(grower: Growth) -> Floats:
    """By how much (radians) each triangle (m,) may turn for the single precision alone in which files are written."""
    off = _DIGITS * float(np.abs(grower.points).max(initial=0.0))
    sides = grower.points[grower.corners] - grower.points[np.roll(grower.corners, 1, axis=1)]
    high = 2.0 * grower.area / np.maximum(np.linalg.norm(sides, axis=2).max(axis=1), 1e-300)
    return off / np.maximum(high, off)


def _about_bends(points: Floats, corners: Ints) -> tuple[Floats, Floats]:
    """How far (mm, root mean square) corners around some of them stand off the paraboloid nearest to them (n,), and off
    the nearest of these and of quadrics, for what bends much stands off a paraboloid that does not scatter."""
    n = len(points)
    i, j = corners[:, [0, 1, 2]].ravel(), corners[:, [1, 2, 0]].ravel()
    ring = scipy.sparse.csr_array((np.ones(2 * len(i)), (np.append(i, j), np.append(j, i))), shape=(n, n))
    some = np.random.default_rng(3).choice(n, min(n, _FIT[1]), replace=False)
    near = ring[some] @ (ring + scipy.sparse.eye_array(n, format="csr"))
    firsts = near.indptr[:-1][np.diff(near.indptr) >= _FIT[0]]
    if not len(firsts):
        return np.zeros(0), np.zeros(0)
    q = points[near.indices[firsts[:, None] + np.arange(_FIT[0])]]
    q = q - q.mean(axis=1, keepdims=True)
    q = q @ np.swapaxes(np.linalg.svd(q, full_matrices=False)[2], 1, 2)
    wide = np.maximum(np.abs(q).max(axis=(1, 2)), 1e-300)
    q = q / wide[:, None, None]
    off = _off_paraboloids(q) * wide
    return off, np.where(np.ptp(q[:, :, 2], axis=1) < _FLATTISH, off, _off_quadrics(q) * wide)


def _off_paraboloids(q: Floats) -> Floats:
    """How far points (n,k,3) stand off the paraboloids over their first two coordinates nearest to them (n,)."""
    u, v, w = np.moveaxis(q, 2, 0)
    basis = np.linalg.qr(np.stack([np.ones_like(u), u, v, u * u, u * v, v * v], axis=2))[0]
    left = w - (basis @ (np.swapaxes(basis, 1, 2) @ w[:, :, None]))[:, :, 0]
    return np.asarray(np.sqrt((left**2).sum(axis=1) / (q.shape[1] - 6)))


def _off_quadrics(q: Floats) -> Floats:
    """How far points (n,k,3) stand off the quadrics nearest to them (n,), by the first order (Taubin 1991)."""
    u, v, w = np.moveaxis(q, 2, 0)
    o, i = np.zeros_like(u), np.ones_like(u)
    terms = np.stack([u, v, w, u * u, v * v, w * w, u * v, v * w, w * u], axis=2)
    slopes = np.stack([
        np.stack([i, o, o, 2.0 * u, o, o, v, o, w], axis=2),
        np.stack([o, i, o, o, 2.0 * v, o, u, w, o], axis=2),
        np.stack([o, o, i, o, o, 2.0 * w, o, v, u], axis=2),
    ], axis=1).reshape(len(q), -1, 9)  # fmt: skip
    terms = terms - terms.mean(axis=1, keepdims=True)
    steep = np.swapaxes(slopes, 1, 2) @ slopes
    whiten = np.linalg.inv(np.linalg.cholesky(steep + 1e-9 * q.shape[1] * np.eye(9)))
    off = np.linalg.eigvalsh(whiten @ (np.swapaxes(terms, 1, 2) @ terms) @ np.swapaxes(whiten, 1, 2))[:, 0]
    return np.asarray(np.sqrt(np.maximum(off, 0.0) * q.shape[1] / (q.shape[1] - 9)))


def _turn_at(grower: Growth) -> Floats:
    """By how much (radians) triangles turn over the sides at each corner (n,), at the most."""
    return _most_at(grower, grower.turn[2])


def _most_at(grower: Growth, values: Floats) -> Floats:
    """The largest at each corner (n,) of what is told of pairs of triangles that share a side."""
    i, j, _ = grower.turn
    shared = (grower.corners[i][:, :, None] == grower.corners[j][:, None, :]).any(axis=2)
    out = np.zeros(len(grower.points))
    np.maximum.at(out, grower.corners[i][shared], np.repeat(values, shared.sum(axis=1)))
    return out


def patch_on(points: Floats, corners: Ints, rows: Ints) -> Patch:
    """The simplest surface that some triangles lie on; none where their corners stand off all of them by more than a
    fiftieth of their width."""
    p = points[np.unique(corners[rows])]
    wide = float(np.linalg.norm(np.ptp(p, axis=0)))
    middle = p.mean(axis=0)
    way = np.linalg.svd(p - middle, full_matrices=False)[2][-1]
    a, b, c = (points[corners[rows, k]] for k in range(3))
    mean = cross_product(b - a, c - a).sum(axis=0)
    flat = Plane.of(middle, way if float(way @ mean) > 0.0 else -way)
    off = float(np.abs(flat.signed_distance(p)).max())
    normals = triangle_normals(points, corners[rows])
    fits = likeliest(rounds_of(points, corners[rows], normals, wide / 50.0)) if off > 1e-9 * wide else []
    best: Surface | None = flat
    for surface in fits[-1:]:
        round_off = float(np.abs(surface.signed_distance(p)).max())
        # A plane is also a large cylinder: the round one must be clearly nearer.
        if round_off < 0.3 * off:
            best, off = surface, round_off
    return Patch(best if off <= wide / 50.0 else None, rows, off)


#: The kinds of surface that a patch can be said to be of.
KINDS = ("plane", "cylinder", "cone", "sphere", "torus", "pipe")


def patch_as(points: Floats, corners: Ints, rows: Ints, kind: str) -> Patch:
    """The surface of a kind (of `KINDS`) that is nearest to some triangles. Raises Refusal where there is none."""
    p = points[np.unique(corners[rows])]
    wide = float(np.linalg.norm(np.ptp(p, axis=0)))
    if kind == "pipe":
        pipe = pipe_through(points, corners, rows, wide, any_spine=True)
        if pipe is None:
            raise _no_such(kind, p)
        return Patch(pipe.surface, rows, float(np.abs(pipe.surface.signed_distance(p)).max()))
    if kind == "plane":
        middle = p.mean(axis=0)
        way = np.linalg.svd(p - middle, full_matrices=False)[2][-1]
        made: list[Surface] = [Plane.of(middle, way)]
    else:
        normals = triangle_normals(points, corners[rows])
        made = [s for _, s in rounds_of(points, corners[rows], normals, wide) if s.kind == kind]
    better = [refined(s, p) for s in made]
    if not better:
        raise _no_such(kind, p)
    off = [float(np.abs(s.signed_distance(p)).max()) for s in better]
    best = int(np.argmin(off))
    return Patch(better[best], rows, off[best])


def _no_such(kind: str, p: Floats) -> Refusal:
    return Refusal(f"no {kind} comes near to these triangles", where=spot(p.mean(axis=0)), remedy="another kind")


def with_pipes(pipes: Sequence[Pipe], corners: Ints, parted: Callable[[Ints], list[Patch]]) -> list[Patch]:
    """Pipes as patches, and those that the rest of the triangles (m,3) are `parted` into; none where it is not."""
    if not pipes:
        return parted(corners)
    rest = np.setdiff1d(np.arange(len(corners)), np.concatenate([pipe.rows for pipe in pipes]))
    found = parted(corners[rest]) if len(rest) else []
    if len(rest) and not found:
        return []
    out = [Patch(pipe.surface, pipe.rows, pipe.off) for pipe in pipes]
    out += [replace(patch, rows=rest[patch.rows]) for patch in found]
    left = np.setdiff1d(rest, np.concatenate([patch.rows for patch in out]))
    return [*out, Patch(None, left, 0.0)] if len(left) else out


def grown(points: Floats, corners: Ints, patch: Patch, tolerance: float) -> Ints:
    """The triangles that hang together with a patch and lie within `tolerance` (mm) of its surface, its own too."""
    if patch.surface is None or patch.of_pipe:
        return patch.rows
    grower = _Grower(points, corners, tolerance, 0.0)
    mask = grower.on(patch.surface, tolerance, int(patch.rows[0]))
    mask[patch.rows] = True
    return flood(grower.starts, grower.other, mask, int(patch.rows[0]))


class _Grower(Contest):
    """The search for all patches of a body."""

    def run(self) -> list[Patch]:
        if self.noise > 0.0:
            self._rough()
            return self._patches()
        size: Floats = np.bincount(self.flat, weights=self.area).astype(float)
        seeds = self._seeds(size)
        later = []
        for seed in seeds.tolist():
            if self.label[seed] >= 0 or self.done[seed]:
                continue
            pulse("looking for surfaces")
            if not self.smooth(seed):
                self.plane(seed)
            elif self.lost[self.flat[seed]] or not (self.curved(seed) or self.tube(seed)):
                self.lost[self.flat[seed]] = True
                later.append(seed)
                if self.free and not self._wide(seed):
                    self.done[self.hood(seed, HOODS[1])] = True
                elif not self.free and self._missed(seed):
                    return []
        for seed in later:  # by now it is known what lies beside them
            if self.free and not self._wide(seed):
                continue
            if self.label[seed] < 0 and not self.curved(seed) and not self.about_an_axis(seed):
                self.plane(seed)
        if self.free:
            self._once_more()
        else:
            self._rest()
        self.about_their_axes()
        self.contest()
        self.chance_flats()
        self.to_the_nearer()
        self.where_they_touch()
        self.with_crumbs()
        if self.free:
            self._left_together(1)
        self.join()
        return self._patches()

    def _once_more(self) -> None:
        """Of what hangs together and was left, some triangles that were passed over since those beside them led to
        nothing: a torus is not found from its border."""
        passed = self.label < 0
        for seed in np.flatnonzero(passed).tolist():
            if not passed[seed]:
                continue
            rows = flood(self.calm_starts, self.calm_other, passed, seed)
            passed[rows] = False
            if len(rows) < FEW:
                continue
            for again in rows[np.linspace(0, len(rows) - 1, _AGAIN).astype(int)].tolist():
                pulse("looking for surfaces")
                if self.label[again] < 0 and self.smooth(again):
                    self.curved(again)

    def _rest(self) -> None:
        """What was left of a flat of which a round surface took a part."""
        for seed in np.flatnonzero(self.label < 0).tolist():
            if self.label[seed] < 0 and not self.curved(seed):
                self.plane(seed)

    def _missed(self, seed: int) -> bool:
        """Whether so many triangles that bend as finely as a round face's do lie on none that the others will not."""
        own = self.piece(seed)
        turns, beside = (
            np.concatenate([values[self.soft_starts[i] : self.soft_starts[i + 1]] for i in own.tolist()])
            for values in (self.soft_turn, self.soft_other)
        )
        _, first = np.unique(self.flat[beside], return_index=True)
        others = [j for j in beside[first].tolist() if self.flat[j] != self.flat[seed]]
        if len(own) > 2 or len(others) < 2 or float(turns.max()) >= _FINE:
            return False
        # A strip among others of its kind is no miss, nor is a flat between fillets.
        lost = 0
        for j in others:
            self.lost[self.flat[j]] |= self.label[j] < 0 and not self.lost[self.flat[j]] and not self.curved(j)
            lost += bool(self.label[j] < 0)
        self.misses += 2 * lost > len(others)
        return self.misses > max(_MISSES, int((self.label >= 0).sum()) // _OUTWEIGH)

    def _patches(self) -> list[Patch]:
        out = []
        for k, surface in enumerate(self.found):
            rows = np.flatnonzero(self.label == k)
            if not len(rows):
                continue
            p = self.points[np.unique(self.corners[rows])]
            off = float(np.abs(surface.signed_distance(p)).max()) if surface is not None else 0.0
            out.append(Patch(surface, rows, off))
        return sorted(out, key=lambda patch: -float(self.area[patch.rows].sum()))

    def _rough(self) -> None:
        """Of a scan hardly two triangles lie in one plane: patches compete for them."""
        pairs = np.stack([np.repeat(np.arange(len(self.corners)), np.diff(self.starts)), self.other], axis=1)
        slack = float(np.clip(self.tolerance / (ROUGH * self.noise), 1.0, 4.0))
        pairs = pairs[pairs[:, 0] < pairs[:, 1]]
        if slack not in self.known:
            self.known[slack] = parted_scan(
                Scan(self.points, self.corners, self.area, self.normal, pairs, self.noise, slack)
            )
        self.label, self.found = self.known[slack][0].copy(), list(self.known[slack][1])
        if self.free:
            self._left_together(_SPARSE)
        self._absorb()
        self.where_they_touch()

    def _absorb(self) -> None:
        """What lies on no patch goes to the nearest of those beside it, from the borders inwards."""

        def off(i: int, k: int) -> float:
            surface = self.found[k]
            return (
                np.inf
                if surface is None
                else float(np.abs(surface.signed_distance(self.points[self.corners[i]])).max())
            )

        if self.found:
            given_away(np.flatnonzero(self.label < 0).tolist(), self.label, self.starts, self.other, off)

    def _seeds(self, size: Floats) -> Ints:
        """One triangle of each flat piece, large pieces first."""
        order = np.lexsort((-self.area, -size[self.flat]))
        _, first = np.unique(self.flat[order], return_index=True)
        return order[np.sort(first)]

    def _wide(self, seed: int) -> bool:
        """Whether the flat piece of a seed is a plane by itself: of many triangles, or a fiftieth of all."""
        own = self.flat == self.flat[seed]
        return int(own.sum()) >= 12 or float(self.area[own].sum()) > 0.02 * float(self.area.sum())

    def _left_together(self, least: int) -> None:
        """What lies on nothing is a patch without a surface, as far as it goes without a crease, where that is of so
        many triangles at least."""
        for seed in np.flatnonzero(self.label < 0).tolist():
            if self.label[seed] < 0:
                rows = flood(self.calm_starts, self.calm_other, self.label < 0, seed)
                if len(rows) >= least:
                    self.take(None, rows)
