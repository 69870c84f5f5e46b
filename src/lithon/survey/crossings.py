"""Cards for places where the skin of a body passes through itself."""

from __future__ import annotations

import numpy as np

from lithon.brep.analysis.crossings import self_intersections
from lithon.brep.topology import Body
from lithon.survey.card import Finding, xyz
from lithon.words import many


def crossing_cards(body: Body, tolerance: float) -> list[Finding]:
    found = self_intersections(body, tolerance)
    if not found:
        return []
    faces = tuple(dict.fromkeys(f for one, two, _ in found for f in (one, two)))
    every = np.concatenate([spots for *_, spots in found])
    reach = float(np.linalg.norm(np.ptp(every, axis=0)))
    return [
        Finding(
            "self-intersection",
            "stops",
            reach,
            xyz(every[len(every) // 2]),
            f"the skin passes through itself in {many(len(every), 'place')} of {many(len(faces), 'face')}",
            "Inside and outside are not told apart there: the volume cannot be filled.",
            "mend",
            body,
            faces,
            station="mend",
        )
    ]
