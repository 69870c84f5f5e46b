"""Work on many rows shared among the cores."""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextvars import copy_context
from typing import Any, TypeVar

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


def shared_out(run: Callable[[slice], _Arrays], n: int, block: int = BLOCK) -> _Arrays:
    """What `run` gives for n rows, asked for slices of whole blocks of them, on all cores at once where they are many:
    arrays with a row for each. `run` must let go of the interpreter for most of its time, as code compiled so does."""
    if n < 2 * BLOCK or (parts := min(os.cpu_count() or 1, n // BLOCK)) < 2:
        return run(slice(0, n))
    # Whole blocks, so that what remembers the row before within one gives the same on any number of cores.
    ends = [*(block * (np.linspace(0, n, parts + 1)[:-1].astype(int) // block)).tolist(), n]
    with ThreadPoolExecutor(parts, "lithon-rows") as pool:
        made = list(pool.map(run, (slice(a, b) for a, b in itertools.pairwise(ends))))
    return tuple(np.concatenate(column) for column in zip(*made, strict=True))
