"""Free-form faces that are simple surfaces in disguise become what they are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from lithon.brep.analysis.fits import simple_fit
from lithon.brep.gate import kinds, worse
from lithon.brep.rewrite import rewrite
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Face, new_uid
from lithon.errors import Refusal, spot
from lithon.progress import pulse

_SIMPLE = ("plane", "cylinder", "cone", "sphere", "torus")
#: Times the tolerance that a surface may be off.
_NEAR = 50.0


def replaced(body: Body, faces: Sequence[Face], tolerance: float) -> tuple[Body, float]:
    """The body with the chosen faces on the simple surfaces that they are, and the largest deviation (mm).

    Edges stay. Raises Refusal where a face is no simple surface.
    """
    made: dict[Face, tuple[Face, bool]] = {}
    most = 0.0
    for face in faces:
        pulse()
        if face.surface.kind in _SIMPLE:
            raise Refusal(f"a {face.surface.kind} face is as simple as can be", where=spot(face_mesh(face).points[0]),
                          remedy="choose free-form faces", entities=(face,))  # fmt: skip
        surface, off = simple_fit(face)
        mesh = face_mesh(face)
        if surface is None or off > _NEAR * tolerance:
            raise Refusal(
                f"a {face.surface.kind} face is no plane, cylinder, cone or sphere"
                + (f": {off:.2g} mm off the nearest" if surface is not None else ""),
                where=spot(mesh.points.mean(axis=0)), remedy="leave it, or rebuild it on a clean surface",
                entities=(face,),
            )  # fmt: skip
        alike = float(np.median((surface.normal(mesh.points) * face.surface.normal(mesh.points)).sum(axis=1))) > 0.0
        made[face] = replace(face, surface=surface, along=face.along == alike, uid=new_uid(), before=None), True
        most = max(most, off)
    out = rewrite(body, faces=made)
    if found := worse(out, [body], tolerance, max(tolerance, most)):
        raise Refusal(f"on simple surfaces the faces would not keep to their edges ({kinds(found)})",
                      where=spot(found[0].place), entities=tuple(faces))  # fmt: skip
    return out, most
