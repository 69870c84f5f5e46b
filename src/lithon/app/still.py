"""The solid as it was last drawn, kept as pixels: while the eye rests, only what lies on it is drawn again.

A large solid costs a tenth of a second and more to draw on a processor. Its picture, its depths and the number of the
face behind each pixel are kept; another colour of a face is then arithmetic on its pixels, and marks are drawn over the
kept depths, so that what they lie behind hides them as before.
"""

from __future__ import annotations

from collections.abc import Hashable

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkUnsignedCharArray
from vtkmodules.vtkCommonDataModel import vtkPlane
from vtkmodules.vtkRenderingCore import vtkActor, vtkRenderer, vtkRenderWindow
from vtkmodules.vtkRenderingOpenGL2 import vtkOpenGLFramebufferObject

from lithon.app.skin import Skin, cut
from lithon.arrays import Floats, Ints, by_label

#: Of OpenGL: which buffers a copy takes, and that pixels are taken as they are.
_COLOUR, _DEPTH, _NEAREST = 0x4000, 0x0100, 0x2600
_UNSIGNED_CHAR = 3  # of VTK


class Still:
    """Keeps what `solid` drew; `marks` draws over it, in a layer above with the same depths."""

    def __init__(self, window: vtkRenderWindow, solid: vtkRenderer, marks: vtkRenderer, paper: Floats):
        self.window, self.solid, self.marks, self.paper = window, solid, marks, paper
        self.numbers = vtkRenderer()
        self.numbers.DrawOff()
        self.numbers.SetActiveCamera(solid.GetActiveCamera())
        window.AddRenderer(self.numbers)
        solid.AddObserver("EndEvent", self._keep)
        marks.AddObserver("StartEvent", self._put_back)
        #: Of what picture this is (solid, eye, size); None: of none. Whether it should be kept at all.
        self.key: Hashable = None
        self.wanted = False
        #: Whether numbers are being drawn, and whether the tints make something paler that should be seen through.
        self.busy = self.pales = False
        self._next: Hashable = None
        self._buffer: vtkOpenGLFramebufferObject | None = None
        self._size = (0, 0)
        self._pixels = np.zeros((0, 4), dtype=np.uint8)
        self._table = np.zeros((0, 4))
        #: Pixels in the order of the faces that they show, and where each face's begin (n+1,).
        self._order: Ints | None = None
        self._numbered: Hashable = None  # of what picture the numbers are
        self._starts = np.zeros(1, dtype=np.int64)
        self._skin: object = None
        self._faces: list[vtkActor] = []
        #: The part of the picture in other colours: its corners, its pixels, and the same as VTK holds them.
        self._tinted: tuple[tuple[int, int], tuple[int, int], Ints, vtkUnsignedCharArray] | None = None

    def forget(self) -> None:
        self.key = None

    def fits(self, key: Hashable, table: Ints, going: list[int]) -> bool:
        """Whether the kept picture serves for this eye and solid in these colours (n,4); only faces that are going may
        have become see-through."""
        if self.key is None or self.key != key or len(table) != len(self._table):
            return False
        if np.array_equal(table, self._table):
            return True
        other = table[:, 3] != self._table[:, 3]
        other[going] = False
        return self._order is not None and not other.any()

    def expect(self, key: Hashable, table: Ints) -> None:
        """The solid is about to be drawn: what the picture will be of."""
        self._next, self._table = key, table.astype(float)
        if self._numbered != key:
            self._order = None
        self.key, self._tinted, self.pales = None, None, False

    # ---- keeping

    def _copy(self, source: vtkOpenGLFramebufferObject, target: vtkOpenGLFramebufferObject) -> None:
        state = self.window.GetState()
        state.PushFramebufferBindings()
        source.Bind(vtkOpenGLFramebufferObject.GetReadMode())
        source.ActivateReadBuffer(0)
        target.Bind(vtkOpenGLFramebufferObject.GetDrawMode())
        target.ActivateDrawBuffer(0)
        w, h = self._size
        whole = [0, w, 0, h]
        vtkOpenGLFramebufferObject.Blit(whole, whole, _COLOUR | _DEPTH, _NEAREST)
        state.PopFramebufferBindings()

    def _keep(self, *_: object) -> None:
        """The solid is drawn, nothing on it yet."""
        if not self.wanted or self._next is None:
            return
        size = tuple(self.window.GetSize())
        if self._buffer is None:
            self._buffer = vtkOpenGLFramebufferObject()
            self._buffer.SetContext(self.window)
        if size != self._size or not self._buffer.GetNumberOfColorAttachments():
            self._size = size
            if not self._buffer.PopulateFramebuffer(*size, True, 1, _UNSIGNED_CHAR, True, 32, 0, False):
                return
        self._copy(self.window.GetRenderFramebuffer(), self._buffer)
        self._pixels = self._read()
        self.key, self._next, self._tinted = self._next, None, None

    def _read(self) -> Ints:
        """Colours (n,4) of the pixels drawn last, row by row from below."""
        out = vtkUnsignedCharArray()
        w, h = self._size
        self.window.GetRGBACharPixelData(0, 0, w - 1, h - 1, 0, out)
        return vtk_to_numpy(out).reshape(-1, 4).copy()

    def number(self, skin: Skin, black: list[vtkActor], plane: vtkPlane | None, outside_only: bool) -> None:
        """Find out which face each pixel of the kept picture shows, or that `black` things are before it; nothing of it
        gets on screen."""
        if self.key is None or self._order is not None:
            return
        was = self.solid.GetDraw()
        if self._skin is not skin.picture:
            self._skin, self._faces = skin.picture, skin.numbered()
        self.numbers.RemoveAllViewProps()
        for actor in self._faces:
            cut(actor, plane, outside_only)
        for actor in (*self._faces, *black):
            self.numbers.AddActor(actor)
        self.busy = True
        for renderer, on in ((self.solid, False), (self.marks, False), (self.numbers, True)):
            renderer.SetDraw(on)
        self.window.SwapBuffersOff()
        self.window.Render()
        seen = self._read().astype(np.int64)
        self.window.SwapBuffersOn()
        for renderer, on in ((self.solid, was), (self.marks, True), (self.numbers, False)):
            renderer.SetDraw(on)
        self.busy = False
        rows = seen[:, 0] + 256 * seen[:, 1] + 65536 * seen[:, 2] - 1
        rows[rows >= len(self._table)] = -1
        self._order, self._starts = by_label(rows, len(self._table))
        self._numbered = self.key

    # ---- showing

    def tint(self, table: Ints) -> None:
        """Give the kept picture other colours (n,4). What becomes see-through pales: what is behind is not known."""
        changed = np.flatnonzero((table != self._table).any(axis=1))
        self.pales = bool((table[changed, 3] < self._table[changed, 3]).any())
        if not len(changed) or self._order is None:
            self._tinted = None
            return
        old, new = self._table[changed], table[changed].astype(float)
        share = new[:, 3:] / 255.0
        paler = share * new[:, :3] + (1.0 - share) * 255.0 * self.paper
        ratio = paler / np.maximum(old[:, :3], 1.0)
        # What becomes of each brightness, by face and channel: (faces, 3, 256).
        becomes = np.minimum(np.arange(256.0) * ratio[:, :, None] + 0.5, 255.0).astype(np.uint8)
        counts = self._starts[changed + 1] - self._starts[changed]
        if not counts.any():
            self._tinted = None
            return
        first = np.repeat(self._starts[changed] - np.concatenate([[0], np.cumsum(counts)[:-1]]), counts)
        at = self._order[first + np.arange(counts.sum())]
        wide = self._size[0]
        y, x = np.divmod(at, wide)
        low, high = (int(x.min()), int(y.min())), (int(x.max()), int(y.max()))
        part = self._pixels.reshape(-1, wide, 4)[low[1] : high[1] + 1, low[0] : high[0] + 1].copy()
        pixels = part.reshape(-1, 4)
        inside = (y - low[1]) * part.shape[1] + (x - low[0])
        entry = np.repeat(768 * np.arange(len(changed)), counts)
        for channel in range(3):
            shade = entry + (256 * channel) + pixels[inside, channel]
            pixels[inside, channel] = becomes.reshape(-1)[shade]
        self._tinted = low, high, pixels, numpy_to_vtk(pixels)

    def _put_back(self, *_: object) -> None:
        if self.key is None or self.solid.GetDraw() or self._buffer is None:
            return
        self._copy(self._buffer, self.window.GetRenderFramebuffer())
        if self._tinted is not None:
            low, high, _, pixels = self._tinted
            self.window.SetRGBACharPixelData(*low, *high, pixels, 0, 0)

    def close(self) -> None:
        """Give the buffer back while its window still lives."""
        if self._buffer is not None:
            self._buffer.ReleaseGraphicsResources(self.window)
            self._buffer = None
