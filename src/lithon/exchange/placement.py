"""How triangles are put in place before work begins on them: their scale, which way is up, where the origin lies."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from lithon.arrays import Floats
from lithon.errors import BadFile

if TYPE_CHECKING:
    from lithon.brep.faceted import Triangles

#: Which axis of the file becomes z, and how its axes turn into ours: rows are the new x, y and z.
UPS: dict[str, tuple[tuple[int, int, int], ...]] = {
    "z": ((1, 0, 0), (0, 1, 0), (0, 0, 1)),
    "y": ((1, 0, 0), (0, 0, -1), (0, 1, 0)),
    "x": ((0, 1, 0), (0, 0, 1), (1, 0, 0)),
    "-z": ((1, 0, 0), (0, -1, 0), (0, 0, -1)),
    "-y": ((1, 0, 0), (0, 0, 1), (0, -1, 0)),
    "-x": ((0, 1, 0), (0, 0, -1), (-1, 0, 0)),
}
#: Where the origin is put: by shares of the box from its low corner to its high one.
ORIGINS: dict[str, tuple[float, float, float] | None] = {
    "as drawn": None,
    "middle of the foot": (0.5, 0.5, 0.0),
    "middle of the box": (0.5, 0.5, 0.5),
    "low corner of the box": (0.0, 0.0, 0.0),
}


@dataclass(frozen=True, slots=True)
class Placement:
    """`scale` on top of the unit; `up` one of UPS; `origin` one of ORIGINS."""

    scale: float = 1.0
    up: str = "z"
    origin: str = "as drawn"

    @staticmethod
    def from_json(data: Any) -> Placement:
        """Raises BadFile where it is none."""
        if data is None:
            return Placement()
        try:
            made = Placement(float(data["scale"]), str(data["up"]), str(data["origin"]))
        except (KeyError, TypeError, ValueError) as error:
            raise BadFile(f"the placement is not well formed ({error})") from error
        return made.checked()

    def as_json(self) -> dict[str, Any]:
        return asdict(self)

    def checked(self) -> Placement:
        """Itself. Raises BadFile where it cannot be used."""
        if not (np.isfinite(self.scale) and 1e-9 <= self.scale <= 1e9):
            raise BadFile(f"a scale of {self.scale:g} makes no sense", remedy="a number above 0")
        if self.up not in UPS or self.origin not in ORIGINS:
            raise BadFile(f"no such placement: {self.up!r} up, origin {self.origin!r}")
        return self

    def applied(self, parts: list[Triangles]) -> list[Triangles]:
        """The parts in their place; together, so that they keep to each other."""
        if self == Placement():
            return parts
        turn = self.scale * np.array(UPS[self.up], dtype=float)
        moved = [np.asarray(part.points) @ turn.T for part in parts]
        share = ORIGINS[self.origin]
        if share is not None:
            every = np.concatenate(moved)
            low, high = every.min(axis=0), every.max(axis=0)
            shift: Floats = low + np.array(share) * (high - low)
            moved = [points - shift for points in moved]
        return [replace(part, points=points) for part, points in zip(parts, moved, strict=True)]
