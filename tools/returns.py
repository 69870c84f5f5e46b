"""Exact parts made triangles, turned back into solids, and held against themselves.

    .venv/bin/python tools/returns.py [FILE | FOLDER | sample name]... [--fineness 0,20,40,80] [--scatter 0,0.02,0.1]

A part is divided as it is drawn (fineness 0) or in elements of a share of its diagonal, its corners scattered by a
share of the median side. Told of each body: the share of faces whose kind came back, how many cylinders are of a radius
that one was, how far the volume is off, whether it is closed and sound, what stayed facets, seconds. Every case has a
process of its own that ends with its time.
"""

from __future__ import annotations

import json
import multiprocessing as mp
import tempfile
from collections import Counter
from collections.abc import Iterator
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import click
import numpy as np

import lithon
from lithon.arrange.tidy import tidied
from lithon.arrays import Floats, Ints
from lithon.brep.faceted import Triangles, bodies_of
from lithon.brep.measures import area, face_width, volume
from lithon.brep.shells import closed
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.tessellation.trees import triangle_normals
from lithon.brep.topology import Body, Face, Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal, Spent
from lithon.exchange.deliver import write_triangles
from lithon.geometry.curves import Circle
from lithon.geometry.surfaces import Surface
from lithon.geometry.swept import Revolution
from lithon.mesh import sizing
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.surface import surface_mesh
from lithon.project.ledger import Ledger, Source
from lithon.project.solid import SEARCH, solid
from lithon.samples import SAMPLES, TRIANGLE_FILES
from lithon.survey.disguises import disguises

#: What is no wider than so many times the scatter of corners is hidden by it.
_SEEN = 3.0


def divided(body: Body, fineness: float, scatter: float = 0.0, seed: int = 0) -> Body:
    """The triangles of a body as a mesher divides it, in elements of a share of its diagonal, 0 for as they are drawn;
    corners scattered by a share of the median side (root mean square), as what measures a part does."""
    return _divided(body, fineness, scatter, seed)[0]


def _divided(body: Body, fineness: float, scatter: float, seed: int = 0) -> tuple[Body, set[Face]]:
    """And the faces of which triangles show no more than two flats: nothing tells bent ones from these."""
    if fineness:
        diagonal = float(np.linalg.norm(np.ptp(body_mesh(body)[0], axis=0)))
        before = sizing._FLATTEST
        sizing._FLATTEST = np.inf  # what scans is no finer on a strip
        try:
            mesh = surface_mesh((body,), size_field((body,), SizeRules(diagonal / fineness)))
        finally:
            sizing._FLATTEST = before
        corners, of = mesh.triangles()
        faces = mesh.faces
        # A sphere without edges is meshed as another face of the same sphere.
        turned = np.array([not (body.use_of(face) or body.uses[0]).forward for face in faces])
        points, corners = mesh.points(), np.where(turned[of][:, None], corners[:, ::-1], corners)
    else:
        points, corners, of = body_mesh(body)
        faces = tuple(use.face for use in body.uses)
    ways = np.round(triangle_normals(points, corners), 5)
    flats = np.unique(np.column_stack([of, ways]), axis=0)[:, 0].astype(int)
    plain = {faces[j] for j in np.flatnonzero(np.bincount(flats, minlength=len(faces)) < 3)}
    shift = np.random.default_rng(seed).normal(0.0, _scatter(points, corners, scatter), points.shape)
    soup = bodies_of([Triangles((points + shift).astype(np.float32).astype(float), corners, "part")])[0][0]
    return soup, plain


def _scatter(points: Floats, corners: Ints, share: float) -> float:
    """How far (mm, root mean square, each way) corners scatter by a share of the median side."""
    sides = np.linalg.norm(points[corners] - points[np.roll(corners, 1, axis=1)], axis=2)
    return share * float(np.median(sides)) / float(np.sqrt(3.0))


def _kind(surface: Surface) -> str:
    """The kind of a surface; an arc that goes around an axis is a torus, however it is written."""
    if isinstance(surface, Revolution) and isinstance(surface.profile, Circle):
        return "torus" if float(np.hypot(*surface.frame.local(surface.profile.frame.origin[None])[0, :2])) else "sphere"
    return surface.kind


def held(body: Body, fineness: float, scatter: float, limit: float = SEARCH) -> dict[str, Any]:
    """What comes back of a body, against itself, with so much time (s) to look for surfaces."""
    body = tidied(body, Model.of([body]).tolerance)
    soup, plain = _divided(body, fineness, scatter)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "part.stl"
        write_triangles(Model.of([soup]), path)
        work = Ledger.of(Source(path.name, path.read_bytes(), "mm"))
        told = solid(work, "auto", None, path.with_suffix(".step"), seconds=limit)
    made = work.model.bodies[0]
    simple = {face: surface for face, surface, _ in disguises(body, work.model.tolerance)}
    kinds = {face: _kind(simple.get(face, face.surface)) for face in body.faces}
    want = Counter(kinds.values())
    got = Counter(_kind(f.surface) for f in made.faces)
    # Who measures a part does not see what is hardly wider than its scatter.
    least = _SEEN * _scatter(*body_mesh(soup)[:2], scatter)
    hidden = sum(face_width(f) < least or (f in plain and kind != "plane") for f, kind in kinds.items())
    radii = [np.array([f.surface.radius for f in b.faces if f.surface.kind == "cylinder"]) for b in (body, made)]
    near = 0.001 if not scatter else 0.01
    found = sum(bool(len(radii[1])) and float(np.abs(radii[1] - r).min()) < near * r for r in radii[0].tolist())
    left = sum(float(one["area_mm2"]) for one in told["left"])
    return {
        "faces": want.total(), "back": (want & got).total(), "made": len(made.faces), "hidden": hidden,
        "triangles": len(body_mesh(soup)[1]), "radii": (found, len(radii[0])), "left": left / max(area(soup), 1e-300),
        "off": volume(made) / max(volume(body), 1e-300) - 1.0, "closed": closed(made),
        "sound": not flaws(made, work.model.tolerance), "seconds": told["seconds"],
        "why": [str(one["why"])[:60] for one in told["left"]][:1],
    }  # fmt: skip


