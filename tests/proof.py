"""What a mesh must prove, whatever it was made of. Used by several tests."""

import numpy as np
import pytest

import lithon
from lithon.brep.area import off_edge
from lithon.brep.measures import face_area, volume
from lithon.mesh.quality import tet_volumes


def recovered(mesh: lithon.Mesh) -> None:
    """Every face is covered by a patch of triangles on it, outlined by its edges, and none is folded."""
    for k, face in enumerate(mesh.faces):
        t = mesh.triangles[mesh.face == k]
        v = mesh.points[t]
        cross = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
        area = 0.5 * np.linalg.norm(cross, axis=1)
        assert np.abs(face.surface.signed_distance(mesh.points[np.unique(t)])).max() < 1e-6
        facing = (cross * face.normal(v.mean(axis=1))).sum(axis=1)
        assert facing.min() > 0.0
        flat = face.surface.kind == "plane" and all(e.curve.kind == "line" for e in face.edges())
        # The patch's own outline: sides used once lie on the model's edges, in all their length.
        sides = np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]])
        key, count = np.unique(np.sort(sides, axis=1), axis=0, return_counts=True)
        assert count.max() <= 2
        rim = key[count == 1]
        # Twelve chords around a circle lack 1 - cos(15 degrees) of it, and twice that curved both ways. Beside a
        # curved edge a chord cuts off, or adds, at most its length times its distance from the edge.
        slack = 1e-9 if face.surface.kind == "plane" else 0.05 if face.surface.kind in ("cylinder", "cone") else 0.1
        allowed = slack * face_area(face)
        if not flat and len(rim):
            middle = mesh.points[rim].mean(axis=1)
            off = np.min([off_edge(e, middle) for e in face.edges()], axis=0)
            allowed += float((np.linalg.norm(np.diff(mesh.points[rim], axis=1)[:, 0], axis=1) * off).sum())
        assert abs(area.sum() - face_area(face)) <= allowed
        if not face.loops:
            assert not len(rim)
            continue
        length = np.linalg.norm(mesh.points[rim[:, 0]] - mesh.points[rim[:, 1]], axis=1).sum()
        exact = sum(e.length for loop in face.loops for e in (c.edge for c in loop))
        assert length == pytest.approx(exact, rel=0.03)
        ends = mesh.points[np.unique(rim)]
        gap = np.min(
            [np.linalg.norm(e.curve.point(e.curve.parameter(ends)) - ends, axis=1) for e in face.edges()], axis=0
        )
        assert gap.max() < 1e-6


def chord_error(mesh: lithon.Mesh) -> float:
    """A bound (mm3) on what flat triangles can differ from their curved faces."""
    total = 0.0
    for k, face in enumerate(mesh.faces):
        v = mesh.points[mesh.triangles[mesh.face == k]]
        if face.surface.kind == "plane":
            continue
        area = 0.5 * np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1)
        samples = np.stack([v.mean(axis=1), *(0.5 * (v[:, i] + v[:, (i + 1) % 3]) for i in range(3))], axis=1)
        sag = np.abs(face.surface.signed_distance(samples.reshape(-1, 3))).reshape(-1, 4).max(axis=1)
        total += float((area * sag).sum())
    return total


def sound(mesh: lithon.Mesh) -> None:
    assert mesh.conformal()
    assert tet_volumes(mesh.points, mesh.elements).min() > 0.0
    assert mesh.quality.smallest_angle.min() > 10.0  # the aim on ordinary parts
    exact = sum(volume(b) for b in mesh.bodies)
    assert abs(mesh.volume_ratio - 1.0) * exact <= chord_error(mesh) + 1e-6 * exact
    recovered(mesh)
