"""Work on many rows shared among the cores."""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
import numpy.typing as npt

_Arrays = tuple[npt.NDArray[Any], ...]
#: Rows below which a second thread does not pay; slices begin at whole multiples of it.
BLOCK = 8192


def shared_out(run: Callable[[slice], _Arrays], n: int, block: int = BLOCK) -> _Arrays:
    """What `run` gives for n rows, asked for slices of whole blocks of them, on all cores at once where they are many:
    arrays with a row for each. `run` must let go of the interpreter for most of its time, as code compiled so does."""
    parts = min(os.cpu_count() or 1, n // BLOCK)
    if parts < 2:
        return run(slice(0, n))
    # Whole blocks, so that what remembers the row before within one gives the same on any number of cores.
    ends = [*(block * (np.linspace(0, n, parts + 1)[:-1].astype(int) // block)).tolist(), n]
    with ThreadPoolExecutor(parts, "lithon-rows") as pool:
        made = list(pool.map(run, (slice(a, b) for a, b in itertools.pairwise(ends))))
    return tuple(np.concatenate(column) for column in zip(*made, strict=True))
