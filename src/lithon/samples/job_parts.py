"""Parts of Tarnhow Lock that come with a job: the paddle drive, the latch lever, the test strip's dimensions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrange.boolean import combine
from lithon.brep.topology import Body, Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Piece, Round, face_toward, prism, rectangle, revolved, sink


@dataclass(frozen=True, slots=True)
class Drive:
    """The paddle drive's spindle along z, dimensions in mm: a toothed end, a shoulder with a chamfer, a longer end."""

    root: float = 14.0
    tip: float = 17.0
    teeth: int = 8
    #: The share of a pitch that a tooth fills.
    share: float = 0.5
    toothed: float = 24.0
    neck: float = 80.0
    collar: float = 24.0
    collar_end: float = 100.0
    chamfer: float = 4.0
    long_radius: float = 20.0
    length: float = 170.0

    @property
    def tooth_area(self) -> float:
        """Of one tooth's section beyond the root circle."""
        return float(0.5 * (2.0 * np.pi * self.share / self.teeth) * (self.tip**2 - self.root**2))

    @property
    def teeth_volume(self) -> float:
        return self.teeth * self.tooth_area * self.toothed

    @property
    def turned_volume(self) -> float:
        """Without teeth."""
        a, b, c = self.collar, self.long_radius, self.chamfer
        frustum = np.pi * c / 3.0 * (a * a + a * b + b * b)
        return float(
            np.pi * self.root**2 * self.neck
            + np.pi * a**2 * (self.collar_end - self.neck)
            + frustum
            + np.pi * b**2 * (self.length - self.collar_end - c)
        )


DRIVE = Drive()


def _gear(d: Drive) -> list[Piece]:
    """The toothed section, counter-clockwise: arcs on the tip and root circles, sides along radii."""
    out = []
    pitch = 2.0 * np.pi / d.teeth
    for k in range(d.teeth):
        a, b = k * pitch, (k + d.share) * pitch
        out.append(Piece((d.tip * np.cos(a), d.tip * np.sin(a)), (0.0, 0.0)))
        out.append(Piece((d.tip * np.cos(b), d.tip * np.sin(b))))
        out.append(Piece((d.root * np.cos(b), d.root * np.sin(b)), (0.0, 0.0)))
        nxt = (k + 1) * pitch
        out.append(Piece((d.root * np.cos(nxt), d.root * np.sin(nxt))))
    return out


def _up(z: float = 0.0) -> Frame:
    return Frame.of((0.0, 0.0, z), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))


def paddle_drive() -> Model:
    """The spindle among its neighbours: a bush on its neck and one on its long end, clear of it."""
    d = DRIVE
    side = [
        Piece((0.0, 0.0)), Piece((d.root, 0.0)), Piece((d.root, d.neck)), Piece((d.collar, d.neck)),
        Piece((d.collar, d.collar_end)), Piece((d.long_radius, d.collar_end + d.chamfer)),
        Piece((d.long_radius, d.length)), Piece((0.0, d.length)),
    ]  # fmt: skip
    turned = revolved(side, _up(), "spindle")
    (spindle,) = combine(turned, prism(_gear(d), d.toothed, _up(), "teeth"), "union", 1e-5)
    bushes = [
        _bush(d.root + 0.2, 22.0, 40.0, 60.0, "neck bush"),
        _bush(d.long_radius + 0.2, 30.0, 120.0, 150.0, "bush"),
    ]
    return Model.of([spindle, *bushes])


def _bush(inner: float, outer: float, low: float, high: float, name: str) -> Body:
    body = prism(Round((0.0, 0.0), outer), high - low, _up(low), name)
    top, under = face_toward(body, (0, 0, 1)), face_toward(body, (0, 0, -1))
    return sink(body, top, _up(high), Round((0.0, 0.0), inner), high - low, under)


@dataclass(frozen=True, slots=True)
class Lever:
    """The latch lever, mm: a flat bar with a bore near one end."""

    length: float = 120.0
    width: float = 30.0
    thickness: float = 10.0
    bore: float = 5.0
    bore_at: float = 20.0

    @property
    def volume(self) -> float:
        return float(self.length * self.width * self.thickness - np.pi * self.bore**2 * self.thickness)


LEVER = Lever()


def latch_lever() -> Model:
    """As it arrives: nothing but faces."""
    s = LEVER
    body = prism(rectangle(0.0, 0.0, s.length, s.width), s.thickness, _up(), "latch lever")
    top, under = face_toward(body, (0, 0, 1)), face_toward(body, (0, 0, -1))
    bore = Round((s.bore_at, 0.5 * s.width), s.bore)
    return Model.of([sink(body, top, _up(s.thickness), bore, s.thickness, under)])


@dataclass(frozen=True, slots=True)
class Strip:
    """The test strip, mm: two grips and a waist, rounded where they meet."""

    grip: float = 30.0
    waist: float = 40.0
    width: float = 20.0
    narrow: float = 10.0
    thickness: float = 4.0
    radius: float = 3.0

    @property
    def volume(self) -> float:
        flat = 2.0 * self.grip * self.width + self.waist * self.narrow + 4.0 * (1.0 - np.pi / 4.0) * self.radius**2
        return float(flat * self.thickness)


STRIP = Strip()
