"""The Roster: bodies with their verdict; and In hand: what is chosen, measured."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout, QWidget

from lithon.app import theme
from lithon.app.parts import Elided, Panel, button, label, number, restyle, row
from lithon.app.work import Work
from lithon.arrays import Floats
from lithon.brep.measures import face_area
from lithon.brep.topology import Body, Edge, Face, Model
from lithon.operations.alike import alike
from lithon.operations.marks import Sort
from lithon.operations.questions import ask
from lithon.operations.table import Row, fitting
from lithon.survey.features import feature_of, known_features
from lithon.survey.measuring import Measure, measures, of_body, of_edge, of_face, wall
from lithon.words import many


class Roster(Panel):
    def __init__(self, work: Work, redraw: Callable[[], None]):
        super().__init__("ROSTER")
        self.work = work
        self.redraw = redraw
        self.unfolded: set[int] = set()
        work.model_changed.connect(self.refresh)
        work.findings_changed.connect(self.refresh)
        work.standings_changed.connect(self.refresh)

    def refresh(self) -> None:
        self._fill()
        self.lay_out()

    def _fill(self) -> None:
        self.clear()
        model = self.work.model
        if model is None:
            return
        self.heading.setText(f"ROSTER · {len(model.bodies)} BOD{'IES' if len(model.bodies) != 1 else 'Y'}")
        stopped = {f.body for f in self.work.findings if f.severity == "stops"}
        order = {body: k for k, body in enumerate(model.bodies)}
        above: tuple[str, ...] = ()
        groups = self.work.standings.groups if self.work.standings is not None else [[b] for b in model.bodies]
        for group in groups:
            path = group[0].path[:-1]
            if path != above and path:
                self.add(label(" › ".join(path), "dim"))
            above = path
            k = order[group[0]]
            if len(group) == 1:
                self.add(self._row(k, group[0], group[0] in stopped))
                continue
            self.add(self._fold(k, group, any(b in stopped for b in group)))
            if group[0].uid in self.unfolded:
                for body in group:
                    self.add(self._row(order[body], body, body in stopped))

    def _fold(self, k: int, group: list[Body], blocked: bool) -> QFrame:
        """Twins in one row: the first stands for all."""
        first = group[0]
        out, lay = self._frame(k, f"{_stem(first.name)}  × {len(group)}")
        head = lay.itemAt(0).layout()
        open_ = first.uid in self.unfolded
        head.addWidget(button("fold" if open_ else "unfold", lambda: self._unfold(first), "quiet"))
        hidden = all(b in self.work.hidden for b in group)
        head.addWidget(button("show" if hidden else "hide", lambda: self._toggle(*group), "quiet"))
        kind, reason, filled = self._standing(first, blocked)
        words = label(f"{kind} · {many(len(first.uses), 'face')} each", "dim")
        words.setToolTip(f"{len(group)} congruent bodies. {reason}")
        lay.addWidget(words)
        lay.addWidget(label(f"{filled} each", "dim"))
        restyle(out)
        return out

    def _frame(self, k: int, name: str) -> tuple[QFrame, QVBoxLayout]:
        out = QFrame()
        out.setObjectName("card")
        lay = QVBoxLayout(out)
        lay.setContentsMargins(8, 6, 6, 6)
        lay.setSpacing(1)
        head = QHBoxLayout()
        swatch = label("■", wrap=False)
        swatch.setStyleSheet(f"color: {theme.STONES[k % len(theme.STONES)][1]}; font-size: 13pt;")
        head.addWidget(swatch)
        head.addWidget(Elided(name), 1)
        lay.addLayout(head)
        return out, lay

    def _row(self, k: int, body: Body, blocked: bool) -> QFrame:
        out, lay = self._frame(k, body.name)
        hidden = body in self.work.hidden
        lay.itemAt(0).layout().addWidget(button("show" if hidden else "hide", lambda: self._toggle(body), "quiet"))
        kind, reason, filled = self._standing(body, blocked)
        words = label(f"{kind} · {many(len(body.uses), 'face')}", "dim")
        words.setToolTip(reason)
        lay.addWidget(words)
        lay.addWidget(label(filled, "dim"))
        restyle(out)
        return out

    def _standing(self, body: Body, blocked: bool) -> tuple[str, str, str]:
        """How it can be meshed, why, and what it encloses, as far as that is known by now."""
        known = self.work.standing(body)
        kind, reason, filled = "…", "still being looked at", "…"
        if known is not None:
            kind, reason = known.kind, known.reason
            filled = f"{number(known.volume)} mm³" if known.volume is not None else "an open skin"
            if kind == "sheet":
                filled = reason
        return ("■ blocked", "it must be mended first", filled) if blocked else (kind, reason, filled)

    def _unfold(self, first: Body) -> None:
        self.unfolded ^= {first.uid}
        self.refresh()

    def _toggle(self, *bodies: Body) -> None:
        if self.work.hidden.issuperset(bodies):
            self.work.hidden -= set(bodies)
        else:
            self.work.hidden |= set(bodies)
        self.refresh()
        self.redraw()


def _stem(name: str) -> str:
    """A twin's name without its number."""
    return name.rstrip("0123456789 ") or name


