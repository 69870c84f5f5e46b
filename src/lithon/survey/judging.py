"""Keep or remove: what speaks for it, in numbers."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.brep.topology import Face, Model
from lithon.survey.feature_cards import wall_beside
from lithon.survey.features import Feature, feature_of
from lithon.survey.measuring import distance


@dataclass(frozen=True, slots=True)
class Judgement:
    """Of one feature: the wall beside it (mm) and how many elements wide that is, None where there is none; the nearest
    face with a name (that of a load or support) and how far it is (mm)."""

    feature: Feature
    wall: float | None
    widths: float | None
    nearest: str = ""
    away: float | None = None

    def words(self) -> str:
        """'a wall of 6.5 mm beside it, 1.3 elements wide; 12 mm from load'"""
        parts = []
        if self.wall is not None and self.widths is not None:
            wide = f"{self.widths:.3g} element{'s' if self.widths > 1.0 else ''} wide"
            parts.append(f"a wall of {self.wall:.4g} mm beside it, {wide}")
        if self.away is not None:
            parts.append(f"{self.away:.4g} mm from {self.nearest}")
        return "; ".join(parts)


def judged(model: Model, face: Face, size: float) -> Judgement | None:
    """What speaks for keeping the feature that a face belongs to; None where it belongs to none."""
    owners = model.owners(face)
    feature = feature_of(owners[0], face) if owners else None
    if feature is None:
        return None
    wall = wall_beside(feature)
    named = [f for f in model.faces() if f.label and f not in set(feature.faces)]
    spans = [(distance(face, f)[0], f.label) for f in named]
    away, nearest = min(spans, default=(np.inf, ""))
    found = float(away) if np.isfinite(away) else None
    return Judgement(feature, wall, None if wall is None else wall / size, nearest, found)
