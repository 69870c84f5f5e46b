"""What is like what is in hand, each as the question that finds it: of this size here or everywhere, at most this,
between two, all of a kind."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from lithon.brep.measures import face_area
from lithon.brep.topology import Edge, Face, Model
from lithon.operations.questions import FEATURES, ask
from lithon.operations.reach import fenced
from lithon.survey.features import Feature, feature_of
from lithon.words import several


@dataclass(frozen=True, slots=True)
class Alike:
    """title: in a few words; question: what is asked; count: how many it finds."""

    title: str
    question: str
    count: int


#: By which measure things of a kind are alike.
_BY = {
    "hole": "diameter",
    "fillet": "radius",
    "chamfer": "width",
    "pocket": "width",
    "window": "width",
    "boss": "width",
}


def alike(model: Model, faces: Sequence[Face], edges: Sequence[Edge] = ()) -> list[Alike]:
    """Questions that what is in hand is an answer to, the narrowest first; nothing where it is of several kinds. First
    of all what lies within a fence, where the first face in hand and the rest are a seed and one."""
    within = fenced(model, faces, edges)
    known = _told(model, [("as far as the others", f"faces {within.text()}")]) if within is not None else []
    return known + _alike(model, faces, edges)


def _alike(model: Model, faces: Sequence[Face], edges: Sequence[Edge]) -> list[Alike]:
    if edges and not faces:
        return _told(model, _of_edges(edges))
    found: list[Feature] = []
    for face in faces:
        owners = model.owners(face)
        feature = feature_of(owners[0], face) if owners else None
        if feature is None:
            return _told(model, _of_faces(faces))
        if not any(feature is f for f in found):
            found.append(feature)
    if not found or len({f.kind for f in found}) > 1:
        return []
    kind, measure = found[0].kind, _BY[found[0].kind]
    noun = next(n for n, k in FEATURES.items() if k == kind)
    sizes = sorted({round(f.size, 6) for f in found})
    bodies = {f.body.name for f in found}
    out: list[tuple[str, str]] = []
    if len(sizes) == 1:
        same = f"{noun} where {measure} = {sizes[0]:.9g}"
        if len(bodies) == 1 and len(model.bodies) > 1:
            out.append(("of this size here", f'{same} in "{next(iter(bodies))}"'))
        out += [("of this size", same), ("at most this", f"{noun} where {measure} <= {sizes[0]:.9g}")]
    else:
        out.append(("between these", f"{noun} where {measure} >= {sizes[0]:.9g} and {measure} <= {sizes[-1]:.9g}"))
    out.append((f"all {several(kind)}", noun))
    return _told(model, out)


def _of_faces(faces: Sequence[Face]) -> list[tuple[str, str]]:
    """Of plain faces: of one kind of surface, of one radius, of one area."""
    kinds = {f.surface.kind for f in faces}
    nouns = {"plane": "planes", "cylinder": "cylinders", "cone": "cones", "sphere": "spheres", "torus": "tori"}
    noun = nouns.get(next(iter(kinds)), "") if len(kinds) == 1 else ""
    if not noun:
        return []
    out = []
    radii = {round(float(getattr(f.surface, "radius", 0.0)), 6) for f in faces}
    if noun in ("cylinders", "spheres") and len(radii) == 1:
        out.append(("of this radius", f"{noun} where radius = {next(iter(radii)):.9g}"))
    areas = sorted(face_area(f) for f in faces)
    if areas[-1] - areas[0] <= 1e-6 * areas[-1]:
        low, high = areas[0] * (1.0 - 1e-6), areas[0] * (1.0 + 1e-6)
        out.append(("of this area", f"{noun} where area >= {low:.12g} and area <= {high:.12g}"))
    return [*out, (f"all {noun}", noun)]


def _of_edges(edges: Sequence[Edge]) -> list[tuple[str, str]]:
    """Of edges: along one axis, of one length."""
    out = []
    for k, axis in enumerate("xyz"):
        if all(e.curve.kind == "line" and abs(abs(float(e.direction(0.5)[k])) - 1.0) < 1e-6 for e in edges):
            out.append((f"along {axis}", f"edges along {axis}"))
    lengths = sorted(e.length for e in edges)
    if lengths[-1] - lengths[0] <= 1e-6 * lengths[-1]:
        out.insert(0, ("of this length", f"edges where length = {lengths[0]:.12g}"))
    out.append(("at most as long", f"edges where length <= {lengths[-1]:.12g}"))
    return out


def _told(model: Model, asked: Sequence[tuple[str, str]]) -> list[Alike]:
    return [Alike(title, question, ask(model, question).items) for title, question in asked]