#: So many operations are offered.
_OFFERS = 8
#: Features of so many faces are found at once; those of larger bodies are waited for.
_FEW = 200


#: What has been said of things, in words. What a face is called stands with its kind.
_SAID: dict[Sort, str] = {
    "hold": "held: {}", "size": "elements of {:g} mm", "divisions": "{} elements along", "drape": "draped, {}",
    "passed": "not followed", "group": "group {}", "material": "material {}",
}  # fmt: skip
#: So many lines of it are told.
_LINES = 4


class InHand(Panel):
    """What is picked, in words and numbers; and what can be done with it."""

    def __init__(self, work: Work, begin: Callable[[Row], object]):
        super().__init__("IN HAND")
        self.work, self.begin = work, begin
        #: The place whose wall was last asked for, and what was found.
        self._asked: Floats | None = None
        self._wall: list[Measure] | None = None
        work.selection_changed.connect(self.refresh)
        work.opened.connect(self.refresh)
        work.standings_changed.connect(self.refresh)  # features are known now
        self.refresh()

    def refresh(self) -> None:
        self._fill()
        self.lay_out()

    def _fill(self) -> None:
        self.clear()
        work = self.work
        if not (work.faces or work.edges or work.points):
            self.add(label("Click a face or an edge. Ctrl adds and takes away.", "dim"))
            return
        body = work.chosen_body()
        large = body is not None and len(body.uses) > _FEW
        for line in in_words(work.model, work.faces, work.edges, work.points, work.digits, None if large else work.at):
            self.add(label(line))
        if large and len(work.faces) == 1 and not work.edges and work.at is not None:
            self.add(label(*self._behind(work.faces[0], work.at)))
        self.add(self._digits())
        if len(work.faces) == 1 and work.model is not None:
            told = body is not None and (known_features(body) is not None or len(body.uses) <= _FEW)
            feature = feature_of(body, work.faces[0]) if told else None
            if feature is not None and len(feature.faces) > 1:
                self.add(button(f"Take the whole {feature.kind}", lambda: work.choose(feature.faces), "quiet"))
        self._patches()
        for line in self._said():
            self.add(label(line))
        self._alikes()
        self._offers()

    def _said(self) -> list[str]:
        """What has been said of what is in hand, and of its body."""
        work = self.work
        if work.ledger is None:
            return []
        marks = work.ledger.state.marks
        owners = dict.fromkeys(body for f in work.faces for body in work.model.owners(f))
        out: dict[str, None] = {}
        for sort, words in _SAID.items():
            for thing in (*work.faces, *work.edges, *owners):
                value = marks.get(sort, thing)
                if value is not None:
                    out[words.format(value)] = None
        return list(out)[:_LINES]

    def _patches(self) -> None:
        """The patches that triangles in hand are of, and the rest of them."""
        work = self.work
        worn = work.ledger.state.marks.all("patch") if work.ledger is not None else {}
        words = dict.fromkeys(str(worn[f]) for f in work.faces if f in worn)
        if not words or len(words) > 3:
            return
        bodies = {body for f in work.faces for body in work.model.owners(f)}
        every = [f for body in bodies for f in body.faces if worn.get(f) in words]
        if len(every) > len(work.faces):
            told = "patch " + next(iter(words)) if len(words) == 1 else "patches"
            self.add(button(f"Take the whole {told}", lambda: work.choose(every), "quiet"))
        else:
            self.add(label("patch " + ", ".join(words)))

    def _alikes(self) -> None:
        """What is like what is in hand, each by the question that finds it."""
        work = self.work
        if work.model is None or (work.points and not (work.faces or work.edges)):
            return
        if not all(known_features(b) is not None or len(b.uses) <= _FEW for b in work.model.bodies):
            return  # the worker has not looked at them yet
        for found in alike(work.model, work.faces, work.edges):
            if found.count > 1 or work.edges:
                words = f"{found.title[0].upper()}{found.title[1:]}: {found.count}"
                self.add(button(words, lambda q=found.question: self._ask(q), "quiet", found.question))

    def _offers(self) -> None:
        """Operations that fit what is in hand, the likeliest first."""
        if self.work.ledger is None:
            return
        offered = fitting(self.work.chosen(), self.work.station)[:_OFFERS]
        for row_ in offered:
            words = f"{row_.title}  ({row_.key})" if row_.key else row_.title
            self.add(button(f"› {words}", lambda r=row_: self.begin(r), "offer", row_.help))

    def _behind(self, face: Face, at: Floats) -> tuple[str, str]:
        """The wall behind what was clicked, in words and their style. The worker finds it: that may take a while."""
        if self._asked is not at:
            self._asked, self._wall = at, None

            def found(told: list[Measure]) -> None:
                if self._asked is at:
                    self._wall = told
                    self.refresh()

            self.work.job("wall", self.work.model, face, at, done=found, failed=lambda _: found([]))
        if self._wall is None:
            return "wall behind it: being measured", "dim"
        return (
            ("  ".join(m.words(self.work.digits) for m in self._wall), "") if self._wall else ("open behind it", "dim")
        )

    def _digits(self) -> QWidget:
        """How many digits measures are told to."""
        fewer = button("−", lambda: self._told_to(-1), "quiet", "Fewer digits")
        more = button("+", lambda: self._told_to(1), "quiet", "More digits")
        return row(label(f"{self.work.digits} digits", "dim", wrap=False), fewer, more)

    def _told_to(self, change: int) -> None:
        self.work.digits = min(max(self.work.digits + change, 3), 15)
        QTimer.singleShot(0, self.refresh)

    def _ask(self, question: str) -> None:
        found = ask(self.work.model, question)
        self.work.choose(faces=list(found.faces), edges=list(found.edges))


