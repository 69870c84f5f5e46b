"""An example or two of every operation in the table: on what it is done, with which parameters, and what must hold.

Who adds an operation adds an example here; the contract suite (`test_contract.py`) and the soak do the rest.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import pytest
from blocks import (
    around_ramp,
    body,
    box,
    free_edges,
    hole,
    hollow,
    opened,
    pair,
    pitted,
    plate,
    rounds,
    shoe,
    stack,
    stepped,
    straight,
    three,
    top,
    torn_block,
    torn_ramp,
    total,
)
from solids import motion as any_motion

from lithon import do
from lithon.brep.copies import moved
from lithon.brep.faceted import Triangles, bodies_of
from lithon.brep.measures import area, face_width, volume
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.tessellation.trees import tree_of
from lithon.brep.topology import Body, Edge, Face, FaceUse, Model
from lithon.brep.validate import flaws
from lithon.geometry.frames import Frame
from lithon.mesh.sizing import divide_edge, size_field
from lithon.operations.marks import held
from lithon.operations.operation import Operation
from lithon.operations.places import Axis, Cut
from lithon.operations.running import Outcome, run
from lithon.operations.state import State
from lithon.samples.build import Piece, Round, face_toward, prism, rectangle, sink
from lithon.samples.sill_ramp import RAMP
from lithon.survey.features import features
from lithon.survey.findings import findings


@dataclass(frozen=True)
class Place:
    """Where a model stands: how a point and a direction of the model as it was drawn are there."""

    motion: np.ndarray

    def at(self, *point: float) -> tuple[float, ...]:
        return tuple((self.motion[:3, :3] @ np.array(point) + self.motion[:3, 3]).tolist())

    def way(self, *direction: float) -> tuple[float, ...]:
        return tuple((self.motion[:3, :3] @ np.array(direction)).tolist())

    def of(self, model: Model) -> Model:
        if np.array_equal(self.motion, np.eye(4)):
            return model
        return Model(tuple(moved(b, self.motion) for b in model.bodies), model.tolerance)


HERE, THERE = Place(np.eye(4)), Place(any_motion(7))


@dataclass(frozen=True)
class Example:
    """name: of the operation; model: what it is done to; make: the operation on a model at a place, live; holds: what
    must be true of the outcome; kept: so many faces at least stay the same objects; bad: what is refused, in words."""

    name: str
    model: Callable[[], Model]
    make: Callable[[Model, Place], Operation]
    holds: Callable[[Model, Outcome], None]
    kept: int = 0
    bad: Sequence[Callable[[Model, Place], Operation]] = ()
    #: Whether the result must be sound; what is spoiled on purpose is mended one wound at a time.
    sound: bool = True
    tag: str = ""
    #: Whether the result stands where the model stands; of like parts any may be left, and where a round patch of
    #: triangles falls into what is seen from one side is by chance.
    there: bool = True
    #: What is done before.
    first: Sequence[Operation | Callable[[Model, Place], Operation]] = ()

    def __str__(self) -> str:
        return self.name + (f" {self.tag}" if self.tag else "")


def lines_of(edges: list[Edge]) -> list[Edge]:
    return [e for e in edges if e.curve.kind == "line"]


def patched_over(kind: str) -> Callable[[Model, Outcome], None]:
    def holds(before: Model, out: Outcome) -> None:
        (was,), (now,) = before.bodies, out.model.bodies
        (made,) = [f for f in now.faces if f not in set(was.faces)]
        assert made.surface.kind == kind and not flaws(now, out.model.tolerance)
        wanted = RAMP.volume if kind == "b-spline" else 1600.0
        assert volume(now) == pytest.approx(wanted, rel=1e-9)
        assert out.details[0]["off_mm"] < 10.0 * out.model.tolerance

    return holds


def skimmed_to(wanted: float) -> Callable[[Model, Outcome], None]:
    def holds(before: Model, out: Outcome) -> None:
        (now,) = out.model.bodies
        assert volume(now) == pytest.approx(wanted, rel=1e-9) and len(now.faces) == 6
        assert out.details[0]["deepest_mm"] == pytest.approx(0.8)

    return holds


def grouped(before: Model, out: Outcome) -> None:
    same(before, out)
    assert {b.name: w for b, w in out.state.marks.all("group").items()} == {"block": "apart"}


def made_of_iron(before: Model, out: Outcome) -> None:
    same(before, out)
    assert {b.name: w for b, w in out.state.marks.all("material").items()} == {"block": "grey iron"}


def draped(faces: int) -> Callable[[Model, Outcome], None]:
    def holds(before: Model, out: Outcome) -> None:
        same(before, out)
        worn = out.state.marks.all("drape")
        assert len(worn) == faces and set(worn.values()) == {"drape 1"}

    return holds


def gone_over(before: Model, out: Outcome) -> None:
    same(before, out)
    assert set(out.state.marks.all("passed")) == set(straight(before))


def cleared_to_a_sheet(before: Model, out: Outcome) -> None:
    (kept,) = [b for b in out.model.bodies if b.reference]
    assert kept.sheet and area(kept) == pytest.approx(6.0 * np.pi * 8.0)
    assert out.volume_change == pytest.approx(72.0 * np.pi) and len(out.model.bodies) == 3


def sheets(wanted: float, bodies: int) -> Callable[[Model, Outcome], None]:
    """So many bodies, and sheets of an area among them."""

    def holds(before: Model, out: Outcome) -> None:
        assert len(out.model.bodies) == bodies
        assert sum(area(b) for b in out.model.bodies if b.sheet) == pytest.approx(wanted)

    return holds


def wound(remedy: str) -> Callable[[Model, Place], Operation]:
    """The operation that the first card with this remedy offers."""

    def make(model: Model, place: Place) -> Operation:
        card = next(f for f in findings(model, 4.0) if str(f.remedy) == remedy)
        return getattr(do, remedy)(list(card.faces))

    return make


def grows(by: float, faces: int | None = None) -> Callable[[Model, Outcome], None]:
    def check(before: Model, out: Outcome) -> None:
        assert total(out.model) - total(before) == pytest.approx(by, rel=1e-9, abs=1e-9 * total(before))
        assert out.volume_change == pytest.approx(by, rel=1e-9, abs=1e-9 * total(before))
        assert faces is None or out.faces_change == faces

    return check


def same(before: Model, out: Outcome) -> None:
    assert out.model is before and out.faces_change == 0 and out.volume_change == 0.0


def _held(before: Model, out: Outcome) -> None:
    same(before, out)
    assert len(held(out.state.marks)) == 1 and set(out.state.marks.all("hold").values()) == {"beside a thin wall"}


def _sized(size: float, things: int) -> Callable[[Model, Outcome], None]:
    def check(before: Model, out: Outcome) -> None:
        same(before, out)
        assert list(out.state.marks.all("size").values()) == [size] * things
        assert out.state.rules().local and out.words.startswith(f"{size:g} mm")

    return check


def _set(key: str, value: object) -> Callable[[Model, Outcome], None]:
    def check(before: Model, out: Outcome) -> None:
        same(before, out)
        assert getattr(out.state.settings, key) == value

    return check


def _rounder(arc: float) -> Callable[[Model, Outcome], None]:
    def check(before: Model, out: Outcome) -> None:
        same(before, out)
        field = size_field(out.model.bodies, out.state.rules())
        rings = [e for e in out.model.bodies[0].edges() if e.ring]
        assert rings and all(2.0 * np.pi / (len(divide_edge(e, field)) - 1) <= arc + 1e-9 for e in rings)

    return check


def _mended(before: Model, out: Outcome) -> None:
    old, new = (len(flaws(m.bodies[0], m.tolerance)) for m in (before, out.model))
    assert new <= old and out.model is not before


def _named(before: Model, out: Outcome) -> None:
    (face,) = (f for f in out.model.faces() if f.label == "load")
    assert out.state.marks.get("name", face) == "load" and total(out.model) == pytest.approx(total(before), rel=1e-12)


def _aside(before: Model, out: Outcome) -> None:
    assert [b.name for b in out.model.bodies] == ["foot", "lone"]
    assert [f.label for f in out.model.faces() if f.label] == ["contact post"]


def _bonded(before: Model, out: Outcome) -> None:
    assert len(out.model.shared()) == 1 and total(out.model) == pytest.approx(total(before), rel=1e-12)


def edge_along(model: Model, place: Place) -> Edge:
    """The upper edge of the block at y = 0."""
    at = np.array(place.at(45, 0, 8))
    return next(e for e in body(model, "block").edges() if np.linalg.norm(e.at(0.5) - at) < 1e-6)


def _meshed(before: Model, out: Outcome) -> None:
    same(before, out)
    assert out.mesh is not None and out.mesh.conformal()
    assert out.mesh.volume_ratio == pytest.approx(1.0, abs=0.05)


def upright(model: Model) -> list:
    """Two upright edges of the block."""
    return [e for e in body(model, "block").edges() if abs(e.length - 8.0) < 1e-9][:2]


def grown_round(x: float, y: float, z: float, r: float) -> float:
    """What a block of that size loses to a radius on all its edges: it is swept by a ball within a smaller block."""
    a, b, c = x - 2 * r, y - 2 * r, z - 2 * r
    return a * b * c + 2 * r * (a * b + b * c + c * a) + np.pi * r**2 * (a + b + c) + 4 / 3 * np.pi * r**3 - x * y * z


def lone() -> Model:
    """A plate of 30 x 20 x 8 with a blind bore in its middle: two mirrors, not three."""
    body = prism(rectangle(0, 0, 30, 20), 8.0, name="plate")
    top = Frame.of((0, 0, 8.0), (0, 0, 1), (1, 0, 0))
    return Model.of([sink(body, face_toward(body, (0, 0, 1)), top, Round((15.0, 10.0), 3.0), 3.0)])


def quartered(before: Model, out: Outcome) -> None:
    assert total(out.model) == pytest.approx(total(before) / 4.0, rel=1e-12)
    labels = {f.label for f in out.model.faces() if f.label}
    assert len(labels) >= 1 and all(x.startswith("mirror") for x in labels)
    assert [b.name for b in out.model.bodies] == ["plate"]


def hub() -> Model:
    """A round plate with five bores on a circle, one of which would be cut by a sector that began at a bore."""
    body = prism(Round((0.0, 0.0), 20.0), 4.0, name="hub")
    top = Frame.of((0, 0, 4.0), (0, 0, 1), (1, 0, 0))
    for k in range(5):
        at = (12.0 * np.cos(2 * np.pi * k / 5), 12.0 * np.sin(2 * np.pi * k / 5))
        body = sink(body, face_toward(body, (0, 0, 1)), top, Round(at, 2.0), 4.0, face_toward(body, (0, 0, -1)))
    return Model.of([body])


def sectored(count: int) -> Callable[[Model, Outcome], None]:
    def check(before: Model, out: Outcome) -> None:
        assert total(out.model) * count == pytest.approx(total(before), rel=1e-12)
        sides = [f for f in out.model.faces() if f.label.startswith(f"sector 1/{count} side")]
        assert len(sides) == 2 and sides[0].surface.kind == sides[1].surface.kind == "plane"
        assert sum(f.surface.kind == "cylinder" and abs(f.surface.radius - 2.0) < 1e-9 for f in out.model.faces()) == 1

    return check


def torn() -> Model:
    """Two boxes of triangles; of one a side is missing, a triangle is turned and one stands twice."""
    whole, torn_one = (triangles_of(box(x, 0, x + 4, 4, 0, 4, name)) for x, name in ((0, "whole"), (10, "torn")))
    corners = torn_one.corners[2:].copy()
    corners[3] = corners[3][::-1]
    spoiled = Triangles(torn_one.points, np.vstack([corners, corners[5:6]]), "torn")
    return Model.of(bodies_of([whole, spoiled])[0])


def whole_again(before: Model, out: Outcome) -> None:
    assert {b.name: volume(b) for b in out.model.bodies} == pytest.approx({"whole": 64.0, "torn": 64.0})
    assert out.words.count("1 triangles turned") and out.words.count("1 triangles doubled")
    assert body(out.model, "whole") is body(before, "whole")


def needled() -> Model:
    """A bar of triangles with a tiny chamfer along it, and a box beside it."""
    outline = map(Piece, [(0, 0), (20, 0), (20, 9.9), (19.9, 10), (0, 10)])
    bar = replace(prism(list(outline), 30.0), name="bar")
    return Model.of([*bodies_of([triangles_of(bar)])[0], box(40, 40, 45, 45, 0, 5, "lone")])


def without_needles(before: Model, out: Outcome) -> None:
    """The two ends of the chamfer have become one, and the rest is as it was."""
    was, now = body(before, "bar"), body(out.model, "bar")
    assert len(was.faces) == 7 and len(now.faces) == 6 and min(map(face_width, now.faces)) > 4.0
    assert volume(was) == pytest.approx(30.0 * (200.0 - 0.005)) and volume(now) == pytest.approx(6000.0, rel=1e-6)
    assert out.words == "take 2 needles out" and out.details[0]["moved_mm"] <= 0.4
    points = body_mesh(now)[0]  # the new corner is the one between the two flanks, a tenth from both ends
    assert np.linalg.norm(points - tree_of(was).nearest(points)[1], axis=1).max() == pytest.approx(
        0.1 / 2**0.5, rel=1e-3
    )


def triangles_of(one: Body) -> Triangles:
    points, corners, _ = body_mesh(one)
    return Triangles(points, corners, one.name)


def faceted() -> Model:
    """The plate as triangles, in the digits of a file of triangles, and an exact box beside it."""
    soup = triangles_of(body(plate(), "plate"))
    rough = Triangles(soup.points.astype(np.float32).astype(float), soup.corners, "plate")
    return Model.of([*bodies_of([rough])[0], box(40, 40, 45, 45, 0, 5, "lone")])


def turned_solid(before: Model, out: Outcome) -> None:
    made, want = body(out.model, "plate"), body(plate(), "plate")
    assert Counter(f.surface.kind for f in made.faces) == Counter(f.surface.kind for f in want.faces)
    radii = sorted(round(f.surface.radius, 9) for f in made.faces if f.surface.kind == "cylinder")
    assert radii == [2.0] + [3.0] * 5 and volume(made) == pytest.approx(volume(want), rel=1e-9)
    bore = next(f for f in features(made) if f.kind == "hole" and abs(f.size - 4.0) < 1e-9)
    cleared = run(State(out.model), do.clear(list(bore.faces)))
    assert cleared.volume_change == pytest.approx(np.pi * 32.0, rel=1e-9)


def bore(m: Model, p: Place) -> list[Face]:
    """The faces of the smaller bore of the plate that is made of triangles."""
    foot, way = np.array(p.at(8, 10, 0)), np.array(p.way(0, 0, 1))

    def off(face: Face) -> float:
        along = face_mesh(face).points - foot
        return float(np.abs(np.linalg.norm(along - (along @ way)[:, None] * way, axis=1) - 2.0).max())

    return [f for f in body(m, "plate").faces if off(f) < 1e-4]


def across_bore(y: float) -> Callable[[Model, Place], Operation]:
    return lambda m, p: do.part_patch(bore(m, p)[0], Cut.at(p.at(0, y, 0), p.way(0, 1, 0)))


def patches(*more: str) -> Callable[[Model, Outcome], None]:
    """Every face of the plate is of one patch, and these are those of the plate and some more; nothing else has
    moved."""

    def holds(before: Model, out: Outcome) -> None:
        plate_now = body(out.model, "plate")
        words = [out.state.marks.get("patch", f) for f in plate_now.faces]
        kinds = Counter(w.split()[0] for w in set(words))
        assert kinds == Counter(f.surface.kind for f in body(plate(), "plate").faces) + Counter(more)
        assert volume(plate_now) == pytest.approx(volume(body(before, "plate")), rel=1e-12)

    return holds


def turned_round() -> Model:
    """Three blocks: a sound one, one of which two faces side by side look inwards, and one that is inside out."""
    sound, some, all_of = box(0, 0, 6, 5, 0, 4, "sound"), box(8, 0, 12, 5, 0, 4, "some"), box(14, 0, 18, 5, 0, 4, "all")

    def turn(block: Body, count: int) -> Body:
        return block.with_uses(FaceUse(u.face, u.forward != (k < count)) for k, u in enumerate(block.uses))

    return Model.of([sound, turn(some, 2), turn(all_of, 6)])


def turned_back(before: Model, out: Outcome) -> None:
    """Each block has its volume; of the one with some faces turned only these were."""
    assert [volume(b) for b in out.model.bodies] == pytest.approx([120.0, 80.0, 80.0])
    assert body(out.model, "sound") is body(before, "sound") and out.words == "turn 8 faces outwards"
    assert not [f for b in out.model.bodies for f in flaws(b, 1e-6)]


def down_bore(p: Place, top: float = 8.0, foot: float = 0.0) -> list[tuple[float, ...]]:
    """A line down the smaller bore, a little way along its rim and up again."""
    x, y = 8.0 + 2.0 * np.cos([0.0, 0.6]), 10.0 + 2.0 * np.sin([0.0, 0.6])
    return [p.at(x[0], y[0], top), p.at(x[0], y[0], foot), p.at(x[1], y[1], foot), p.at(x[1], y[1], top)]


def said_sphere(before: Model, out: Outcome) -> None:
    """The corners of the bore lie on a sphere as well, of 4 mm all over."""
    words = [w for f in body(out.model, "plate").faces if (w := str(out.state.marks.get("patch", f)))]
    assert any(w.startswith("sphere") and w.endswith("said") for w in words)
    assert out.details[0]["deviation_mm"] < 1e-3


def hulled(before: Model, out: Outcome) -> None:
    """One hull about two blocks: its corners are theirs, and it holds more than both."""
    made = body(out.model, "body")
    corners = {tuple(np.round(v.point, 6)) for name in ("body", "arm") for v in body(before, name).vertices()}
    assert {tuple(np.round(v.point, 6)) for v in made.vertices()} <= corners
    assert volume(made) > 1600.0 + 360.0 - 120.0 and [b.name for b in out.model.bodies] == ["body", "lone"]


def _cured(before: Model, out: Outcome) -> None:
    assert [d["kind"] for d in out.details] == ["small hole"] and out.faces_change == -1
    assert total(out.model) - total(before) == pytest.approx(np.pi * 0.36 * 8.0, rel=1e-9)


def _all_mended(before: Model, out: Outcome) -> None:
    assert not flaws(out.model.bodies[0], out.model.tolerance) and len(out.details) >= 5
    assert max(d["moved_mm"] for d in out.details) <= 0.5


def parted_all(before: Model, out: Outcome) -> None:
    sizes = {b.name: volume(b) for b in out.model.bodies}
    assert sizes == pytest.approx({"body": 1480.0, "body in arm": 120.0, "arm": 240.0, "lone": 125.0})


def crumbled() -> Model:
    """Two blocks side by side, and two crumbs: one lies on both, more on the first; one on the second alone."""
    return Model.of([
        box(0, 0, 20, 20, 0, 5, "one"), box(20, 0, 40, 20, 0, 5, "two"),
        box(19, 20, 20.9, 20.5, 0, 0.3, "between"), box(30, -0.2, 30.3, 0, 0, 0.4, "crumb"),
    ])  # fmt: skip


def swept_up(before: Model, out: Outcome) -> None:
    grows(0.0)(before, out)
    assert {b.name: volume(b) for b in out.model.bodies} == pytest.approx({"one": 2000.285, "two": 2000.024})


def axes(place: Place) -> list[Axis]:
    """The directions of z and x there."""
    return [Axis.at((0, 0, 0), place.way(*way)) for way in ((0, 0, 1), (1, 0, 0))]


def ends(model: Model, place: Place) -> list[Face]:
    return [face_toward(body(model, "plate"), place.way(x, 0, 0)) for x in (1.0, -1.0)]


def placed(shift: Sequence[float]) -> Callable[[Model, Outcome], None]:
    def check(before: Model, out: Outcome) -> None:
        grows(0.0, 0)(before, out)
        one, two = (np.mean([v.point for v in body(m, "block").vertices()], axis=0) for m in (before, out.model))
        assert two - one == pytest.approx(np.array(shift), abs=1e-9)

    return check


def refers(name: str, sort: str) -> Callable[[Model, Outcome], None]:
    def check(before: Model, out: Outcome) -> None:
        same(before, out)
        (made,) = out.state.references
        assert (made.name, made.sort) == (name, sort) and np.linalg.norm(made.way) == pytest.approx(1.0)

    return check


CUT_AT = do.Cut.at
CARVED = grows(0.0)
EXAMPLES: tuple[Example, ...] = (
    Example("drop", hollow, wound("drop"), grows(8.0, -6), 6, [lambda m, p: do.drop(m.bodies[0].faces[0])]),
    Example("drop-bodies", pair, lambda m, p: do.drop_bodies(body(m, "lone")), grows(-125.0, -6), 12,
            [lambda m, p: do.drop_bodies(list(m.bodies))]),
    Example("turn-outwards", turned_round, lambda m, p: do.turn_outwards(), turned_back, 12,
            [lambda m, p: do.turn_outwards(body(m, "sound"))]),
    Example("merge", shoe, wound("merge"), grows(0.0), 10, [lambda m, p: do.merge(m.bodies[0].faces[:2])], False),
    Example("close", shoe, wound("close"), _mended, 15, [lambda m, p: do.close(m.bodies[0].faces[:1])], False),
    Example("patch-over", torn_ramp, lambda m, p: do.patch_over(around_ramp(m)), patched_over("b-spline"), 7,
            [lambda m, p: do.patch_over(around_ramp(m)[:3]),
             lambda m, p: do.patch_over(around_ramp(m), tangent=around_ramp(m)[:1])]),
    Example("patch-over", torn_block, lambda m, p: do.patch_over(free_edges(m)),
            patched_over("plane"), 5, tag="an opening"),
    Example("patch-over", torn_ramp, lambda m, p: do.patch_over(around_ramp(m), curved=lines_of(around_ramp(m))),
            patched_over("b-spline"), 7, tag="in curvature"),
    Example("skim", stepped, lambda m, p: do.skim(top(m), 1.0), skimmed_to(20.0 * 10.0 * 8.0), 1,
            [lambda m, p: do.skim(top(m), 0.1), lambda m, p: do.skim(top(m), 50.0)]),
    Example("skim", stepped, lambda m, p: do.skim(top(m), 1.0, raised=0.5), skimmed_to(20.0 * 10.0 * 8.5), 1,
            tag="on a raised plane"),
    Example("sew", shoe, wound("sew"), _mended, 10, [lambda m, p: do.sew(m.bodies[0].faces[:1])], False),
    Example("replace", shoe, wound("replace"), _mended, 15,
            [lambda m, p: do.replace([f for f in m.faces() if f.surface.kind == "plane"][:1])], False),
    Example("mend-safe", shoe, lambda m, p: do.mend_safe(0.5), _all_mended, 5),
    Example("clean-triangles", torn, lambda m, p: do.clean_triangles(), whole_again, 0,
            [lambda m, p: do.clean_triangles(body(m, "whole"))]),
    Example("take-out-needles", needled, lambda m, p: do.take_out_needles(height=0.4), without_needles, 1,
            [lambda m, p: do.take_out_needles(height=0.01), lambda m, p: do.take_out_needles(body(m, "lone"))]),
    Example("solid", faceted, lambda m, p: do.solid(body(m, "plate")), turned_solid, 1,
            [lambda m, p: do.solid(body(m, "lone"))]),
    Example("solid", faceted, lambda m, p: do.solid(body(m, "plate"), "facets"), grows(0.0), 1, tag="of facets"),
    Example("find-patches", faceted, lambda m, p: do.find_patches(body(m, "plate")), patches(), 1, there=False),
    Example("part-patch", faceted, across_bore(9.2), patches("cylinder"), 1,
            [lambda m, p: do.part_patch(bore(m, p)[0]),
             lambda m, p: do.part_patch(bore(m, p)[0], Cut.at(p.at(0, 19, 0), p.way(0, 1, 0)))],
            first=[lambda m, p: do.find_patches(body(m, "plate"))], there=False),
    Example("unite-patches", faceted, lambda m, p: do.unite_patches(bore(m, p)), patches(), 1,
            [lambda m, p: do.unite_patches(body(m, "lone").faces[:2])],
            first=[lambda m, p: do.find_patches(body(m, "plate")), across_bore(9.2)], there=False),
    Example("part-patch", faceted, lambda m, p: do.part_patch(bore(m, p)[0], line=down_bore(p)), patches("plane"), 1,
            [lambda m, p: do.part_patch(bore(m, p)[0], line=down_bore(p)[:2])],
            first=[lambda m, p: do.find_patches(body(m, "plate"))], there=False, tag="along a line"),
    Example("paint-patch", faceted, lambda m, p: do.paint_patch(down_bore(p, 7, 1)[:2], 0.3), patches("cylinder"), 1,
            [lambda m, p: do.paint_patch(down_bore(p, 7, 1)[:2], 0.3, bore(m, p)[:1]),
             lambda m, p: do.paint_patch([p.at(8, 10, 90), p.at(9, 10, 90)], 0.3)],
            first=[lambda m, p: do.find_patches(body(m, "plate"))], there=False),
    Example("say-kind", faceted, lambda m, p: do.say_kind(bore(m, p)[:1], "sphere"), said_sphere, 1,
            [lambda m, p: do.say_kind(body(m, "lone").faces[:1], "cone")],
            first=[lambda m, p: do.find_patches(body(m, "plate"))], there=False),
    Example("grow-patch", faceted, lambda m, p: do.grow_patch(bore(m, p)[0], 0.02), patches(), 1,
            [lambda m, p: do.grow_patch(bore(m, p)[0], 1e-9)],
            first=[lambda m, p: do.find_patches(body(m, "plate")), across_bore(9.2)], there=False),
    Example("solid", faceted, lambda m, p: do.solid(body(m, "plate")), turned_solid, 1,
            first=[lambda m, p: do.find_patches(body(m, "plate"))], tag="of patches"),
    Example("cover", pair, lambda m, p: do.cover(body(m, "lone"), "cylinder"),
            grows(np.pi * 12.5 * 5.0 - 125.0, -3), 12),
    Example("cover", pair, lambda m, p: do.cover([body(m, "body"), body(m, "arm")], together=True),
            hulled, 6, tag="one for all"),
    Example("clear", plate, lambda m, p: do.clear(hole(m, 4.0)), grows(np.pi * 4.0 * 8.0, -1), 10,
            [lambda m, p: do.clear(list(body(m, "block").faces))]),
    Example("clear", plate, lambda m, p: do.clear("fillets where radius = 3 mm"),
            grows((4.0 - np.pi) * 9.0 * 8.0, -4), 6, tag="by a question"),
    Example("keep", plate, lambda m, p: do.keep(hole(m, 4.0), "beside a thin wall"), _held, 14),
    Example("unite", pair, lambda m, p: do.unite(body(m, "body"), body(m, "arm")), grows(-120.0), 6,
            [lambda m, p: do.unite(body(m, "body"), body(m, "body"))]),
    Example("subtract", pair, lambda m, p: do.subtract(body(m, "body"), body(m, "arm")), grows(-480.0), 6,
            [lambda m, p: do.subtract(body(m, "arm"), body(m, "arm"))]),
    Example("intersect", pair, lambda m, p: do.intersect(body(m, "body"), body(m, "arm")),
            grows(120.0 - 1600.0 - 360.0), 6, [lambda m, p: do.intersect(body(m, "body"), body(m, "lone"))]),
    Example("part", pair, lambda m, p: do.part(body(m, "body"), body(m, "arm")), grows(-120.0), 12,
            [lambda m, p: do.part(body(m, "body"), body(m, "lone"))]),
    Example("mirror", plate, lambda m, p: do.mirror(body(m, "block"), CUT_AT(p.at(60, 0, 0), p.way(1, 0, 0))),
            grows(800.0, 6), 14, [lambda m, p: do.mirror(body(m, "block"), do.Cut.surface(hole(m, 4.0)[0]))]),
    Example("slide", plate, lambda m, p: do.slide(face_toward(body(m, "plate"), p.way(1, 0, 0)), 2.0), grows(320.0, 0),
            10, [lambda m, p: do.slide(face_toward(body(m, "plate"), p.way(1, 0, 0)), -18.0),
                 lambda m, p: do.slide(m.faces()[0])]),
    Example("slide", plate, lambda m, p: do.slide(face_toward(body(m, "block"), p.way(0, 0, 1)),
            about=Axis.at(p.at(45, 0, 8), p.way(0, 1, 0)), tilt=0.1), grows(0.0, 0), 9, tag="tilted"),
    Example("slide", plate, lambda m, p: do.slide(face_toward(body(m, "block"), p.way(0, 0, 1)),
            about=Axis.at(p.at(40, 0, 8), p.way(0, 1, 0)), tilt=0.1), grows(-500.0 * np.tan(0.1), 0), 9,
            tag="tilted at an edge"),
    Example("offset", plate, lambda m, p: do.offset(hole(m, 4.0), 0.5), grows(np.pi * 8.0 * (4.0 - 2.25), 0), 12,
            [lambda m, p: do.offset(hole(m, 4.0), 2.5)]),
    Example("run-to", plate, lambda m, p: do.run_to(face_toward(body(m, "plate"), p.way(1, 0, 0)),
            face_toward(body(m, "block"), p.way(-1, 0, 0))), grows(10.0 * 14.0 * 8.0, 2), 10,
            [lambda m, p: do.run_to(hole(m, 4.0)[0], m.faces()[0])]),
    Example("reface", plate, lambda m, p: do.reface(face_toward(body(m, "block"), p.way(0, 1, 0)),
            face_toward(body(m, "plate"), p.way(0, 1, 0))), grows(10.0 * 10.0 * 8.0, 0), 9,
            [lambda m, p: do.reface(hole(m, 4.0)[0], hole(m, 4.0)[0])]),
    Example("resize", plate, lambda m, p: do.resize(hole(m, 6.0), 2.5), grows(np.pi * 8.0 * (9.0 - 6.25), 0), 12,
            [lambda m, p: do.resize(m.faces()[:1], 2.0), lambda m, p: do.resize(hole(m, 6.0), 30.0)]),
    Example("resize", plate, lambda m, p: do.resize("fillets where radius = 3 mm", 4.0),
            grows((np.pi - 4.0) * 8.0 * (16.0 - 9.0), 0), 8, tag="rounds"),
    Example("round", plate, lambda m, p: do.round(upright(m), 2.0), grows((np.pi - 4.0) * 4.0 * 8.0 / 4.0 * 2, 2), 11,
            [lambda m, p: do.round(upright(m), 20.0)]),
    Example("round", plate, lambda m, p: do.round(list(body(m, "block").edges()), 1.0),
            grows(grown_round(10.0, 10.0, 8.0, 1.0), 20), 8, tag="all edges of a block"),
    Example("bevel", plate, lambda m, p: do.bevel(upright(m), 2.0), grows(-2.0 * 2.0 * 8.0, 2), 11,
            [lambda m, p: do.bevel(upright(m), 20.0)]),
    Example("score", plate, lambda m, p: do.score(CUT_AT(p.at(8, 0, 0), p.way(1, 0, 0)), hole(m, 4.0)),
            grows(0.0, 1), 9,
            [lambda m, p: do.score(CUT_AT(p.at(99, 0, 0), p.way(1, 0, 0))),
             lambda m, p: do.score(CUT_AT(p.at(8, 0, 0), p.way(1, 0, 0)), hole(m, 6.0))]),
    Example("score", plate, lambda m, p: do.score(do.Cut.round(edge_along(m, p), 2.0)), grows(0.0, 8), 6,
            tag="beside an edge"),
    Example("halve", lone, lambda m, p: do.halve("quarter"), quartered, 0,
            [lambda m, p: do.halve("eighth"), lambda m, p: do.halve("half", CUT_AT(p.at(0, 0, 99), p.way(0, 0, -1)))],
            there=False),
    Example("sector", hub, lambda m, p: do.sector(), sectored(5), 0, there=False),
    Example("bridge", plate, lambda m, p: do.bridge(face_toward(body(m, "plate"), p.way(1, 0, 0)),
            face_toward(body(m, "block"), p.way(-1, 0, 0))), grows(10.0 * 8.0 * 12.0), 10,
            [lambda m, p: do.bridge(*ends(m, p)), lambda m, p: do.bridge(m.faces()[0], hole(m, 4.0)[0])]),
    Example("move", plate, lambda m, p: do.move(body(m, "block"), 40.0, Axis.at((0, 0, 0), p.way(0, 1, 0))),
            placed((0.0, 40.0, 0.0)), 8, [lambda m, p: do.move(body(m, "block"))]),
    Example("turn", plate, lambda m, p: do.turn(body(m, "block"), Axis.at(p.at(0, 0, 0), p.way(0, 0, 1)), np.pi / 2, 3),
            grows(2400.0, 18), 14),
    Example("block", plate, lambda m, p: do.block(3.0, 4.0, 5.0, p.at(60, 0, 0), *axes(p)), grows(60.0, 6), 14),
    Example("wedge", plate, lambda m, p: do.wedge(3.0, 4.0, 5.0, p.at(60, 0, 0), 0.0, *axes(p)), grows(30.0, 5), 14),
    Example("cylinder", plate, lambda m, p: do.cylinder(2.0, 3.0, hole(m, 4.0)[0]), grows(12.0 * np.pi, 3), 14),
    Example("cone", plate, lambda m, p: do.cone(2.0, 3.0, p.at(60, 0, 0), top=1.0), grows(7.0 * np.pi, 3), 14,
            [lambda m, p: do.cone(2.0, 3.0, top=2.0)]),
    Example("sphere", plate, lambda m, p: do.sphere(2.0, p.at(60, 0, 0)), grows(32.0 / 3.0 * np.pi, 1), 14),
    Example("ring", plate, lambda m, p: do.ring(4.0, 1.0, p.at(60, 0, 0)), grows(8.0 * np.pi**2, 1), 14,
            [lambda m, p: do.ring(4.0, 5.0)]),
    Example("reference-plane", plate, lambda m, p: do.reference_plane(do.Cut.midway(*ends(m, p)), "middle"),
            refers("middle", "plane"), 14),
    Example("reference-axis", plate, lambda m, p: do.reference_axis(Axis.along(hole(m, 4.0)[0]), "bore"),
            refers("bore", "axis"), 14, [lambda m, p: do.reference_axis(Axis.where(*ends(m, p)))]),
    Example("reference-point", plate, lambda m, p: do.reference_point(body(m, "block").vertices()[0], "corner"),
            refers("corner", "point"), 14),
    Example("drop-reference", plate, lambda m, p: do.drop_reference("old"), lambda before, out: same(before, out), 14,
            [lambda m, p: do.drop_reference("new")], first=[do.reference_plane("z = 3", "old")]),
    Example("carve", plate, lambda m, p: do.carve(CUT_AT(p.at(0, 10, 0), p.way(0, 1, 0)), body(m, "plate")), CARVED, 6,
            [lambda m, p: do.carve(CUT_AT(p.at(0, 99, 0), p.way(0, 1, 0)))]),
    Example("carve", plate, lambda m, p: do.carve(do.Cut.offset(face_toward(body(m, "block"), p.way(0, 0, 1)), -3.0)),
            CARVED, 0, tag="off a face"),
    Example("clear", plate, lambda m, p: do.clear(hole(m, 4.0) + hole(m, 6.0), but=hole(m, 4.0), reference=True),
            cleared_to_a_sheet, 10, [lambda m, p: do.clear(hole(m, 4.0), but=hole(m, 4.0))], tag="but some, kept"),
    Example("clear", plate, lambda m, p: do.clear([*hole(m, 4.0), ends(m, p)[0]], partly=True), grows(32.0 * np.pi, -1),
            8, tag="what can go"),
    Example("reopen", plate, lambda m, p: do.reopen(list(m.bodies[1].faces), body(m, "plate")), grows(-72.0 * np.pi, 1),
            12, [lambda m, p: do.reopen(ends(m, p), body(m, "plate"))],
            first=[do.clear("holes where diameter = 6", reference=True)]),
    Example("slice", stack, lambda m, p: do.slice(CUT_AT(p.at(0, 7, 0), p.way(0, 1, 0)), bodies=m.bodies[:2]),
            sheets(100.0 + 42.0, 3), 6, [lambda m, p: do.slice(CUT_AT(p.at(0, 99, 0), p.way(0, 1, 0)))]),
    Example("mid-surface", stack, lambda m, p: do.mid_surface(body(m, "foot"), most=5.0), sheets(400.0, 3), 12,
            [lambda m, p: do.mid_surface(body(m, "lone"), most=1.0)]),
    Example("sheet", opened, lambda m, p: do.sheet(body(m, "foot")), sheets(20.0 * 20.0 + 4.0 * 100.0, 2), 6),
    Example("bond", stack, lambda m, p: do.bond(), _bonded, 10),
    Example("bond", three, lambda m, p: do.bond([body(m, "foot"), body(m, "post")]), _bonded, 10,
            [lambda m, p: do.bond([body(m, "foot"), body(m, "cap")])], tag="some of them"),
    Example("cure", pitted, lambda m, p: do.cure(), _cured, 12, [lambda m, p: do.cure(0.01)]),
    Example("part-all", pair, lambda m, p: do.part_all(), parted_all, 6,
            [lambda m, p: do.part_all([body(m, "body"), body(m, "lone")])]),
    Example("crumbs", crumbled, lambda m, p: do.crumbs(), swept_up, 5,
            [lambda m, p: do.crumbs(below=1e-3), lambda m, p: do.crumbs(below=1e9)]),
    Example("set-aside", stack, lambda m, p: do.set_aside(body(m, "post")), _aside, 10,
            [lambda m, p: do.set_aside(list(m.bodies))]),
    Example("name", plate, lambda m, p: do.name(hole(m, 4.0), "load"), _named, 12),
    Example("size-on-faces", plate, lambda m, p: do.size_on_faces(hole(m, 4.0), 0.5), _sized(0.5, 1), 14,
            [lambda m, p: do.size_on_faces(hole(m, 4.0), 50.0)]),
    Example("size-on-edges", plate, lambda m, p: do.size_on_edges(straight(m), 0.7), _sized(0.7, 2), 14,
            [lambda m, p: do.size_on_edges(straight(m), 50.0)]),
    Example("size-in-bodies", plate, lambda m, p: do.size_in_bodies(body(m, "block"), 1.5), _sized(1.5, 1), 14,
            [lambda m, p: do.size_in_bodies(body(m, "block"), 50.0)]),
    Example("group", plate, lambda m, p: do.group(body(m, "block"), "apart"), grouped, 14),
    Example("material", plate, lambda m, p: do.material(body(m, "block"), "grey iron"), made_of_iron, 14),
    Example("divide", plate, lambda m, p: do.divide(straight(m), 5),
            lambda before, out: same(before, out) or assert_divided(out, 5), 14),
    Example("element-size", plate, lambda m, p: do.element_size(2.5), _set("size", 2.5), 14),
    Example("ignore-below", plate, lambda m, p: do.ignore_below(0.3), _set("ignore", 0.3), 14,
            [lambda m, p: do.ignore_below(4.0)]),
    Example("drape", plate, lambda m, p: do.drape(rounds(m)), draped(8), 14,
            [lambda m, p: do.drape(hole(m, 4.0) + hole(m, 6.0)), lambda m, p: do.drape(off=True)]),
    Example("drape", plate, lambda m, p: do.drape(strength=0.1), draped(8), 14, tag="by strength"),
    Example("drape", plate, lambda m, p: do.drape(edges=straight(m)), gone_over, 14,
            [lambda m, p: do.drape(edges=straight(m), off=True)], tag="edges"),
    Example("arc-angle", plate, lambda m, p: do.arc_angle(0.25), _rounder(0.25), 14),
    Example("growth", plate, lambda m, p: do.growth(0.2), _set("growth", 0.2), 14),
    Example("face-budget", plate, lambda m, p: do.face_budget(12), _set("budget", 12), 14),
    Example("mesh", stack, lambda m, p: do.mesh("hex"), _meshed, 18),
)  # fmt: skip


def assert_divided(out: Outcome, count: int) -> None:
    assert list(out.state.marks.all("divisions").values()) == [count, count]


_STARTED: dict[tuple[int, bytes], State] = {}


def start(example: Example, place: Place = HERE, fresh: bool = False) -> State:
    """The state that an example begins with; a fresh one, of which nothing is known yet, or one that others had."""
    from lithon.operations.state import Settings

    key = id(example), place.motion.tobytes()
    if fresh or key not in _STARTED:
        state = State(place.of(example.model()), settings=Settings(4.0))
        for step in example.first:
            state = run(state, step if isinstance(step, Operation) else step(state.model, place)).state
        if fresh:
            return state
        _STARTED[key] = state
    return _STARTED[key]
