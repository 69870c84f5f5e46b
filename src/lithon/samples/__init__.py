"""The parts of Tarnhow Lock: made-up solids with known truths, generated exactly."""

from lithon.samples.collar_anchor import ANCHOR, Anchor, collar_anchor

__all__ = ["ANCHOR", "Anchor", "collar_anchor"]
