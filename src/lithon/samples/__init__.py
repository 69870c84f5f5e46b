"""The made-up parts of Tarnhow Lock, each with the truths that follow from its dimensions."""

from collections.abc import Callable

from lithon.brep.topology import Model
from lithon.samples.cast_anchor import CAST, cast_anchor
from lithon.samples.collar_anchor import ANCHOR, Anchor, collar_anchor
from lithon.samples.gudgeon_scan import gudgeon_scan
from lithon.samples.hinge_strap import STRAP, hinge_strap
from lithon.samples.paddle_frame import FRAME, paddle_frame
from lithon.samples.pintle_shoe import pintle_shoe
from lithon.samples.sill_blocks import sill_blocks
from lithon.samples.sluice_wheel import WHEEL, sluice_wheel

#: File name, maker and what the part teaches, in the order of the intake table.
SAMPLES: tuple[tuple[str, str, Callable[[], Model], str], ...] = (
    ("Collar anchor", "collar-anchor", collar_anchor, "holes, rounds and a pocket to judge, a mirror plane to cut at"),
    ("Cast anchor", "cast-anchor", cast_anchor, "fillets around corners, a chamfer, counterbores, a stamped number"),
    ("Sluice wheel", "sluice-wheel", sluice_wheel, "23 blades between two plates, filleted at their roots"),
    ("Paddle frame", "paddle-frame", paddle_frame, "an assembly: contacts to bond, one gap on purpose, one overlap"),
    ("Hinge strap", "hinge-strap", hinge_strap, "rounds out and four cuts: hexahedra"),
    ("Pintle shoe", "pintle-shoe", pintle_shoe, "a casting exported badly: nine wounds to find and mend"),
    ("Sill blocks", "sill-blocks", sill_blocks, "ground and masonry as triangles, crumbs between them"),
    ("Gudgeon scan", "gudgeon-scan", gudgeon_scan, "a scanned part: noise, holes, turned and doubled triangles"),
)

#: The samples that arrive as triangles, by stem.
TRIANGLE_FILES = {"sill-blocks": ".obj", "gudgeon-scan": ".stl"}

__all__ = [
    "ANCHOR",
    "CAST",
    "FRAME",
    "SAMPLES",
    "STRAP",
    "TRIANGLE_FILES",
    "WHEEL",
    "Anchor",
    "cast_anchor",
    "collar_anchor",
    "gudgeon_scan",
    "hinge_strap",
    "paddle_frame",
    "pintle_shoe",
    "sill_blocks",
    "sluice_wheel",
]  # fmt: skip
