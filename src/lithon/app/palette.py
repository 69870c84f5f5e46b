"""The one line for everything: questions, operations by any of their words, bodies, names of faces, stations, files.

What is typed is completed, counted and listed; Enter takes the first that is listed or the one that was gone to.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout

from lithon.app.actions import ACTIONS
from lithon.app.parts import label, title
from lithon.errors import LithonError
from lithon.operations.questions import Answer, ask, next_words
from lithon.operations.table import STATIONS, TABLE, rows

if TYPE_CHECKING:
    from lithon.app.desk import Desk

#: So many rows are listed.
_MOST = 9


@dataclass(frozen=True, slots=True)
class Found:
    """A row: what it is, what it says, what it does. rank: the lower the higher it stands; ends: whether the line is
    put away then."""

    kind: str
    text: str
    more: str
    run: Callable[[], object]
    rank: float = 1.0
    ends: bool = True


class Palette(QFrame):
    def __init__(self, desk: Desk):
        super().__init__()
        self.setObjectName("panel")
        self.desk, self.work = desk, desk.work
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 5, 12, 5)
        column.setSpacing(4)
        top = QHBoxLayout()
        top.addWidget(title("FIND"))
        self.line = QLineEdit()
        self.line.setPlaceholderText("holes where diameter <= 4 mm; carve; a body, a name, a station, a file")
        top.addWidget(self.line, 1)
        self.count = label("", "dim", wrap=False)
        top.addWidget(self.count)
        column.addLayout(top)
        self.list = QListWidget()
        self.list.setObjectName("found")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.itemClicked.connect(lambda item: self._take())
        column.addWidget(self.list)
        self.found: list[Found] = []
        self.line.textChanged.connect(self._look)
        self.line.installEventFilter(self)
        self.line.returnPressed.connect(self._take)
        self.hide()

    def begin(self) -> None:
        self.show()
        self.line.setFocus()
        self.line.selectAll()
        self._look()

    def end(self) -> None:
        self.hide()
        self.desk.view.setFocus()

    # ---- what there is

    def answer(self) -> Answer | None:
        """What the line finds where it is a question."""
        if self.work.model is None:
            return None
        try:
            return ask(self.work.model, self.line.text())
        except LithonError:
            return None

    def _look(self) -> None:
        text = self.line.text().strip()
        answer = self.answer() if text else None
        self.count.setText("" if answer is None else f"{answer.items} found")
        found = sorted(self._all(text, answer), key=lambda f: f.rank)[:_MOST]
        self.found = found
        self.list.clear()
        for f in found:
            item = QListWidgetItem(f"{f.text}    {f.more}" if f.more else f.text)
            item.setToolTip(f"{f.kind}: {f.text}. {f.more}")
            self.list.addItem(item)
        if found:
            self.list.setCurrentRow(0)
        self.list.setVisible(bool(found))
        self.list.setFixedHeight(len(found) * (self.list.sizeHintForRow(0) if found else 0) + 6)

    def _all(self, text: str, answer: Answer | None) -> Iterator[Found]:
        if answer is not None:
            kind = "edges" if answer.edges else "faces"
            yield Found("question", f"choose {answer.items} found", kind, lambda: self._choose(answer), 0.0)
        elif text:
            for word in self._next(text):
                yield Found("question", word, "go on so", lambda word=word: self._complete(word), 2.5, ends=False)
        words = text.lower().split()
        if self.work.ledger is not None:
            keys = {a.id: a.key for a in ACTIONS}
            for row in TABLE:
                rank = matches(words, row.title, f"{row.name} {row.words} {row.station} {row.help}")
                if rank is not None:
                    key = f"({keys[row.name]})  " if keys.get(row.name) else ""
                    yield Found("operation", row.title, f"{key}{row.help}", lambda row=row: self.desk.begin(row), rank)
        operations = rows()
        for action in ACTIONS:
            if action.id not in operations and action.id != "question" and action.enabled(self.desk):
                rank = matches(words, action.title, f"{action.group} {action.tip}")
                if rank is not None and words:
                    key = f"({action.key})" if action.key else ""
                    yield Found("action", action.title, key, lambda a=action: self.desk.run(a), rank + 0.1)
        if words:
            yield from self._things(words)

    def _things(self, words: list[str]) -> Iterator[Found]:
        """Bodies, names of faces, stations and files."""
        model = self.work.model
        if model is not None:
            for body in model.bodies:
                if (rank := matches(words, body.name, "body")) is not None:
                    yield Found("body", body.name, "body", lambda b=body: self.work.choose(b.faces), rank + 0.2)
            named: dict[str, list] = {}
            for face in (f for b in model.bodies for f in b.made_faces() if f.label):
                named.setdefault(face.label, []).append(face)
            for name, faces in named.items():
                if (rank := matches(words, name, "name of faces")) is not None:
                    many = f"{len(faces)} named face{'s' if len(faces) > 1 else ''}"
                    yield Found("name", name, many, lambda f=faces: self.work.choose(f), rank + 0.2)
            for station in STATIONS:
                if (rank := matches(words, station, "station")) is not None:
                    yield Found("station", station, "station", lambda s=station: self.work.go(s), rank + 0.15)
        for path in map(Path, self.desk.table.recent_files()):
            if (rank := matches(words, path.name, "open file recent")) is not None:
                yield Found("file", path.name, "open", lambda p=path: self.desk.open(p), rank + 0.3)

    def _next(self, text: str) -> list[str]:
        """Words that may come next in a question."""
        part = self.line.text().split(" ")[-1]
        return [w for w in next_words(self.line.text()) if w and w.startswith(part) and w != part][:4]

    # ---- what is done

    def _complete(self, word: str) -> None:
        text = self.line.text()
        head = text[: len(text) - len(text.split(" ")[-1])]
        self.line.setText(f"{head}{word} ")

    def _choose(self, answer: Answer) -> None:
        self.work.choose(answer.faces, answer.edges)

    def _take(self) -> None:
        k = self.list.currentRow()
        if not 0 <= k < len(self.found):
            try:
                if self.work.model is not None:
                    ask(self.work.model, self.line.text())
            except LithonError as error:
                self.count.setText(str(error))
            return
        chosen = self.found[k]
        if chosen.ends:
            self.end()
        chosen.run()

    def eventFilter(self, watched, event) -> bool:
        """Up and down go through the list, Tab takes the word that may come next, Esc puts the line away."""
        if event.type() != event.Type.KeyPress:
            return False
        key = event.key()
        if key in (Qt.Key.Key_Down, Qt.Key.Key_Up) and self.found:
            step = 1 if key == Qt.Key.Key_Down else -1
            self.list.setCurrentRow((self.list.currentRow() + step) % len(self.found))
            return True
        if key == Qt.Key.Key_Tab:
            words = self._next(self.line.text())
            if words:
                self._complete(words[0])
            return True
        if key == Qt.Key.Key_Escape:
            self.end()
            return True
        return False


def matches(words: list[str], name: str, more: str) -> float | None:
    """How well typed words fit a name, or what else is said of it: 0 best; None where one of them fits neither."""
    head, rest = name.lower(), more.lower()
    if " ".join(words) == head:
        return 0.0
    rank = 0.0
    for word in words:
        if head.startswith(word):
            rank += 0.5
        elif any(part.startswith(word) for part in head.split()):
            rank += 0.7
        elif any(part.startswith(word) for part in rest.split()):
            rank += 1.4
        else:
            return None
    return rank / max(1, len(words))
