"""Random pairs of simple solids laid over each other, by the thousand: is the volume identity kept, are the
results sound, and how many are refused?

    PYTHONPATH=src:tests .venv/bin/python tools/pairs.py [how many] [first seed] [kinds of the first]
"""

from __future__ import annotations

import sys
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from functools import partial

import numpy as np
from solids import simple_solid

from lithon.arrange.boolean import combine
from lithon.brep.measures import volume
from lithon.brep.validate import flaws
from lithon.errors import Refusal


def verdict(seed: int, kinds: str = "bckb") -> tuple[int, str, float]:
    """The seed, what came of it, and how long it took (s)."""
    start = time.perf_counter()
    rng = np.random.default_rng(seed)
    a, b = simple_solid(rng, kinds), simple_solid(rng, "bckst" if "t" in kinds else "bcks")
    try:
        both, common, less = (combine(a, b, op, 1e-6) for op in ("union", "intersect", "subtract"))
        total = [sum(volume(x) for x in found) for found in (both, common, less)]
        scale = max(volume(a), volume(b))
        if abs(total[0] + total[1] - volume(a) - volume(b)) > 1e-6 * scale:
            said = "wrong: union and common part do not make both"
        elif abs(total[2] + total[1] - volume(a)) > 1e-6 * scale:
            said = "wrong: rest and common part do not make the first"
        elif found := [f for part in (*both, *common, *less) for f in flaws(part, 1e-6)]:
            said = f"wrong: {found[0].text}"
        else:
            said = "kept"
    except Refusal as refusal:
        said = f"refused: {refusal.what}"
    except Exception as error:
        said = f"wrong: {type(error).__name__} {error}"
    return seed, said, time.perf_counter() - start


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    first = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    kinds = sys.argv[3] if len(sys.argv) > 3 else "bckb"
    said: Counter[str] = Counter()
    with ProcessPoolExecutor(2) as pool:
        for seed, what, took in pool.map(partial(verdict, kinds=kinds), range(first, first + count), chunksize=4):
            said[what.split(":")[0]] += 1
            if what != "kept" or took > 20.0:
                print(f"{seed}: {what} ({took:.1f} s)", flush=True)
    print(f"{count} pairs: " + ", ".join(f"{n} {what}" for what, n in said.most_common()))


if __name__ == "__main__":
    main()
