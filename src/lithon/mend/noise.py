"""How far the corners of triangles scatter about what they were taken from, told from the triangles alone.

Corners about one lie on a paraboloid but for their scatter, or, where they bend much, on a quadric; at most places by
much the same, about creases by anything. What was made exactly lies in flats and strips, or bends evenly.
"""

from __future__ import annotations

import numpy as np
import scipy

from lithon.arrays import Floats, Ints, unit
from lithon.mend.fitting import freedoms
from lithon.mend.freeform import sagitta
from lithon.mend.growing import EXACT, FEW, SEVERAL, Growth

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
#: A share of the neighbourhoods, the quietest, what these leave of scatter, and how many times as much most may leave
#: for scatter alone.
_CALM = 0.15, 0.714, 3.2
#: So many places along creases tell; what their quietest share leaves of scatter, and how many times that is too much.
_LINES = 50, 0.714, 1.3
#: Where scatter turns triangles at a share of the corners by less than so many times what it would it is told too
#: large; by so many times in the median.
_CALMEST, _TURNS = 0.1, (0.5, 1.1)
#: What is no higher than this share of its half width bends little.
_FLATTISH = 0.25
#: So many triangles are asked whether they lie on a round surface exactly; nothing scatters where such a share do.
_SEEDS, _HELD = 24, 0.25
#: Less scatter than this share of a side is none.
_NOISE = 2e-3


def noise_of(points: Floats, corners: Ints) -> float:
    """How far (mm, root mean square) corners scatter about the surface that they lie on; 0 for triangles that were
    made from exact faces. Told from paraboloids through those around a corner, and from parabolas along creases."""
    grower = Growth(points, corners, EXACT * float(np.linalg.norm(np.ptp(points, axis=0))), 0.0)
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
    noise = _not_of_creases(grower, min(_mode(off), _BENT * _mode(bent)))
    calmest = float(np.quantile(bent, _CALM[0])) / _CALM[1]
    if noise > _CALM[2] * calmest:
        noise = calmest  # what most are alike in is how much they bend
    along = _along_creases(grower)
    if noise > _LINES[2] * along:
        noise = along  # everywhere is a crease, and they go straighter than what is about them
    return 0.0 if _lies_exactly(grower) else noise


def _lies_exactly(grower: Growth) -> bool:
    """Whether round surfaces hold what is about a good part of some triangles, as exactly as files are written: many
    corners more than tell one, of which what scatters leaves none."""
    seeds = np.random.default_rng(5).choice(len(grower.corners), min(len(grower.corners), _SEEDS), replace=False)
    for seed in seeds.tolist():
        if grower.label[seed] < 0 and grower.smooth(seed):
            grower.curved(seed)
    held = 0
    for k in np.unique(grower.label[seeds][grower.label[seeds] >= 0]).tolist():
        rows, surface = np.flatnonzero(grower.label == k), grower.found[k]
        surplus = len(np.unique(grower.corners[rows])) - (0 if surface is None else freedoms(surface))
        if len(rows) >= FEW and surplus >= FEW:
            held += int((grower.label[seeds] == k).sum())
    return held >= _HELD * len(seeds)


def _uneven(grower: Growth) -> float:
    """How far (mm) quiet corners stand off the middle of those beside them by more than these do off theirs."""
    points, corners = grower.points, grower.corners
    ring = _beside(points, corners)
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
    high = _heights(grower)
    by_scatter = _most_at(grower, turn / (noise / high[i] + noise / high[j]))
    calm = _turn_at(grower) < _SMOOTH
    if float(np.quantile(by_scatter, _CALMEST)) > _TURNS[0] or calm.mean() < _CALMEST:
        return noise
    return noise * float(np.median(by_scatter[calm])) / _TURNS[1]


