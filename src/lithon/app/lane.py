"""A lane of work: one worker process, the jobs under way in it, and their callbacks in the window's thread.

The desk has two. What the engineer waits for (steps, meshes) has one to itself; surveys, lenses and forecasts run
beside it, so that a proposal never stands behind them.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QObject, QSocketNotifier, QTimer

from lithon.errors import Cancelled, LithonError
from lithon.project.process import FORE, Started
from lithon.project.wire import Parcel
from lithon.project.worker import JOBS, WorkerHandle


@dataclass(slots=True)
class Job:
    name: str
    done: Callable[[Any], None]
    failed: Callable[[LithonError], None]
    progress: Callable[[float, str], None]
    #: Whether its answer is still asked for; looked at before it is sent.
    wanted: Callable[[], bool] = lambda: True


class Lane(QObject):
    def __init__(self, parent: QObject, started: Started | None = None, nice: int = FORE):
        super().__init__(parent)
        self.nice = nice
        self.worker: WorkerHandle | None = None
        self._started = started
        self.jobs: dict[int, Job] = {}
        #: Jobs that wait here: a worker that is busy reads nothing, and writing to it would stop the window.
        self.waiting: deque[tuple[Job, tuple[Any, ...]]] = deque()
        self._notifier: QSocketNotifier | None = None
        self._patience = QTimer(self, singleShot=True, interval=4000)
        self._patience.timeout.connect(self._restart)

    def submit(self, job: Job, *args: Any) -> None:
        self.waiting.append((job, args))
        if self.worker is not None and any(JOBS[running.name].idle for running in self.jobs.values()):
            self.worker.cancel()  # what somebody waits for finds out by itself what it needs
        self._send()

    def _send(self) -> None:
        """Send the next job that is still wanted, once the worker has answered the last."""
        while self.waiting and not self.jobs:
            job, args = self.waiting.popleft()
            if job.wanted():
                self._to_worker(job, args)

    def _to_worker(self, job: Job, args: tuple[Any, ...]) -> None:
        if self.worker is None:
            self._begin()
        self.jobs[self.worker.submit(job.name, *args)] = job

    def learn(self, parcel: Parcel) -> None:
        """Start afresh with what another worker answered, as it came, so that it need not be packed again."""
        if self.worker is None or self.jobs or self.worker.wire.known:
            self.renew()
        self.worker.learn(parcel)

    def renew(self) -> None:
        """Another process that knows nothing; nobody waits any more for what was under way."""
        self.jobs.clear()
        self.waiting.clear()
        self.close()
        self._begin()

    @property
    def parcel(self) -> Parcel:
        """The last answer as it came."""
        return self.worker.wire.last

    def _begin(self) -> None:
        self.worker, self._started = WorkerHandle(self._started, self.nice), None
        self._notifier = QSocketNotifier(self.worker.connection.fileno(), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._answers)

    def _answers(self) -> None:
        worker = self.worker
        if worker is None:
            return
        try:
            while worker.connection.poll():
                kind, number, *rest = worker.receive()
                job = self.jobs.get(number)
                if kind == "progress":
                    if job is not None:
                        job.progress(*rest)
                    continue
                self.jobs.pop(number, None)
                self._patience.stop()
                if job is not None:
                    (job.done if kind == "done" else job.failed)(rest[0])
                self._send()
        except (EOFError, OSError):
            self._restart(crashed=True)

    def _restart(self, crashed: bool = False) -> None:
        """A worker that died, or does not stop when asked, is replaced; nothing is lost but the job under way."""
        lost, self.jobs = list(self.jobs.values()), {}
        self.close()
        error: LithonError = (
            LithonError(
                "the worker process ended unexpectedly", remedy="the model is unchanged; try again or save first"
            )
            if crashed
            else Cancelled()
        )
        for job in lost:
            job.failed(error)
        self._send()

    def close(self) -> None:
        if self._notifier is not None:
            self._notifier.setEnabled(False)
            self._notifier = None
        if self._started is not None:
            self._started.process.kill()
            self._started = None
        if self.worker is not None:
            self.worker.close()
            self.worker = None

    def stop(self) -> None:
        """Ask the running job to stop; if it does not within four seconds, the worker is replaced."""
        if self.worker is not None and self.jobs:
            self.worker.cancel()
            self._patience.start()
