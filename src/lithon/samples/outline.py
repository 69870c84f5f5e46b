"""Closed forms for outlines of lines and arcs, for the truths of the samples."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from lithon.samples.build import Piece

#: Area of what a quarter circle of radius one leaves of its square, and how far its centroid lies from
#: each side of the corner.
SPANDREL = 1.0 - np.pi / 4.0
SPANDREL_CENTRE = (10.0 - 3.0 * np.pi) / (3.0 * (4.0 - np.pi))


def area(profile: Sequence[Piece]) -> float:
    """Area of a closed outline: half the loop integral of x dy - y dx, arcs in closed form."""
    total = 0.0
    for piece, after in zip(profile, (*profile[1:], profile[0]), strict=True):
        (x0, y0), (x1, y1) = piece.start, after.start
        if piece.centre is None:
            total += x0 * y1 - x1 * y0
            continue
        cx, cy = piece.centre
        r = float(np.hypot(x0 - cx, y0 - cy))
        a, b = np.arctan2(y0 - cy, x0 - cx), np.arctan2(y1 - cy, x1 - cx)
        turn = float(np.mod(b - a, 2.0 * np.pi)) if piece.ccw else -float(np.mod(a - b, 2.0 * np.pi))
        total += r * r * turn + cx * (y1 - y0) - cy * (x1 - x0)
    return 0.5 * total


def rounded(length: float, width: float, corner: float) -> float:
    """Area of a rectangle with round corners."""
    return length * width - (4.0 - np.pi) * corner**2


def band(length: float, width: float, corner: float, section: float, inset: float) -> float:
    """Volume of a section of this area carried along the outline of a rounded rectangle, its centroid
    `inset` inside it (negative: outside), after Pappus."""
    straight = 2.0 * (length + width - 4.0 * corner)
    return section * (straight + 2.0 * np.pi * (corner - inset))
