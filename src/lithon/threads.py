"""Work on many rows shared among the cores."""

from __future__ import annotations

import functools
import itertools
import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from contextvars import copy_context
from typing import Any, Generic, TypeVar

import numpy as np
import numpy.typing as npt

_Arrays = tuple[npt.NDArray[Any], ...]
#: Rows below which a second thread does not pay; slices begin at whole multiples of it.
BLOCK = 8192


_T = TypeVar("_T")
_R = TypeVar("_R")


def each_of(run: Callable[[_T], _R], things: Sequence[_T]) -> list[_R]:
    """What `run` gives for each of some things, on all cores at once. It must let go of the interpreter for most of its
    time; what it raises is raised."""
    cores = min(os.cpu_count() or 1, len(things))
    if cores < 2:
        return [run(thing) for thing in things]
    with ThreadPoolExecutor(cores, "lithon-things") as pool:
        # Each in a context of its own, where it finds the progress of the operation under way.
        return [f.result() for f in [pool.submit(copy_context().run, run, thing) for thing in things]]


@contextmanager
def beside(run: Callable[[], object]) -> Iterator[None]:
    """Something done in a thread while what is within is done, for what it leaves in a memory. It has come to an end
    afterwards; it must let go of the interpreter for most of its time, tells no progress and is not stopped."""
    with ThreadPoolExecutor(1, "lithon-beside") as pool:
        pool.submit(run)  # what it raises is raised when it is done in earnest
        yield


class Ahead(Generic[_T]):
    """The same things as an iterator gives, the next one always made while those before it are used; the first at once.
    They are made in a thread, and must let go of the interpreter for most of their time."""

    def __init__(self, things: Iterator[_T]) -> None:
        self._things = things
        self._pool = ThreadPoolExecutor(1, "lithon-ahead")
        self._ask()

    def _ask(self) -> None:
        self._next = self._pool.submit(lambda: list(itertools.islice(self._things, 1)))

    def __iter__(self) -> Iterator[_T]:
        while made := self._next.result():
            self._ask()
            yield made[0]


@functools.cache
def _rows() -> ThreadPoolExecutor:
    """Threads that stay, for starting one takes as long as some of the work. What they run waits for no other of it."""
    return ThreadPoolExecutor(os.cpu_count() or 1, "lithon-rows")


os.register_at_fork(after_in_child=_rows.cache_clear)  # no thread goes along


def shared_out(run: Callable[[slice], _Arrays], n: int, block: int = BLOCK) -> _Arrays:
    """What `run` gives for n rows, asked for slices of whole blocks of them, on all cores at once where they are many:
    arrays with a row for each. `run` must let go of the interpreter for most of its time, as code compiled so does."""
    if n < 2 * BLOCK or (parts := min(os.cpu_count() or 1, n // BLOCK)) < 2:
        return run(slice(0, n))
    # Whole blocks, so that what remembers the row before within one gives the same on any number of cores.
    ends = [*(block * (np.linspace(0, n, parts + 1)[:-1].astype(int) // block)).tolist(), n]
    *others, own = (slice(a, b) for a, b in itertools.pairwise(ends))
    waited_for = [_rows().submit(run, part) for part in others]
    last = run(own)
    made = [*(f.result() for f in waited_for), last]
    return tuple(np.concatenate(column) for column in zip(*made, strict=True))
