"""Random solids of planes and cylinders with known volumes, for tests by the hundred."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Model, Vertex
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Torus
from lithon.samples.build import Piece, Round, face_toward, polyhedron, prism, raised, rectangle, revolved, sink

CORNERS = 4.0 - np.pi


@dataclass(frozen=True)
class Known:
    """A solid, its volume and what was put on it."""

    model: Model
    volume: float
    holes: int
    pockets: int
    bosses: int
    fillets: int

    @property
    def body(self) -> Body:
        return self.model.bodies[0]


def frame(rng: np.random.Generator, straight: bool = False) -> Frame:
    if straight:
        return Frame.of((0.0, 0.0, 0.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
    return Frame.of(rng.uniform(-50, 50, 3), rng.normal(size=3), rng.normal(size=3))


def motion(seed: int, mirrored: bool = False) -> np.ndarray:
    rng = np.random.default_rng(seed)
    turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
    turn *= np.sign(np.linalg.det(turn)) * (-1.0 if mirrored else 1.0)
    out = np.eye(4)
    out[:3, :3], out[:3, 3] = turn, rng.uniform(-80.0, 80.0, 3)
    return out


def on_its_own(body: Body) -> Body:
    """The same solid out of entities of its own, so that nothing is known of it."""
    points = {v: Vertex(v.point) for v in body.vertices()}
    edges = {
        e: Edge(e.curve, e.t0, e.t1, points[e.start] if e.start else None, points[e.end] if e.end else None)
        for e in body.edges()
    }
    uses = []
    for use in body.uses:
        loops = tuple(tuple(Coedge(edges[c.edge], c.forward) for c in loop) for loop in use.face.loops)
        uses.append(FaceUse(Face(use.face.surface, loops, use.face.along, use.face.label), use.forward))
    return Body(tuple(uses), body.name, body.path, body.colour)


def bracket(seed: int, straight: bool = False) -> Known:
    """A rounded plate on a 3 x 3 grid of places, each empty or with a hole, a blind hole, a pocket
    or a boss; anywhere in space unless `straight`."""
    rng = np.random.default_rng(seed)
    base = frame(rng, straight)
    cell, h = rng.uniform(8, 14), rng.uniform(4, 15)
    r = rng.uniform(0.5, 2.5) if rng.random() < 0.7 else 0.0
    side = 3 * cell
    body = prism(rectangle(0, 0, side, side, r), h, base, f"bracket {seed}")
    exact = (side * side - CORNERS * r * r) * h
    top = Frame(base.origin + h * base.z, base.x, base.y, base.z)
    count = {"holes": 0, "pockets": 0, "bosses": 0}
    for i in range(3):
        for j in range(3):
            centre = ((i + 0.5) * cell, (j + 0.5) * cell)
            face = face_toward(body, base.z, top.origin)
            kind = rng.choice(["none", "through", "blind", "pocket", "boss", "stud"])
            size, depth = rng.uniform(0.12, 0.38) * cell, rng.uniform(0.3, 0.8) * h
            box = (centre[0] - size, centre[1] - 0.8 * size, centre[0] + size, centre[1] + 0.8 * size)
            round_by = rng.uniform(0.1, 0.3) * size if rng.random() < 0.5 else 0.0
            area = 4 * size * 0.8 * size - CORNERS * round_by**2
            if kind == "through":
                body = sink(body, face, top, Round(centre, size), h, face_toward(body, -base.z))
                exact -= np.pi * size**2 * h
                count["holes"] += 1
            elif kind == "blind":
                body = sink(body, face, top, Round(centre, size), depth)
                exact -= np.pi * size**2 * depth
                count["holes"] += 1
            elif kind == "pocket":
                body = sink(body, face, top, rectangle(*box, round_by), depth)
                exact -= area * depth
                count["pockets"] += 1
            elif kind == "boss":
                body = raised(body, face, top, rectangle(*box, round_by), depth)
                exact += area * depth
                count["bosses"] += 1
            elif kind == "stud":
                body = raised(body, face, top, Round(centre, size), depth)
                exact += np.pi * size**2 * depth
                count["bosses"] += 1
    fillets = sum(u.face.surface.kind == "cylinder" and len(u.face.loops) == 1 for u in body.uses)
    return Known(Model.of([body]), exact, fillets=fillets, **count)


def simple_solid(rng: np.random.Generator, kinds: str) -> Body:
    """A block, round bar, cone, ball or torus, often on a grid and square to the axes, so that walls coincide and
    touch."""
    snap = (lambda x: np.round(2 * x) / 2) if rng.random() < 0.5 else (lambda x: x)
    z = np.eye(3)[rng.integers(3)] if rng.random() < 0.5 else rng.normal(size=3)
    f = Frame.of(snap(rng.uniform(-6, 6, 3)), z)

    def r(low: float, high: float) -> float:
        return float(max(snap(rng.uniform(low, high)), 0.5))

    kind = rng.choice(list(kinds))
    if kind == "b":
        return prism(rectangle(0, 0, r(2, 10), r(2, 10)), r(2, 10), f)
    if kind == "c":
        return prism(Round((0, 0), r(1, 5)), r(2, 12), f)
    if kind == "k":
        return revolved([Piece((0, 0)), Piece((r(1, 5), 0)), Piece((0, r(2, 9)))], f)
    if kind == "t":
        major = r(3, 7)
        return Body((FaceUse(Face(Torus.of(f.origin, f.z, major, min(r(0.5, 2.5), major - 0.5)), ())),), "ring")
    a = r(1, 6)
    return revolved([Piece((0, -a), (0, 0)), Piece((0, a))], f)


def hip_roof(ridge: float, x: float = 0.0) -> Body:
    """A roof over 40 by 30 mm, 20 mm high, whose ridge is as short as is asked for: nothing of it is narrow."""
    base = [(x, 0.0, 0.0), (x + 40.0, 0.0, 0.0), (x + 40.0, 30.0, 0.0), (x, 30.0, 0.0)]
    top = [(x + 20.0 - ridge / 2, 15.0, 20.0), (x + 20.0 + ridge / 2, 15.0, 20.0)]
    sides = [(3, 2, 1, 0), (0, 1, 5, 4), (1, 2, 5), (2, 3, 4, 5), (3, 0, 4)]
    return polyhedron(np.array(base + top), sides, name="roof with a hip")
