"""Faces moved, tilted, offset, run up to another, put on another's surface, resized: their neighbours follow."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from lithon.arrange.boolean import combine
from lithon.arrange.tidy import tidied
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.extrude import extruded
from lithon.brep.measures import face_centroid
from lithon.brep.topology import Body, Face, Model, rough_box
from lithon.carve.split import split
from lithon.errors import Refusal, spot
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import About, Number, faces, length, one_face
from lithon.operations.places import Axis, turn
from lithon.survey.features import features
from lithon.trim.resurface import resurfaced
from lithon.trim.rolling import blend_radius, rolled_to, supports
from lithon.words import many

New = Callable[[Body, Face], Surface]


def _changed(bench: Bench, chosen: Sequence[Face], new: New) -> Model:
    """The model with faces on other surfaces, body by body."""
    out = bench.model
    for body, own in bench.by_body(chosen):
        bench.progress.tell(0.1, f"moving faces of {body.name}")
        out = out.replaced(body, [resurfaced(body, {f: new(body, f) for f in own}, bench.tolerance)])
    return out


class Slide(Operation):
    """Move or tilt faces; their neighbours and the rounds beside them follow."""

    faces: Choice = param(faces(help="what moves"))
    by: float = param(length("by", "how far; along their own outward direction where no way is given", default=0.0,
                             optional=True))  # fmt: skip
    way: Axis | None = param(About(title="way", help="the direction, where it is not their own", optional=True))
    about: Axis | None = param(About(title="about", help="the axis that they are tilted about", optional=True))
    tilt: float = param(Number(title="tilt", unit="°", factor=np.pi / 180.0, default=0.0, optional=True,
                               help="the angle about the axis"))  # fmt: skip

    unbonded = "slide faces"
    dragged = "by"
    gate = "own"

    def do(self, bench: Bench) -> Made:
        way, about = bench.given["way"], bench.given["about"]
        if not self.by and not (self.tilt and about is not None):
            raise Refusal("nothing moves: neither a distance nor a tilt is given",
                          remedy="say how far, or the angle and the axis of a tilt")  # fmt: skip
        turned = turn(about[0], about[1], self.tilt) if about is not None and self.tilt else np.eye(4)

        def new(body: Body, face: Face) -> Surface:
            out = body.outward(face, face_centroid(face)[None])[0] if way is None else way[1]
            shift = np.eye(4)
            shift[:3, 3] = self.by * out
            return face.surface.moved(turned @ shift)

        chosen = bench.faces()
        return Made(_changed(bench, chosen, new), f"slide {many(len(chosen), 'face')} {self._how()}")

    def _how(self) -> str:
        parts = [f"by {self.by:g} mm"] if self.by else []
        return " and ".join(parts + ([f"tilted by {np.degrees(self.tilt):g}°"] if self.tilt else []))

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        return {**super().begun(chosen), "by": round(0.5 * chosen.size, 6)}

    @classmethod
    def of(cls, chosen: Chosen) -> Slide | None:
        values = cls.taken(chosen)
        return None if values is None else cls(**values, by=round(0.5 * chosen.size, 6))


class Offset(Operation):
    """Offset faces along their normals: material grows by a positive distance, and goes by a negative one."""

    faces: Choice = param(faces(help="what is offset"))
    by: float = param(length("by", "outwards where it is above zero"))

    unbonded = "offset faces"
    dragged = "by"
    gate = "own"

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        return {**super().begun(chosen), "by": round(0.25 * chosen.size, 6)}

    def do(self, bench: Bench) -> Made:
        def new(body: Body, face: Face) -> Surface:
            at = face_centroid(face)[None]
            at = face.surface.project(at)
            same = float(body.outward(face, at)[0] @ face.surface.normal(at)[0]) > 0.0
            try:
                return face.surface.offset(self.by if same else -self.by)
            except ValueError as error:
                raise Refusal(f"a face cannot be offset that far: {error}", where=spot(at[0]), remedy="offset it less",
                              entities=(face,)) from error  # fmt: skip

        chosen = bench.faces()
        return Made(_changed(bench, chosen, new), f"offset {many(len(chosen), 'face')} by {self.by:g} mm")


class Reface(Operation):
    """Put faces on the surface of another one, extended."""

    faces: Choice = param(faces(help="what gets another surface"))
    target: Choice = param(one_face("surface", "the face whose surface it is"))

    unbonded = "reface"
    gate = "own"

    @classmethod
    def of(cls, chosen: Chosen) -> Reface | None:
        made = super().of(chosen)
        if made is None:
            return None
        target = chosen.faces[-1].surface
        for face in chosen.faces[:-1]:
            own = face.surface
            if own.kind != target.kind or own.same_as(target, chosen.model.tolerance, 1e3):
                return None
            if _back(chosen.model, face, chosen.faces[-1]):
                return None
            if isinstance(own, Plane) and abs(float(own.frame.z @ target.frame.z)) < 0.7:
                return None
        return made

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return cls.of(chosen) is not None

    def do(self, bench: Bench) -> Made:
        chosen, (target,) = bench.faces(), bench.faces("target")
        if target in chosen:
            raise Refusal("a face cannot be put on its own surface", remedy="choose another face for the surface",
                          entities=(target,))  # fmt: skip
        made = _changed(bench, chosen, lambda body, face: target.surface)
        return Made(_joined(bench, made), f"reface {many(len(chosen), 'face')} on a {target.surface.kind}")


class RunTo(Operation):
    """Run a plane face up to the surface of another one: what lies between is filled, or goes."""

    face: Choice = param(one_face("face", "a plane face"))
    target: Choice = param(one_face("up to", "a face whose surface, extended, stops it"))

    unbonded = "run faces"

    @classmethod
    def of(cls, chosen: Chosen) -> RunTo | None:
        plane = len(chosen.faces) == 2 and chosen.faces[0].surface.kind == "plane"
        if not plane or chosen.edges or chosen.vertices:
            return None
        face, target = chosen.faces
        one, two = face.surface.frame.z, target.surface
        if isinstance(two, Plane) and abs(float(one @ two.frame.z)) < 0.2:
            return None  # it runs along the way and stops nothing
        if two.same_as(face.surface, chosen.model.tolerance, 1e3) or _back(chosen.model, face, target):
            return None
        return cls(face, target)

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return cls.of(chosen) is not None

    def do(self, bench: Bench) -> Made:
        (face,), (target,) = bench.faces("face"), bench.faces("target")
        if face is target:
            raise Refusal("a face cannot be run up to itself", remedy="choose another face", entities=(face,))
        body = bench.model.owners(face)[0]
        if not isinstance(face.surface, Plane):
            raise Refusal(f"a plane face can be run, not a {face.surface.kind}", remedy="use Reface or Offset",
                          entities=(face,))  # fmt: skip
        at = face_centroid(face)
        out = body.outward(face, at[None])[0]
        filled = _ahead(face, target, out)
        tool = _up_to(body, face, target.surface, out if filled else -out, bench)
        made = combine(body, tool, "union" if filled else "subtract", bench.tolerance)
        if not made:
            raise Refusal("nothing would be left", remedy="run it up to something nearer")
        words = f"run a face up to a {target.surface.kind}: {'filled' if filled else 'cut away'}"
        return Made(bench.model.replaced(body, made), words)


def _back(model: Model, face: Face, target: Face) -> bool:
    """Whether two plane faces are the two sides of one body: brought together they would leave nothing of it."""
    for body in model.bodies:
        if body.use_of(face) is not None and body.use_of(target) is not None:
            one, two = (body.outward(f, face_centroid(f)[None])[0] for f in (face, target))
            if isinstance(face.surface, Plane) and isinstance(target.surface, Plane) and float(one @ two) < 0.0:
                return float((face_centroid(target) - face_centroid(face)) @ one) < 0.0
    return False


def _ahead(face: Face, target: Face, out: np.ndarray) -> bool:
    """Whether a target lies before a face rather than behind it."""
    points = np.array([e.at(s) for e in target.edges() for s in (0.0, 0.3, 0.6)] or [target.surface.frame.origin])
    d = (points - face_centroid(face)) @ out
    return float(d.max()) > -float(d.min())


def _up_to(body: Body, face: Face, surface: Surface, way: np.ndarray, bench: Bench) -> Body:
    """What a face sweeps until a surface stops it."""
    reach = 2.0 * float(np.linalg.norm(np.ptp(rough_box([body]), axis=0)))
    swept = extruded(face, reach * way, "between")
    pieces = split(Model((swept,), bench.tolerance), [swept], surface, bench.progress).bodies
    at = face_centroid(face)
    floor = [p for p in pieces if any(abs(float(f.surface.signed_distance(at[None])[0])) < 10.0 * bench.tolerance
                                      and f.surface.kind == "plane" for f in p.faces)]  # fmt: skip
    if len(floor) != 1:
        raise Refusal("the surface does not stop the whole face", where=spot(at),
                      remedy="choose one that spans all of it", entities=(face,))  # fmt: skip
    return floor[0]


def _joined(bench: Bench, made: Model) -> Model:
    """With faces joined that lie on one surface now."""
    old = set(bench.model.bodies)
    return Model(tuple(b if b in old else tidied(b, bench.tolerance) for b in made.bodies), made.tolerance)


class Resize(Operation):
    """Give rounds, holes and bosses another radius."""

    faces: Choice = param(faces(help="rounds, or walls of holes and bosses"))
    radius: float = param(length("radius", above=0.0))

    unbonded = "resize"
    dragged = "radius"
    gate = "own"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return super().fits(chosen) and all(blend_radius(f) is not None for f in chosen.faces)

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        radii = [r for f in chosen.faces if (r := blend_radius(f)) is not None]
        return {**super().begun(chosen), "radius": round(radii[0], 9) if radii else None}

    def do(self, bench: Bench) -> Made:
        chosen = bench.faces()
        out = bench.model
        for body, own in bench.by_body(chosen):
            bench.progress.tell(0.1, f"resizing in {body.name}")
            adj = adjacency(body)
            rounds = [f for f in own if len(supports(adj, f)) >= 2]
            new: dict[Face, Surface] = dict(rolled_to(adj, rounds, self.radius, bench.tolerance))
            for face in own:
                if face in new:
                    continue
                if not isinstance(face.surface, Cylinder):
                    raise Refusal(
                        f"a {face.surface.kind} has no radius to change here", entities=(face,),
                        where=spot(face_centroid(face)), remedy="choose a round, or the wall of a hole or boss",
                    )  # fmt: skip
                new[face] = Cylinder(face.surface.frame, self.radius)
            out = out.replaced(body, [resurfaced(body, new, bench.tolerance)])
        return Made(out, f"resize {_what(bench, chosen)} to a radius of {self.radius:g} mm")


def _what(bench: Bench, chosen: Sequence[Face]) -> str:
    kinds = {f.kind for b in bench.model.bodies for f in features(b) if set(f.faces) & set(chosen)}
    return many(len(chosen), kinds.pop()) if len(kinds) == 1 else many(len(chosen), "face")
