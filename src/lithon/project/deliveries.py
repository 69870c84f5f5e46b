"""What can be handed over: one row for each, with its suffix, what it needs and how it is written."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from lithon.errors import Refusal
from lithon.exchange.deliver import write_triangles
from lithon.exchange.meshes import write_mesh
from lithon.exchange.step_write import save_atomically, write_step
from lithon.mesh.mesh import Mesh
from lithon.project.ledger import Ledger
from lithon.project.report import Painter

#: Writes a ledger, with its mesh if there is one, to a path.
Writer = Callable[[Ledger, Mesh | None, Path], None]


@dataclass(frozen=True, slots=True)
class Delivery:
    """A kind of file that leaves the house. first: whether it is among those that are offered first."""

    name: str
    title: str
    suffix: str
    write: Writer
    needs_mesh: bool = False
    first: bool = True
    #: As `write`, with pictures of the steps, by whoever can draw them.
    painted: Callable[[Ledger, Mesh | None, Path, Painter | None], None] | None = None


def _step(ledger: Ledger, mesh: Mesh | None, path: Path) -> None:
    write_step(ledger.model, path)


def _triangles(ledger: Ledger, mesh: Mesh | None, path: Path) -> None:
    write_triangles(ledger.model, path)


def _mesh(ledger: Ledger, mesh: Mesh | None, path: Path) -> None:
    if mesh is None:
        raise Refusal("there is no mesh yet", remedy="make one in Prove")
    write_mesh(mesh, path)


def _recipe(ledger: Ledger, mesh: Mesh | None, path: Path) -> None:
    save_atomically(path, json.dumps(ledger.recipe(), indent=1).encode())


def _report(ledger: Ledger, mesh: Mesh | None, path: Path, paint: Painter | None = None) -> None:
    from lithon.project.report import report_html

    save_atomically(path, report_html(ledger, mesh, paint=paint).encode())


DELIVERIES: tuple[Delivery, ...] = (
    Delivery("step", "Geometry as STEP…", ".step", _step),
    Delivery("stl", "Triangles as STL…", ".stl", _triangles),
    *(Delivery(k, f"Triangles as {k.upper()}…", f".{k}", _triangles, first=False) for k in ("3mf", "obj", "ply")),
    Delivery("vtu", "Mesh as VTU…", ".vtu", _mesh, needs_mesh=True),
    *(Delivery(k, f"Mesh as {k.upper()}…", f".{k}", _mesh, needs_mesh=True, first=False) for k in ("xdmf", "cgns")),
    Delivery("recipe", "Steps as a recipe…", ".recipe.json", _recipe),
    Delivery("report", "Report…", ".html", _report, painted=_report),
)
