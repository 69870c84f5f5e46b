"""Groups of bodies: within one their mesh is joined, between two it has the same nodes twice, face by face."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from lithon.brep.topology import Body
from lithon.mesh.mesh import Mesh


def parted(mesh: Mesh, groups: Mapping[Body, str]) -> Mesh:
    """The mesh with nodes of their own for each group; bodies of none are one group. `same` tells which coincide."""
    words = [groups.get(body, "") for body in mesh.bodies]
    names = list(dict.fromkeys(words))
    if len(names) < 2:
        return mesh
    group = np.array([names.index(w) for w in words])
    n = len(mesh.points)
    taken = np.zeros(n, dtype=bool)
    number = np.tile(np.arange(n), (len(names), 1))
    same = [np.arange(n)]
    count = n
    for g in range(len(names)):
        used = np.unique(mesh.elements[group[mesh.body] == g])
        again = used[taken[used]]
        number[g, again] = count + np.arange(len(again))
        same.append(again)
        count += len(again)
        taken[used] = True
    origin = np.concatenate(same)
    elements = number[group[mesh.body][:, None], mesh.elements]
    owners = [sorted({int(group[b]) for b, body in enumerate(mesh.bodies) if body.use_of(f) is not None})
              for f in mesh.faces]  # fmt: skip
    first = np.array([g[0] for g in owners])
    between = np.array([len(g) > 1 for g in owners])
    last = np.array([g[-1] for g in owners])
    twice = between[mesh.face]
    one = number[first[mesh.face][:, None], mesh.triangles]
    two = number[last[mesh.face][twice][:, None], mesh.triangles[twice]]
    return replace(
        mesh, points=mesh.points[origin], elements=elements, triangles=np.concatenate([one, two]),
        face=np.concatenate([mesh.face, mesh.face[twice]]), same=origin,
    )  # fmt: skip
