"""How quickly the real window answers on parts of 2,000 faces, and how soon it is up.

./run bench --window
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from parts import perforated, pocketed
from PySide6.QtCore import QPoint, QSettings, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

import lithon
from lithon.app import theme
from lithon.app.desk import Desk
from lithon.operations.table import rows


class Stopwatch:
    def __init__(self) -> None:
        self.app = QApplication.instance() or QApplication([])
        self.app.setFont(theme.font(9.5))
        fresh = tempfile.mkdtemp(prefix="lithon-window-")
        os.environ["LITHON_STATE"] = fresh
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, fresh)
        self.desk = Desk()
        self.desk.show()

    def until(self, test: Callable[[], object], seconds: float = 60.0) -> float:
        """How long (s) until this holds, events being handled; the answer is good to a millisecond or so."""
        start = time.perf_counter()
        while not test() and time.perf_counter() - start < seconds:
            self.app.processEvents()
            time.sleep(0.0005)
        return time.perf_counter() - start

    def drawn(self) -> float:
        """Until what is asked for is on screen."""
        view = self.desk.view
        return self.until(lambda: not view._stale and not view._drawn.isActive())

    def timed(self, act: Callable[[], object], test: Callable[[], object] = lambda: True) -> float:
        start = time.perf_counter()
        act()
        self.until(test)
        self.drawn()
        return time.perf_counter() - start

    def settle(self) -> None:
        work = self.desk.work
        self.until(lambda: not work.opening and work.findings_ready and work.costs is not None)
        self.until(lambda: False, 1.0)

    def measure(self, model: lithon.Model, file: Path, kind: str) -> None:
        desk, work, view = self.desk, self.desk.work, self.desk.view
        lithon.write_step(model, file)
        opened = self.timed(lambda: desk.open(file), lambda: work.opening == "" and work.ledger is not None)
        print(f"{file.stem}: {len(model.faces())} faces; read and on screen after {opened:.1f} s", flush=True)
        start = time.perf_counter()
        self.settle()
        print(f"  all settled {time.perf_counter() - start:.1f} s later", flush=True)
        spots = [QPoint(int(x), int(y)) for x in np.linspace(0.3, 0.7, 4) * view.width() for y in (260, 300, 340)]
        hovers = [self.timed(lambda p=p: view._hovered(p)) for p in spots]
        picks = [self.timed(lambda p=p: QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=p)) for p in spots]
        alone = []
        for p in spots:
            t = time.perf_counter()
            view.at(p.x(), p.y())
            alone.append(time.perf_counter() - t)
        axis = desk.sieve.axis
        drags = [self.timed(lambda s=s: axis.dragged.emit(s)) for s in np.geomspace(2.0, 7.0, 8)]
        work.choose()
        self.drawn()
        ghosts, answers, accepts = [], [], []
        found = [f for f in lithon.features(work.model.bodies[0]) if f.kind == kind]
        for k in np.linspace(0, len(found) - 1, 6).astype(int):
            work.choose(faces=found[k].faces)
            self.drawn()
            start = time.perf_counter()
            desk.begin(rows()["clear"])
            self.until(lambda: work.proposal is not None and work.proposal.state != "thinking")
            answers.append(time.perf_counter() - start)
            self.drawn()
            ghosts.append(time.perf_counter() - start)
            work.drop()
            self.drawn()
        start = time.perf_counter()
        work.choose(faces=found[0].faces)
        desk.begin(rows()["clear"])
        self.until(lambda: work.proposal is not None and work.proposal.state != "thinking")
        accepts.append(self.timed(work.asking.accept))

        def line(name: str, values: list[float], aim: str) -> None:
            ms = 1e3 * np.array(values)
            print(f"  {name:34s} {np.median(ms):6.0f} ms, at most {ms.max():6.0f}   {aim}", flush=True)

        line("pick, found", alone, "(aim 50)")
        line("hover, drawn", hovers, "")
        line("pick, drawn", picks, "")
        line("Sieve dragged, drawn", drags, "(aim 50)")
        line("ghost, answered", answers, "")
        line("ghost, drawn", ghosts, "(aim 300)")
        line("taken, drawn", accepts, "")
        self.settle()


def started() -> None:
    """From the command to the demo part on screen, in a process of its own."""
    took = []
    for _ in range(3):
        t = time.perf_counter()
        subprocess.run([sys.executable, Path(__file__).parent / "first_picture.py"], check=True)
        took.append(time.perf_counter() - t)
    print("window up with the demo part after " + ", ".join(f"{t:.1f}" for t in took) + " s (aim 4)", flush=True)


def main() -> None:
    started()
    watch = Stopwatch()
    folder = Path(tempfile.mkdtemp(prefix="lithon-parts-"))
    watch.measure(perforated(2000), folder / "perforated-plate.step", "hole")
    watch.measure(pocketed(222), folder / "pocketed-plate.step", "pocket")
    watch.desk.work.close()


if __name__ == "__main__":
    main()
