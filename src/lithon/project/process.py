"""Starting worker processes. Little is imported here.

The window founds a nursery before it loads Qt: a fork of itself that has the engines in memory, does nothing with
them, and forks a worker whenever one is asked for, also in place of one that died. Without a nursery (in tests, from a
script) a worker is a fresh interpreter, which takes seconds to load what it needs.
"""

from __future__ import annotations

import contextlib
import gc
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing import Pipe
from multiprocessing.connection import Connection
from typing import Protocol

#: How nice workers are: the window comes first, then what the engineer waits for, then what nobody waits for.
FORE, BACK = 3, 10


class Process(Protocol):
    """What is done with a worker's process, whoever's child it is."""

    @property
    def pid(self) -> int: ...
    def poll(self) -> int | None: ...
    def send_signal(self, number: int, /) -> None: ...
    def kill(self) -> None: ...
    def wait(self) -> int | None: ...


@dataclass(slots=True)
class Started:
    """A worker process on its way, and this end of the line to it."""

    process: Process
    connection: Connection


@dataclass(frozen=True, slots=True)
class _Forked:
    """A child of the nursery, which is gone for good as soon as it ends."""

    pid: int

    def poll(self) -> int | None:
        try:
            os.kill(self.pid, 0)
        except OSError:
            return 0
        return None

    def send_signal(self, number: int) -> None:
        with contextlib.suppress(OSError):
            os.kill(self.pid, number)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)

    def wait(self) -> int | None:
        end = time.monotonic() + 5.0
        while self.poll() is None and time.monotonic() < end:
            time.sleep(0.001)
        return self.poll()


nursery: socket.socket | None = None


def found_nursery(serve: Callable[[Connection], None]) -> None:
    """Fork the nursery of workers that serve like this. To be done while there is one thread, and nothing on screen."""
    global nursery
    near, far = socket.socketpair()
    sys.stdout.flush()
    sys.stderr.flush()
    gc.freeze()  # shared with the forks for as long as nobody writes to it
    if os.fork() == 0:
        near.close()
        try:
            tend(far, serve)
        finally:
            os._exit(0)
    far.close()
    nursery = near


def tend(line: socket.socket, serve: Callable[[Connection], None]) -> None:
    """Fork a worker for each connection that comes in, until the window closes its end."""
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # nobody asks how they ended
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGUSR1, signal.SIG_IGN)
    while True:
        message, handles, _, _ = socket.recv_fds(line, 1, 1)  # a byte: how nice it shall be
        if not message or not handles:
            return
        pid = os.fork()
        if pid == 0:
            line.close()
            os.nice(message[0])
            serve(Connection(handles[0]))
            return
        os.close(handles[0])
        line.sendall(pid.to_bytes(8, "big"))


def start(nice: int = 0) -> Started:
    """Another worker, nicer than the window by this much. Where the nursery has died, an interpreter of its own."""
    global nursery
    near, far = Pipe()
    try:
        if nursery is not None:
            try:
                socket.send_fds(nursery, [bytes([nice])], [far.fileno()])
                told = nursery.recv(8)
                if len(told) == 8:
                    return Started(_Forked(int.from_bytes(told, "big")), near)
            except OSError:
                pass
            nursery.close()
            nursery = None

        def prepare() -> None:
            signal.signal(signal.SIGUSR1, signal.SIG_IGN)  # until it listens itself
            os.nice(nice)

        command = [sys.executable, "-m", "lithon.project.worker", str(far.fileno())]
        process = subprocess.Popen(command, pass_fds=(far.fileno(),), preexec_fn=prepare)
        return Started(process, near)
    finally:
        far.close()
