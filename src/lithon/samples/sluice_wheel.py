"""The sluice wheel of Tarnhow Lock: a hub with 23 blades between two plates, filleted at their roots.

Every twenty-third of a turn repeats; 360/23 degrees is no number to type.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.brep.topology import Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Piece, Round, face_toward, flanged, prism, raised, sink
from lithon.samples.outline import area


@dataclass(frozen=True, slots=True)
class Wheel:
    """Dimensions in mm and the closed forms that follow from them."""

    blades: int = 23
    hub: float = 22.0
    tip: float = 58.0
    plate: float = 64.0
    thickness: float = 5.0
    height: float = 18.0
    blade: float = 2.4
    root: float = 1.2
    bore: float = 12.0

    def outline(self) -> list[Piece]:
        """Hub, root fillets and blades, counter-clockwise."""
        half, r = self.blade / 2.0, self.root
        out = float(np.sqrt((self.hub + r) ** 2 - (half + r) ** 2))  # fillet centre along the blade
        touch = np.array([out, half + r]) * self.hub / (self.hub + r)
        reach = float(np.sqrt(self.tip**2 - half**2))
        pieces: list[Piece] = []
        for k in range(self.blades):
            a = 2.0 * np.pi * k / self.blades
            turn = np.array([[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]])

            def at(x: float, y: float, turn: np.ndarray = turn) -> tuple[float, float]:
                p = turn @ np.array([x, y])
                return (float(p[0]), float(p[1]))

            pieces += [
                Piece(at(touch[0], -touch[1]), at(out, -half - r), ccw=False),
                Piece(at(out, -half)),
                Piece(at(reach, -half), (0.0, 0.0)),
                Piece(at(reach, half)),
                Piece(at(out, half), at(out, half + r), ccw=False),
                Piece(at(touch[0], touch[1]), (0.0, 0.0)),
            ]
        return pieces

    @property
    def volume(self) -> float:
        plates = 2.0 * np.pi * self.plate**2 * self.thickness
        between = area(self.outline()) * self.height
        return float(plates + between - np.pi * self.bore**2 * (self.height + 2.0 * self.thickness))

    @property
    def faces(self) -> int:
        return 6 * self.blades + 3 + 3 + 1  # blades and hub; each plate's two sides and rim; bore


WHEEL = Wheel()


def sluice_wheel(size: Wheel = WHEEL) -> Model:
    """The part as one exact body about z."""
    s, up = size, (0.0, 0.0, 1.0)
    body = prism(Round((0.0, 0.0), s.plate), s.thickness, name="sluice wheel")
    on_plate = Frame.of((0.0, 0.0, s.thickness), up, (1.0, 0.0, 0.0))
    body = raised(body, face_toward(body, up), on_plate, s.outline(), s.height)
    above = Frame.of((0.0, 0.0, s.thickness + s.height), up, (1.0, 0.0, 0.0))
    body = flanged(body, face_toward(body, up), above, Round((0.0, 0.0), s.plate), s.thickness)
    whole = 2.0 * s.thickness + s.height
    top = Frame.of((0.0, 0.0, whole), up, (1.0, 0.0, 0.0))
    body = sink(body, face_toward(body, up), top, Round((0.0, 0.0), s.bore), whole, face_toward(body, (0.0, 0.0, -1.0)))
    return Model.of([body])
