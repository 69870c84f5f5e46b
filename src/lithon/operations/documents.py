"""What can be written of the table: the page of all operations, and the stub for scripts."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from lithon.operations.parameters import About, At, Count, CutAt, Flag, Number, OneOf, Parameter, Things
from lithon.operations.table import STATIONS, TABLE, Row

_HEAD = """# Operations

Made from the table of operations (`./run docs`). Each can be found under `/` in the window, is `lithon.do.NAME` in a
script, `lithon do NAME FILE` on the command line, and a step of a recipe.
"""


def operations_page() -> str:
    """All operations by station, with what they ask for."""
    lines = [_HEAD]
    for station in STATIONS:
        own = [row for row in TABLE if row.station == station]
        if own:
            lines.append(f"## {station}\n")
        for row in own:
            lines += [*_section(row), ""]
    return "\n".join(lines).rstrip() + "\n"


def _section(row: Row) -> Iterator[str]:
    key = f" (`{row.key}`)" if row.key else ""
    yield f"### {row.title}{key}: `{row.name}`\n"
    yield f"{row.help}"
    parameters = row.operation.parameters()
    if parameters:
        yield "\n| parameter | what it takes | left out | |"
        yield "| --- | --- | --- | --- |"
    for key, p in parameters.items():
        yield f"| `{key}` | {kind(p)} | {_left_out(p)} | {p.help.replace('|', '/')} |"


def kind(p: Parameter[Any]) -> str:
    """What a parameter takes, in words."""
    if isinstance(p, Things):
        most = "" if p.most is None else f", {p.most} at most"
        least = f"{p.least} or more" if p.most != p.least else f"{p.least}"
        return f"{p.of}: {least}{most if p.most != p.least else ''}"
    if isinstance(p, CutAt):
        return "a plane" if p.plane else "a cut: a plane or the surface of a face"
    if isinstance(p, About):
        return "an axis"
    if isinstance(p, At):
        return "a point"
    if isinstance(p, OneOf):
        return " or ".join(p.options)
    if isinstance(p, Number):
        return f"a number{', ' + p.unit if p.unit else ''}{f', above {p.above:g}' if p.above is not None else ''}"
    if isinstance(p, Count):
        return f"a whole number from {p.least + p.first}"
    return "yes or no" if isinstance(p, Flag) else "a line of text"


def _left_out(p: Parameter[Any]) -> str:
    if p.default is not None:
        return p.text(p.default) or "nothing"
    return "may be" if p.optional else "must not be"


def _type(p: Parameter[Any]) -> str:
    if isinstance(p, Things):
        one = {"faces": "Face", "edges": "Edge", "vertices": "Vertex", "bodies": "Body"}[p.of]
        several = f"str | {one} | Iterable[{one}] | Choice" + (" | Sequence[str]" if p.of == "bodies" else "")
        return several + (" | None" if p.optional else "")
    if isinstance(p, CutAt):
        return "Cut | str" + (" | None" if p.optional else "")
    if isinstance(p, About):
        return "Axis | str" + (" | None" if p.optional else "")
    if isinstance(p, At):
        return "Spot | str | Sequence[float] | Vertex | Edge | Face" + (" | None" if p.optional else "")
    if isinstance(p, Number):
        return "float | str" + (" | None" if p.optional else "")
    if isinstance(p, OneOf):
        return f"Literal[{', '.join(repr(o) for o in p.options)}]".replace("'", '"')
    return "int" if isinstance(p, Count) else "bool" if isinstance(p, Flag) else "str"


def stub() -> str:
    """The stub of `lithon.do`: each operation with its types."""
    out = [
        "# Made from the table of operations: ./run docs",
        "from collections.abc import Iterable, Sequence",
        "from typing import Literal",
        "",
        "from lithon.brep.topology import Body, Edge, Face, Vertex",
        "from lithon.operations.choices import Choice",
        "from lithon.operations.operation import Operation",
        "from lithon.operations.places import Axis as Axis",
        "from lithon.operations.places import Cut as Cut",
        "from lithon.operations.places import Spot as Spot",
    ]
    for row in TABLE:
        out += ["", f"class {row.name.replace('-', '_')}(Operation):  # noqa: N801", f'    """{row.help}"""', ""]
        args = ["        self,"]
        for key, p in row.operation.parameters().items():
            default = " = ..." if p.optional or p.default is not None else ""
            args.append(f"        {key}: {_type(p)}{default},")
        out += ["    def __init__(", *args, "    ) -> None: ..."]
    return "\n".join(out) + "\n"
