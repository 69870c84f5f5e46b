"""The desk: one window that puts the parts together and carries out the actions."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import QEvent, QSettings, Qt, QTimer
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMainWindow,
    QScrollArea,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from lithon.app import theme
from lithon.app.actions import ACTIONS, HAND, Action
from lithon.app.bars import LedgerBar, QuestionLine, SizeField
from lithon.app.bars import Path as StationPath
from lithon.app.carve_bar import CarveBar
from lithon.app.docket import Docket
from lithon.app.parts import button, label, row, title
from lithon.app.proposal import ProposalPanel
from lithon.app.recovery import forget, left_behind
from lithon.app.roster import InHand, Roster
from lithon.app.sieve import Sieve
from lithon.app.view import SolidView
from lithon.app.work import Work
from lithon.exchange.deliver import TRIANGLE_KINDS, write_triangles
from lithon.exchange.intake import SUFFIXES
from lithon.exchange.step_write import save_atomically, write_step
from lithon.exchange.vtu import write_vtu
from lithon.project.files import SUFFIX
from lithon.project.report import report_html
from lithon.project.steps import aside_step, bond_step, clear_step
from lithon.samples import SAMPLES


class Desk(QMainWindow):
    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("desk")
        self.setWindowTitle("Lithon")
        self.setStyleSheet(theme.STYLE)
        self.setAcceptDrops(True)
        self.work = Work(self)
        self.settings = QSettings("lithon", "lithon")
        self.view = SolidView(self.work)
        self.docket = Docket(self.work, self.verbs)
        self.proposal = ProposalPanel(self.work)
        self.carve_bar = CarveBar(self.work, self.view)
        self.roster = Roster(self.work, self.view.rebuild)
        self.in_hand = InHand(self.work)
        self.sieve = Sieve(self.work)
        self.ledger_bar = LedgerBar(self.work)
        self.question = QuestionLine(self.work, self.view.setFocus)
        self.note = label("", wrap=False)
        self.sheet: QFrame | None = None
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
        for part in (self.proposal, self.carve_bar):
            left_column.addWidget(part)
        left_column.addWidget(self.docket, 1)
        middle = QWidget()
        middle_column = QVBoxLayout(middle)
        middle_column.setContentsMargins(0, 0, 0, 0)
        middle_column.setSpacing(4)
        middle_column.addWidget(self.question)
        self.stack = QStackedWidget()
        table = QScrollArea()
        table.setWidgetResizable(True)
        table.setFrameShape(QFrame.Shape.NoFrame)
        table.setWidget(self._table())
        self.stack.addWidget(table)
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
        self.part_name = label("", "dim", wrap=False)
        words = QWidget()
        words.setFixedWidth(262)
        both = QVBoxLayout(words)
        both.setContentsMargins(0, 0, 0, 0)
        both.setSpacing(0)
        both.addWidget(row(name, self.part_name, spacing=10))
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

    def _table(self) -> QWidget:
        """The desk with nothing open: an intake table."""
        from lithon.app.demo import sample_file

        out = QFrame()
        out.setObjectName("panel")
        lay = QVBoxLayout(out)
        lay.setContentsMargins(60, 50, 60, 30)
        lay.setSpacing(12)
        head = label("Put a solid on the table")
        head.setFont(theme.font(19, 400))
        lay.addWidget(head)
        lay.addWidget(
            label(
                "Drop a STEP file, triangles or a Lithon project here. It is read against the element size you want, "
                "and what stands between it and a mesh becomes a worklist.",
                "dim",
            )
        )
        lay.addWidget(row(button("Open…", self.ask_open, "main")))
        lay.addSpacing(18)
        self.recovered = QVBoxLayout()
        lay.addLayout(self.recovered)
        lay.addWidget(title("FROM TARNHOW LOCK"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(6)
        for k, (name, stem, make, words) in enumerate(SAMPLES):
            grid.addWidget(button(name, lambda stem=stem, make=make: self.open(sample_file(stem, make))), k, 0)
            grid.addWidget(label(words, "dim", False), k, 1)
        grid.setColumnStretch(1, 1)
        lay.addLayout(grid)
        lay.addSpacing(18)
        self.recent_title = title("RECENT")
        lay.addWidget(self.recent_title)
        self.recent = QVBoxLayout()
        lay.addLayout(self.recent)
        lay.addStretch(1)
        return out

    def _show_recent(self) -> None:
        while self.recent.count():
            item = self.recent.takeAt(0)
            if item.widget() is not None:
                item.widget().deleteLater()
        files = [f for f in self.recent_files() if Path(f).exists()]
        self.recent_title.setVisible(bool(files))
        for f in files[:6]:
            self.recent.addWidget(row(button(Path(f).name, lambda f=f: self.open(Path(f)), "quiet", f)))

    def _show_left_behind(self) -> None:
        """Work of a window that did not come to its end."""
        for path in left_behind()[:3]:
            when = time.strftime("%d %B, %H:%M", time.localtime(path.stat().st_mtime))
            line = row(label(f"Unsaved work of {when}", wrap=False))
            line.layout().addWidget(button("Take it up again", lambda path=path: self._take_up(path), "main"))
            line.layout().addWidget(button("Let it go", lambda path=path, line=line: self._let_go(path, line), "quiet"))
            line.layout().addStretch(1)
            self.recovered.addWidget(line)

    def _take_up(self, path: Path) -> None:
        self.open(path)
        if self.work.path == path:
            self.work.saved_as = None  # it is saved under a name of its own
            path.unlink(missing_ok=True)

    def _let_go(self, path: Path, line: QWidget) -> None:
        path.unlink(missing_ok=True)
        line.hide()

    def recent_files(self) -> list[str]:
        value = self.settings.value("recent", [])
        return [value] if isinstance(value, str) else list(value or [])

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
        for a in ACTIONS:
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
        work.station_changed.connect(self._station_moved)
        self._hush = QTimer(self, singleShot=True, interval=9000)
        self._hush.timeout.connect(lambda: self.note.setText(""))
        QApplication.instance().installEventFilter(self)
        self._show_recent()
        self._show_left_behind()

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
            return bool(self.work.accept())
        if event.key() == Qt.Key.Key_Tab and self.work.proposal is not None:
            self.work.next_solution()
            return True
        if event.key() == Qt.Key.Key_Escape:
            self._escape()
            return True
        return False

    def _escape(self) -> None:
        if self.sheet is not None and self.sheet.isVisible():
            self.sheet.hide()
        elif self.work.proposal is not None:
            self.work.drop()
        elif self.view.picking_points:
            self.view.picking_points = False
            self.work.points = []
            self.work.choose()
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
            self._banner(text)
        else:
            self._hush.start()

    def _banner(self, text: str) -> None:
        """What went wrong, in full, over the question line's place until it is clicked away."""
        if not hasattr(self, "banner"):
            self.banner = QFrame()
            self.banner.setObjectName("proposal")
            self.banner.setProperty("state", "refused")
            lay = QHBoxLayout(self.banner)
            lay.setContentsMargins(12, 6, 8, 6)
            self.banner_text = label("")
            lay.addWidget(self.banner_text, 1)
            lay.addWidget(button("Understood", self.banner.hide))
            self.stack.parentWidget().layout().insertWidget(0, self.banner)
        self.banner_text.setText(text)
        self.banner.show()

    def open(self, path: Path) -> None:
        self.work.open(path)

    def _opened(self) -> None:
        self.stack.setCurrentWidget(self.view)
        self._furnish(True)
        QTimer.singleShot(0, self.view.look_from_front)
        name = self.work.path.name if self.work.path is not None else ""
        self.part_name.setText(name)
        self.setWindowTitle(f"{name} — Lithon")
        if hasattr(self, "banner"):
            self.banner.hide()
        if self.work.path is not None:
            files = [str(self.work.path.absolute()), *self.recent_files()]
            self.settings.setValue("recent", list(dict.fromkeys(files))[:8])
        self.view.setFocus()

    def ask_open(self) -> None:
        kinds = " ".join("*" + suffix for suffix in (*SUFFIXES, SUFFIX))
        name, _ = QFileDialog.getOpenFileName(self, "Open", "", f"Solids and projects ({kinds})")
        if name:
            self.open(Path(name))

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

    def deliver(self, kind: str) -> None:
        suffix = {"recipe": ".recipe.json", "report": ".html"}.get(kind, f".{kind}")
        stem = Path(self.work.ledger.source.name).stem
        name, _ = QFileDialog.getSaveFileName(self, "Write", stem + "-prepared" + suffix, f"(*{suffix})")
        if name:
            self.write(kind, Path(name))

    def write(self, kind: str, path: Path) -> bool:
        """Write one delivery to a file."""
        ledger, mesh = self.work.ledger, self.work.mesh
        writers = {
            "step": lambda p: write_step(ledger.model, p),
            **dict.fromkeys(TRIANGLE_KINDS, lambda p: write_triangles(ledger.model, p)),
            "vtu": lambda p: write_vtu(mesh, p),
            "recipe": lambda p: save_atomically(p, json.dumps(ledger.recipe(), indent=1).encode()),
            "report": lambda p: save_atomically(p, report_html(ledger, mesh).encode()),
        }
        return self.work.write(path, writers[kind])

    def clear_chosen(self) -> None:
        faces = self.work.faces
        self.work.propose(
            "clear",
            "Clear",
            clear_step(self.work.model, faces),
            f"{len(faces)} chosen face{'s' if len(faces) > 1 else ''}",
        )

    def carve(self) -> None:
        self.work.go("Carve")
        self.carve_bar.begin()

    def pick_points(self) -> None:
        self.work.go("Carve")
        self.work.points = []
        self.view.picking_points = True
        self.tell("click three points; corners are caught")

    def bond(self) -> None:
        self.work.go("Bond")
        self.work.propose("bond", "Bond", bond_step(), "imprint and share every contact")

    def show_worst(self) -> None:
        mesh = self.work.mesh
        p = mesh.points[mesh.corners[mesh.quality.worst(1)[0]]]
        around = p.mean(axis=0) + 1.5 * self.work.ledger.size * np.vstack([np.eye(3), -np.eye(3)])
        self.view.fit(np.vstack([p, around]))

    def toggle_inside(self) -> None:
        self.view.cut_open = not self.view.cut_open
        self.view._draw_mesh()

    def see_whole(self) -> None:
        self.view.unfocus()
        self.view.fit()

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
        model, faces = self.work.model, set(self.work.faces)
        keep = {b.name for b in model.bodies if faces & set(b.faces)}
        self.work.hidden = {b.name for b in model.bodies if b.name not in keep} if keep else set()
        self._bodies_moved()

    def hide_body(self) -> None:
        faces = set(self.work.faces)
        self.work.hidden |= {b.name for b in self.work.model.bodies if faces & set(b.faces)}
        self.work.choose()
        self._bodies_moved()

    def set_aside(self) -> None:
        """The bodies of what is chosen leave the model, for good; their contacts become named faces."""
        faces = set(self.work.faces)
        names = [b.name for b in self.work.model.bodies if faces & set(b.faces)]
        if len(names) == len(self.work.model.bodies):
            self.tell("nothing would be left: choose fewer bodies", "bad")
            return
        subject = names[0] if len(names) == 1 else f"{len(names)} bodies"
        self.work.propose("aside", "Set aside", aside_step(names), subject)

    def _bodies_moved(self) -> None:
        self.roster.refresh()
        self.view.rebuild()

    def _station_moved(self) -> None:
        if self.work.station != "Carve":
            self.view.picking_points = False

    # ---- the sheet of keys

    def toggle_sheet(self) -> None:
        if self.sheet is not None and self.sheet.isVisible():
            self.sheet.hide()
            return
        if self.sheet is None:
            self.sheet = self._sheet()
        self.sheet.adjustSize()
        corner = self.mapToGlobal(self.rect().center()) - self.sheet.rect().center()
        self.sheet.move(corner)
        self.sheet.show()

    def _sheet(self) -> QFrame:
        out = QFrame(self, Qt.WindowType.Popup)
        out.setObjectName("card")
        out.setStyleSheet(theme.STYLE)
        grid = QGridLayout(out)
        grid.setContentsMargins(22, 16, 22, 18)
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(3)
        groups: dict[str, list[tuple[str, str]]] = {}
        for a in ACTIONS:
            if a.key:
                groups.setdefault(a.group, []).append((a.key, a.title))
        groups["Hand and keys"] = list(HAND)
        columns = [["File", "Docket"], ["Trim", "Carve", "Bond", "Prove", "Look"], ["Hand and keys"]]
        for c, names in enumerate(columns):
            r = 0
            for name in names:
                grid.addWidget(title(name.upper()), r, 2 * c, 1, 2)
                r += 1
                for key, words in groups.get(name, []):
                    k = QLabel(key)
                    k.setFont(theme.font(9.5, 600))
                    grid.addWidget(k, r, 2 * c)
                    grid.addWidget(label(words, wrap=False), r, 2 * c + 1)
                    r += 1
        return out

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
        self.view.Finalize()
        super().closeEvent(event)
