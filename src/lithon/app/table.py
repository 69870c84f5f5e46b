"""The desk with nothing open: a table to put a solid on."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from lithon.app import theme
from lithon.app.demo import sample_file
from lithon.app.parts import button, label, row, title
from lithon.app.recovery import left_behind
from lithon.jobs.pages import Page, pages
from lithon.samples import SAMPLES

_KEPT, _SHOWN = 8, 6  # recent files


class IntakeTable(QScrollArea):
    """Samples, recent files, and work that a window left behind."""

    def __init__(
        self,
        settings: QSettings,
        open_: Callable[..., None],
        ask: Callable[[], None],
        empty: Callable[[], None],
        begin: Callable[[Page], object],
    ):
        super().__init__()
        self.settings, self.open = settings, open_
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
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
        lay.addWidget(row(button("Open…", ask, "main"), button("Start from nothing", empty, "quiet")))
        lay.addSpacing(18)
        self.recovered = QVBoxLayout()
        lay.addLayout(self.recovered)
        grid = QGridLayout()
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(6)
        parts, jobs = QVBoxLayout(), QVBoxLayout()
        parts.addWidget(title("FROM TARNHOW LOCK"))
        parts.addLayout(grid)
        self._offer_jobs(jobs, begin)
        for column in (parts, jobs):
            column.setSpacing(10)
            column.addStretch(1)
        both = QHBoxLayout()
        both.setSpacing(48)
        both.addLayout(parts)
        both.addLayout(jobs, 1)
        lay.addLayout(both)
        for k, (name, stem, make, words) in enumerate(SAMPLES):
            grid.addWidget(button(name, lambda stem=stem, make=make: self.open(sample_file(stem, make))), k, 0)
            grid.addWidget(label(words, "dim", False), k, 1)
        grid.setColumnStretch(1, 1)
        lay.addSpacing(18)
        self._show_recent(lay)
        self._show_left_behind()
        lay.addStretch(1)
        self.setWidget(out)

    @staticmethod
    def _offer_jobs(lay: QVBoxLayout, begin: Callable[[Page], object]) -> None:
        """Every job: its part is opened, and its steps stand on the Docket."""
        lay.addWidget(title("WHAT PEOPLE BRING TO THE DESK"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(2)
        half = -(-len(pages()) // 2)
        for k, page in enumerate(pages()):
            pick = button(page.title.capitalize(), lambda page=page: begin(page), "quiet", page.lead)
            pick.setObjectName("quiet")
            grid.addWidget(pick, k % half, k // half, Qt.AlignmentFlag.AlignLeft)
        grid.setColumnStretch(1, 1)
        lay.addLayout(grid)

    # ---- recent files

    def recent_files(self) -> list[str]:
        value = self.settings.value("recent", [])
        return [value] if isinstance(value, str) else list(value or [])

    def remember(self, path: Path) -> None:
        """Put a file at the head of the recent ones."""
        files = [str(path.absolute()), *self.recent_files()]
        self.settings.setValue("recent", list(dict.fromkeys(files))[:_KEPT])

    def _show_recent(self, lay: QVBoxLayout) -> None:
        files = [f for f in self.recent_files() if Path(f).exists()][:_SHOWN]
        if files:
            lay.addWidget(title("RECENT"))
        for f in files:
            lay.addWidget(row(button(Path(f).name, lambda f=f: self.open(Path(f)), "quiet", f)))

    # ---- work left behind

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
        # It is saved under a name of its own; the copy has done its service once it lies open.
        self.open(path, lambda: path.unlink(missing_ok=True), kept=False)

    def _let_go(self, path: Path, line: QWidget) -> None:
        path.unlink(missing_ok=True)
        line.hide()
