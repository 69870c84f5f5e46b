"""The product structure of a STEP file: one part, or an assembly in which a part that stands at several places is
written once."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.same import same_at
from lithon.brep.topology import Body, Model
from lithon.exchange.part21 import encode
from lithon.geometry.frames import Frame

Add = Callable[[str], str]


@dataclass(slots=True)
class Part:
    """A product: what is modelled in it, under which names, and what it is made of."""

    name: str
    #: Solids with the names that they are written under; nameless ones are called after the part.
    solids: list[tuple[Body, str]] = field(default_factory=list)
    #: The parts that it holds, where (4,4), and the body that stands there if the part is written once for several.
    children: list[tuple[Part, Floats, Body | None]] = field(default_factory=list)

    def bodies(self) -> list[Body]:
        """All that is modelled in it and in what it holds, each once."""
        own = [body for body, _ in self.solids]
        return list(dict.fromkeys([*own, *(b for child, _, _ in self.children for b in child.bodies())]))


def tree_of(model: Model, name: str) -> Part:
    """The parts of a model by the paths of its bodies; the whole is a single part where they have none."""
    bodies = list(model.bodies)
    again = _repeated(model)
    while True:
        root = _tree(bodies, again, name)
        said = _names(root)
        # A part written once takes its bodies' names from where it stands; where that would not give them
        # back, it is written out.
        wrong = {key for key, body in enumerate(bodies) if key in again and said.get(id(body)) != body.name}
        if not wrong:
            return root
        again = {k: v for k, v in again.items() if k not in wrong and v[0] not in wrong}


def _tree(bodies: list[Body], again: dict[int, tuple[int, Floats]], name: str) -> Part:
    root = Part(name)
    nodes: dict[tuple[str, ...], Part] = {(): root}

    def node(path: tuple[str, ...]) -> Part:
        if path not in nodes:
            nodes[path] = Part(path[-1])
            node(path[:-1]).children.append((nodes[path], np.eye(4), None))
        return nodes[path]

    definitions: dict[int, Part] = {}
    for k, body in enumerate(bodies):
        if k not in again:
            node(body.path).solids.append((body, body.name))
            continue
        first, motion = again[k]
        if first not in definitions:
            definitions[first] = Part(body.path[-1], [(bodies[first], "")])
        node(body.path[:-1]).children.append((definitions[first], motion, body))
    return root


def _names(root: Part) -> dict[int, str]:
    """What a reader will call the bodies that are written once, by the identity of each body standing there: in the
    order of the tree, each name counted on."""
    counted: Counter[str] = Counter()
    out: dict[int, str] = {}

    def walk(part: Part, standing: Body | None) -> None:
        for body, name in part.solids:
            base = name or part.name
            counted[base] += 1
            out[id(standing or body)] = base if counted[base] == 1 else f"{base} {counted[base]}"
        for child, _, body_there in part.children:
            walk(child, body_there)

    walk(root, None)
    return out


def _repeated(model: Model) -> dict[int, tuple[int, Floats]]:
    """For each body of a part that stands at several places: the number of the first such body, and the motion (4,4)
    from it. Bodies that share faces stay as they are, since what they share would be lost."""
    bonded = {body for face in model.shared() for body in model.owners(face)}
    groups: dict[tuple[object, ...], list[int]] = {}
    for k, body in enumerate(model.bodies):
        if body.path and body not in bonded:
            groups.setdefault((body.path[-1], body.colour), []).append(k)
    out: dict[int, tuple[int, Floats]] = {}
    for members in groups.values():
        left = members
        while len(left) > 1:
            first, *others = left
            moved = {k: m for k in others if (m := same_at(model.bodies[first], model.bodies[k])) is not None}
            if moved:
                out[first] = first, np.eye(4)
                out |= {k: (first, m) for k, m in moved.items()}
            left = [k for k in others if k not in moved]
    return out


class Structure:
    """Writes the products of a tree. `frame` writes a placement."""

    def __init__(self, add: Add, frame: Callable[[Frame], str], context: str):
        self.add, self.frame, self.context = add, frame, context
        self.application = add("APPLICATION_CONTEXT('managed model based 3d engineering')")
        add(
            "APPLICATION_PROTOCOL_DEFINITION('international standard',"
            f"'ap242_managed_model_based_3d_engineering',2014,{self.application})"
        )
        self.kind = add(f"PRODUCT_CONTEXT('',{self.application},'mechanical')")
        self.stage = add(f"PRODUCT_DEFINITION_CONTEXT('part definition',{self.application},'design')")
        self.done: dict[int, tuple[str, str, str]] = {}
        self.uses = 0

    def write(self, part: Part, solids: dict[Body, str]) -> tuple[str, str, str]:
        """The product definition, the representation and its placement, made once for each part."""
        if id(part) not in self.done:
            name = encode(part.name)
            product = self.add(f"PRODUCT({name},{name},'',({self.kind}))")
            formation = self.add(f"PRODUCT_DEFINITION_FORMATION('','',{product})")
            definition = self.add(f"PRODUCT_DEFINITION('design','',{formation},{self.stage})")
            shape = self.add(f"PRODUCT_DEFINITION_SHAPE('','',{definition})")
            base = self.frame(Frame.of((0.0, 0.0, 0.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0)))
            places = [self.frame(_as_frame(motion)) for _, motion, _ in part.children]
            items = ",".join([base, *(solids[body] for body, _ in part.solids), *places])
            kind = "ADVANCED_BREP_SHAPE_REPRESENTATION" if part.solids else "SHAPE_REPRESENTATION"
            shown = self.add(f"{kind}({name},({items}),{self.context})")
            self.add(f"SHAPE_DEFINITION_REPRESENTATION({shape},{shown})")
            self.done[id(part)] = definition, shown, base
            for (child, _, _), place in zip(part.children, places, strict=True):
                self._use(definition, shown, self.write(child, solids), place)
        return self.done[id(part)]

    def _use(self, definition: str, shown: str, child: tuple[str, str, str], place: str) -> None:
        self.uses += 1
        own, own_shown, own_base = child
        usage = self.add(f"NEXT_ASSEMBLY_USAGE_OCCURRENCE('{self.uses}','','',{definition},{own},$)")
        shape = self.add(f"PRODUCT_DEFINITION_SHAPE('','',{usage})")
        step = self.add(f"ITEM_DEFINED_TRANSFORMATION('','',{own_base},{place})")
        relation = self.add(
            f"(REPRESENTATION_RELATIONSHIP('','',{own_shown},{shown})"
            f"REPRESENTATION_RELATIONSHIP_WITH_TRANSFORMATION({step})SHAPE_REPRESENTATION_RELATIONSHIP())"
        )
        self.add(f"CONTEXT_DEPENDENT_SHAPE_REPRESENTATION({relation},{shape})")


def _as_frame(motion: Floats) -> Frame:
    """Where a motion takes the frame of everything."""
    return Frame.of(motion[:3, 3], motion[:3, 2], motion[:3, 0])
