"""Workers forked off a nursery: ready at once, stopped, killed and replaced; and without it as before."""

import json
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

import lithon

#: In an interpreter of its own, with one thread, as the window does it; answers go out as JSON.
SCRIPT = """
import json, os, signal, sys, time
from pathlib import Path
from lithon.errors import Cancelled
from lithon.project import process
from lithon.project.worker import WorkerHandle, read_ahead, serve

def ask(worker, name, *args):
    worker.submit(name, *args)
    while True:
        kind, _, *rest = worker.receive()
        if kind != "progress":
            return kind, rest[0]

file, out = Path(sys.argv[1]), {}
process.found_nursery(serve)
worker = WorkerHandle(nice=4)
out["rested"] = ask(worker, "rest", 0.0)[1]
out["command"] = Path(f"/proc/{worker.process.pid}/cmdline").read_bytes() == Path("/proc/self/cmdline").read_bytes()
out["nice"] = os.getpriority(os.PRIO_PROCESS, worker.process.pid) - os.getpriority(os.PRIO_PROCESS, 0)
out["alive"] = worker.process.poll() is None

os.kill(worker.process.pid, signal.SIGKILL)
try:
    worker.receive()
except (EOFError, OSError):
    out["end is told"] = True
worker.close()
out["gone"] = worker.process.poll() is not None

started = process.start()
read_ahead(started, file)
worker = WorkerHandle(started)
kind, (ledger, troubles) = ask(worker, "open", file)
out["faces"], out["troubles"] = len(ledger.model.faces()), troubles
out["again"] = len(ask(worker, "open", file)[1][0].model.faces())
missing = process.start()
read_ahead(missing, file.with_name("none.step"))
other = WorkerHandle(missing)
out["missing"] = ask(other, "open", file.with_name("none.step"))[0]
other.submit("rest", 30.0)
other.receive()
other.cancel()
while (answer := other.receive())[0] == "progress":
    pass
out["stopped"] = isinstance(answer[2], Cancelled)

line, process.nursery = process.nursery, None  # as if the nursery had died
line.close()
fresh = WorkerHandle()
out["without"] = ask(fresh, "rest", 0.0)[1]
for w in (worker, other, fresh):
    w.close()
print(json.dumps(out))
"""


@pytest.fixture(scope="module")
def told(anchor_file):
    run = subprocess.run([sys.executable, "-c", SCRIPT, str(anchor_file)], capture_output=True, text=True, timeout=120)
    assert run.returncode == 0, run.stderr
    return json.loads(run.stdout)


def test_a_forked_worker_answers_and_is_nicer_than_the_window(told):
    assert told["rested"] == "rested" and told["alive"] and told["nice"] == 4
    assert told["command"]  # a fork of this very process: no interpreter that loads everything again


def test_its_end_is_told_and_another_takes_its_place(told):
    assert told["end is told"] and told["gone"]
    assert told["without"] == "rested"


def test_a_file_read_ahead_is_the_file_opened(told, anchor_file):
    faces = len(lithon.open(anchor_file).model.faces())
    assert told["faces"] == told["again"] == faces and told["troubles"] == []
    assert told["missing"] == "failed" and told["stopped"]


def test_workers_end_with_the_window(anchor_file):
    """A window that is killed leaves nobody behind: neither the nursery nor its workers."""
    script = """
import sys, time
from lithon.project import process
from lithon.project.worker import WorkerHandle, serve
process.found_nursery(serve)
workers = [WorkerHandle(), WorkerHandle()]
for w in workers:
    w.submit("rest", 0.0)
    while w.receive()[0] == "progress":
        pass
print(*(w.process.pid for w in workers), flush=True)
time.sleep(60)
"""
    window = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True, start_new_session=True)
    pids = [int(p) for p in window.stdout.readline().split()]
    assert len(pids) == 2
    group = [int(p.name) for p in Path("/proc").glob("[0-9]*") if of_group(p, window.pid)]
    assert set(pids) < set(group) and len(group) == 4  # the nursery too
    window.send_signal(signal.SIGKILL)
    window.wait()
    end = time.monotonic() + 10.0
    left = group
    while left and time.monotonic() < end:
        left = [p for p in left if alive(p)]
        time.sleep(0.02)
    assert not left


def stat(folder):
    """Of a process: its state, its parent, its group."""
    try:
        return (folder / "stat").read_text().rsplit(")", 1)[1].split()[:3]
    except OSError:
        return ["Z", "0", "0"]


def of_group(folder, group):
    return stat(folder)[2] == str(group)


def alive(pid):
    return stat(Path(f"/proc/{pid}"))[0] != "Z"
