"""The operations for scripts, by name: `work.take(lithon.do.clear("fillets where radius <= 2 mm"))`.

Each is the type of an operation: called with its parameters it gives a value that `Ledger.take` does and records.
Things are given as a question, as faces, edges or bodies, or as anything that has them (a feature, a finding).
What there is, and with which types, stands in the stub beside this file, which is made from the table.
"""

from __future__ import annotations

from lithon.operations.operation import Operation
from lithon.operations.places import Axis as Axis
from lithon.operations.places import Cut as Cut
from lithon.operations.places import Spot as Spot
from lithon.operations.table import TABLE

_BY_NAME = {row.name.replace("-", "_"): row.operation for row in TABLE}


def __getattr__(name: str) -> type[Operation]:
    try:
        return _BY_NAME[name]
    except KeyError:
        raise AttributeError(f"there is no operation {name}") from None


def __dir__() -> list[str]:
    return [*_BY_NAME, "Axis", "Cut", "Spot"]
