"""The faces of a solid on screen, in pieces: where colours change a piece is drawn afresh, the rest stays as it is."""

from __future__ import annotations

import itertools

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonDataModel import vtkPlane, vtkPolyData
from vtkmodules.vtkRenderingCore import vtkActor, vtkRenderer

from lithon.app import scene
from lithon.arrays import Ints

#: Triangles in a piece, about, and most pieces.
_PIECE, _MOST = 4_000, 40


def cut(actor: vtkActor, plane: vtkPlane | None, outside_only: bool) -> None:
    """Cut an actor away along a plane, and show its triangles from outside only or from both sides."""
    mapper = actor.GetMapper()
    mapper.RemoveAllClippingPlanes()
    if plane is not None:
        mapper.AddClippingPlane(plane)
    actor.GetProperty().SetBackfaceCulling(outside_only)


class _Piece:
    """Some faces, in numbers from `first` to `last`, opaque ones and see-through ones apart."""

    def __init__(self, pic: scene.Picture, first: int, last: int, rows: slice):
        self.first, self.last = first, last
        corners = pic.triangles[rows]
        low = int(corners.min())
        self.triangles = corners - low
        self.owner = pic.owner[rows] - first
        points = slice(low, int(corners.max()) + 1)
        self.colours: Ints | None = None
        self.data: list[vtkPolyData] = []
        self.actors: list[vtkActor] = []
        for see_through in (False, True):
            data = scene.surface_data(pic.points[points], self.triangles, pic.normals[points])
            if self.data:  # the same points and normals
                data.SetPoints(self.data[0].GetPoints())
                data.GetPointData().SetNormals(self.data[0].GetPointData().GetNormals())
            self.data.append(data)
            self.actors.append(scene.painted(data, see_through))
        self.whole = self.data[0].GetPolys()

    def paint(self, table: Ints) -> None:
        colours = table[self.first : self.last]
        if self.colours is not None and np.array_equal(colours, self.colours):
            return
        self.colours = colours.copy()
        clear = (colours[:, 3] < 255)[self.owner]
        for data, actor, rows in zip(self.data, self.actors, (~clear, clear), strict=True):
            actor.SetVisibility(bool(rows.any()))
            if rows.any():
                data.SetPolys(self.whole if rows.all() else scene.cells(self.triangles[rows]))
                shades = np.ascontiguousarray(colours[self.owner[rows]], dtype=np.uint8)
                data.GetCellData().SetScalars(numpy_to_vtk(shades, deep=True))

    def numbered(self) -> vtkActor:
        """These faces in colours that say their numbers, counted from 1 over all pieces."""
        data = vtkPolyData()
        data.SetPoints(self.data[0].GetPoints())
        data.SetPolys(self.whole)
        number = self.owner + self.first + 1
        colours = np.stack([number & 255, number >> 8 & 255, number >> 16 & 255], axis=1).astype(np.uint8)
        data.GetCellData().SetScalars(numpy_to_vtk(colours, deep=True))
        actor = scene.painted(data, see_through=False)
        prop = actor.GetProperty()
        prop.LightingOff()
        prop.SetAmbient(0.0)  # without light the two still add up
        prop.SetDiffuse(1.0)
        return actor

    @property
    def used(self) -> list[vtkActor]:
        return [] if self.colours is None else [a for a, d in zip(self.actors, self._any(), strict=True) if d]

    def _any(self) -> tuple[bool, bool]:
        assert self.colours is not None
        alpha = self.colours[:, 3]
        return bool((alpha == 255).any()), bool((alpha < 255).any())


class Skin:
    """All pieces of one picture in a renderer."""

    def __init__(self, renderer: vtkRenderer):
        self.renderer = renderer
        self.picture: scene.Picture | None = None
        self.pieces: list[_Piece] = []

    def show(self, pic: scene.Picture | None) -> None:
        """Take up another picture, or none."""
        if pic is self.picture:
            return
        for piece in self.pieces:
            for actor in piece.actors:
                self.renderer.RemoveActor(actor)
        self.picture, self.pieces = pic, []
        if pic is None or not len(pic.triangles):
            return
        many = min(_MOST, max(1, len(pic.triangles) // _PIECE))
        starts = np.searchsorted(pic.owner, np.arange(len(pic.faces) + 1))
        stops = np.unique(np.searchsorted(starts, np.linspace(0, len(pic.owner), many + 1)[1:-1]))
        bounds = [0, *(int(s) for s in stops if 0 < s < len(pic.faces)), len(pic.faces)]
        for first, last in itertools.pairwise(bounds):
            if starts[last] > starts[first]:
                self.pieces.append(_Piece(pic, first, last, slice(int(starts[first]), int(starts[last]))))
        for piece in self.pieces:
            for actor in piece.actors:
                self.renderer.AddActor(actor)

    def paint(self, table: Ints) -> None:
        """The faces in colours (n,4)."""
        for piece in self.pieces:
            piece.paint(table)

    def cut(self, plane: vtkPlane | None, outside_only: bool) -> None:
        """Cut away along a plane; seen from outside only, or from both sides."""
        for piece in self.pieces:
            for actor in piece.actors:
                cut(actor, plane, outside_only)

    def numbered(self) -> list[vtkActor]:
        """The same faces, each in a colour that says its number, the first being 1."""
        return [piece.numbered() for piece in self.pieces]

    def visible(self, on: bool) -> None:
        for piece in self.pieces:
            for actor in piece.actors:
                actor.SetVisibility(on and actor in piece.used)
