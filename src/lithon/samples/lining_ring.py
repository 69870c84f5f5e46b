"""The lining ring: a liner of six staves whose bore has little steps and an undercut under its nominal surface, a lug
proud of it, a sheet left inside one of them, two crumbs that belong nowhere, and a gap on purpose."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrange.boolean import combine
from lithon.brep.topology import Body, Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Piece, prism, rectangle
from lithon.samples.wounds import sheet_hidden


@dataclass(frozen=True, slots=True)
class Ring:
    """mm and degrees: the bore's nominal radius, the staves' thickness and height; how deep steps, groove and ledge lie
    under the nominal surface; how far the lug stands proud; how wide the gap is at the bore."""

    bore: float = 100.0
    outer: float = 112.0
    height: float = 40.0
    staves: int = 6
    step: float = 0.4
    groove: float = 0.6
    ledge: float = 0.3
    lug: float = 3.0
    gap: float = 0.5
    crumb: float = 0.8

    def angles(self, k: int) -> tuple[float, float]:
        """From where to where a stave is; the last one ends before the gap."""
        each = 2.0 * np.pi / self.staves
        spare = 2.0 * np.arcsin(0.5 * self.gap / self.bore) if k == self.staves - 1 else 0.0
        return k * each, (k + 1) * each - float(spare)

    def volume(self, k: int) -> float:
        """Of a stave as it was meant."""
        low, high = self.angles(k)
        return 0.5 * (high - low) * (self.outer**2 - self.bore**2) * self.height


RING = Ring()


def _at(radius: float, angle: float) -> tuple[float, float]:
    return float(radius * np.cos(angle)), float(radius * np.sin(angle))


def _up(z: float = 0.0) -> Frame:
    return Frame.of((0.0, 0.0, z), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))


def _stave(k: int, inside: list[Piece]) -> Body:
    """A stave over its outer arc; `inside`: the bore's pieces from its end back to its start."""
    r, (low, high) = RING, RING.angles(k)
    outer = [Piece(_at(r.outer, low), (0.0, 0.0)), Piece(_at(r.outer, high))]
    return prism([*outer, *inside, Piece(_at(r.bore, low))], r.height, _up(), f"stave {k + 1}")


def _arc(radius: float, start: float) -> Piece:
    return Piece(_at(radius, start), (0.0, 0.0), ccw=False)


def lining_ring() -> Model:
    """As it was left."""
    r = RING
    bodies = []
    for k in range(r.staves):
        low, high = r.angles(k)
        inside = [_arc(r.bore, high)]
        if k == 0:  # two steps at its end
            inside = [_arc(r.bore + r.step, high), Piece(_at(r.bore + r.step, high - 0.06)),
                      _arc(r.bore + 0.5 * r.step, high - 0.06), Piece(_at(r.bore + 0.5 * r.step, high - 0.15)),
                      _arc(r.bore, high - 0.15)]  # fmt: skip
        if k == 1:  # a groove that is wider at its bottom
            mid = 0.5 * (low + high)
            inside = [_arc(r.bore, high), Piece(_at(r.bore, mid + 0.02)), Piece(_at(r.bore + r.groove, mid + 0.025)),
                      Piece(_at(r.bore + r.groove, mid - 0.025)), _arc(r.bore, mid - 0.02)]  # fmt: skip
        body = _stave(k, inside)
        if k == 2:  # a ledge all along its top
            cut = prism([_arc_out(r.bore + r.ledge, low - 0.1), Piece(_at(r.bore + r.ledge, high + 0.1)),
                         Piece((0.0, 0.0))], 8.0, _up(r.height - 5.0), "ledge")  # fmt: skip
            (body,) = combine(body, cut, "subtract", 1e-6)
        if k == 3:  # a lug proud of the bore
            mid = 0.5 * (low + high)
            lug = prism([_arc_out(r.bore + 2.0, mid - 0.1), Piece(_at(r.bore + 2.0, mid + 0.1)),
                         Piece(_at(r.bore - r.lug, mid + 0.1)), Piece(_at(r.bore - r.lug, mid - 0.1))],
                        10.0, _up(12.0), "lug")  # fmt: skip
            (body,) = combine(body, lug, "union", 1e-6)
        if k == 4:
            mid = 0.5 * (low + high)
            middle = np.array([*_at(0.5 * (r.bore + r.outer), mid), 0.5 * r.height])
            body, _ = sheet_hidden(body, middle, np.array([0.0, 0.0, 1.0]), 5.0)
        bodies.append(body)
    at = r.outer + 5.0
    crumbs = [prism(rectangle(at, y, at + r.crumb, y + r.crumb), r.crumb, _up(), f"crumb {n + 1}")
              for n, y in enumerate((0.0, 4.0))]  # fmt: skip
    return Model.of([*bodies, *crumbs])


def _arc_out(radius: float, start: float) -> Piece:
    return Piece(_at(radius, start), (0.0, 0.0))
