"""Stock: simple solids placed by numbers, or snapped to points and axes of what is there."""

from __future__ import annotations

import numpy as np

from lithon.arrays import cross_product
from lithon.brep.topology import Body, Edge, Face, FaceUse, Model, Vertex
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Sphere, Torus
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import About, At, Words, length
from lithon.operations.places import Axis, Spot
from lithon.operations.trim.mirror import free_name
from lithon.samples.build import Piece, Round, prism, rectangle, revolved


def _at(title: str, help: str = "") -> At:
    return At(title=title, help=help or "such as: 0 0 5", default=Spot(), optional=True)


def _way() -> About:
    return About(title="axis", help="z where none is given", optional=True)


def _along() -> About:
    return About(title="x along", help="which way its x runs", optional=True)


def _name() -> Words:
    return Words(title="name", help="of the body", default="", optional=True, empty=True)


class _Stock(Operation):
    word = "stock"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return False  # whatever is in hand, it is not asked for

    @classmethod
    def of(cls, chosen: Chosen) -> None:
        return None

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        values = {key: p.default for key, p in cls.parameters().items()}
        things: list[Vertex | Edge | Face] = [*chosen.vertices, *chosen.edges, *chosen.faces]
        if things and "at" in values:
            values["at"] = Spot.on_entity(things[0])
        return values

    def frame(self, bench: Bench) -> Frame:
        """Where it stands: its place, and z along its axis."""
        axis, along = bench.given.get("way"), bench.given.get("along")
        z = np.array([0.0, 0.0, 1.0]) if axis is None else axis[1]
        x = np.array([1.0, 0.0, 0.0]) if along is None else along[1]
        if along is not None and float(np.linalg.norm(cross_product(x, z))) < 1e-9:
            raise Refusal("x cannot run along the axis", remedy="choose another direction for one of them")
        return Frame.of(bench.given["at"], z, x)

    def made(self, frame: Frame, name: str) -> Body:
        raise NotImplementedError

    def do(self, bench: Bench) -> Made:
        taken = {b.name for b in bench.model.bodies}
        name = free_name(getattr(self, "called", "") or self.word, taken)
        body = self.made(self.frame(bench), name)
        bodies = (*bench.model.bodies, body)
        tolerance = bench.model.tolerance if bench.model.bodies else Model.of(bodies).tolerance
        return Made(Model(bodies, tolerance), f"{self.word} {name}" if name != self.word else f"a {self.word}")


class Block(_Stock):
    """Add a block."""

    x: float = param(length("x", "along x", above=0.0))
    y: float = param(length("y", "along y", above=0.0))
    z: float = param(length("z", "along z", above=0.0))
    at: Spot = param(_at("corner"))
    way: Axis | None = param(_way())
    along: Axis | None = param(_along())
    called: str = param(_name())

    word = "block"

    def made(self, frame: Frame, name: str) -> Body:
        return prism(rectangle(0.0, 0.0, self.x, self.y), self.z, frame, name)


class Wedge(_Stock):
    """Add a wedge: a block whose top is shorter along x, down to an edge."""

    x: float = param(length("x", "along x, below", above=0.0))
    y: float = param(length("y", "along y", above=0.0))
    z: float = param(length("z", "along z", above=0.0))
    at: Spot = param(_at("corner"))
    top: float = param(length("top", "along x, above; 0 makes an edge", least=0.0, default=0.0, optional=True))
    way: Axis | None = param(_way())
    along: Axis | None = param(_along())
    called: str = param(_name())

    word = "wedge"

    def made(self, frame: Frame, name: str) -> Body:
        side = Frame.of(frame.origin + self.y * frame.y, -frame.y, frame.x)
        end = [Piece((self.top, self.z))] if self.top > 0.0 else []
        return prism([Piece((0.0, 0.0)), Piece((self.x, 0.0)), *end, Piece((0.0, self.z))], self.y, side, name)


class CylinderStock(_Stock):
    """Add a cylinder."""

    radius: float = param(length("radius", above=0.0))
    height: float = param(length("height", above=0.0))
    at: Spot = param(_at("foot", "the middle of its lower end"))
    way: Axis | None = param(_way())
    called: str = param(_name())

    word = "cylinder"

    def made(self, frame: Frame, name: str) -> Body:
        return prism(Round((0.0, 0.0), self.radius), self.height, frame, name)


class ConeStock(_Stock):
    """Add a cone, or a frustum."""

    radius: float = param(length("radius", "below", above=0.0))
    height: float = param(length("height", above=0.0))
    at: Spot = param(_at("foot", "the middle of its lower end"))
    way: Axis | None = param(_way())
    top: float = param(length("top", "radius above; 0 makes a tip", least=0.0, default=0.0, optional=True))
    called: str = param(_name())

    word = "cone"

    def made(self, frame: Frame, name: str) -> Body:
        if abs(self.top - self.radius) < 1e-9 * self.radius:
            raise Refusal("a cone whose ends are alike is a cylinder", remedy="add a cylinder")
        end = [Piece((self.top, self.height))] if self.top > 0.0 else []
        return revolved([Piece((0.0, 0.0)), Piece((self.radius, 0.0)), *end, Piece((0.0, self.height))], frame, name)


class SphereStock(_Stock):
    """Add a sphere."""

    radius: float = param(length("radius", above=0.0))
    at: Spot = param(_at("centre"))
    called: str = param(_name())

    word = "sphere"

    def made(self, frame: Frame, name: str) -> Body:
        return Body((FaceUse(Face(Sphere(frame, self.radius), ())),), name)


class RingStock(_Stock):
    """Add a ring of round section."""

    radius: float = param(length("radius", "of the circle that its section runs along", above=0.0))
    section: float = param(length("section", "the section's radius", above=0.0))
    at: Spot = param(_at("centre"))
    way: Axis | None = param(_way())
    called: str = param(_name())

    word = "ring"

    def made(self, frame: Frame, name: str) -> Body:
        if self.section >= self.radius:
            raise Refusal("the section would reach over the axis", remedy="take a smaller section")
        return Body((FaceUse(Face(Torus(frame, self.radius, self.section), ())),), name)
