"""How many random cases are tried: half of them in an ordinary run, all of them in a long one (`./run test --long`)."""

import os

LONG = bool(os.environ.get("LITHON_LONG"))


def seeds(count: int) -> range:
    """Seeds of random cases."""
    return range(count if LONG else (count + 1) // 2)


def examples(count: int) -> int:
    """How many examples hypothesis draws."""
    return count if LONG else (count + 1) // 2
