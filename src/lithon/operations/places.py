"""Where an operation cuts and about what it turns: planes, surfaces and axes, by numbers or by what is there."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
import scipy

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.brep.measures import face_centroid
from lithon.brep.topology import Edge, Face, Model, Vertex
from lithon.errors import BadFile, Refusal
from lithon.geometry.curves import Circle, Line
from lithon.geometry.meet import meet, midway
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.operations.choices import Choice
from lithon.operations.references import NO_REFERENCES, References

Triple = tuple[float, float, float]
Way = Literal["at", "midway", "offset", "through", "surface", "named", "turned", "round"]


def triple(values: Any, what: str = "a place") -> Triple:
    """Three finite numbers. Raises BadFile."""
    try:
        out = tuple(float(c) for c in values)
    except (TypeError, ValueError):
        out = ()
    if len(out) != 3 or not all(math.isfinite(c) for c in out):
        raise BadFile(f"{what} has three numbers, not {values!r}")
    return out


def number(text: str, what: str = "a number") -> float:
    """A finite number as people type it, with a point or a comma. Raises BadFile."""
    try:
        value = float(text.strip().removesuffix("mm").strip().replace(",", "."))
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise BadFile(f"{text.strip()!r} is not {what}")
    return value


def numbers(text: str) -> list[float]:
    """Numbers between spaces, semicolons or commas that stand apart. Raises BadFile."""
    return [number(word) for word in re.split(r"[;\s]+|,\s+", text.strip(" ()")) if word]


@dataclass(frozen=True, slots=True)
class Cut:
    """A surface to cut at: a plane by numbers, midway between two plane faces, offset from one or through three points,
    or the surface of a face, extended. Lengths in mm."""

    way: Way
    origin: Triple = (0.0, 0.0, 0.0)
    normal: Triple = (0.0, 0.0, 1.0)
    faces: Choice | None = None
    by: float = 0.0
    points: tuple[Triple, ...] = ()
    #: Of a reference.
    name: str = ""
    #: What it is turned about, or the axis of a round cut; then `by` is the angle (radians) or the radius.
    about: Axis | None = None

    @staticmethod
    def at(origin: Sequence[float], normal: Sequence[float]) -> Cut:
        way = triple(normal, "a normal")
        if not any(way):
            raise BadFile("a normal of no length gives no plane")
        return Cut("at", triple(origin), way)

    @staticmethod
    def midway(a: Face, b: Face) -> Cut:
        return Cut("midway", faces=Choice.made("faces", (a, b)))

    @staticmethod
    def offset(face: Face, by: float) -> Cut:
        return Cut("offset", faces=Choice.made("faces", face), by=float(by))

    @staticmethod
    def through(points: Sequence[Sequence[float]]) -> Cut:
        if len(points) != 3:
            raise BadFile(f"a plane goes through three points, not {len(points)}")
        return Cut("through", points=tuple(triple(p) for p in points))

    @staticmethod
    def surface(face: Face) -> Cut:
        return Cut("surface", faces=Choice.made("faces", face))

    @staticmethod
    def named(name: str) -> Cut:
        """The reference plane of that name."""
        return Cut("named", name=name)

    @staticmethod
    def turned(face: Face, about: Edge | Face | Axis, by: float) -> Cut:
        """The plane of a face turned about an edge or axis by an angle (radians)."""
        axis = about if isinstance(about, Axis) else Axis.along(about)
        return Cut("turned", faces=Choice.made("faces", face), about=axis, by=float(by))

    @staticmethod
    def round(about: Edge | Face | Axis, radius: float) -> Cut:
        """A cylinder about an axis."""
        if not radius > 0.0:
            raise BadFile("a round cut has a radius above 0 mm")
        return Cut("round", about=about if isinstance(about, Axis) else Axis.along(about), by=float(radius))

    @property
    def axis(self) -> int | None:
        """The axis that the plane stands across, where it is told by a coordinate."""
        along = [k for k in range(3) if self.normal[k]]
        return along[0] if self.way == "at" and len(along) == 1 else None

    @property
    def amount(self) -> float | None:
        """The one number that moves it along its normal, mm: an offset or a coordinate; None where there is none."""
        if self.way in ("offset", "round"):
            return self.by
        return None if self.axis is None else self.origin[self.axis]

    def moved_to(self, amount: float) -> Cut:
        """The same with another such number."""
        if self.way == "round":
            return Cut.round(self.about or Axis(), amount)
        if self.way == "offset":
            return replace(self, by=float(amount))
        k = self.axis
        if k is None:
            raise BadFile("no number moves this cut")
        return Cut.at([amount if i == k else 0.0 for i in range(3)], [float(i == k) for i in range(3)])

    def on(self, model: Model, references: References = NO_REFERENCES) -> Surface:
        """The surface on this model. Raises Refusal where it is described by what gives none."""
        if self.way == "named":
            return references.find(self.name, "plane").plane
        if self.way == "round":
            assert self.about is not None
            origin, way = self.about.on(model, references)
            return Cylinder.of(origin, way, self.by)
        if self.way == "at":
            return Plane.of(list(self.origin), list(self.normal))
        if self.way == "through":
            return _plane_through(np.array(self.points, dtype=float))
        assert self.faces is not None
        found: list[Face] = self.faces.on(model)
        wanted = 2 if self.way == "midway" else 1
        if len(found) != wanted:
            raise Refusal(
                f"a cut {self.way} asks for {wanted} face{'s' if wanted > 1 else ''}, and {len(found)} are meant",
                remedy="choose just those", entities=tuple(found),
            )  # fmt: skip
        if self.way == "surface":
            return found[0].surface
        if self.way == "turned":
            assert self.about is not None
            origin, way = self.about.on(model, references)
            return _plane_off(model, found[0], 0.0).moved(turn(origin, way, self.by))
        planes = [f.surface for f in found if isinstance(f.surface, Plane)]
        if len(planes) != wanted:
            raise Refusal(
                "a plane midway needs two plane faces" if wanted == 2 else "an offset plane needs a plane face",
                remedy=f"choose {'two plane faces' if wanted == 2 else 'a plane face'}", entities=tuple(found),
            )  # fmt: skip
        return midway(*planes) if wanted == 2 else _plane_off(model, found[0], self.by)

    def recorded(self, model: Model) -> Cut:
        faces = None if self.faces is None else self.faces.recorded(model)
        about = None if self.about is None else self.about.recorded(model)
        return self if faces is self.faces and about is self.about else replace(self, faces=faces, about=about)

    # ---- as data and as text

    def as_json(self) -> dict[str, Any]:
        if self.way == "at":
            return {"origin": list(self.origin), "normal": list(self.normal)}
        if self.way == "through":
            return {"through": [list(p) for p in self.points]}
        if self.way == "named":
            return {"named": self.name}
        about = {} if self.about is None else {"about": self.about.as_json()}
        if self.way == "round":
            return {"round": self.by, **about}
        assert self.faces is not None
        told = self.faces.as_json()
        marks: Any = told if "question" in told else told["faces"] if self.way == "midway" else told["faces"][0]
        return {self.way: marks, **({"by": self.by} if self.way in ("offset", "turned") else {}), **about}

    @staticmethod
    def from_json(data: Any) -> Cut:
        """Raises BadFile."""
        if not isinstance(data, dict):
            raise BadFile(f"a cut is not {data!r}")
        if "through" in data:
            if not isinstance(data["through"], list):
                raise BadFile("a plane goes through three points")
            return Cut.through(data["through"])
        if "named" in data:
            return Cut.named(str(data["named"]))
        about = Axis.from_json(data["about"]) if "about" in data else None
        if "round" in data:
            radius = data["round"]
            if about is None or isinstance(radius, bool) or not isinstance(radius, int | float):
                raise BadFile("a round cut has a radius and an axis")
            return Cut.round(about, float(radius))
        ways: tuple[Way, ...] = ("midway", "offset", "surface", "turned")
        for way in ways:
            if way in data:
                told = data[way]
                asked = isinstance(told, dict) and "question" in told
                faces = told if asked else {"faces": told if isinstance(told, list) else [told]}
                by = data.get("by", 0.0)
                if isinstance(by, bool) or not isinstance(by, int | float) or not math.isfinite(by):
                    raise BadFile(f"{by!r} is no offset")
                if (way == "turned") != (about is not None):
                    raise BadFile("a turned plane has a face and an axis that it is turned about")
                return Cut(way, faces=Choice.from_json(faces, "faces"), by=float(by), about=about)
        if not {"origin", "normal"} <= data.keys():
            raise BadFile("a cut has an origin and a normal, or says what it lies at")
        return Cut.at(data["origin"], data["normal"])

    def text(self) -> str:
        """As it is typed: 'z = 3', 'at 0 0 3 across 0 1 1', 'midway ...', 'offset 3 from ...', 'surface of ...'."""
        if self.way == "at":
            axis = [k for k in range(3) if self.normal[k]]
            if len(axis) == 1 and self.normal[axis[0]] == 1.0 and not any(
                c for k, c in enumerate(self.origin) if k != axis[0]
            ):  # fmt: skip
                return f"{'xyz'[axis[0]]} = {self.origin[axis[0]]!r}"
            return f"at {_row(self.origin)} across {_row(self.normal)}"
        if self.way == "through":
            return "through " + "; ".join(_row(p) for p in self.points)
        if self.way == "named":
            return f"plane {self.name}"
        if self.way == "round":
            assert self.about is not None
            return f"radius {self.by!r} about {self.about.text()}"
        assert self.faces is not None
        told = self.faces.question or json.dumps(self.faces.as_json())
        if self.way == "turned":
            assert self.about is not None
            return f"turned {math.degrees(self.by)!r} about {self.about.text()} from {told}"
        lead = {"midway": "midway", "offset": f"offset {self.by!r} from", "surface": "surface of"}[self.way]
        return f"{lead} {told}"

    @staticmethod
    def parse(text: str) -> Cut:
        """Raises BadFile where the text describes no cut."""
        said = text.strip()
        if m := re.fullmatch(r"([xyz])\s*=\s*(.+)", said):
            k = "xyz".index(m[1])
            value = number(m[2], "a coordinate")
            return Cut.at([value if i == k else 0.0 for i in range(3)], [1.0 if i == k else 0.0 for i in range(3)])
        if m := re.fullmatch(r"at (.+) across (.+)", said):
            return Cut.at(numbers(m[1]), numbers(m[2]))
        if m := re.fullmatch(r"through (.+)", said):
            row = numbers(m[1])
            if len(row) != 9:
                raise BadFile(f"three points have nine numbers, not {len(row)}")
            return Cut.through([row[0:3], row[3:6], row[6:9]])
        if m := re.fullmatch(r"(midway|surface of|offset (\S+) from) (.+)", said):
            way: Way = "midway" if m[1] == "midway" else "surface" if m[1] == "surface of" else "offset"
            return Cut(way, faces=_faces(m[3]), by=number(m[2], "an offset") if m[2] else 0.0)
        if m := re.fullmatch(r"plane (.+)", said):
            return Cut.named(m[1])
        if m := re.fullmatch(r"radius (\S+) about (.+)", said):
            return Cut.round(Axis.parse(m[2]), number(m[1], "a radius"))
        if m := re.fullmatch(r"turned (\S+) about (.+?) from (.+)", said):
            angle = math.radians(number(m[1], "an angle"))
            return Cut("turned", faces=_faces(m[3]), by=angle, about=Axis.parse(m[2]))
        raise BadFile(
            f"{said!r} describes no cut",
            remedy="z = 3; at 0 0 3 across 0 1 1; midway, offset 3 from, or surface of, and a question; "
            "radius 5 about z; plane, and the name of a reference",
        )


def _faces(text: str) -> Choice:
    if text.lstrip().startswith("{"):
        try:
            return Choice.from_json(json.loads(text), "faces")
        except ValueError as error:
            raise BadFile(f"{text!r} is not well formed ({error})") from error
    return Choice.asking("faces", text)


def _row(values: Sequence[float]) -> str:
    return " ".join(repr(float(c)) for c in values)


def _plane_through(p: Floats) -> Plane:
    normal = cross_product(p[1] - p[0], p[2] - p[0])
    longest = max(float(np.linalg.norm(p[i] - p[j])) for i, j in ((0, 1), (1, 2), (2, 0)))
    if not float(np.linalg.norm(normal)) > 1e-9 * longest**2:
        raise Refusal("three points on one line give no plane", remedy="choose points that form a triangle")
    return Plane.of(frozen(p[0]), unit(normal))


def _plane_off(model: Model, face: Face, by: float) -> Plane:
    outward = model.owners(face)[0].outward(face, face.surface.frame.origin[None])[0]
    return Plane.of(face.surface.frame.origin + by * outward, outward, face.surface.frame.x)


@dataclass(frozen=True, slots=True)
class Axis:
    """A line with a direction: by numbers, or that of a round face or a straight edge."""

    origin: Triple = (0.0, 0.0, 0.0)
    way: Triple = (0.0, 0.0, 1.0)
    #: A face with an axis, an edge, or two plane faces that meet; then the numbers say nothing.
    of: Choice | None = None
    #: Of a reference.
    name: str = ""

    @staticmethod
    def at(origin: Sequence[float], way: Sequence[float]) -> Axis:
        direction = triple(way, "a direction")
        if not any(direction):
            raise BadFile("a direction has a length")
        return Axis(triple(origin), direction)

    @staticmethod
    def along(entity: Face | Edge) -> Axis:
        return Axis(of=Choice.made("faces" if isinstance(entity, Face) else "edges", entity))

    @staticmethod
    def where(a: Face, b: Face) -> Axis:
        """Where two plane faces, extended, meet."""
        return Axis(of=Choice.made("faces", (a, b)))

    @staticmethod
    def named(name: str) -> Axis:
        """The reference axis of that name."""
        return Axis(name=name)

    def on(self, model: Model, references: References = NO_REFERENCES) -> tuple[Floats, Floats]:
        """A point (3,) of the axis and its unit direction (3,). Raises Refusal where what is meant has none."""
        if self.name:
            found_reference = references.find(self.name, "axis")
            return np.array(found_reference.origin), unit(np.array(found_reference.way))
        if self.of is None:
            return np.array(self.origin), unit(np.array(self.way))
        found = self.of.on(model)
        if len(found) == 2 and all(isinstance(f, Face) and isinstance(f.surface, Plane) for f in found):
            lines = meet(found[0].surface, found[1].surface)
            if not lines or not isinstance(lines[0], Line):
                raise Refusal("two parallel planes meet in no axis", remedy="choose planes that meet",
                              entities=tuple(found))  # fmt: skip
            return np.asarray(lines[0].origin), np.asarray(lines[0].direction)
        if len(found) != 1:
            raise Refusal(f"one axis is asked for, and {len(found)} things are meant", remedy="choose just one")
        (item,) = found
        if isinstance(item, Edge) and isinstance(item.curve, Line | Circle):
            if isinstance(item.curve, Line):
                return item.at(0.0), item.direction(0.5)
            return np.asarray(item.curve.frame.origin), np.asarray(item.curve.frame.z)
        if isinstance(item, Face) and item.surface.kind in ("plane", "cylinder", "cone", "torus"):
            return np.asarray(item.surface.frame.origin), np.asarray(item.surface.frame.z)
        raise Refusal("what is chosen has no axis", remedy="choose a round face, a plane, or a straight edge",
                      entities=(item,))  # fmt: skip

    def recorded(self, model: Model) -> Axis:
        return self if self.of is None else replace(self, of=self.of.recorded(model))

    def as_json(self) -> dict[str, Any]:
        if self.name:
            return {"named": self.name}
        if self.of is not None:
            return {"of": self.of.as_json()}
        return {"origin": list(self.origin), "way": list(self.way)}

    @staticmethod
    def from_json(data: Any) -> Axis:
        """Raises BadFile."""
        if isinstance(data, dict) and "named" in data:
            return Axis.named(str(data["named"]))
        if not isinstance(data, dict) or not ("of" in data or {"origin", "way"} <= data.keys()):
            raise BadFile(f"an axis has an origin and a way, or says what it is of, not {data!r}")
        if "of" in data:
            edges = isinstance(data["of"], dict) and "edges" in data["of"]
            return Axis(of=Choice.from_json(data["of"], "edges" if edges else "faces"))
        return Axis.at(data["origin"], data["way"])

    def text(self) -> str:
        if self.name:
            return f"axis {self.name}"
        if self.of is not None:
            return "of " + (self.of.question or json.dumps(self.of.as_json()))
        return f"at {_row(self.origin)} along {_row(self.way)}"

    @staticmethod
    def parse(text: str) -> Axis:
        """Raises BadFile where the text describes no axis."""
        said = text.strip()
        if said in ("x", "y", "z"):
            return Axis.at((0, 0, 0), [float(c == said) for c in "xyz"])
        if m := re.fullmatch(r"at (.+) along (.+)", said):
            return Axis.at(numbers(m[1]), numbers(m[2]))
        if m := re.fullmatch(r"of (.+)", said):
            if m[1].lstrip().startswith("{"):
                try:
                    return Axis.from_json({"of": json.loads(m[1])})
                except ValueError as error:
                    raise BadFile(f"{m[1]!r} is not well formed ({error})") from error
            return Axis(of=Choice.asking("edges" if m[1].startswith("edges") else "faces", m[1]))
        if m := re.fullmatch(r"axis (.+)", said):
            return Axis.named(m[1])
        raise BadFile(f"{said!r} describes no axis", remedy="z; at 0 0 0 along 0 1 0; or: of, and a question")


def turn(origin: Floats, way: Floats, angle: float) -> Floats:
    """The motion (4,4) that turns about an axis by an angle (radians)."""
    out = np.eye(4)
    out[:3, :3] = scipy.spatial.transform.Rotation.from_rotvec(angle * unit(np.asarray(way))).as_matrix()
    out[:3, 3] = origin - out[:3, :3] @ origin
    return out


@dataclass(frozen=True, slots=True)
class Spot:
    """A point: by numbers, a reference's, or that of a vertex, of the middle of an edge, of a ring's or a face's
    centre."""

    point: Triple = (0.0, 0.0, 0.0)
    of: Choice | None = None
    name: str = ""

    @staticmethod
    def at(point: Sequence[float]) -> Spot:
        return Spot(triple(point))

    @staticmethod
    def on_entity(entity: Face | Edge | Vertex) -> Spot:
        kind = "faces" if isinstance(entity, Face) else "edges" if isinstance(entity, Edge) else "vertices"
        return Spot(of=Choice.made(kind, entity))  # type: ignore[arg-type]

    @staticmethod
    def named(name: str) -> Spot:
        return Spot(name=name)

    def on(self, model: Model, references: References = NO_REFERENCES) -> Floats:
        """The point (3,). Raises Refusal where not just one thing is meant."""
        if self.name:
            return np.array(references.find(self.name, "point").origin)
        if self.of is None:
            return np.array(self.point)
        found = self.of.on(model)
        if len(found) != 1:
            raise Refusal(f"one point is asked for, and {len(found)} things are meant", remedy="choose just one")
        (item,) = found
        if isinstance(item, Vertex):
            return np.asarray(item.point)
        if isinstance(item, Edge):
            return np.asarray(item.curve.frame.origin if isinstance(item.curve, Circle) else item.at(0.5))
        return np.asarray(item.surface.frame.origin if item.surface.kind == "sphere" else face_centroid(item))

    def recorded(self, model: Model) -> Spot:
        return self if self.of is None else replace(self, of=self.of.recorded(model))

    def as_json(self) -> Any:
        if self.name:
            return {"named": self.name}
        return list(self.point) if self.of is None else {"of": self.of.as_json()}

    @staticmethod
    def from_json(data: Any) -> Spot:
        """Raises BadFile."""
        if isinstance(data, dict) and "named" in data:
            return Spot.named(str(data["named"]))
        if isinstance(data, dict) and "of" in data:
            told = data["of"]
            kind = next((k for k in ("vertices", "edges") if isinstance(told, dict) and k in told), "faces")
            return Spot(of=Choice.from_json(told, kind))  # type: ignore[arg-type]
        if isinstance(data, list | tuple):
            return Spot.at(data)
        raise BadFile(f"a point has three numbers, or says what it is of, not {data!r}")

    def text(self) -> str:
        if self.name:
            return f"point {self.name}"
        if self.of is not None:
            return "of " + (self.of.question or json.dumps(self.of.as_json()))
        return _row(self.point)

    @staticmethod
    def parse(text: str) -> Spot:
        """Raises BadFile where the text describes no point."""
        said = text.strip()
        if m := re.fullmatch(r"point (.+)", said):
            return Spot.named(m[1])
        if m := re.fullmatch(r"of (.+)", said):
            if m[1].lstrip().startswith("{"):
                try:
                    return Spot.from_json({"of": json.loads(m[1])})
                except ValueError as error:
                    raise BadFile(f"{m[1]!r} is not well formed ({error})") from error
            return Spot(of=Choice.asking("edges" if m[1].startswith("edges") else "faces", m[1]))
        return Spot.at(numbers(said))