def _case(pipe: Connection, body: Body, fineness: float, scatter: float, limit: float) -> None:
    try:
        pipe.send(held(body, fineness, scatter, limit))
    except (Refusal, Spent) as refusal:
        pipe.send({"why": [f"refused: {refusal}"[:160]]})
    except Exception as error:
        pipe.send({"why": [f"fault: {type(error).__name__}: {error}"[:160]]})


def _parts(names: tuple[str, ...], most: int) -> Iterator[tuple[str, Body]]:
    known = {stem: make for _, stem, make, _ in SAMPLES if stem not in TRIANGLE_FILES and stem != "pintle-shoe"}
    for name in names or tuple(known):
        if name in known:
            models = [(name, known[name]())]
        else:
            every = [Path(name)] if Path(name).is_file() else sorted(Path(name).glob("*.st*p"))
            models = ((path.stem, lithon.open(path).model) for path in every)
        for stem, model in models:
            for k, body in enumerate(model.bodies[: most or None]):
                if closed(body) and not flaws(body, model.tolerance):
                    yield f"{stem}#{k}", body


@click.command()
@click.argument("parts", nargs=-1)
@click.option("--fineness", default="0,20,40,80")
@click.option("--scatter", default="0,0.02")
@click.option("--limit", default=60.0, help="Seconds in which surfaces of one are looked for.")
@click.option("--first", default=0, help="Only as many bodies of each file.")
@click.option("--save", type=click.Path(path_type=Path))
def main(parts: tuple[str, ...], fineness: str, scatter: str, limit: float, first: int, save: Path | None) -> None:
    """Turn PARTS (samples where none are named) into triangles and back."""
    rows: list[dict[str, Any]] = []
    for name, body in _parts(parts, first):
        for dense in map(float, fineness.split(",")):
            for share in map(float, scatter.split(",")):
                if share and not dense:
                    continue  # what is drawn has long triangles that no scanner makes
                here, there = mp.get_context("fork").Pipe()
                child = mp.get_context("fork").Process(target=_case, args=(there, body, dense, share, limit))
                child.start()
                there.close()
                row: dict[str, Any] = {"why": [f"not done in {limit:.0f} s"]}
                try:
                    if here.poll(2.0 * limit):
                        row = here.recv()
                except EOFError:
                    row = {"why": ["the process died"]}
                child.kill()
                child.join()
                rows.append({"part": name, "fineness": dense, "scatter": share, **row})
                _say(rows[-1])
                if save:
                    save.write_text(json.dumps(rows, indent=1, default=float))
    for share in map(float, scatter.split(",")):
        done = [r for r in rows if r["scatter"] == share]
        good = [r for r in done if "faces" in r]
        if good:
            whole = sum(r["back"] == r["faces"] for r in good)
            most = sum(r["back"] >= 0.95 * r["faces"] and r["made"] <= 1.05 * r["faces"] + 1 for r in good)
            click.echo(
                f"scatter {share:g}: {len(good)} of {len(done)} converted, all faces {whole}, 95 % {most}; faces back "
                f"{sum(r['back'] for r in good) / sum(r['faces'] for r in good):.1%}, of those not hidden "
                f"{_seen(good):.1%}; volume within 0.1 % "
                f"{sum(abs(r['off']) < 1e-3 for r in good)}, 0.5 % {sum(abs(r['off']) < 5e-3 for r in good)}; "
                f"radii {sum(r['radii'][0] for r in good)} of {sum(r['radii'][1] for r in good)}; "
                f"closed and sound {sum(r['closed'] and r['sound'] for r in good)}"
            )


def _seen(rows: list[dict[str, Any]]) -> float:
    """The share of faces back of those that scatter does not hide; it is not told which came back, so at the best."""
    wide = [max(1, r["faces"] - r["hidden"]) for r in rows]
    return sum(min(r["back"], n) for r, n in zip(rows, wide, strict=True)) / sum(wide)


def _say(row: dict[str, Any]) -> None:
    head = f"{row['part'][:40]:40s} {row['fineness']:4g} {row['scatter']:5g} "
    if "faces" in row:
        head += (
            f"{row['back']:4d}/{row['faces']:4d} ({row['hidden']} hidden; {row['made']:5d} made) "
            f"radii {row['radii'][0]}/{row['radii'][1]} "
            f"volume {row['off']:+.2%} left {row['left']:.0%} {'' if row['closed'] and row['sound'] else 'UNSOUND'} "
            f"{row['triangles']} in {row['seconds']:.1f} s "
        )
    click.echo(head + "; ".join(row["why"]))


if __name__ == "__main__":
    main()
