"""Play jobs and print a table:  ./run jobs [J07 ...]"""

import sys

from lithon.errors import LithonError
from lithon.jobs.job import play
from lithon.jobs.table import JOBS


def main() -> int:
    wanted = {x.upper() for x in sys.argv[1:]}
    bad = 0
    print(f"{'job':5} {'title':26} {'steps':>5} {'time':>7} {'elements':>8}  checks")
    for job in JOBS:
        if wanted and job.ident.upper() not in wanted:
            continue
        try:
            done = play(job)
        except LithonError as error:
            print(f"{job.ident:5} {job.title:26} {error}")
            bad += 1
            continue
        wrong = [c for c in done.checks if not c.holds]
        told = f"{len(done.checks) - len(wrong)} of {len(done.checks)} hold"
        print(f"{job.ident:5} {job.title:26} {done.steps:5} {done.seconds:6.1f}s {done.elements:8}  {told}"
              + (f"; not yet: {job.lacks}" if job.lacks else ""))  # fmt: skip
        for c in wrong:
            print(f"      {c.what}: {c.got!r}, not {c.wanted!r}")
        bad += bool(wrong)
    return bad


if __name__ == "__main__":
    sys.exit(main())
