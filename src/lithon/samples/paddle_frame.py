"""The paddle frame of Tarnhow Lock: two plates held by twelve identical bolts, two bushes, a pin that
turns in them with a thin gap on purpose, and a stop that was drawn 0.2 mm into the plate by mistake.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from lithon.brep.topology import Body, Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Round, face_toward, prism, raised, rectangle, sink


@dataclass(frozen=True, slots=True)
class PaddleFrame:
    """Dimensions in mm and the closed forms that follow from them."""

    length: float = 160.0
    width: float = 70.0
    lower: float = 10.0
    upper: float = 6.0
    bolt: float = 6.0
    head: float = 10.0
    head_height: float = 4.0
    bush_x: float = 40.0
    bush: float = 20.0
    pin: float = 14.0
    gap: float = 0.1
    stop: float = 12.0
    overlap: float = 0.2

    @property
    def bolt_places(self) -> list[tuple[float, float]]:
        xs = np.linspace(-self.length / 2 + 10.0, self.length / 2 - 10.0, 6)
        return [(float(x), y) for y in (-self.width / 2 + 9.0, self.width / 2 - 9.0) for x in xs]

    @property
    def volumes(self) -> dict[str, float]:
        quarter = np.pi / 4.0
        holes = 12.0 * quarter * self.bolt**2 + 2.0 * quarter * self.bush**2
        ground, both = self.length * self.width, self.lower + self.upper
        return {
            "lower plate": float((ground - holes) * self.lower),
            "upper plate": float((ground - holes) * self.upper),
            "bolt": float(quarter * (self.bolt**2 * both + self.head**2 * self.head_height)),
            "bush": float(quarter * (self.bush**2 - self.pin**2) * both),
            "pin": float(quarter * (self.pin - 2.0 * self.gap) ** 2 * 3.0 * both),
            "stop": float(self.stop**2 * 10.0),
        }

    @property
    def contacts(self) -> float:
        """Area (mm2) of everything that touches and does not overlap."""
        both = self.lower + self.upper
        holes = np.pi / 4.0 * (12.0 * self.bolt**2 + 2.0 * self.bush**2)
        between = self.length * self.width - holes
        shanks = 12.0 * np.pi * self.bolt * both
        heads = 12.0 * np.pi / 4.0 * (self.head**2 - self.bolt**2)
        return float(between + shanks + heads + 2.0 * np.pi * self.bush * both)


FRAME = PaddleFrame()


def paddle_frame(size: PaddleFrame = FRAME) -> Model:
    """Seventeen bodies about z, the plates' joint at z = 0."""
    s, up = size, (0.0, 0.0, 1.0)
    half_x, half_y = s.length / 2.0, s.width / 2.0

    def plate(z: float, thickness: float, name: str) -> Body:
        base = Frame.of((0.0, 0.0, z), up, (1.0, 0.0, 0.0))
        top = Frame.of((0.0, 0.0, z + thickness), up, (1.0, 0.0, 0.0))
        body = prism(rectangle(-half_x, -half_y, half_x, half_y), thickness, base, name)
        rounds = [Round(p, s.bolt / 2.0) for p in s.bolt_places]
        rounds += [Round((x, 0.0), s.bush / 2.0) for x in (-s.bush_x, s.bush_x)]
        for hole in rounds:
            body = sink(body, face_toward(body, up), top, hole, thickness, face_toward(body, (0.0, 0.0, -1.0)))
        return body

    both = s.lower + s.upper
    bodies = [plate(-s.lower, s.lower, "lower plate"), plate(0.0, s.upper, "upper plate")]
    for k, (x, y) in enumerate(s.bolt_places):
        base = Frame.of((x, y, s.upper), up, (1.0, 0.0, 0.0))
        head = prism(Round((0.0, 0.0), s.head / 2.0), s.head_height, base, _numbered("bolt", k))
        down = Frame.of((x, y, s.upper), (0.0, 0.0, -1.0), (1.0, 0.0, 0.0))
        bodies.append(raised(head, face_toward(head, (0.0, 0.0, -1.0)), down, Round((0.0, 0.0), s.bolt / 2.0), both))
    for k, x in enumerate((-s.bush_x, s.bush_x)):
        base = Frame.of((x, 0.0, -s.lower), up, (1.0, 0.0, 0.0))
        tube = prism(Round((0.0, 0.0), s.bush / 2.0), both, base, _numbered("bush", k))
        end = Frame.of((x, 0.0, s.upper), up, (1.0, 0.0, 0.0))
        below = face_toward(tube, (0.0, 0.0, -1.0))
        bodies.append(sink(tube, face_toward(tube, up), end, Round((0.0, 0.0), s.pin / 2.0), both, below))
    at = Frame.of((s.bush_x, 0.0, -s.lower - both), up, (1.0, 0.0, 0.0))
    bodies.append(prism(Round((0.0, 0.0), s.pin / 2.0 - s.gap), 3.0 * both, at, "pin"))
    stand = Frame.of((0.0, 0.0, s.upper - s.overlap), up, (1.0, 0.0, 0.0))
    bodies.append(prism(rectangle(-s.stop / 2, -s.stop / 2, s.stop / 2, s.stop / 2), 10.0, stand, "stop"))
    return Model.of([replace(body, path=_path(body.name)) for body in bodies])


def _numbered(part: str, k: int) -> str:
    return part if k == 0 else f"{part} {k + 1}"


def _path(name: str) -> tuple[str, ...]:
    """Where a body hangs in the product tree."""
    part = name.rstrip(" 0123456789")
    above = {"bolt": ("fasteners",), "bush": ("bearing",), "pin": ("bearing",)}
    return (*above.get(part, ()), part)
