"""What a list of bodies says of each: how it can be meshed, what it encloses, which are its twins."""

from __future__ import annotations

from dataclasses import dataclass

from lithon.arrays import Floats
from lithon.brep.analysis.twins import twins
from lithon.brep.copies import root_of
from lithon.brep.measures import area, known_moments, volume
from lithon.brep.shells import closed
from lithon.brep.topology import Body, Face, Model
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
    """Of each body of a model; the features, and the integrals over faces, of each that is no copy of another; twins
    together, each group in the order of the model."""

    of: dict[Body, Standing]
    groups: list[list[Body]]
    features: dict[Body, tuple[Feature, ...]]
    moments: dict[Face, Floats]


def _thick(body: Body) -> str:
    return f", {body.thickness:g} mm thick" if body.thickness is not None else ""


def standings(model: Model) -> Standings:
    groups = twins(model)
    of = {}
    for group in groups:
        # Twins differ in where they are; an axis along which one can be swept goes with it.
        root = root_of(group[0])
        first = (
            Standing("sheet", f"{area(root):.5g} mm²{_thick(root)}{', for reference' if root.reference else ''}", None)
            if root.sheet
            else Standing(*verdict(root), volume(root) if closed(root) else None)
        )
        of.update(dict.fromkeys(group, first))
    roots = dict.fromkeys(root_of(body) for body in model.bodies)
    moments = known_moments(dict.fromkeys(face for root in roots for face in root.faces))
    return Standings(of, groups, {root: features(root) for root in roots}, moments)
