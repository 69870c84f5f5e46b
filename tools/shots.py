"""Remake docs/screenshots/ by driving the real window with the demo part.

./run shots [folder]
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QEvent, QPointF, QSettings, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton

from lithon import do
from lithon.app import theme
from lithon.app.demo import demo_file, sample_file
from lithon.app.desk import Desk
from lithon.exchange.step_write import write_step
from lithon.jobs.pages import pages
from lithon.operations.table import rows
from lithon.samples import SAMPLES, STRAP
from lithon.samples.spoiled_anchor import spoiled_anchor
from lithon.survey.sizes import LENSES


class Camera:
    def __init__(self, folder: Path):
        self.folder = folder
        self.app = QApplication.instance() or QApplication([])
        self.app.setFont(theme.font(9.5))
        fresh = tempfile.mkdtemp(prefix="lithon-shots-")  # nobody's recent files or unsaved work
        os.environ["LITHON_STATE"] = fresh
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, fresh)
        self.desk = Desk()
        self.desk.move(0, 0)
        self.desk.show()
        self.until(lambda: False, 0.5)

    def until(self, test: Callable[[], object], seconds: float = 60.0) -> None:
        end = time.monotonic() + seconds
        while time.monotonic() < end and not test():
            QTest.qWait(5)

    def settle(self) -> None:
        work = self.desk.work
        self.until(lambda: not work.opening and work.findings_ready and work.costs is not None)

    def priced(self) -> None:
        work = self.desk.work
        self.until(
            lambda: (
                work.proposal is not None
                and (work.proposal.elements or work.proposal.kind == "bond")
                and work.proposal.state == "ready"
            )
        )

    def hover(self, point) -> None:
        at = QPointF(self.desk.view.pixel_of(point))
        self.desk.view.mouseMoveEvent(
            QMouseEvent(
                QEvent.Type.MouseMove,
                at,
                self.desk.view.mapToGlobal(at),
                Qt.MouseButton.NoButton,
                Qt.MouseButton.NoButton,
                Qt.KeyboardModifier.NoModifier,
            )
        )

    def shot(self, name: str) -> None:
        self.until(lambda: False, 0.5)
        self.desk.view.GetRenderWindow().Render()
        self.until(lambda: False, 0.2)
        screen = self.app.primaryScreen()
        picture = screen.grabWindow(0, self.desk.x(), self.desk.y(), self.desk.width(), self.desk.height())
        picture.save(str(self.folder / f"{name}.png"))
        print(self.folder / f"{name}.png")


def main() -> None:
    folder = Path(sys.argv[1] if len(sys.argv) > 1 else "docs/screenshots")
    folder.mkdir(parents=True, exist_ok=True)
    camera = Camera(folder)
    desk, work = camera.desk, camera.desk.work
    camera.shot("table")
    desk.open(demo_file())
    camera.settle()
    camera.hover((-48.0, 12.0, 12.0))
    camera.shot("survey")
    work.go("Trim")
    pick = next(k for k, g in enumerate(desk.docket.groups) if "radius 1.5 mm, 42" in g.first.text)
    desk.docket.choose(pick)
    desk.docket.remedy()
    camera.priced()
    desk.view.show_only(desk.docket.groups[pick].faces[:1])
    desk.view.unfocus()
    camera.shot("clear")
    work.asking.accept()
    camera.settle()
    for question in ("fillets where radius <= 2 mm", "holes where diameter < 3 mm", "pockets"):
        desk.question.line.setText(question)
        desk.question._take()
        desk.begin(rows()["clear"])
        camera.until(lambda: work.proposal is not None and work.proposal.state == "ready")
        work.asking.accept()
        camera.settle()
    desk.see_whole()
    work.go("Survey")
    desk.sieve.lens_buttons["holes"].click()
    desk.sieve._brushed(9.0, 14.0)
    camera.shot("sieve")
    desk.sieve.lens_buttons["edges"].click()
    work.choose()
    desk.begin(rows()["carve"])
    camera.priced()
    camera.shot("carve")
    work.asking.accept()
    camera.settle()
    desk.begin(rows()["bond"])
    camera.priced()
    work.asking.accept()
    camera.settle()
    desk.begin(rows()["mesh"])
    camera.until(lambda: work.mesh is not None, 120.0)
    camera.shot("mesh")
    desk.toggle_inside()
    desk.toggle_inside()
    work.go("Deliver")
    camera.shot("deliver")
    bottom = next(f for f in work.model.faces() if f.surface.kind == "plane" and f.surface.frame.z[2] < -0.9)
    work.undo()
    camera.settle()
    bottom = next(f for f in work.model.faces() if f.surface.kind == "plane" and f.surface.frame.z[2] < -0.9)
    work.go("Trim")
    work.choose([bottom])
    desk.begin(rows()["clear"])
    camera.until(lambda: work.proposal is not None and work.proposal.state == "refused")
    camera.shot("refused")
    desk.work.drop()
    desk.see_whole()
    desk.question.begin()
    desk.question.line.setText("el")
    camera.shot("find")
    desk.question.end()
    the_cast_anchor(camera)
    the_hinge_strap(camera)
    the_pintle_shoe(camera)
    the_gudgeon_scan(camera)
    the_collar_slid(camera)
    the_twins(camera)
    desk.close()


def opened(camera: Camera, stem: str) -> None:
    make = next(m for _, s, m, _ in SAMPLES if s == stem)
    camera.desk.open(sample_file(stem, make))
    camera.settle()
    camera.until(lambda: False, 0.3)


def the_cast_anchor(camera: Camera) -> None:
    desk, work = camera.desk, camera.desk.work
    opened(camera, "cast-anchor")
    work.go("Trim")
    desk.question.line.setText("fillets where radius = 2 mm")
    desk.question._take()
    desk.begin(rows()["clear"])
    camera.priced()
    camera.shot("fillet-chain")
    work.drop()


def the_hinge_strap(camera: Camera) -> None:
    desk, work = camera.desk, camera.desk.work
    opened(camera, "hinge-strap")
    steps = [do.clear("fillets where radius <= 2 mm")]
    steps += [do.carve(do.Cut.at((x, 0.0, 0.0), (1.0, 0.0, 0.0))) for x in STRAP.steps[1:-1]]
    for step in [*steps, do.bond()]:
        work.propose(step)
        camera.until(lambda: work.proposal is not None and work.proposal.state == "ready")
        work.asking.accept()
        camera.settle()
    work.propose(do.mesh("hex"))
    camera.until(lambda: work.mesh is not None, 120.0)
    desk.see_whole()
    camera.shot("hexahedra")


def lens(camera: Camera, key: str) -> None:
    sieve = camera.desk.sieve
    sieve.use(next(x for x in LENSES if x.key == key))
    camera.until(lambda: bool(sieve.marks), 60.0)


def the_pintle_shoe(camera: Camera) -> None:
    work = camera.desk.work
    opened(camera, "pintle-shoe")
    work.go("Mend")
    camera.shot("mend")


def the_gudgeon_scan(camera: Camera) -> None:
    desk, work = camera.desk, camera.desk.work
    opened(camera, "gudgeon-scan")
    work.go("Intake")
    camera.shot("intake")
    lens(camera, "edges")
    desk.see_whole()
    work.propose(do.clean_triangles())
    camera.until(lambda: work.proposal is not None and work.proposal.state == "ready")
    work.asking.accept()
    camera.settle()
    work.go("Mend")
    desk.begin(rows()["solid"])
    camera.until(lambda: work.proposal is not None and work.proposal.state == "ready", 120.0)
    work.asking.accept()
    camera.settle()
    desk.view.deviation.toggle()
    camera.until(lambda: desk.view.deviation.shown)
    camera.shot("deviation")
    desk.view.deviation.toggle()


def the_collar_slid(camera: Camera) -> None:
    """A face under way, with what stands beside the solid."""
    desk, work = camera.desk, camera.desk.work
    opened(camera, "collar-anchor")
    work.go("Trim")
    for step in (do.reference_plane("y = 0", "mirror"), do.reference_axis("z", "post")):
        before = work.ledger.state
        work.ledger.take(step)
        work.state_moved(before)
    work.choose([max(work.model.faces(), key=lambda f: (f.surface.kind == "plane") * float(f.surface.frame.origin[2]))])
    desk.begin(rows()["slide"])
    camera.priced()
    camera.until(lambda: False, 0.3)
    camera.shot("form")
    work.drop()


def drape(camera: Camera) -> None:
    """The spoiled anchor's mesh, without what is ignored and draped."""
    path = Path(os.environ["LITHON_STATE"]) / "spoiled-anchor.step"
    write_step(spoiled_anchor(), path, "spoiled anchor")
    desk, work = camera.desk, camera.desk.work
    desk.open(path)
    camera.settle()
    work.go("Prove")
    for step in (do.ignore_below(0.4), do.drape(strength=0.9), do.element_size(8.0), do.mesh("tet")):
        work.propose(step)
        camera.until(lambda: work.proposal is None or work.proposal.state == "ready", 90.0)
        if work.proposal is not None:
            work.asking.accept()
        QTest.qWait(300)
    camera.until(lambda: work.mesh is not None, 90.0)
    camera.shot("drape")


def the_twins(camera: Camera) -> None:
    opened(camera, "paddle-frame")
    lens(camera, "gaps")
    camera.shot("twins")
    drape(camera)
    patch(camera)


def patch(camera: Camera) -> None:
    """The torn ramp, as a job's page leads to it: where its mesh fails, and the patch that a card offers."""
    desk, work = camera.desk, camera.desk.work
    desk.begin_job(next(p for p in pages() if p.ident == "J12"))
    camera.until(lambda: work.page is not None, 60.0)
    camera.settle()
    work.set_size(8.0)
    work.go("Prove")
    for word in ("(M)", "Show me"):
        QTest.qWait(300)
        next(b for b in desk.docket.findChildren(QPushButton) if word in b.text()).click()
        camera.until(lambda: work.mesh is not None and bool(work.mesh.failures))
    camera.shot("failing")
    work.go("Mend")
    desk.docket.choose(0)
    desk.docket.remedy()
    camera.priced()
    camera.shot("patch")
    work.drop()
    work.drop()
    work.choose()


if __name__ == "__main__":
    main()
