"""Starting a worker process. Little is imported here: the window starts one before it loads anything else."""

from __future__ import annotations

import signal
import subprocess
import sys
from dataclasses import dataclass
from multiprocessing import Pipe
from multiprocessing.connection import Connection


@dataclass(slots=True)
class Started:
    """A worker process on its way, and this end of the line to it."""

    process: subprocess.Popen[bytes]
    connection: Connection


def start() -> Started:
    near, far = Pipe()
    process = subprocess.Popen(
        [sys.executable, "-m", "lithon.project.worker", str(far.fileno())],
        pass_fds=(far.fileno(),),
        preexec_fn=lambda: signal.signal(signal.SIGUSR1, signal.SIG_IGN),  # until it listens itself
    )
    far.close()
    return Started(process, near)
