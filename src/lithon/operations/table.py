"""The table of all operations. From a row follow menu, key, help sheet, palette, form, recipe, script and command line;
whoever adds one writes its file and its row."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from types import MappingProxyType

from lithon.operations.bond.aside import SetAside
from lithon.operations.bond.bond import Bond
from lithon.operations.bond.crumbs import Crumbs, PartAll
from lithon.operations.carve.carve import Carve
from lithon.operations.carve.references import DropReference, ReferenceAxis, ReferencePlane, ReferencePoint
from lithon.operations.carve.score import Score
from lithon.operations.carve.sheets import MidSurface, Slice, TakeAsSheet
from lithon.operations.carve.symmetry import Halve, Sector
from lithon.operations.mend.close import Close
from lithon.operations.mend.cover import Cover
from lithon.operations.mend.drop import Drop, DropBodies
from lithon.operations.mend.merge import Merge
from lithon.operations.mend.needles import TakeOutNeedles
from lithon.operations.mend.orient import TurnOutwards
from lithon.operations.mend.patch import PatchOver
from lithon.operations.mend.patches import FindPatches, GrowPatch, PaintPatch, PartPatch, SayKind, UnitePatches
from lithon.operations.mend.replace import Replace
from lithon.operations.mend.safe import MendSafe
from lithon.operations.mend.sew import Sew
from lithon.operations.mend.solid import SolidFromTriangles
from lithon.operations.mend.triangles import CleanTriangles
from lithon.operations.operation import Chosen, Operation
from lithon.operations.prove.drapes import Drape, IgnoreBelow
from lithon.operations.prove.marking import (
    Divide,
    Group,
    NameFaces,
    SetMaterial,
    SizeInBodies,
    SizeOnEdges,
    SizeOnFaces,
)
from lithon.operations.prove.mesh import MakeMesh
from lithon.operations.prove.settings import ArcAngle, ElementSize, FaceBudget, Growth
from lithon.operations.trim.bevel import BevelEdges
from lithon.operations.trim.bridge import Bridge
from lithon.operations.trim.clear import Clear
from lithon.operations.trim.combine import Intersect, Part, Subtract, Unite
from lithon.operations.trim.cure import CureAll
from lithon.operations.trim.keep import Keep
from lithon.operations.trim.mirror import Mirror
from lithon.operations.trim.move import Move, Turn
from lithon.operations.trim.reopen import Reopen
from lithon.operations.trim.round import RoundEdges
from lithon.operations.trim.skim import Skim
from lithon.operations.trim.slide import Offset, Reface, Resize, RunTo, Slide
from lithon.operations.trim.stock import Block, ConeStock, CylinderStock, RingStock, SphereStock, Wedge

#: The eight steps of the work, in their order.
STATIONS = ("Intake", "Survey", "Mend", "Trim", "Carve", "Bond", "Prove", "Deliver")


@dataclass(frozen=True, slots=True)
class Row:
    """An operation as it is known to people. name: in files, scripts and on the command line; title: in the window;
    key: which opens it; words: others by which it is looked for; main: the one to press first at its station; likely:
    how likely it is what somebody wants who has just that in hand that it fits, 0..1."""

    name: str
    operation: type[Operation]
    station: str
    title: str
    key: str = ""
    words: str = ""
    main: bool = False
    likely: float = 0.3

    @property
    def help(self) -> str:
        """What it does, in a line."""
        return (self.operation.__doc__ or "").strip().splitlines()[0]


TABLE: tuple[Row, ...] = (
    Row("mend-safe", MendSafe, "Mend", "Mend what is safe", "", "heal repair all automatic", main=True),
    Row("clean-triangles", CleanTriangles, "Mend", "Clean triangles", "", "weld heal holes scan stl", likely=0.4),
    Row("take-out-needles", TakeOutNeedles, "Mend", "Take out needles", "", "sliver thin narrow triangles decimate"),
    Row("find-patches", FindPatches, "Mend", "Find patches", "", "segment triangles surfaces scan", likely=0.42),
    Row("unite-patches", UnitePatches, "Mend", "Unite patches", "", "join segments triangles", likely=0.5),
    Row("part-patch", PartPatch, "Mend", "Part a patch", "", "divide segment triangles", likely=0.45),
    Row("grow-patch", GrowPatch, "Mend", "Grow a patch", "", "extend segment triangles", likely=0.4),
    Row("paint-patch", PaintPatch, "Mend", "Paint a patch", "", "brush segment triangles by hand", likely=0.35),
    Row("say-kind", SayKind, "Mend", "Say what a patch is", "", "force kind surface segment", likely=0.35),
    Row("solid", SolidFromTriangles, "Mend", "Solid from triangles", "", "convert faces surfaces scan", likely=0.45),
    Row("cover", Cover, "Mend", "Cover bodies", "", "hull convex block cylinder fit", likely=0.2),
    Row("drop", Drop, "Mend", "Drop sheets and hollows", "", "delete remove void fragment loose", likely=0.2),
    Row("drop-bodies", DropBodies, "Mend", "Drop bodies", "", "delete remove", likely=0.2),
    Row("turn-outwards", TurnOutwards, "Mend", "Turn outwards", "", "flip orient normals inside out", likely=0.5),
    Row("merge", Merge, "Mend", "Merge faces", "", "join needless split", likely=0.3),
    Row("close", Close, "Mend", "Close an opening", "", "fill hole missing face cap", likely=0.2),
    Row("patch-over", PatchOver, "Mend", "Patch over", "", "cover fill surface n-sided torn overlap", likely=0.25),
    Row("sew", Sew, "Mend", "Sew a gap", "", "stitch edges", likely=0.2),
    Row("replace", Replace, "Mend", "Replace by a simple surface", "", "simplify spline disguised", likely=0.3),
    Row("clear", Clear, "Trim", "Clear", "C", "remove delete defeature fillet hole pocket", main=True, likely=0.9),
    Row("reopen", Reopen, "Trim", "Reopen", "", "restore hole buried cut again", likely=0.6),
    Row("keep", Keep, "Trim", "Keep", "", "hold leave protect", likely=0.35),
    Row("slide", Slide, "Trim", "Slide", "", "move tilt push pull face taper", likely=0.5),
    Row("offset", Offset, "Trim", "Offset", "", "thicken grow face", likely=0.42),
    Row("run-to", RunTo, "Trim", "Run to", "", "extend up to face shoulder", likely=0.45),
    Row("reface", Reface, "Trim", "Reface", "", "replace surface", likely=0.3),
    Row("resize", Resize, "Trim", "Resize", "", "radius fillet round hole boss diameter", likely=0.6),
    Row("skim", Skim, "Trim", "Skim", "", "swallow steps undercuts splinters rebuild clean surface", likely=0.25),
    Row("round", RoundEdges, "Trim", "Round", "", "fillet blend radius edge", likely=0.5),
    Row("bevel", BevelEdges, "Trim", "Bevel", "", "chamfer flat blunt knife edge cusp", likely=0.45),
    Row("unite", Unite, "Trim", "Unite", "", "union add join boolean", likely=0.6),
    Row("subtract", Subtract, "Trim", "Subtract", "", "difference cut boolean", likely=0.55),
    Row("intersect", Intersect, "Trim", "Intersect", "", "common boolean", likely=0.5),
    Row("part", Part, "Trim", "Part what overlaps", "", "overlap interference", likely=0.45),
    Row("cure", CureAll, "Trim", "Cure all", "", "everything automatic defeature simplify prepare cards", likely=0.2),
    Row("mirror", Mirror, "Trim", "Mirror", "", "reflect symmetric image copy", likely=0.3),
    Row("move", Move, "Trim", "Move", "", "translate shift copy body", likely=0.35),
    Row("turn", Turn, "Trim", "Turn", "", "rotate copy around body", likely=0.32),
    Row("bridge", Bridge, "Trim", "Bridge", "", "loft join gap between faces", likely=0.4),
    Row("block", Block, "Trim", "Add a block", "", "stock box cuboid"),
    Row("cylinder", CylinderStock, "Trim", "Add a cylinder", "", "stock rod pin"),
    Row("cone", ConeStock, "Trim", "Add a cone", "", "stock frustum"),
    Row("sphere", SphereStock, "Trim", "Add a sphere", "", "stock ball"),
    Row("wedge", Wedge, "Trim", "Add a wedge", "", "stock ramp prism"),
    Row("ring", RingStock, "Trim", "Add a ring", "", "stock torus"),
    Row("reference-plane", ReferencePlane, "Carve", "Reference plane", "", "datum midway offset", likely=0.38),
    Row("reference-axis", ReferenceAxis, "Carve", "Reference axis", "", "datum line", likely=0.36),
    Row("reference-point", ReferencePoint, "Carve", "Reference point", "", "datum mark", likely=0.3),
    Row("drop-reference", DropReference, "Carve", "Drop a reference", "", "datum remove"),
    Row("carve", Carve, "Carve", "Carve", "V", "split cut section divide plane", main=True, likely=0.7),
    Row("score", Score, "Carve", "Score", "", "imprint line part face offset edge split", likely=0.37),
    Row("slice", Slice, "Carve", "Slice", "", "section plane model region 2d axisymmetric", likely=0.36),
    Row("mid-surface", MidSurface, "Carve", "Mid-surface", "", "middle shell sheet wall thickness pair", likely=0.34),
    Row("sheet", TakeAsSheet, "Carve", "Take as a sheet", "", "shell surface open skin", likely=0.3),
    Row("halve", Halve, "Carve", "Halve", "", "mirror symmetry half quarter eighth"),
    Row("sector", Sector, "Carve", "Sector", "", "cyclic symmetry turn segment"),
    Row("bond", Bond, "Bond", "Bond what touches", "B", "imprint share contact conformal", main=True),
    Row("part-all", PartAll, "Bond", "Part all", "", "divide fragment every body", likely=0.3),
    Row("crumbs", Crumbs, "Bond", "Absorb crumbs", "", "small bodies slivers merge", likely=0.2),
    Row("set-aside", SetAside, "Bond", "Set aside", "D", "remove body contact label", likely=0.4),
    Row("name", NameFaces, "Prove", "Name faces", "", "label set load support", likely=0.5),
    Row("size-on-faces", SizeOnFaces, "Prove", "Elements on faces", "", "local size refine", likely=0.4),
    Row("size-on-edges", SizeOnEdges, "Prove", "Elements along edges", "", "local size refine", likely=0.6),
    Row("size-in-bodies", SizeInBodies, "Prove", "Elements in bodies", "", "local size seed", likely=0.25),
    Row("group", Group, "Prove", "Group bodies", "", "interface duplicate nodes separate contact", likely=0.22),
    Row("material", SetMaterial, "Prove", "Name the material", "", "region element set body steel", likely=0.21),
    Row("divide", Divide, "Prove", "Divisions along edges", "", "number count seeds", likely=0.55),
    Row("element-size", ElementSize, "Prove", "Element size", "", "setting mesh size"),
    Row("ignore-below", IgnoreBelow, "Prove", "Ignore below", "", "setting small features tiny threshold"),
    Row("drape", Drape, "Prove", "Drape", "", "merge faces as one ignore inner edges", likely=0.33),
    Row("growth", Growth, "Prove", "Growth", "", "setting rate gradation"),
    Row("arc-angle", ArcAngle, "Prove", "Arc angle", "", "setting chords around circle curvature round"),
    Row("face-budget", FaceBudget, "Prove", "Face budget", "", "setting limit count"),
    Row("mesh", MakeMesh, "Prove", "Mesh", "M", "tetrahedra hexahedra elements", main=True),
)  # fmt: skip

for _row in TABLE:
    _row.operation.name = _row.name


@cache
def rows() -> Mapping[str, Row]:
    """The rows by name."""
    return MappingProxyType({row.name: row for row in TABLE})


def row_of(operation: Operation | type[Operation]) -> Row:
    """The row of an operation."""
    return rows()[operation.name]


def fitting(chosen: Chosen, station: str = "") -> list[Row]:
    """What can be done with what is in hand, the likeliest first; what belongs to the present station is likelier."""
    found = [row for row in TABLE if row.operation.fits(chosen)]
    if any(b.sheet for b in chosen.of("bodies")) or any(
        b.sheet and not set(chosen.edges).isdisjoint(b.edges()) for b in chosen.model.bodies
    ):
        found = [row for row in found if row.operation.on_sheets]
    return sorted(found, key=lambda row: -(row.likely + (0.25 if row.station == station else 0.0)))