def in_words(
    model: Model | None, faces: list[Face], edges: list[Edge], points: list, digits: int = 6, at=None
) -> list[str]:
    """Kind, size and relations of what is chosen, to so many digits; the wall behind `at` on a single face."""
    out: list[str] = []
    for p in points:
        out.append("point  " + ", ".join(f"{c:.{digits}g}" for c in p) + " mm")
    if len(faces) + len(edges) > 3:
        if faces:
            out.append(f"{many(len(faces), 'face')}, {number(sum(face_area(f) for f in faces), digits)} mm²")
        if edges:
            out.append(f"{many(len(edges), 'edge')}, {number(sum(e.length for e in edges), digits)} mm")
        return out
    for f in faces:
        out.append(_face_words(model, f, digits))
    for e in edges:
        sizes = ", ".join(m.words(digits) for m in of_edge(e))
        out.append(f"{e.curve.kind}{' ring' if e.ring else ''}, {sizes}")
    if model is not None:
        if len(faces) == 1 and not edges:
            out += [m.words(digits) for m in of_body(model, faces[0])]
            out += [m.words(digits) for m in wall(model, faces[0], at)] if at is not None else []
        out += [m.words(digits) for m in measures(model, faces, edges, points)]
    return out


def _face_words(model: Model | None, f: Face, digits: int) -> str:
    owners = model.owners(f) if model is not None else ()
    bonded = "bonded " if len(owners) > 1 else ""
    named = f" “{f.label}”" if f.label else ""
    return f"{bonded}{f.surface.kind}{named}, " + ", ".join(m.words(digits) for m in of_face(f))
