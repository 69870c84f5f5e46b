"""Every action of the desk, declared once: menus, keys and the help sheet are made from this table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from lithon.operations.prove.mesh import MakeMesh
from lithon.operations.table import TABLE, Row
from lithon.project.deliveries import DELIVERIES, Delivery

if TYPE_CHECKING:
    from lithon.app.desk import Desk

Run = Callable[["Desk"], object]
Test = Callable[["Desk"], bool]


@dataclass(frozen=True, slots=True)
class Action:
    """id, words, key; the group it stands under on the sheet; what it does; when it can be done.
    `station`: offered as a button there; `main`: as the one to press first."""

    id: str
    title: str
    key: str
    group: str
    run: Run
    enabled: Test = lambda desk: True
    station: str = ""
    main: bool = False
    tip: str = ""


def _open(desk: Desk) -> bool:
    return desk.work.ledger is not None


def _has_choice(desk: Desk) -> bool:
    return bool(desk.work.faces or desk.work.edges)


def _has_faces(desk: Desk) -> bool:
    return _open(desk) and bool(desk.work.faces)


def _has_mesh(desk: Desk) -> bool:
    return desk.work.mesh is not None


def _delivery(d: Delivery) -> Action:
    """The action that writes a delivery."""
    run: Run = lambda desk: desk.deliver(d)  # noqa: E731
    station = "Deliver" if d.first else ""
    return Action(d.name, d.title, "", "Deliver", run, _has_mesh if d.needs_mesh else _open, station)


_OWN: tuple[Action, ...] = (
    Action("open", "Open…", "Ctrl+O", "File", lambda d: d.ask_open(), station="Intake", main=True),
    Action(
        "revise",
        "New revision of the source…",
        "Ctrl+R",
        "File",
        lambda d: d.ask_revision(),
        _open,
        station="Intake",
        tip="reads another file in place of the source and takes all steps again; what does not resolve is told",
    ),
    Action("save", "Save project", "Ctrl+S", "File", lambda d: d.save(), _open, station="Deliver"),
    Action("save-as", "Save project as…", "Ctrl+Shift+S", "File", lambda d: d.save_as(), _open),
    Action("undo", "Undo", "Ctrl+Z", "File", lambda d: d.work.undo(), _open),
    Action("redo", "Redo", "Ctrl+Shift+Z", "File", lambda d: d.work.redo(), _open),
    Action("next", "Next card", "N", "Docket", lambda d: d.docket.next(), _open),
    Action("show", "Show me", "S", "Docket", lambda d: d.docket.show(), _open),
    Action("remedy", "Take the remedy", "R", "Docket", lambda d: d.docket.remedy(), _open),
    Action("alike", "All like this, up to its size", "A", "Docket", lambda d: d.docket.all_like_this(), _open),
    Action("keep", "Keep it", "K", "Docket", lambda d: d.docket.keep(), _open),
    Action(
        "twins",
        "On its twins too",
        "T",
        "Docket",
        lambda d: d.work.asking.also_on_twins(),
        lambda d: d.work.asking.twins() > 0,
        tip="what is proposed for one body is proposed for all that are congruent with it",
    ),
    Action("points", "Carve through three points", "P", "Carve", lambda d: d.pick_points(), _open, station="Carve"),
    Action(
        "hex",
        "Mesh with hexahedra",
        "Y",
        "Prove",
        lambda d: d.work.propose(MakeMesh(elements="hex")),
        _open,
        station="Prove",
        tip="sweeps every body that is one profile along a line or around an axis",
    ),
    Action("worst", "Fly to the worst element", "X", "Prove", lambda d: d.show_worst(), _has_mesh, station="Prove"),
    Action("inside", "Look inside the mesh", "I", "Prove", lambda d: d.toggle_inside(), _has_mesh, station="Prove"),
    *(_delivery(d) for d in DELIVERIES),
    Action("whole", "See the whole", "W", "Look", lambda d: d.see_whole(), _open),
    Action("near", "Fly to what is chosen", "J", "Look", lambda d: d.fly_to_chosen(), _has_choice),
    Action("straight", "Look straight at the chosen face", "L", "Look", lambda d: d.look_straight(), _has_faces),
    Action("glass", "See through", "G", "Look", lambda d: d.toggle_glass(), _open),
    Action("wire", "Wires only", "E", "Look", lambda d: d.toggle_wire(), _open),
    Action("cut", "Cut away, at the chosen plane", "U", "Look", lambda d: d.toggle_cut(), _open),
    Action(
        "deviation",
        "How far off what was read",
        "",
        "Look",
        lambda d: d.view.deviation.toggle(),
        _open,
        tip="colours what was read by its distance to what has become of it; again: the solid",
    ),
    Action("alone", "Only the chosen body", "O", "Look", lambda d: d.isolate(), _open),
    Action("hide", "Hide the chosen body", "H", "Look", lambda d: d.hide_body(), _has_faces),
    Action("question", "Find anything", "/", "Look", lambda d: d.question.begin(), _open),
    Action("sheet", "This sheet", "?", "Look", lambda d: d.toggle_sheet()),
)


def _of_row(row: Row) -> Action:
    """The action that opens an operation's form."""
    verb = bool(row.key) or row.main
    station = row.station if verb and row.station != "Mend" else ""
    run: Run = lambda d: d.begin(row)  # noqa: E731
    return Action(row.name, row.title, row.key, row.station, run, _open, station, row.main, row.help)


ACTIONS: tuple[Action, ...] = (*_OWN, *map(_of_row, TABLE))

#: What the hand does in the view, for the sheet; the view itself carries it out.
HAND = (
    ("left click", "choose a face or an edge"), ("Ctrl + click", "add or take away"),
    ("double click", "the whole chain or feature"),
    ("left drag", "a box: what is wholly inside"), ("Alt + drag", "what the box touches"),
    ("Shift + drag", "also what is hidden"), ("right drag", "turn"),
    ("middle drag", "pan"), ("wheel", "zoom at the cursor"), ("hold Space", "the solid as it was read in"),
    ("Enter", "take the proposal"), ("Esc", "drop the proposal, stop what runs"), ("Tab", "the next solution"),
    ("drag in the Sieve", "brush a range of sizes; drag the handle for the element size"),
)  # fmt: skip
