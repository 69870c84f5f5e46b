"""What is written from the table of operations: docs/operations.md and the stub of `lithon.do`.

`python tools/docs.py` writes them; with --check it says whether they are as the table has it.
"""

from __future__ import annotations

import sys
from pathlib import Path

from lithon.operations.documents import operations_page, stub

ROOT = Path(__file__).parent.parent
MADE = {ROOT / "docs/operations.md": operations_page, ROOT / "src/lithon/do.pyi": stub}


def main() -> None:
    stale = [path for path, make in MADE.items() if not path.exists() or path.read_text("utf-8") != make()]
    if "--check" in sys.argv:
        for path in stale:
            print(f"{path.relative_to(ROOT)} is not as the table of operations has it: ./run docs", file=sys.stderr)
        sys.exit(bool(stale))
    for path in stale:
        path.write_text(MADE[path](), "utf-8")
        print(f"wrote {path.relative_to(ROOT)}")


if __name__ == "__main__":
    main()
