"""Hexahedra of a whole model: how each body is swept, in which order, and the mesh of all."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats
from lithon.brep.measures import volume
from lithon.brep.topology import Body, Model
from lithon.errors import Refusal, spot
from lithon.mesh.around import carried_around
from lithon.mesh.hexer import Hexer
from lithon.mesh.mesh import Mesh
from lithon.mesh.motion import Sweep
from lithon.mesh.quads import facing, four_sided
from lithon.mesh.quality import Quality
from lithon.mesh.sector import image_edges
from lithon.mesh.shapes import HEX
from lithon.mesh.sizing import SizeRules
from lithon.mesh.sweep import sweep_of, sweeps_of
from lithon.mesh.turns import Sides, Turn, turn_of
from lithon.mesh.walls import matched
from lithon.progress import SILENT, Progress

#: How many directions for all bodies together are tried.
_MOST_WAYS = 4


@dataclass(frozen=True, slots=True)
class Wish:
    """What is preferred where bodies can be swept in several ways: along rather than all the way round, and which way
    (3,)."""

    along: bool = False
    way: Floats | None = None


def plan_of(body: Body, known: Sides, wish: Wish = Wish()) -> Sweep | Turn:
    """How to sweep a body. All the way round an axis where its profile can be mapped or nothing else is possible.
    Raises Refusal naming the face that stands in the way."""
    try:
        line = sweep_of(body, wish.way)
    except Refusal as refusal:
        try:
            return turn_of(body, known)
        except Refusal as other:
            # Only of a body that is round is there something better to try than what the sweep says.
            raise (other if other.remedy else refusal) from None
    if wish.along or all(four_sided(u.face) for u in line.source):
        return line
    try:
        turn = turn_of(body, known)
    except Refusal:
        return line
    return turn if four_sided(turn.profile) else line


def hexahedral_mesh(model: Model, rules: SizeRules, progress: Progress = SILENT) -> Mesh:
    """Sweep all bodies of a model; bonded faces match node for node. Where bodies that can be swept in several ways do
    not go together in the best of them, others are tried.

    Raises Refusal naming the body, the face and the place where one is not a single profile.
    """
    if not np.isfinite(rules.size) or rules.size <= 0.0:
        raise Refusal("the element size must be a positive length")
    first: Refusal | None = None
    tried: set[tuple[object, ...]] = set()
    for wish in _wishes(model):
        try:
            planned = _corners_matched(model, wish)
            ways = tuple(_said(plan) for plan in planned[1])
            if ways not in tried:
                tried.add(ways)
                return _swept(model, planned, rules, progress)
        except Refusal as refusal:
            first = first or refusal
    assert first is not None
    raise first


def _wishes(model: Model) -> Iterator[Wish]:
    """From the best for each body by itself to one way for all: a pipe between plates may have to follow them."""
    yield Wish()
    yield Wish(along=True)
    ways: list[Floats] = []
    for body in model.bodies:
        try:
            found = [s.motion.way for s in sweeps_of(body) if not s.motion.turning]
        except Refusal:
            continue
        ways += [w for k, w in enumerate(found) if all(abs(float(w @ o)) < 1.0 - 1e-9 for o in (*ways, *found[:k]))]
    for way in ways[:_MOST_WAYS]:
        yield Wish(True, way)


def _said(plan: Sweep | Turn) -> tuple[object, ...]:
    """What tells one way to sweep a body from another."""
    if isinstance(plan, Turn):
        return ("round",)
    return (plan.motion.turning, *np.round(np.abs(plan.motion.way), 6).tolist(), round(plan.motion.amount, 6))


def _swept(
    whole: Model, planned: tuple[Model, list[Sweep | Turn], Sides], rules: SizeRules, progress: Progress
) -> Mesh:
    model, plans, known = planned
    hexer = Hexer(model, rules, plans, known)
    for one, other in image_edges(model):
        hexer.same(one, other)
    hexer.assign()
    elements, owner = [], []
    for k, plan in enumerate(_in_order(plans)):
        progress.tell(k / len(plans), f"sweeping {plan.body.name}")
        made = carried_around(hexer, plan) if isinstance(plan, Turn) else hexer.sweep(plan)
        elements.append(made)
        owner.append(np.full(len(made), model.bodies.index(plan.body), dtype=np.int64))
    points, hexes = np.array(hexer.points), np.concatenate(elements)
    faces = model.faces()
    quads = [facing(f, hexer.on_face[f][1], points) for f in faces]
    mesh = Mesh(
        points, hexes, np.concatenate(owner), np.concatenate(quads),
        np.repeat(np.arange(len(faces)), [len(q) for q in quads]), whole.bodies, whole.faces(),
        Quality.of(points, hexes), shape=HEX,
    )  # fmt: skip
    worst = int(mesh.quality.scaled_jacobian.argmin())
    if mesh.quality.scaled_jacobian[worst] <= 0.0:
        raise Refusal("a swept element would be folded", where=spot(points[hexes[worst]].mean(axis=0)),
                      remedy="a smaller element size")  # fmt: skip
    return mesh


def _corners_matched(model: Model, wish: Wish) -> tuple[Model, list[Sweep | Turn], Sides]:
    """The model with its edges cut until both ends of every wall have the same corners, and how its bodies sweep."""
    known = Sides()
    plans = [plan_of(body, known, wish) for body in model.bodies]
    for _ in range(2 + len(model.bodies)):  # a cut may go on from body to body
        model, more = matched(model, [plan for plan in plans if isinstance(plan, Sweep)], model.tolerance)
        if not more:
            break
        known = Sides()
        plans = [plan_of(body, known, wish) for body in model.bodies]
    return model, plans, known


def _in_order(plans: list[Sweep | Turn]) -> list[Sweep | Turn]:
    """Bodies turned around an axis first: their neighbours take over what they make. Then bodies whose source is
    another's target come after it."""
    out: list[Sweep | Turn] = [plan for plan in plans if isinstance(plan, Turn)]
    left = [plan for plan in plans if isinstance(plan, Sweep)]
    while left:
        ends = {u.face for s in left for u in s.target}
        free = [s for s in left if not any(u.face in ends for u in s.source)] or left[:1]
        out.append(free[0])
        left.remove(free[0])
    return out


def verdict(body: Body) -> tuple[str, str]:
    """'mapped', 'swept' or 'tetrahedra', and the reason in words."""
    try:
        plan = plan_of(body, Sides())
    except Refusal as refusal:
        return "tetrahedra", refusal.what
    if isinstance(plan, Turn):
        way, ends = "all the way round its axis", [plan.profile]
    else:
        way = "around its axis" if plan.motion.turning else f"over {plan.motion.amount:.4g} mm"
        ends = [u.face for u in plan.source]
    kind = "mapped" if all(four_sided(face) for face in ends) else "swept"
    return kind, f"one profile {way}, {volume(body):.4g} mm³"