def _along_creases(grower: Growth) -> float:
    """How far (mm) corners scatter about the lines along creases, told from parabolas through seven in a row; infinite
    where there are not many."""
    i, j, turn = grower.turn
    sharp = turn > _SMOOTH
    shared = (grower.corners[i[sharp]][:, :, None] == grower.corners[j[sharp]][:, None, :]).any(axis=2)
    ends = grower.corners[i[sharp]][shared & (shared.sum(axis=1) == 2)[:, None]].reshape(-1, 2)
    n = len(grower.points)
    degree = np.bincount(ends.ravel(), minlength=n)
    # The two beside a corner on a line: their sum less the one that it was come from is the one that it goes on to.
    both = np.bincount(ends.ravel(), ends[:, ::-1].ravel(), minlength=n).astype(np.int64)
    inner = degree == 2
    first = np.full(n, -1)
    first[ends.ravel()] = ends[:, ::-1].ravel()
    middle = np.flatnonzero(inner)
    row = [middle]
    for start in (first[middle], both[middle] - first[middle]):
        before, here, way = middle, start, list[Ints]()
        for _ in range(3):
            way.append(here)
            here, before = np.where((here >= 0) & inner[here], both[here] - before, -1), here
        row = [*reversed(way), *row] if len(row) == 1 else [*row, *way]
    chains = np.stack(row, axis=1)
    chains = chains[(chains >= 0).all(axis=1)]
    if len(chains) < _LINES[0]:
        return np.inf
    q = grower.points[chains]
    step = np.linalg.norm(np.diff(q, axis=1), axis=2)
    at = np.concatenate([np.zeros((len(q), 1)), np.cumsum(step, axis=1)], axis=1)
    at = at / np.maximum(at[:, -1:], 1e-300) - 0.5
    basis = np.linalg.qr(np.stack([np.ones_like(at), at, at * at], axis=2))[0]
    left = q - basis @ (np.swapaxes(basis, 1, 2) @ q)
    chord = unit(q[:, -1] - q[:, 0])
    left = left - (left @ chord[:, :, None]) * chord[:, None]
    told = np.sqrt((left**2).sum(axis=(1, 2)) / 8.0)  # two ways across, four more points than a parabola has numbers
    return float(np.quantile(told, _CALM[0])) / _LINES[1]


def _mode(values: Floats) -> float:
    """Where positive numbers lie closest together by their ratios (Bickel & Fruehwirth 2006): what stands off for its
    scatter alone does so by much the same everywhere, what lies about creases by anything."""
    logs = np.sort(np.log(np.maximum(values, 1e-300)))
    few = min(max(int(_CLOSEST * len(logs)), 1), len(logs) - 1)
    if not few:
        return float(values[0])
    first = int(np.argmin(logs[few:] - logs[: len(logs) - few]))
    return float(np.exp(np.median(logs[first : first + few])))


def _as_written(grower: Growth) -> Floats:
    """By how much (radians) each triangle (m,) may turn for the single precision alone in which files are written."""
    off = _DIGITS * float(np.abs(grower.points).max(initial=0.0))
    return off / np.maximum(_heights(grower), off)


def _heights(grower: Growth) -> Floats:
    """How high (mm) each triangle (m,) stands over its longest side."""
    sides = np.linalg.norm(grower.points[grower.corners] - grower.points[np.roll(grower.corners, 1, axis=1)], axis=2)
    return np.asarray(np.maximum(2.0 * grower.area / np.maximum(sides.max(axis=1), 1e-300), 1e-300))


def _beside(points: Floats, corners: Ints) -> scipy.sparse.csr_array:
    """Which points (n,n) are the ends of a side, 1 where they are."""
    i, j, n = corners[:, [0, 1, 2]].ravel(), corners[:, [1, 2, 0]].ravel(), len(points)
    ring = scipy.sparse.csr_array((np.ones(2 * len(i)), (np.append(i, j), np.append(j, i))), shape=(n, n))
    ring.data[:] = 1.0
    return ring


def _about_bends(points: Floats, corners: Ints) -> tuple[Floats, Floats]:
    """How far (mm, root mean square) corners around some of them stand off the paraboloid nearest to them (n,), and off
    the nearest of these and of quadrics, for what bends much stands off a paraboloid that does not scatter."""
    n = len(points)
    ring = _beside(points, corners)
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
