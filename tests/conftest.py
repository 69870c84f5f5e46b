"""Fixtures shared by the tests. Where there is no display, the tests bring up their own."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import Phase, settings

import lithon
from lithon.brep.topology import Model
from lithon.samples import collar_anchor

# A failing example is reported as it was found: on these solids shrinking it can take many minutes.
settings.register_profile("lithon", deadline=None, phases=[Phase.explicit, Phase.reuse, Phase.generate])
settings.load_profile("lithon")
os.environ.setdefault("LIBGL_ALWAYS_SOFTWARE", "1")


#: Files whose tests take long: random parts by the hundred, whole meshes, large parts; `./run test --fast` leaves
#: them out.
SLOW = {
    "test_after_edits", "test_assemblies", "test_clear", "test_cli", "test_copies", "test_corners",
    "test_costs", "test_curved", "test_cuts_of_turned_bodies", "test_free_form", "test_iges", "test_large",
    "test_mend", "test_mesh", "test_nursery", "test_planes_through", "test_random_solids", "test_rounds",
    "test_samples", "test_spindles", "test_step_world", "test_still", "test_survey", "test_sweep",
    "test_symmetry", "test_thickness", "test_tori", "test_triangles", "test_wounds",
}  # fmt: skip


#: And single tests of other files.
ALONE = {
    "test_any_plane",
    "test_no_mutation_gets_past_the_reader",
    "test_a_short_soak_over_the_table",
    "test_what_the_first_version_wrote_opens_and_replays",
    "test_stopped_midway_it_leaves_all_as_it_was",
}


def pytest_collection_modifyitems(items):
    """Marks by what a test needs: a window where it asks for a display, slow by its file."""
    for item in items:
        if "display" in item.fixturenames:
            item.add_marker("window")
        if item.module.__name__ in SLOW or item.originalname in ALONE:
            item.add_marker("slow")


@pytest.fixture(scope="session")
def display(request):
    """A display of this process alone, as a window in another would take the keys; or the one there is."""
    if os.environ.get("DISPLAY") and ("PYTEST_XDIST_WORKER" not in os.environ or shutil.which("Xvfb") is None):
        yield os.environ["DISPLAY"]
        return
    if shutil.which("Xvfb") is None:
        pytest.fail("no display and no Xvfb: ./run test installs it")
    read, write = os.pipe()
    subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1920x1200x24", "-nolisten", "tcp", "-terminate"],
        pass_fds=(write,),
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    os.close(write)
    with os.fdopen(read) as pipe:
        os.environ["DISPLAY"] = f":{pipe.readline().strip()}"
    # Qt dies with the server it is connected to; `-terminate` ends the server after the last that is connected instead,
    # which from now on is Qt: what only draws, and lets go, would take the display from those after it.
    request.getfixturevalue("qapp")
    yield os.environ["DISPLAY"]


@pytest.fixture(scope="session")
def anchor() -> Model:
    return collar_anchor()


@pytest.fixture(scope="session")
def anchor_file(anchor: Model, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("samples") / "collar-anchor.step"
    lithon.write_step(anchor, path, "collar anchor")
    return path


PREPARATION = (
    lithon.do.clear("holes where diameter <= 2.6 mm"),
    lithon.do.clear("fillets where radius <= 2 mm"),
    lithon.do.clear("pockets where depth < 5 mm"),
    lithon.do.carve(lithon.do.Cut.at((0, 0, 0), (0, 1, 0))),
    lithon.do.bond(),
)


@pytest.fixture(scope="session")
def prepared(anchor_file: Path) -> lithon.Ledger:
    """The collar anchor cleared, carved at its mirror plane and bonded."""
    work = lithon.open(anchor_file)
    for step in PREPARATION:
        work.take(step)
    return work


#: A nursery in an interpreter of its own: the process of the tests has threads by now, which must not be forked.
NURSERY = """
import socket, sys
from lithon.project import process, worker
from lithon.samples import collar_anchor
worker.findings(collar_anchor(), 4.0)  # the kernels of a survey are loaded once
process.tend(socket.socket(fileno=int(sys.argv[1])), worker.serve)
"""


@pytest.fixture(scope="session")
def workers():
    """Worker processes go on from test to test where they are idle and well, and are forked where they are not:
    starting an interpreter takes seconds."""
    import lithon.app.lane as lane
    from lithon.project import process

    near, far = socket.socketpair()
    nursery = subprocess.Popen([sys.executable, "-c", NURSERY, str(far.fileno())], pass_fds=[far.fileno()])
    far.close()
    process.nursery = near
    idle = []

    class Lent(lane.WorkerHandle):
        under_way = 0

        def submit(self, name, *args):
            self.under_way += 1
            return super().submit(name, *args)

        def receive(self):
            message = super().receive()
            self.under_way -= message[0] != "progress"
            return message

        def close(self):
            if self.under_way or self.process.poll() is not None:
                super().close()
            else:
                idle.append(self)

    own = lane.WorkerHandle
    # As quick as the tests themselves: side by side with these a nice worker would hardly get its turn.
    lane.WorkerHandle = lambda started=None, nice=0: idle.pop() if idle and started is None else Lent(started)
    yield
    lane.WorkerHandle = own
    for worker in idle:
        own.close(worker)
    process.nursery = None
    near.close()
    nursery.wait()


@pytest.fixture
def desk(display, qtbot, tmp_path, workers):
    from PySide6.QtCore import QSettings

    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(tmp_path / "settings"))
    from lithon.app.desk import Desk

    made = Desk()
    qtbot.addWidget(made)
    made.show()
    qtbot.waitExposed(made)
    made.activateWindow()
    return made


@pytest.fixture
def opened(desk, qtbot, anchor_file):
    from hands import settled

    desk.open(anchor_file)
    settled(desk, qtbot)
    qtbot.wait(80)  # the first look is taken in the next turn of the event loop
    return desk
