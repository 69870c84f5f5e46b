"""What an operation starts from and leaves: the model, what is said of its parts, and what is set for the whole."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Literal

from lithon.brep.topology import Body, Edge, Face, Model
from lithon.mesh.drapes import sparing
from lithon.mesh.sizing import SizeRules
from lithon.operations.marks import Marks
from lithon.operations.references import References

Elements = Literal["tet", "hex", "auto", "tri", "quad"]


@dataclass(frozen=True, slots=True)
class Settings:
    """What is set for the whole model. Lengths in mm.

    size: of elements; growth: how much longer an element may be than its neighbour, less one; arc: the angle (radians)
    that one spans of what is round, at most; ignore: features below it are not followed; share: where that is not set,
    nor is what is below this share of the smallest element; budget: how many faces there may be; elements and order: of
    the last mesh, None where none was made.
    """

    size: float = 1.0
    growth: float = 0.35
    arc: float = math.pi / 6.0
    ignore: float | None = None
    budget: int | None = None
    elements: Elements | None = None
    order: int = 1
    share: float = 0.0


#: The share of an element below which nothing is followed, unless something else is asked for.
IGNORED = 0.1


@dataclass(frozen=True, slots=True)
class State:
    """A model with its marks, settings and named references."""

    model: Model
    marks: Marks = field(default_factory=Marks)
    settings: Settings = field(default_factory=Settings)
    references: References = field(default_factory=References)

    @property
    def smallest(self) -> float:
        """The smallest element that is asked for (mm): everywhere, or of its own somewhere."""
        return min([self.settings.size, *map(float, self.marks.all("size").values())])

    @property
    def ignored(self) -> float | None:
        """The size (mm) below which nothing is followed; None where everything is."""
        if self.settings.ignore is not None or not self.settings.share:
            return self.settings.ignore
        bodies = tuple(b for b in self.model.bodies if not b.reference)
        return sparing(bodies, self._kept(), self.settings.size, self.settings.share * self.smallest)

    def _kept(self) -> tuple[Face, ...]:
        return tuple(x for x in self.marks.all("hold") if isinstance(x, Face))

    def rules(self) -> SizeRules:
        """What the mesher goes by."""
        local = tuple((x, s) for x, s in self.marks.all("size").items() if isinstance(x, Face | Edge | Body))
        divisions = tuple((x, n) for x, n in self.marks.all("divisions").items() if isinstance(x, Edge))
        drapes = tuple((x, str(w)) for x, w in self.marks.all("drape").items() if isinstance(x, Face))
        passed = tuple(x for x in self.marks.all("passed") if isinstance(x, Edge))
        around = math.ceil(2.0 * math.pi / self.settings.arc - 1e-9)
        return SizeRules(
            self.settings.size, self.settings.growth, around, local=local, divisions=divisions, ignore=self.ignored,
            drapes=drapes, passed=passed, kept=self._kept(),
        )  # fmt: skip
