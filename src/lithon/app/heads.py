"""What stands at the head of the Docket in each station, before its cards and verbs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QGridLayout, QLineEdit

from lithon.app import theme
from lithon.app.histogram import Histogram
from lithon.app.parts import Card, button, choice, label, number, row, title
from lithon.brep.copies import root_of
from lithon.brep.topology import Model
from lithon.exchange.intake import UnitChoice
from lithon.exchange.placement import ORIGINS, UPS, Placement
from lithon.mesh.compare import compared
from lithon.mesh.recover import Failure
from lithon.mesh.verdict import UNASKED, Verdict, verdict
from lithon.operations.prove.drapes import IgnoreBelow
from lithon.operations.prove.mesh import MakeMesh, from_lattice
from lithon.operations.state import IGNORED
from lithon.operations.trim.cure import CureAll
from lithon.survey.groups import grouped
from lithon.survey.outlook import smaller_parts
from lithon.words import many

if TYPE_CHECKING:
    from lithon.app.docket import Docket

#: So many notes of an arrival are shown as cards.
_NOTES = 6
_APPROXIMATION = "Faces that fail are left out, and what they covered is closed by triangles"


def about(count: float) -> str:
    """A count to three digits: more of a forecast would be noise."""
    return number(round(float(f"{count:.3g}")), 3)


def short_length(length: float) -> str:
    """Two or three digits, and no exponent where a person would write none."""
    if length >= 1e4:
        return f"{length / 1e3:.3g}k"
    digits = 3 if length >= 1.0 else 2
    return f"{float(f'{length:.{digits}g}'):g}" if length >= 1e-3 or length == 0.0 else f"{length:.0e}"


def intake(docket: Docket) -> None:
    ledger = docket.work.ledger
    arrival, model = ledger.arrival, ledger.base
    kind = Path(ledger.source.name).suffix.lstrip(".").upper() or "data"
    exact = not any(f.surface.kind == "facets" for body in model.bodies for f in root_of(body).faces)
    many = f"{len(model.bodies)} {'body' if len(model.bodies) == 1 else 'bodies'}"
    card = Card(
        "●",
        theme.VERDIGRIS,
        ledger.source.name,
        f"{len(ledger.source.data) // 1024 + 1} kB of {kind}, {many}, {model.face_count()} faces",
        "Exact faces and edges; seams dropped." if exact else "Triangles, parted into faces at their creases.",
        "The file itself is never touched.",
    )
    docket.add(card)
    if arrival.unit is not None:
        _unit_card(docket, arrival.unit)
    if not exact and not ledger.entries:
        _place_card(docket, ledger.source.placement)
    for note in arrival.notes[:_NOTES]:
        docket.add(Card(*theme.SEVERITY["note"][1::-1], note))
    if len(arrival.notes) > _NOTES:
        docket.add(label(f"and {len(arrival.notes) - _NOTES} more notes", "dim"))


def _unit_card(docket: Docket, read: UnitChoice) -> None:
    """The box in every unit that the file may mean; a press reads it again in that unit."""
    card = Card(
        "?", theme.OCHRE, f"The file names no unit: read in {read.unit}", f"{read.why.capitalize()}. Its box in mm:"
    )
    table = QGridLayout()
    table.setContentsMargins(0, 2, 0, 0)
    table.setHorizontalSpacing(10)
    table.setVerticalSpacing(0)
    for k, (unit, box) in enumerate(read.boxes.items()):
        chosen = unit == read.unit
        pick = button(("● " if chosen else "○ ") + unit, lambda u=unit: docket.work.reread(u), "quiet")
        pick.setToolTip(f"Read the file again in {unit}")
        table.addWidget(pick, k, 0)
        size = label(" × ".join(short_length(c) for c in box), "" if chosen else "dim", wrap=False)
        table.addWidget(size, k, 1)
    table.setColumnStretch(1, 1)
    card.lay.addLayout(table)
    docket.add(card)


def _place_card(docket: Docket, place: Placement) -> None:
    """Scale, the axis that is up and the origin of triangles; a change reads the file again."""
    card = Card("○", theme.INK2, "Its place can still be changed", "Until the first step is taken.")
    table = QGridLayout()
    table.setContentsMargins(0, 2, 0, 0)
    table.setHorizontalSpacing(10)
    up = choice(
        place.up,
        list(UPS),
        lambda text: docket.work.reread(placement=replace(place, up=text)),
        "Which axis of the file becomes our z",
    )
    origin = choice(
        place.origin,
        list(ORIGINS),
        lambda text: docket.work.reread(placement=replace(place, origin=text)),
        "Where the origin is put",
    )
    scale = QLineEdit(f"{place.scale:.10g}")
    scale.setObjectName("place-scale")
    scale.setToolTip("A factor on top of the unit; Enter takes it")
    scale.editingFinished.connect(lambda: _rescale(docket, place, scale))
    for k, (text, widget) in enumerate((("up", up), ("origin", origin), ("scale", scale))):
        table.addWidget(label(text, "dim", wrap=False), k, 0)
        table.addWidget(widget, k, 1)
    table.setColumnStretch(1, 1)
    card.lay.addLayout(table)
    docket.add(card)


def _rescale(docket: Docket, place: Placement, field: QLineEdit) -> None:
    try:
        factor = float(field.text().replace(",", "."))
    except ValueError:
        docket.work.told.emit(f"{field.text()!r} is no number", "bad")
        field.setText(f"{place.scale:.10g}")
        return
    if factor != place.scale:
        docket.work.reread(placement=replace(place, scale=factor))


def survey(docket: Docket) -> None:
    """What a mesh will have, what its half would, and how many faces there may be."""
    work = docket.work
    seen, costs = work.forecast, work.costs
    known = costs is not None and costs.total >= 0.5
    small = f" {about(costs.total)} of them are there for small things." if costs is not None and known else ""
    parts = smaller_parts(work.symmetry, seen.elements) if seen is not None and work.symmetry is not None else []
    card = Card(
        "≈",
        theme.INK2,
        f"{about(seen.elements)} elements" if seen is not None else "Counting elements…",
        f"Down to {short_length(seen.smallest_mm)} mm.{small}" if seen is not None else "",
        " ".join(f"{words.capitalize()}: {about(elements)}." for words, elements in parts),
    )
    budget = work.ledger.settings.budget
    limit = QLineEdit("" if budget is None else str(budget))
    limit.setObjectName("face-budget")
    limit.setPlaceholderText("no limit")
    limit.setMaximumWidth(76)
    limit.setToolTip("How many faces the mesher can take; watched in the Ledger. Enter takes it")
    limit.editingFinished.connect(lambda: work.set_face_budget(limit.text()))
    limit.returnPressed.connect(limit.clearFocus)  # keys belong to the desk again
    faces = work.model.face_count()
    card.lay.addWidget(row(label(f"{faces} faces; at most", "dim", wrap=False), limit))
    below = work.ledger.state.ignored
    said = f"Not followed below {short_length(below)} mm" if below else "However small, it is followed"
    change = button("Change", lambda: work.propose(IgnoreBelow(below or 0.0)), "quiet", "The size below which the "
                    "mesh goes over faces, edges and corners; the solid stays as it is")  # fmt: skip
    line = row(label(said, "dim"), change, stretch=False)  # in two lines where the number is long
    line.layout().setStretch(0, 1)
    card.lay.addWidget(line)
    docket.add(card)
    cures = [g for g in docket.groups if not g.first.keep and any(not o.by_hand for o in g.first.offers)]
    if len(cures) > 1:
        docket.add(
            row(
                button(
                    f"Cure all {len(cures)}",
                    lambda: work.propose(CureAll()),
                    "",
                    "Every cure that moves nothing by more than half an element, the worst first, as one step",
                )
            )
        )


def carve(docket: Docket) -> None:
    docket.add(
        label(
            "Choose two plane faces for a cut midway, one for an offset, or three points. "
            "With nothing chosen the cut stands across the middle.",
            "dim",
        )
    )
    for widget in docket.cuts.cards():
        docket.add(widget)


def bond(docket: Docket) -> None:
    model = docket.work.model
    shared = model.shared()
    if len(model.bodies) < 2:
        docket.add(label("One body only: there is nothing to share. Carve first.", "dim"))
    elif not shared:
        docket.add(
            label(f"{len(model.bodies)} bodies stand apart. Shared faces make their meshes match node for node.", "dim")
        )
    from lithon.brep.measures import face_area

    for face in shared:
        a, b = model.owners(face)
        card = Card("▨", theme.VERDIGRIS, f"{a.name}  +  {b.name}", f"shared over {number(face_area(face))} mm²")
        card.pressed = lambda face=face: docket.work.choose(faces=[face])
        docket.add(card)


def prove(docket: Docket) -> None:
    mesh = docket.work.mesh
    if mesh is None:
        docket.add(
            label(
                f"A conformal mesh of all bodies at {docket.work.ledger.size:g} mm. "
                "Boundaries and shared faces are recovered in full.",
                "dim",
            )
        )
        _warned(docket)
        return
    q = mesh.quality
    smallest = float(q.smallest_angle.min())
    told = verdict(mesh)
    ignored = docket.work.ledger.state.rules().ignore or 0.0
    cut_off = any(off > ignored for off in mesh.rounded.values())
    good = told.good and not mesh.failures and not cut_off
    only_skin = mesh.shape.flat and bool(mesh.failures) and not all(b.sheet for b in mesh.bodies)
    what = "area" if mesh.shape.flat else "volume"
    held = from_lattice(mesh) if mesh.rounded else "boundary recovered"
    shared = len(mesh.bodies) > 1 and bool(Model.of(mesh.bodies).shared())
    matched = "not conformal" if not mesh.conformal() else "all shared faces match" if shared else "conformal"
    docket.add(
        Card(
            "✓" if good else "▲",
            theme.VERDIGRIS if good else theme.OCHRE,
            f"{number(len(mesh.elements), 3)} {mesh.kind}, {number(len(mesh.points), 3)} nodes",
            "no volume: what could be covered is kept" if only_skin else f"{held}, {matched}",
            f"{what} {100.0 * (mesh.volume_ratio - 1.0):+.3f} % against the exact one",
            told.words(),
        )
    )
    for failure in mesh.failures:  # what is not there comes before what is poor
        _failed(docket, failure)
    if not told.good:
        _poor(docket, told)
    if only_skin:
        docket.add(row(button("Mesh an approximation", lambda: _approximate(docket), "", _APPROXIMATION)))
    docket.add(Histogram(f"smallest {mesh.shape.angles} angle, degrees", q.smallest_angle, 0.0, mesh.shape.right, 10.0))
    docket.add(Histogram("scaled Jacobian", q.scaled_jacobian, 0.0, 1.0, 0.1))
    drawn = "the outlines of what failed are" if mesh.failures else "the twelve worst are"
    docket.add(
        label(
            f"Worst element {smallest:.1f}°, its Jacobian {q.scaled_jacobian[q.worst(1)[0]]:.2f}; "
            f"{drawn} drawn in madder.",
            "dim",
        )
    )
    before = docket.work.ledger.mesh_before()
    if before is not None:
        docket.add(title("BEFORE, AND NOW"))
        for what, one, two in compared(before, mesh):
            docket.add(label(f"{what}: {one} → {two}" if one != two else f"{what}: {one}, as before", "dim"))


def _warned(docket: Docket) -> None:
    """What the survey has found that would stop a mesh, before one is asked for."""
    stops = grouped([f for f in docket.work.open_findings() if f.severity == "stops"])
    if not stops:
        return
    card = Card("■", theme.MADDER, f"{many(len(stops), 'card')} would stop it",
                *(g.text for g in stops[:3]))  # fmt: skip
    faces = list(dict.fromkeys(f for g in stops for f in g.first.faces))
    if faces:
        card.add_button("Show me", lambda: docket.work.choose(faces=faces))
    card.add_button("Mesh an approximation", lambda: _approximate(docket))
    card.setToolTip(_APPROXIMATION)
    docket.add(card)


def _approximate(docket: Docket) -> None:
    docket.work.propose(MakeMesh(elements="tet", approximate=True))


def _poor(docket: Docket, told: Verdict) -> None:
    """Where elements are poor and why, the most of them first."""
    where = told.where()
    card = Card("■" if told.lenient else "▲", theme.MADDER if told.lenient else theme.OCHRE,
                "not good enough everywhere", *where[:4])  # fmt: skip
    if len(where) > 4:
        card.setToolTip("\n".join(where))
    faces = list(dict.fromkeys(p.face for p in told.places if p.face is not None))
    if faces:
        card.add_button("Show me", lambda: docket.work.choose(faces=faces))
    ledger = docket.work.ledger
    below = round(IGNORED * ledger.state.smallest, 6)
    if ledger.state.ignored is None and any(p.cause != UNASKED for p in told.places):
        card.add_button(f"Ignore below {below:g} mm", lambda: docket.work.propose(IgnoreBelow(below)))
    if docket.work.mesh is not None and docket.work.mesh.better:
        lattice = MakeMesh(elements="tet", lattice=True)
        off = max(docket.work.mesh.better.values())
        tip = f"Fewer elements are poor; creases are cut off by up to {off:.2g} mm."
        card.add_button("Mesh from a lattice", lambda: docket.work.propose(lattice), tip=tip)
    docket.add(card)


def _failed(docket: Docket, failure: Failure) -> None:
    """What could not be meshed, and where."""
    card = Card("■", theme.MADDER, failure.what, failure.remedy)
    if failure.face is not None:
        face = failure.face
        card.add_button("Show me", lambda: docket.work.choose(faces=[face]))
    docket.add(card)


def deliver(docket: Docket) -> None:
    mesh = docket.work.mesh
    docket.add(
        label(
            "Geometry as STEP, the mesh as VTU with bodies, faces and labels, the steps as a recipe that runs "
            "without a window, and a report.",
            "dim",
        )
    )
    if mesh is None:
        docket.add(label("No mesh yet: make one in Prove to write it.", "dim"))


#: By station.
HEADS: dict[str, Callable[[Docket], None]] = {
    "Intake": intake,
    "Survey": survey,
    "Carve": carve,
    "Bond": bond,
    "Prove": prove,
    "Deliver": deliver,
}
