"""How many random cases are tried: a fifth in an ordinary run, all of them in a long one (`./run test --long`)."""

import os

LONG = bool(os.environ.get("LITHON_LONG"))


def seeds(count: int, few: int | None = None) -> range:
    """Seeds of random cases; `few`: how many in an ordinary run, where a fifth of them take too long."""
    return range(count if LONG else -(-count // 5) if few is None else few)


def examples(count: int) -> int:
    """How many examples hypothesis draws."""
    return count if LONG else -(-count // 5)
