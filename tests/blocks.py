"""Blocks, plates and torn parts that tests build on, and what is looked for on them."""

from __future__ import annotations

from collections import Counter

from lithon.brep.measures import volume
from lithon.brep.topology import Body, Edge, Face, Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Piece, Round, face_toward, prism, rectangle, sink
from lithon.samples.pintle_shoe import spoiled_shoe
from lithon.samples.sill_ramp import sill_ramp
from lithon.survey.features import features


def total(model: Model) -> float:
    return sum(volume(b) for b in model.bodies)


def box(x0: float, y0: float, x1: float, y1: float, z0: float, z1: float, name: str) -> Body:
    return prism(rectangle(x0, y0, x1, y1), z1 - z0, Frame.of((0, 0, z0), (0, 0, 1), (1, 0, 0)), name)


def plate() -> Model:
    """A plate of 30 x 20 x 8 with round corners of 3 and two bores, and a block beside it."""
    body = prism(rectangle(0, 0, 30, 20, 3.0), 8.0, name="plate")
    low = face_toward(body, (0, 0, -1))
    for x, r in ((8.0, 2.0), (20.0, 3.0)):
        top = Frame.of((0, 0, 8.0), (0, 0, 1), (1, 0, 0))
        body = sink(body, face_toward(body, (0, 0, 1)), top, Round((x, 10.0), r), 8.0, face_toward(body, (0, 0, -1)))
    assert low.surface.kind == "plane"
    return Model.of([body, box(40, 0, 50, 10, 0, 8, "block")])


def pitted() -> Model:
    """The plate with a bore more that is a third of an element across."""
    body, block = plate().bodies
    frame = Frame.of((0, 0, 8.0), (0, 0, 1), (1, 0, 0))
    top, low = face_toward(body, (0, 0, 1)), face_toward(body, (0, 0, -1))
    return Model.of([sink(body, top, frame, Round((14.0, 4.0), 0.6), 8.0, low), block])


def pair() -> Model:
    """Two blocks that overlap by 5 x 6 x 4, and one apart."""
    parts = [box(0, 0, 20, 10, 0, 8, "body"), box(15, 2, 30, 8, 2, 6, "arm"), box(0, 40, 5, 45, 0, 5, "lone")]
    return Model.of(parts)


def stack() -> Model:
    """A block on a plate, touching over 6 x 6, and one beside them."""
    return Model.of(
        [box(0, 0, 20, 20, 0, 5, "foot"), box(4, 4, 10, 10, 5, 12, "post"), box(40, 0, 45, 5, 0, 5, "lone")]
    )


def three() -> Model:
    """A post on a foot and a cap on the post."""
    return Model.of(
        [box(0, 0, 20, 20, 0, 5, "foot"), box(4, 4, 10, 10, 5, 12, "post"), box(4, 4, 10, 10, 12, 15, "cap")]
    )


def rounds(model: Model) -> list[Face]:
    """The plate's sides, plane and round."""
    return [f for f in body(model, "plate").faces if len(f.loops) == 1]


def torn_ramp() -> Model:
    return sill_ramp()


def around_ramp(model: Model) -> list[Edge]:
    """The edges around the torn ramp: those of faces that do not hang on it."""
    (ramp,) = model.bodies
    torn = [f for f in ramp.faces if f.surface.kind == "b-spline"]
    count = Counter(e for f in ramp.faces for e in f.edges())
    hung = [e for f in torn for e in f.edges() if count[e] == 2]
    free = [e for f in ramp.faces if f not in torn for e in f.edges() if count[e] == 1]
    return [*free, *hung]


def free_edges(model: Model) -> list[Edge]:
    count = Counter(e for f in model.bodies[0].faces for e in f.edges())
    return [e for e, n in count.items() if n == 1]


def torn_block() -> Model:
    """A block without its last side."""
    body = box(0, 0, 20, 10, 0, 8, "block")
    return Model.of([body.with_uses(body.uses[:-1])])


def stepped() -> Model:
    """A block of 20 x 10 x 8 with a step of 0.5 along one end of its top and a groove of 0.8 across it."""
    corners = [(0, 0), (20, 0), (20, 7.5), (17, 7.5), (17, 8), (12, 8), (11.5, 7.2), (9.5, 7.2), (10, 8), (0, 8)]
    frame = Frame.of((0, 10, 0), (0, -1, 0), (1, 0, 0))
    return Model.of([prism([Piece((float(x), float(z))) for x, z in corners], 10.0, frame, "block")])


def top(model: Model) -> Face:
    """The longest of the highest faces over the floor, which is the largest face with four edges."""
    (body,) = model.bodies
    floor = max(body.faces, key=lambda f: sum(e.length for e in f.edges()) if len(list(f.edges())) == 4 else 0.0)
    way, start = floor.surface.frame.z, floor.surface.frame.origin
    level = [f for f in body.faces if f.surface.kind == "plane" and abs(float(f.surface.frame.z @ way)) > 0.999]
    far = {f: abs(float((f.surface.frame.origin - start) @ way)) for f in level}
    high = [f for f in level if far[f] > max(far.values()) - 1e-6]
    return max(high, key=lambda f: sum(e.length for e in f.edges()))


def opened() -> Model:
    """A foot without its top."""
    foot, post, _ = stack().bodies
    return Model((foot.with_uses([u for u in foot.uses if u.face is not face_toward(foot, (0, 0, 1))]), post), 1e-6)


def hollow() -> Model:
    block = box(0, 0, 10, 10, 0, 10, "block")
    inner = box(4, 4, 6, 6, 4, 6, "void")
    return Model.of([block.with_uses([*block.uses, *(type(u)(u.face, not u.forward) for u in inner.uses)])])


def shoe() -> Model:
    return spoiled_shoe(5)[0]


def hole(model: Model, diameter: float) -> list[Face]:
    return list(next(f.faces for b in model.bodies for f in features(b) if abs(f.size - diameter) < 1e-6))


def body(model: Model, name: str) -> Body:
    return next(b for b in model.bodies if b.name == name)


def straight(model: Model) -> list:
    return [e for e in body(model, "block").edges() if abs(e.length - 8.0) < 1e-9][:2]
