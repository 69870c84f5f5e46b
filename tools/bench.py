"""Benchmarks as ratios measured in one run, so that a slow or busy machine does not matter.

./run bench
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from functools import partial

import numpy as np
from parts import perforated, pocketed
from scipy.spatial import Delaunay, cKDTree

import lithon
from lithon.bond.share import bond
from lithon.brep.faceted import Triangles, welded
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Model
from lithon.carve.split import split
from lithon.exchange.stl import read_stl, stl_binary
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.surfaces import Plane
from lithon.mesh.delaunay import Tetrahedra
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.surface import surface_mesh
from lithon.operations.running import run as take
from lithon.operations.state import State
from lithon.samples import collar_anchor
from lithon.survey.findings import findings
from lithon.survey.sizes import marks
from lithon.trim.clear import clear


def best(run: Callable[[], object], times: int = 3) -> float:
    """Shortest of a few runs, in seconds."""
    took = []
    for _ in range(times):
        start = time.perf_counter()
        run()
        took.append(time.perf_counter() - start)
    return min(took)


_TOKEN = re.compile(r"'(?:[^']|'')*'|#\d+|[-+]?\d+\.?\d*(?:[eE][-+]?\d+)?|\.\w+\.|\w+|[(),;=$*]")


def main() -> None:
    lithon.tetrahedral_mesh(collar_anchor(), lithon.SizeRules(20.0))  # compile everything once
    model = perforated(2000)
    text = lithon.step_text(model)
    tokens = best(lambda: sum(1 for _ in _TOKEN.finditer(text)))

    def read() -> None:
        for body in lithon.parse_step(text).model.bodies:
            body_mesh(body)

    print(
        f"STEP of {len(model.faces())} faces: read and tessellated in {best(read, 2) / tokens:6.1f} x tokenising  "
        "(aim under 40)"
    )
    points = np.random.default_rng(1).random((100_000, 3))

    def own() -> None:
        Tetrahedra.box(points.min(axis=0), points.max(axis=0)).add(points)

    print(f"Delaunay of 100 000 points:        {best(own, 2) / best(lambda: Delaunay(points), 2):6.2f} x SciPy's")
    lithon.tetrahedral_mesh(collar_anchor(), lithon.SizeRules(2.8))  # what is loaded on first use is loaded now
    for size in (2.8, 1.35, 0.9):
        took = np.inf
        for _ in range(2):
            anchor = collar_anchor()  # nothing of it is known yet
            start = time.perf_counter()
            mesh = lithon.tetrahedral_mesh(anchor, lithon.SizeRules(size))
            took = min(took, time.perf_counter() - start)
        cloud = np.random.default_rng(1).random(mesh.points.shape)
        print(
            f"mesh of {len(mesh.points)} nodes, everything:  {took / best(partial(Delaunay, cloud), 2):6.2f} x "
            "SciPy's Delaunay of as many random points  (aim under 1.2)"
        )
    p, tri, _ = body_mesh(model.bodies[0])
    eye, ray = np.array([[100.0, -300.0, 400.0]]), np.array([[0.2, 0.6, -0.77]])
    tree = BoxTree.of(p, tri)
    pick = best(lambda: tree.first_hits(eye, ray, 0.0))
    drag = best(lambda: [m for m in marks(model, "edges") if m.value < 8.0])
    hole = next(f for f in lithon.features(model.bodies[0]) if f.kind == "hole")
    ghost = best(lambda: clear(model.bodies[0], hole.faces, model.tolerance), 2)
    print(
        f"2 000 faces: pick {1e3 * pick:.1f} ms (aim 50), Sieve {1e3 * drag:.1f} ms (aim 50), "
        f"Clear of one hole {1e3 * ghost:.0f} ms (aim 300)"
    )
    survey_of(model)
    steps_on(pocketed(222))
    triangles_in()
    scans()


def steps_on(model: Model) -> None:
    """Steps on a part of 2,000 faces with edges and vertices, in multiples of drawing it."""
    text = lithon.step_text(model)

    def drawn() -> None:
        for body in lithon.parse_step(text).model.bodies:
            body_mesh(body)

    unit = best(drawn, 1)
    body = lithon.parse_step(text).model.bodies[0]
    fresh = Model.of([body])
    body_mesh(body)
    found = [f for f in lithon.features(body) if f.kind == "fillet"][:40]
    middle = 0.5 * float(np.ptp([v.point[0] for v in body.vertices()]))
    cut = split(fresh, [body], Plane.of((middle, 0.0, 0.0), (1.0, 0.1, 0.0)))
    for name, run in (
        ("40 fillets cleared", lambda: clear(body, [face for f in found for face in f.faces], fresh.tolerance)),
        ("cut across", lambda: split(fresh, [body], Plane.of((middle, 0.0, 0.0), (1.0, 0.1, 0.0)))),
        ("the halves bonded", lambda: bond(cut)),
    ):
        print(f"{len(body.faces)} faces with vertices: {name} in {best(run, 1) / unit:5.2f} x reading and drawing it")


def survey_of(model: Model) -> None:
    """How long a full survey takes, and a first glance, in multiples of drawing the part."""
    fresh = lithon.parse_step(lithon.step_text(model)).model

    def drawn() -> None:
        for body in lithon.parse_step(lithon.step_text(model)).model.bodies:
            body_mesh(body)

    start = time.perf_counter()
    findings(fresh, 4.0, thorough=False)
    glance = time.perf_counter() - start
    findings(fresh, 4.0)
    whole = time.perf_counter() - start
    print(
        f"2 000 faces: first findings after {glance:.2f} s (aim 1), the whole survey {whole:.1f} s (aim 10), "
        f"{whole / best(drawn, 1):.1f} x writing, reading and drawing it"
    )


def triangles_in() -> None:
    """A binary STL of a million triangles' corners against NumPy's own read and unique."""
    n = 400
    x, y = np.meshgrid(np.linspace(0.0, 100.0, n), np.linspace(0.0, 100.0, n), indexing="ij")
    grid = np.stack([x, y, np.sin(x / 9.0) * np.cos(y / 7.0)], axis=-1).reshape(-1, 3)
    k = (np.arange(n - 1)[:, None] * n + np.arange(n - 1)).ravel()
    corners = np.concatenate([np.stack([k, k + n, k + 1], axis=1), np.stack([k + 1, k + n, k + n + 1], axis=1)])
    data = stl_binary([Triangles(grid, corners)])
    kind = np.dtype([("n", "<f4", 3), ("c", "<f4", (3, 3)), ("a", "<u2")])

    def plain() -> None:
        points = np.frombuffer(data, dtype=kind, offset=84)["c"].reshape(-1, 3)
        np.unique(points, axis=0, return_inverse=True)

    def own() -> None:
        (part,), _ = read_stl(data, "grid")
        welded(part.points, part.corners)

    def whole() -> None:
        lithon.parse_model(data, "grid.stl")

    own()
    print(
        f"binary STL of {len(corners)} triangles: read and welded in {best(own) / best(plain):.2f} x NumPy's read and "
        f"unique (aim 3); to faces and edges in {best(whole, 1) / best(plain):.1f} x"
    )


def scans() -> None:
    """Triangles made solid against a search tree's query of the nearest to all of them, and healed against reading."""
    model = collar_anchor()
    for size in (12.0, 6.0, 0.95):
        surface = surface_mesh(model.bodies, size_field(model.bodies, SizeRules(size)))
        corners, points = surface.triangles()[0], surface.points()
        middle = points[corners].mean(axis=1)
        nearest = best(lambda m=middle: cKDTree(m).query(m, k=16))
        work = lithon.parse_model(stl_binary([Triangles(points, corners)]), "scan.stl").model
        took = best(lambda w=work: take(State(w), lithon.do.solid()), 1)
        if size > 6.0:
            continue  # what is loaded on first use is loaded now
        print(f"{len(corners)} triangles: made a solid in {took / nearest:5.1f} x the 16 nearest of each (aim 20)")
    surface = surface_mesh(model.bodies, size_field(model.bodies, SizeRules(0.51)))
    points, rows = surface.points(), surface.triangles()[0]
    rng = np.random.default_rng(0)
    rows = np.delete(rows, rng.choice(len(rows), 20, replace=False), axis=0)
    rows[:40] = rows[:40, ::-1]
    data = stl_binary([Triangles(points, np.concatenate([rows, rows[-30:]]))])
    read = best(lambda: lithon.parse_model(data, "scan.stl"), 2)
    soup = lithon.parse_model(data, "scan.stl").model
    heal = best(lambda: take(State(soup), lithon.do.clean_triangles()), 2)
    print(f"{len(rows)} triangles with wounds: healed in {heal / read:4.1f} x reading them (aim 5)")


if __name__ == "__main__":
    main()
