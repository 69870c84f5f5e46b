"""Parts of Tarnhow Lock that become sheets: the culvert's joint, cut to a plane model, and the lock's beam."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrange.boolean import combine
from lithon.brep.topology import Body, Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Piece, Point2, face_toward, prism, rectangle, revolved, sink
from lithon.samples.cast_anchor import STAMP
from lithon.samples.outline import area


@dataclass(frozen=True, slots=True)
class Joint:
    """The culvert's joint about z, mm: a spigot in the bore of a square bell, and a seal in the bell's groove."""

    bore: float = 50.0
    spigot: float = 60.0
    groove: float = 64.0
    half: float = 80.0
    start: float = 50.0
    seat: float = 100.0
    stop: float = 150.0
    groove_from: float = 70.0
    groove_to: float = 80.0

    @property
    def spigot_area(self) -> float:
        """Of the section on one side of the axis, as the others are."""
        return (self.spigot - self.bore) * self.seat

    @property
    def seal_area(self) -> float:
        return (self.groove - self.spigot) * (self.groove_to - self.groove_from)

    @property
    def bell_area(self) -> float:
        whole = (self.half - self.spigot) * (self.seat - self.start) + (self.half - self.bore) * (self.stop - self.seat)
        return whole - self.seal_area

    @property
    def bell_volume(self) -> float:
        hollow = self.spigot**2 * (self.seat - self.start) + self.bore**2 * (self.stop - self.seat)
        hollow += (self.groove**2 - self.spigot**2) * (self.groove_to - self.groove_from)
        return float(4.0 * self.half**2 * (self.stop - self.start) - np.pi * hollow)


JOINT = Joint()


def _up(z: float = 0.0) -> Frame:
    return Frame.of((0.0, 0.0, z), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))


def _ring(inner: float, outer: float, low: float, high: float, name: str) -> Body:
    corners = [(inner, low), (outer, low), (outer, high), (inner, high)]
    return revolved([Piece(c) for c in corners], _up(), name)


def culvert_joint() -> Model:
    """Three bodies in contact."""
    j = JOINT
    block = prism(rectangle(-j.half, -j.half, j.half, j.half), j.stop - j.start, _up(j.start), "bell")
    hollow = [
        (0.0, j.start - 10.0), (j.spigot, j.start - 10.0), (j.spigot, j.groove_from), (j.groove, j.groove_from),
        (j.groove, j.groove_to), (j.spigot, j.groove_to), (j.spigot, j.seat), (j.bore, j.seat), (j.bore, j.stop + 10.0),
        (0.0, j.stop + 10.0),
    ]  # fmt: skip
    (bell,) = combine(block, revolved([Piece(c) for c in hollow], _up(), "hollow"), "subtract", 1e-5)
    return Model.of([
        _ring(j.bore, j.spigot, 0.0, j.seat, "spigot"), bell,
        _ring(j.spigot, j.groove, j.groove_from, j.groove_to, "seal"),
    ])  # fmt: skip


@dataclass(frozen=True, slots=True)
class Beam:
    """The lock's beam along z, mm: an I with root rounds, chamfered along its top, with two windows and a slot through
    its web and a number stamped on its top."""

    height: float = 120.0
    width: float = 80.0
    flange: float = 10.0
    web: float = 8.0
    root: float = 6.0
    chamfer: float = 1.5
    length: float = 400.0
    window: tuple[float, float] = (60.0, 40.0)
    windows_at: tuple[float, ...] = (80.0, 320.0)
    corner: float = 8.0
    slot: tuple[float, float] = (50.0, 14.0)
    stamp: float = 0.5

    def plain(self, root: float, raised: float = 0.0) -> float:
        """The volume of the plain I with root rounds of a radius, its top flange raised."""
        flanges = 2.0 * self.width * self.flange
        web = (self.height + raised - 2.0 * self.flange) * self.web
        return float((flanges + web + 4.0 * (1.0 - np.pi / 4.0) * root**2) * self.length)

    @property
    def volume(self) -> float:
        """As it comes."""
        chamfers = self.chamfer**2 * self.length
        (a, b), r, (c, d) = self.window, self.corner, self.slot
        windows = len(self.windows_at) * (a * b - (4.0 - np.pi) * r**2)
        slot = (c - d) * d + np.pi * d**2 / 4.0
        return float(
            self.plain(self.root) - chamfers - (windows + slot) * self.web - sum(map(area, STAMP)) * self.stamp
        )


BEAM = Beam()


def _section(s: Beam) -> list[Piece]:
    """Counter-clockwise, from the lower left corner."""
    a, b = 0.5 * (s.width - s.web), 0.5 * (s.width + s.web)
    low, high, r, c = s.flange, s.height - s.flange, s.root, s.chamfer

    def bend(start: Point2, centre: Point2) -> Piece:
        return Piece(start, centre, ccw=False)

    return [
        Piece((0.0, 0.0)), Piece((s.width, 0.0)), Piece((s.width, low)),
        bend((b + r, low), (b + r, low + r)), Piece((b, low + r)),
        bend((b, high - r), (b + r, high - r)), Piece((b + r, high)),
        Piece((s.width, high)), Piece((s.width, s.height - c)), Piece((s.width - c, s.height)),
        Piece((c, s.height)), Piece((0.0, s.height - c)), Piece((0.0, high)),
        bend((a - r, high), (a - r, high - r)), Piece((a, high - r)),
        bend((a, low + r), (a - r, low + r)), Piece((a - r, low)), Piece((0.0, low)),
    ]  # fmt: skip


def lock_beam() -> Model:
    s = BEAM
    body = prism(_section(s), s.length, _up(), "lock beam")
    side = 0.5 * (s.width + s.web)
    middle = 0.5 * s.height
    at = Frame.of((side, middle, 0.0), (1.0, 0.0, 0.0), (0.0, 0.0, 1.0))  # x along the beam, y down
    (length, high), (long, wide) = s.window, s.slot
    holes = [rectangle(z - 0.5 * length, -0.5 * high, z + 0.5 * length, 0.5 * high, s.corner) for z in s.windows_at]
    z, r = 0.5 * s.length, 0.5 * wide
    left, right = z - 0.5 * long + r, z + 0.5 * long - r
    holes.append([
        Piece((left, -r)), Piece((right, -r), (right, 0.0)), Piece((right, r)), Piece((left, r), (left, 0.0)),
    ])  # fmt: skip
    for hole in holes:
        near = face_toward(body, (1, 0, 0), (side, 0.0, 0.0))
        far = face_toward(body, (-1, 0, 0), (side - s.web, 0.0, 0.0))
        body = sink(body, near, at, hole, s.web, far)
    for k, character in enumerate(STAMP):
        top = Frame.of((0.5 * s.width + 3.0, s.height, 150.0 + 5.5 * k), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))
        body = sink(body, face_toward(body, (0, 1, 0)), top, character, s.stamp)
    return Model.of([body])
