"""Triangles parted into patches that lie on one surface each: planes, cylinders, cones, spheres, tori, pipes.

From seed triangles a surface is fitted to their neighbourhood, then grown over all that lies on it (region growing with
robust fits: Schnabel, Wahl & Klein 2007; Attene, Falcidieno & Spagnuolo 2006). A fit is made better by least squares
over what it has grown to. What lies on nothing simple is a patch of facets.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from lithon.arrays import Floats, Ints, cross_product
from lithon.brep.tessellation.trees import triangle_normals
from lithon.errors import Refusal, spot
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Plane, Surface
from lithon.mend.contest import Contest
from lithon.mend.fitting import refined
from lithon.mend.growing import FEW, HOODS, likeliest, rounds_of
from lithon.mend.links import flood, given_away
from lithon.mend.pipes import Pipe, pipe_through
from lithon.mend.scan_patches import Scan
from lithon.mend.scans import parted_scan
from lithon.progress import pulse

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
