"""Fixtures shared by the tests. Where there is no display, the tests bring up their own."""

from __future__ import annotations

import os
import shutil
import subprocess
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


@pytest.fixture(scope="session")
def display():
    """A display: the one there is, or a virtual one for this run."""
    if os.environ.get("DISPLAY"):
        yield os.environ["DISPLAY"]
        return
    if shutil.which("Xvfb") is None:
        pytest.fail("no display and no Xvfb: ./run test installs it")
    read, write = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1920x1200x24", "-nolisten", "tcp", "-terminate"],
        pass_fds=(write,),
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    os.close(write)
    with os.fdopen(read) as pipe:
        os.environ["DISPLAY"] = f":{pipe.readline().strip()}"
    yield os.environ["DISPLAY"]
    # Qt dies with the server it is connected to; `-terminate` ends the server after Qt instead.
    from PySide6.QtWidgets import QApplication

    if QApplication.instance() is None:
        server.terminate()
        server.wait()


@pytest.fixture(scope="session")
def anchor() -> Model:
    return collar_anchor()


@pytest.fixture(scope="session")
def anchor_file(anchor: Model, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("samples") / "collar-anchor.step"
    lithon.write_step(anchor, path, "collar anchor")
    return path


PREPARATION = (
    lithon.clear_question("holes where diameter <= 2.6 mm"),
    lithon.clear_question("fillets where radius <= 2 mm"),
    lithon.clear_question("pockets where depth < 5 mm"),
    lithon.split_step(lithon.plane_at((0, 0, 0), (0, 1, 0))),
    lithon.bond_step(),
)


@pytest.fixture(scope="session")
def prepared(anchor_file: Path) -> lithon.Ledger:
    """The collar anchor cleared, carved at its mirror plane and bonded."""
    work = lithon.open(anchor_file)
    for step in PREPARATION:
        work.take(step)
    return work
