"""What a list of bodies says of each: how it can be meshed, what it encloses, which are its twins."""

from __future__ import annotations

from dataclasses import dataclass

from lithon.arrays import Floats
from lithon.brep.measures import known_moments, volume
from lithon.brep.shells import closed
from lithon.brep.topology import Body, Face, Model
from lithon.brep.twins import twins
from lithon.mesh.hexahedra import verdict
from lithon.survey.features import Feature, features


@dataclass(frozen=True, slots=True)
class Standing:
    """`kind` is mapped, swept or tetrahedra, and `reason` why; `volume` in mm3, None for an open skin."""

    kind: str
    reason: str
    volume: float | None


@dataclass(frozen=True, slots=True, eq=False)
class Standings:
    """Of each body of a model, its features, and the integrals over its faces; twins together, each group in the order
    of the model."""

    of: dict[Body, Standing]
    groups: list[list[Body]]
    features: dict[Body, tuple[Feature, ...]]
    moments: dict[Face, Floats]


def standings(model: Model) -> Standings:
    groups = twins(model)
    of = {}
    for group in groups:
        # Twins differ in where they are; an axis along which one can be swept goes with it.
        first = Standing(*verdict(group[0]), volume(group[0]) if closed(group[0]) else None)
        of.update(dict.fromkeys(group, first))
    return Standings(of, groups, {body: features(body) for body in model.bodies}, known_moments(model.faces()))
