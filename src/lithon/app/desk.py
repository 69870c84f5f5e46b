"""The desk: one window that puts the parts together and carries out the actions."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import QEvent, QFileSystemWatcher, QSettings, Qt, QTimer
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QMainWindow,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from lithon.app import theme
from lithon.app.actions import ACTIONS, Action
from lithon.app.bars import LedgerBar, SizeField
from lithon.app.bars import Path as StationPath
from lithon.app.docket import Docket
from lithon.app.guide import part_of
from lithon.app.notices import Notices
from lithon.app.palette import Palette
from lithon.app.parts import Elided, button, label, row
from lithon.app.proposal import ProposalPanel
from lithon.app.recovery import forget
from lithon.app.roster import InHand, Roster
from lithon.app.sheet import KeySheet
from lithon.app.sieve import Sieve
from lithon.app.table import IntakeTable
from lithon.app.view import SolidView
from lithon.app.work import Work
from lithon.brep.topology import Body
from lithon.exchange.intake import SUFFIXES
from lithon.jobs.pages import Page
from lithon.operations.table import Row, rows
from lithon.project.deliveries import DELIVERIES, Delivery
from lithon.project.ledger import SUFFIX
from lithon.project.process import Started


class Desk(QMainWindow):
    def __init__(self, started: Started | None = None) -> None:
        super().__init__()
        self.setObjectName("desk")
        self.setWindowTitle("Lithon")
        self.setStyleSheet(theme.STYLE)
        self.setAcceptDrops(True)
        self.work = Work(self, started)
        self.settings = QSettings("lithon", "lithon")
        self.view = SolidView(self.work)
        self.docket = Docket(self.work, self.verbs)
        self.proposal = ProposalPanel(self.work)
        self.roster = Roster(self.work, self.view.rebuild)
        self.in_hand = InHand(self.work, self.begin)
        self.sieve = Sieve(self.work)
        self.ledger_bar = LedgerBar(self.work)
        self.question = Palette(self)
        self.note = label("", wrap=False)
        self.sheet = KeySheet(self)
        self._lay_out()
        self._make_actions()
        self._connect()
        self._furnish(False)
        self.resize(1280, 800)

    # ---- laying out

    def _lay_out(self) -> None:
        whole = QWidget()
        whole.setObjectName("desk")
        column = QVBoxLayout(whole)
        column.setContentsMargins(8, 4, 8, 8)
        column.setSpacing(6)
        column.addWidget(self._top())
        left = self.left = QWidget()
        left_column = QVBoxLayout(left)
        left_column.setContentsMargins(0, 0, 0, 0)
        left_column.setSpacing(6)
        left_column.addWidget(self.proposal)
        left_column.addWidget(self.docket, 1)
        middle = QWidget()
        middle_column = QVBoxLayout(middle)
        middle_column.setContentsMargins(0, 0, 0, 0)
        middle_column.setSpacing(4)
        self.notices = Notices(self.work)
        middle_column.addWidget(self.notices)
        middle_column.addWidget(self.question)
        self.stack = QStackedWidget()
        self.table = IntakeTable(self.settings, self.open, self.ask_open, self.work.start_empty, self.begin_job)
        self.stack.addWidget(self.table)
        self.stack.addWidget(self.view)
        middle_column.addWidget(self.stack, 1)
        right = self.right = QSplitter(Qt.Orientation.Vertical)
        right.addWidget(self.roster)
        right.addWidget(self.in_hand)
        right.setSizes([260, 240])
        across = QSplitter(Qt.Orientation.Horizontal)
        for part, stretch in ((left, 0), (middle, 1), (right, 0)):
            across.addWidget(part)
            across.setStretchFactor(across.count() - 1, stretch)
        across.setSizes([286, 740, 238])
        across.setHandleWidth(6)
        column.addWidget(across, 1)
        self.sieve.setFixedHeight(142)
        column.addWidget(self.sieve)
        column.addWidget(self.ledger_bar)
        self.setCentralWidget(whole)

    def _furnish(self, whole: bool) -> None:
        """All parts of the desk, or only the intake table while nothing is open."""
        for part in (self.left, self.right, self.sieve, self.ledger_bar, self.path, self.size_parts):
            part.setVisible(whole)

    def _top(self) -> QWidget:
        out = QWidget()
        lay = QHBoxLayout(out)
        lay.setContentsMargins(6, 2, 4, 0)
        lay.setSpacing(14)
        name = label("Lithon", wrap=False)
        name.setFont(theme.font(15, 600))
        self.part_name = Elided("", "dim")
        words = QWidget()
        words.setFixedWidth(262)
        both = QVBoxLayout(words)
        both.setContentsMargins(0, 0, 0, 0)
        both.setSpacing(0)
        heading = row(name, self.part_name, spacing=10, stretch=False)
        heading.layout().setStretch(1, 1)
        both.addWidget(heading)
        both.addWidget(self.note)
        self.note.setObjectName("dim")
        lay.addWidget(words)
        self.path = StationPath(self.work, self.docket.counts)
        lay.addWidget(self.path, 1)
        self.size_field = SizeField(self.work)
        self.size_parts = row(label("Size", "dim", wrap=False), self.size_field, stretch=False)
        lay.addStretch(0)
        lay.addWidget(self.size_parts)
        lay.addWidget(button("?", self.toggle_sheet, tip="all keys"))
        return out

    # ---- actions

    def _make_actions(self) -> None:
        self.actions_by_id: dict[str, QAction] = {}
        for action in ACTIONS:
            q = QAction(action.title, self)
            if action.key:
                q.setShortcut(QKeySequence(action.key))
                q.setShortcutContext(Qt.ShortcutContext.WindowShortcut)
            q.triggered.connect(lambda _=False, a=action: self.run(a))
            self.addAction(q)
            self.actions_by_id[action.id] = q

    def run(self, action: Action) -> None:
        if action.enabled(self):
            action.run(self)

    def verbs(self, station: str) -> list[tuple[str, Callable[[], object], str, bool]]:
        """The buttons that a station offers: words with the key, what to call, tip, main."""
        out = []
        for a in sorted(ACTIONS, key=lambda a: not a.main):
            if a.station == station and a.enabled(self):
                words = f"{a.title}  ({a.key})" if a.key else a.title
                out.append((words, lambda a=a: self.run(a), a.tip, a.main))
        return out

    def _connect(self) -> None:
        work = self.work
        work.opened.connect(self._opened)
        work.told.connect(self.tell)
        work.show_faces.connect(lambda faces: self.view.show_only(faces))
        self.docket.show_me.connect(self.view.show_only)
        self.path.went.connect(lambda name: work.go(name) if work.ledger is not None else None)
        self.sieve.lit.connect(self.view.light)
        #: The source as it lies on the disk, for when a new revision of it arrives.
        self.watch = QFileSystemWatcher(self)
        self.watch.fileChanged.connect(self._changed_on_disk)
        self._hush = QTimer(self, singleShot=True, interval=9000)
        self._hush.timeout.connect(lambda: self.note.setText(""))
        QApplication.instance().installEventFilter(self)

    def eventFilter(self, watched, event) -> bool:
        """Keys that must work wherever the focus is, but not while something is typed."""
        if event.type() not in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease) or not self.isActiveWindow():
            return False
        if isinstance(QApplication.focusWidget(), QLineEdit) or event.isAutoRepeat():
            return False
        if event.key() == Qt.Key.Key_Space:
            self.view.hold_original(event.type() == QEvent.Type.KeyPress)
            return True
        if event.type() != QEvent.Type.KeyPress or not isinstance(watched, QWidget):
            return False
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            return bool(self.work.asking.accept())
        if event.key() == Qt.Key.Key_Tab and self.work.proposal is not None:
            self.work.asking.next_solution()
            return True
        if event.key() == Qt.Key.Key_Escape:
            self._escape()
            return True
        return False

    def _escape(self) -> None:
        if self.sheet.isVisible():
            self.sheet.hide()
        elif self.work.opening:
            self.work.stop_opening()
        elif self.work.proposal is not None:
            self.work.drop()
            self.work.points = []
            self.view.recolour()
        else:
            self.view.unfocus()
            self.work.choose()

    # ---- what the actions do

    def tell(self, text: str, kind: str = "plain") -> None:
        colour = {"good": theme.VERDIGRIS, "bad": theme.MADDER}.get(kind, theme.INK2)
        sign = {"good": "✓ ", "bad": "■ "}.get(kind, "")
        self.note.setStyleSheet(f"color: {colour};")
        metrics = self.note.fontMetrics()
        self.note.setText(metrics.elidedText(sign + text, Qt.TextElideMode.ElideRight, 256))
        self.note.setToolTip(text)
        if kind == "bad":
            self._hush.stop()
            self.notices.tell(text)
        else:
            self._hush.start()

    def open(self, path: Path, then: Callable[[], None] = lambda: None, kept: bool = True) -> None:
        """Open a file, `then` once it lies on the desk; one that is not `kept` has no name to save under."""
        self.work.open(path, then, kept)

    def begin_job(self, page: Page) -> None:
        """Open the part of a job, and put its steps on the Docket."""
        path = part_of(page)
        if path is not None:
            self.open(path, lambda: self.work.follow(page))
        else:
            self.work.start_empty()
            self.work.follow(page)

    def _opened(self) -> None:
        self.stack.setCurrentWidget(self.view)
        self._furnish(True)
        QTimer.singleShot(0, self.view.look_from_front)
        name = self.work.path.name if self.work.path is not None else self.work.ledger.source.name
        self.part_name.setText(name)
        self.setWindowTitle(f"{name} — Lithon")
        self.notices.hush()
        if self.watch.files():
            self.watch.removePaths(self.watch.files())
        if self.work.path is not None:
            self.table.remember(self.work.path)
            if self.work.path.suffix.lower() != SUFFIX:
                self.watch.addPath(str(self.work.path))
        self.view.setFocus()

    def _changed_on_disk(self, path: str) -> None:
        self.tell(f"{Path(path).name} has changed on the disk: “New revision” in Intake takes it in")

    def ask_open(self) -> None:
        kinds = " ".join("*" + suffix for suffix in (*SUFFIXES, SUFFIX))
        name, _ = QFileDialog.getOpenFileName(self, "Open", "", f"Solids and projects ({kinds})")
        if name:
            self.open(Path(name))

    def ask_revision(self) -> None:
        kinds = " ".join("*" + suffix for suffix in SUFFIXES)
        name, _ = QFileDialog.getOpenFileName(self, "New revision", "", f"Solids ({kinds})")
        if name:
            self.work.revise(Path(name))

    def save(self) -> None:
        if self.work.saved_as is None:
            self.save_as()
        else:
            self.work.save()

    def save_as(self) -> None:
        stem = Path(self.work.ledger.source.name).stem
        name, _ = QFileDialog.getSaveFileName(self, "Save project", stem + SUFFIX, f"Lithon project (*{SUFFIX})")
        if name:
            self.work.save(Path(name))

    def deliver(self, delivery: Delivery) -> None:
        stem = Path(self.work.ledger.source.name).stem
        suffix = delivery.suffix
        name, _ = QFileDialog.getSaveFileName(self, "Write", stem + "-prepared" + suffix, f"(*{suffix})")
        if name:
            self.write(delivery.name, Path(name))

    def write(self, kind: str, path: Path) -> bool:
        """Write one delivery to a file."""
        ledger, mesh = self.work.ledger, self.work.mesh
        delivery = next(d for d in DELIVERIES if d.name == kind)
        painted = delivery.painted
        if painted is not None:
            from lithon.app.pictures import pictures

            return self.work.write(path, lambda p: painted(ledger, mesh, p, pictures))
        return self.work.write(path, lambda p: delivery.write(ledger, mesh, p))

    def begin(self, row: Row) -> None:
        """Open the form of an operation with what is in hand."""
        if row.main and row.station in ("Carve", "Bond"):
            self.work.go(row.station)
        self.work.asking.begin(row)

    def pick_points(self) -> None:
        self.work.go("Carve")
        self.work.points = []
        self.work.asking.begin(rows()["carve"], "cut", "through")
        self.tell("click three points; corners are caught")

    def show_worst(self) -> None:
        mesh = self.work.mesh
        p = mesh.points[mesh.corners[mesh.quality.worst(1)[0]]]
        around = p.mean(axis=0) + 1.5 * self.work.ledger.size * np.vstack([np.eye(3), -np.eye(3)])
        self.view.fit(np.vstack([p, around]))

    def toggle_sheet(self) -> None:
        self.sheet.toggle()

    def toggle_inside(self) -> None:
        self.view.cut_open = not self.view.cut_open
        self.view._draw_mesh()

    def see_whole(self) -> None:
        self.view.unfocus()
        self.view.fit()

    def fly_to_chosen(self) -> None:
        self.view.show_only(self.work.faces, self.work.edges)

    def look_straight(self) -> None:
        self.view.look_straight(self.work.faces[0])

    def toggle_glass(self) -> None:
        self.view.glass = not self.view.glass
        self.view.recolour()

    def toggle_wire(self) -> None:
        self.view.wire = not self.view.wire
        self.view.recolour()

    def toggle_cut(self) -> None:
        self.view.toggle_cut(self.work.faces[0] if self.work.faces else None)
        self.tell("cut away; U shows all again" if self.view.cut_plane is not None else "the whole solid again")

    def isolate(self) -> None:
        """Only the bodies of what is chosen; pressed with nothing chosen, all of them again."""
        chosen = set(self._chosen_bodies())
        self.work.hidden = {b for b in self.work.model.bodies if b not in chosen} if chosen else set()
        self._bodies_moved()

    def hide_body(self) -> None:
        self.work.hidden |= set(self._chosen_bodies())
        self.work.choose()
        self._bodies_moved()

    def _chosen_bodies(self) -> list[Body]:
        return list(self.work.chosen().of("bodies"))

    def _bodies_moved(self) -> None:
        self.roster.refresh()
        self.view.rebuild()

    # ---- the window's own

    def dragEnterEvent(self, event) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event) -> None:
        for url in event.mimeData().urls()[:1]:
            self.open(Path(url.toLocalFile()))

    def closeEvent(self, event) -> None:
        QApplication.instance().removeEventFilter(self)
        forget()
        self.work.close()
        self.view.still.close()
        self.view.Finalize()
        super().closeEvent(event)
