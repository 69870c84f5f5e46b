"""The parameters of a cut: which plane, and by how much it is offset. Part of its Proposal."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QButtonGroup, QDoubleSpinBox, QFrame, QGridLayout, QPushButton, QVBoxLayout

from lithon.app.parts import label, row, title
from lithon.app.view import SolidView
from lithon.app.work import Work
from lithon.brep.topology import Face, rough_box
from lithon.errors import LithonError
from lithon.geometry.surfaces import Plane
from lithon.project.steps import cut_of, face_extended, plane_at, plane_midway, plane_offset, plane_through, split_step

WAYS = (
    ("midway", "Midway"),
    ("offset", "Offset"),
    ("points", "Points"),
    ("face", "Face"),
    ("x", "x ="),
    ("y", "y ="),
    ("z", "z ="),
)


class CarveBar(QFrame):
    def __init__(self, work: Work, view: SolidView):
        super().__init__()
        self.setObjectName("panel")
        self.work, self.view = work, view
        self.way = "y"
        self.faces: list[Face] = []
        self.points: list[tuple[float, float, float]] = []
        lay = QVBoxLayout(self)
        lay.setContentsMargins(12, 8, 10, 8)
        lay.setSpacing(6)
        lay.addWidget(title("CUT AT"))
        grid = QGridLayout()
        grid.setSpacing(4)
        self.group = QButtonGroup(self)
        self.buttons: dict[str, QPushButton] = {}
        for k, (key, text) in enumerate(WAYS):
            b = QPushButton(text)
            b.setObjectName("toggle")
            b.setCheckable(True)
            b.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            b.clicked.connect(lambda _, key=key: self.use(key))
            self.group.addButton(b)
            self.buttons[key] = b
            grid.addWidget(b, k // 4, k % 4)
        lay.addLayout(grid)
        self.amount = QDoubleSpinBox()
        self.amount.setRange(-1e6, 1e6)
        self.amount.setDecimals(6)
        self.amount.setSuffix(" mm")
        self.amount.setKeyboardTracking(False)
        self.amount.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.amount.textFromValue = lambda value: f"{value:.7g}"
        self.amount.valueChanged.connect(lambda _: self.propose())
        self.amount_row = row(label("at", "dim", wrap=False), self.amount)
        lay.addWidget(self.amount_row)
        self.hint = label("", "dim")
        lay.addWidget(self.hint)
        self.hide()
        work.selection_changed.connect(self._selection_moved)
        work.station_changed.connect(lambda: self.hide() if work.station != "Carve" else None)
        work.model_changed.connect(self.hide)
        work.proposal_changed.connect(self._proposal_moved)

    def begin(self) -> None:
        """Take what is chosen as the plane's reference and propose the cut."""
        planes = [f for f in self.work.faces if isinstance(f.surface, Plane)]
        self.faces, self.points = planes, list(self.work.points)
        self.show()
        if len(self.points) == 3:
            self.use("points")
        elif len(planes) == 2:
            self.use("midway")
        elif len(self.work.faces) == 1 and not planes:
            self.use("face")
        elif len(planes) == 1:
            self.use("offset")
        else:
            self.use("y")

    def use(self, way: str) -> None:
        self.way = way
        self.buttons[way].setChecked(True)
        self.amount_row.setVisible(way in ("offset", "x", "y", "z"))
        value = 0.0
        if way in ("x", "y", "z"):
            box = rough_box(self.work.model.bodies)
            value = round(float(box.mean(axis=0)["xyz".index(way)]), 6) + 0.0
        elif way == "offset":
            value = -self.work.ledger.size
        self.amount.blockSignals(True)
        self.amount.setValue(value)
        self.amount.blockSignals(False)
        self.propose()

    def any_faces(self) -> list[Face]:
        """What is chosen, plane or not; what was chosen when the bar opened where nothing is now."""
        return self.work.faces or self.faces

    def spec(self) -> dict | None:
        """The plane as it will be recorded; None, with a hint, while something is missing."""
        model = self.work.model
        self.hint.setText("")
        if self.way == "midway":
            if len(self.faces) == 2:
                return plane_midway(model, *self.faces)
            self.hint.setText("Choose two plane faces (Ctrl adds the second).")
        elif self.way == "offset":
            if len(self.faces) == 1:
                return plane_offset(model, self.faces[0], self.amount.value())
            self.hint.setText("Choose one plane face. Positive is outwards.")
        elif self.way == "face":
            if len(self.any_faces()) == 1:
                return face_extended(model, self.any_faces()[0])
            self.hint.setText("Choose one face: its surface, extended, cuts.")
        elif self.way == "points":
            if len(self.points) == 3:
                return plane_through(self.points)
            self.hint.setText(f"Click three points in the view ({len(self.points)} of 3).")
            self.view.picking_points = True
        else:
            axis = "xyz".index(self.way)
            return plane_at(self.amount.value() * np.eye(3)[axis], np.eye(3)[axis])
        return None

    def propose(self) -> None:
        spec = self.spec()
        if spec is None:
            return
        try:
            cut_of(self.work.model, spec)
        except LithonError as error:
            self.hint.setText(str(error))
            return
        names = {
            "midway": "midway between two faces",
            "offset": f"{self.amount.value():g} mm off a face",
            "points": "through three points",
            "face": "at the chosen face, extended",
        }
        subject = names.get(self.way, f"{self.way} = {self.amount.value():g} mm")
        self.work.propose("carve", "Carve", split_step(spec), subject)

    def _selection_moved(self) -> None:
        if not self.isVisible():
            if self.view.picking_points and len(self.work.points) == 3:
                self.view.picking_points = False
                self.begin()
            return
        planes = [f for f in self.work.faces if isinstance(f.surface, Plane)]
        if planes and planes != self.faces:
            self.faces = planes
            if self.way in ("midway", "offset", "face"):
                self.propose()
        if self.way == "points" and self.work.points != self.points:
            self.points = list(self.work.points)
            self.propose()
            if len(self.points) == 3:
                self.view.picking_points = False

    def _proposal_moved(self) -> None:
        p = self.work.proposal
        if p is not None and p.kind != "carve":
            self.hide()
