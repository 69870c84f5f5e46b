"""Steps: what can be done to a model, as plain data that runs, is recorded and is replayed.

A step is {"do": verb, ...}. Its selections are questions or fingerprints. Running one gives the new
model and says in words and numbers what changed; it raises Refusal or Unresolved and changes nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, cast

import numpy as np

from lithon.arrange.boolean import Operation, combine
from lithon.arrays import frozen, unit
from lithon.bond.aside import set_aside
from lithon.bond.share import bond
from lithon.brep.measures import volume
from lithon.brep.topology import Body, Face, Model
from lithon.brep.twins import on_twins
from lithon.carve.split import split
from lithon.errors import BadFile, Refusal, Unresolved
from lithon.geometry.surfaces import Plane, Surface, midway
from lithon.mend.close import closed_over
from lithon.mend.drop import dropped
from lithon.mend.merge import merged
from lithon.mend.replace import unmasked
from lithon.mend.sew import sewn
from lithon.progress import SILENT, Progress
from lithon.project.fingerprints import fingerprint, resolve
from lithon.project.questions import ask
from lithon.survey.features import features
from lithon.trim.clear import clear

Step = dict[str, Any]


@dataclass(frozen=True, slots=True, eq=False)
class Outcome:
    """A model after a step: words for the ledger, the price, how many other solutions there are."""

    model: Model
    words: str
    faces_change: int
    volume_change: float
    solutions: int = 1
    details: list[dict[str, Any]] = field(default_factory=list)


def clear_step(model: Model, faces: Sequence[Face], solution: int = 0) -> Step:
    return {"do": "clear", "select": {"faces": [fingerprint(model, f) for f in faces]}, "solution": solution}


def clear_question(question: str) -> Step:
    return {"do": "clear", "select": {"question": question}}


def split_step(plane: dict[str, Any], bodies: Sequence[str] | None = None) -> Step:
    return {"do": "split", "plane": plane, **({"bodies": list(bodies)} if bodies is not None else {})}


def plane_at(origin: Sequence[float], normal: Sequence[float]) -> dict[str, Any]:
    return {"origin": [float(c) for c in origin], "normal": [float(c) for c in normal]}


def plane_midway(model: Model, a: Face, b: Face) -> dict[str, Any]:
    return {"midway": [fingerprint(model, a), fingerprint(model, b)]}


def plane_offset(model: Model, face: Face, by: float) -> dict[str, Any]:
    return {"offset": fingerprint(model, face), "by": float(by)}


def face_extended(model: Model, face: Face) -> dict[str, Any]:
    """The surface of a face, extended: a plane, cylinder, cone or sphere to cut at."""
    return {"surface": fingerprint(model, face)}


def combine_step(operation: str, kept: str, tool: str) -> Step:
    """Unite with, subtract or intersect ('union', 'subtract', 'intersect') the second body."""
    return {"do": "combine", "operation": operation, "body": kept, "tool": tool}


def part_step(first: str, second: str) -> Step:
    """Part two bodies that overlap: one gives up what they share, by default the larger."""
    return {"do": "part", "bodies": [first, second]}


def plane_through(points: Sequence[Sequence[float]]) -> dict[str, Any]:
    return {"through": [[float(c) for c in p] for p in points]}


def bond_step(gap: float | None = None) -> Step:
    return {"do": "bond", **({"gap": gap} if gap is not None else {})}


def drop_step(model: Model, faces: Sequence[Face]) -> Step:
    """Drop a sheet, a hollow, or whole bodies where all their faces are chosen."""
    chosen = set(faces)
    whole = [b.name for b in model.bodies if chosen.issuperset(b.faces)]
    if whole and all(any(f in b.faces for b in model.bodies if b.name in whole) for f in faces):
        return {"do": "drop", "bodies": whole}
    return {"do": "drop", "select": {"faces": [fingerprint(model, f) for f in faces]}}


def aside_step(bodies: Sequence[str], labels: bool = True) -> Step:
    """Set bodies aside; what they touched on the others becomes a named face."""
    return {"do": "aside", "bodies": list(bodies), "labels": labels}


def merge_step(model: Model, faces: Sequence[Face]) -> Step:
    return {"do": "merge", "select": {"faces": [fingerprint(model, f) for f in faces]}}


def close_step(model: Model, faces: Sequence[Face]) -> Step:
    """Make the face that is missing between these, which are all around the opening."""
    return {"do": "close", "select": {"faces": [fingerprint(model, f) for f in faces]}}


def sew_step(model: Model, faces: Sequence[Face]) -> Step:
    """Make one edge of two along the gap between these faces."""
    return {"do": "sew", "select": {"faces": [fingerprint(model, f) for f in faces]}}


def replace_step(model: Model, faces: Sequence[Face]) -> Step:
    """Put free-form faces on the simple surfaces that they are."""
    return {"do": "replace", "select": {"faces": [fingerprint(model, f) for f in faces]}}


def keep_step(model: Model, faces: Sequence[Face], reason: str) -> Step:
    """Record that something stays, and why."""
    return {"do": "keep", "select": {"faces": [fingerprint(model, f) for f in faces]}, "reason": reason}


def for_twins(step: Step, also: bool) -> Step:
    """The step done to the twins of its bodies too, or not; its faces must have been chosen one by one."""
    select = {key: value for key, value in step["select"].items() if key != "twins"}
    return {**step, "select": {**select, "twins": True} if also else select}


def run_step(model: Model, step: Step, progress: Progress = SILENT) -> Outcome:
    """Run one step on a model."""
    verb = step.get("do")
    if verb not in _VERBS:
        raise BadFile(f"a recorded step wants to do {verb!r}, which Lithon does not know")
    try:
        return _VERBS[str(verb)](model, step, progress)
    except (KeyError, TypeError, ValueError, IndexError) as error:
        raise BadFile(f"a recorded step '{verb}' is not well formed ({error})") from error


def selected_faces(model: Model, select: Any) -> list[Face]:
    if "question" in select:
        answer = ask(model, str(select["question"]))
        if not answer.faces:
            raise Unresolved(f"'{select['question']}' finds nothing on this model")
        return list(answer.faces)
    faces = resolve(model, select["faces"])
    return on_twins(model, faces) if select.get("twins") else faces


def cut_of(model: Model, spec: dict[str, Any]) -> Surface:
    """The surface to cut at of a recorded description. Raises Refusal where it describes none."""
    if "surface" in spec:
        (face,) = resolve(model, [spec["surface"]])
        return face.surface
    return plane_of(model, spec)


def plane_of(model: Model, spec: dict[str, Any]) -> Plane:
    """The plane of a recorded description. Raises Refusal where it describes none."""
    if "midway" in spec:
        a, b = resolve(model, spec["midway"])
        if not (isinstance(a.surface, Plane) and isinstance(b.surface, Plane)):
            raise Refusal("a plane midway needs two plane faces", remedy="choose two plane faces")
        return midway(a.surface, b.surface)
    if "offset" in spec:
        (face,) = resolve(model, [spec["offset"]])
        if not isinstance(face.surface, Plane):
            raise Refusal("an offset plane needs a plane face", remedy="choose a plane face")
        outward = next(
            use.outward(face.surface.frame.origin[None])[0]
            for body in model.owners(face)
            for use in body.uses
            if use.face is face
        )
        return Plane.of(face.surface.frame.origin + float(spec["by"]) * outward, outward, face.surface.frame.x)
    if "through" in spec:
        p = np.array(spec["through"], dtype=float)
        normal = np.cross(p[1] - p[0], p[2] - p[0])
        longest = max(float(np.linalg.norm(p[i] - p[j])) for i, j in ((0, 1), (1, 2), (2, 0)))
        if p.shape != (3, 3) or not float(np.linalg.norm(normal)) > 1e-9 * longest**2:
            raise Refusal("three points on one line give no plane", remedy="choose points that form a triangle")
        return Plane.of(frozen(p[0]), unit(normal))
    return Plane.of([float(c) for c in spec["origin"]], [float(c) for c in spec["normal"]])


def _total(model: Model) -> float:
    return sum(volume(b) for b in model.bodies)


def _outcome(before: Model, after: Model, words: str, **more: Any) -> Outcome:
    return Outcome(after, words, after.face_count() - before.face_count(), _total(after) - _total(before), **more)


def _clear(model: Model, step: Step, progress: Progress) -> Outcome:
    faces = selected_faces(model, step["select"])
    wanted = int(step.get("solution", 0))
    out, solutions = model, 1
    for body in model.bodies:
        own = [f for f in faces if f in body.faces]
        if not own:
            continue
        if any(len(model.owners(f)) > 1 for f in own):
            raise Refusal("a bonded face is among the chosen ones", remedy="clear before bonding")
        ways = clear(body, own, model.tolerance, progress)
        solutions = max(solutions, len(ways))
        out = out.replaced(body, [ways[min(wanted, len(ways) - 1)].body])
    select = step["select"]
    what = select["question"].split(" where")[0] if "question" in select else ""
    words = f"clear {what or _in_words(model, faces)}" + (" on twins" if select.get("twins") else "")
    return _outcome(model, out, words, solutions=solutions)


def _in_words(model: Model, faces: Sequence[Face]) -> str:
    """'4 fillets' where the faces are whole features of one kind, else '4 faces'."""
    chosen = set(faces)
    whole = [f for b in model.bodies for f in features(b) if set(f.faces) <= chosen]
    outer = [f for f in whole if not any(f is not g and set(f.faces) < set(g.faces) for g in whole)]
    kinds: set[str] = {f.kind for f in outer}
    if len(kinds) == 1 and {x for f in outer for x in f.faces} == chosen:
        n, kind = len(outer), kinds.pop()
    else:
        n, kind = len(faces), "face"
    return f"{n} {kind}{'es' if kind == 'boss' and n > 1 else 's' if n > 1 else ''}"


def _split(model: Model, step: Step, progress: Progress) -> Outcome:
    names = step.get("bodies")
    bodies: list[Body] = [b for b in model.bodies if names is None or b.name in names]
    if not bodies:
        raise Unresolved(f"no body is called {names}")
    surface = cut_of(model, step["plane"])
    out = split(model, bodies, surface, progress)
    axis = _axis_words(surface)
    return _outcome(model, out, f"carve {axis}")


def _axis_words(plane: Surface) -> str:
    if not isinstance(plane, Plane):
        return f"at a {plane.kind}"
    for k, name in enumerate("xyz"):
        if abs(abs(float(plane.frame.z[k])) - 1.0) < 1e-9:
            return f"{name} = {round(float(plane.frame.origin[k]), 6) + 0.0:g}"
    return "at a plane"


def _bond(model: Model, step: Step, progress: Progress) -> Outcome:
    gap = step.get("gap")
    out, contacts = bond(model, None, float(gap) if gap is not None else None, progress)
    shared = [c for c in contacts if c.verdict == "shared"]
    details = [{"first": c.first, "second": c.second, "area_mm2": c.area, "verdict": c.verdict} for c in contacts]
    return _outcome(model, out, f"bond {len(shared)} contact{'s' if len(shared) != 1 else ''}", details=details)


def _combine(model: Model, step: Step, progress: Progress) -> Outcome:
    operation = str(step["operation"])
    if operation not in ("union", "subtract", "intersect"):
        raise BadFile(f"bodies cannot be combined by {operation!r}")
    found = {b.name: b for b in model.bodies}
    if step["body"] not in found or step["tool"] not in found or step["body"] == step["tool"]:
        raise Unresolved(f"two bodies called {step['body']!r} and {step['tool']!r} are needed")
    kept, tool = found[step["body"]], found[step["tool"]]
    bonded = [f for b in (kept, tool) for f in b.faces if len(model.owners(f)) > 1]
    if bonded:
        raise Refusal("a bonded body cannot be combined", remedy="combine first and bond afterwards")
    progress.tell(0.1, f"{operation} of {kept.name} and {tool.name}")
    made = combine(kept, tool, cast(Operation, operation), model.tolerance)
    out = Model(tuple(b for b in model.replaced(kept, made).bodies if b is not tool), model.tolerance)
    if not out.bodies:
        raise Refusal("nothing would be left")
    return _outcome(model, out, f"{operation} {kept.name}, {tool.name}")


def _part(model: Model, step: Step, progress: Progress) -> Outcome:
    """Solution 0: the larger gives up what both fill; 1: the smaller does."""
    found = {b.name: b for b in model.bodies}
    names = [str(name) for name in step["bodies"]]
    if len(set(names)) != 2 or not found.keys() >= set(names):
        raise Unresolved(f"two bodies called {' and '.join(map(repr, names))} are needed")
    pair = sorted((found[name] for name in names), key=volume, reverse=True)
    giver, keeper = pair if int(step.get("solution", 0)) % 2 == 0 else pair[::-1]
    if any(len(model.owners(f)) > 1 for b in pair for f in b.faces):
        raise Refusal("a bonded body cannot be parted from another", remedy="part first and bond afterwards")
    progress.tell(0.1, f"what {giver.name} shares with {keeper.name}")
    made = combine(giver, keeper, "subtract", model.tolerance)
    if not made:
        raise Refusal(f"nothing would be left of {giver.name}", remedy="drop it instead, or let the other give way")
    after = model.replaced(giver, made)
    gone = volume(giver) - sum(volume(b) for b in made)
    if gone <= 1e-9 * volume(giver):
        raise Refusal("the two bodies do not overlap", remedy="bond them: they may touch")
    return _outcome(model, after, f"part {giver.name} from {keeper.name}: {gone:.4g} mm³ given up", solutions=2)


def _drop(model: Model, step: Step, progress: Progress) -> Outcome:
    if "bodies" in step:
        names = {str(name) for name in step["bodies"]}
        missing = names - {b.name for b in model.bodies}
        if missing:
            raise Unresolved(f"no body is called {', '.join(sorted(missing))}")
        out = Model(tuple(b for b in model.bodies if b.name not in names), model.tolerance)
        words = f"drop {', '.join(sorted(names)) if len(names) < 4 else f'{len(names)} bodies'}"
    else:
        faces = selected_faces(model, step["select"])
        out = model
        for body in model.bodies:
            own = [f for f in faces if f in body.faces]
            if own:
                left = dropped(body, own, model.tolerance)
                out = out.replaced(body, [left] if left is not None else [])
        words = f"drop {len(faces)} face{'s' if len(faces) > 1 else ''}"
    if not out.bodies:
        raise Refusal("nothing would be left")
    return _outcome(model, out, words)


def _aside(model: Model, step: Step, progress: Progress) -> Outcome:
    names = {str(name) for name in step["bodies"]}
    missing = names - {b.name for b in model.bodies}
    if missing:
        raise Unresolved(f"no body is called {', '.join(sorted(missing))}")
    gone = [b for b in model.bodies if b.name in names]
    out, labels = set_aside(model, gone, bool(step.get("labels", True)), progress)
    details = [{"label": x.name, "body": x.body, "faces": x.faces, "area_mm2": x.area} for x in labels]
    who = gone[0].name if len(gone) == 1 else f"{len(gone)} bodies"
    words = f"set {who} aside" + (f", {len(labels)} contact{'s' if len(labels) > 1 else ''} named" if labels else "")
    return _outcome(model, out, words, details=details)


def _mended(model: Model, step: Step, how: Callable[[Body, list[Face]], Body]) -> tuple[Model, list[Face]]:
    """The model with its chosen faces mended body by body, and those faces."""
    faces = selected_faces(model, step["select"])
    out = model
    for body in model.bodies:
        own = [f for f in faces if f in body.faces]
        if any(len(model.owners(f)) > 1 for f in own):
            raise Refusal("a bonded face is among the chosen ones", remedy=f"{step['do']} before bonding")
        if own:
            out = out.replaced(body, [how(body, own)])
    return out, faces


def _merge(model: Model, step: Step, progress: Progress) -> Outcome:
    out, faces = _mended(model, step, lambda body, own: merged(body, own, model.tolerance))
    return _outcome(model, out, f"merge {len(faces)} faces")


def _close(model: Model, step: Step, progress: Progress) -> Outcome:
    out, _ = _mended(model, step, lambda body, own: closed_over(body, own, model.tolerance))
    new = out.face_count() - model.face_count()
    return _outcome(model, out, f"close {new} opening{'s' if new != 1 else ''}")


def _sew(model: Model, step: Step, progress: Progress) -> Outcome:
    moved = 0.0

    def how(body: Body, own: list[Face]) -> Body:
        nonlocal moved
        out, far = sewn(body, own, model.tolerance)
        moved = max(moved, far)
        return out

    out, _ = _mended(model, step, how)
    return _outcome(model, out, f"sew a gap, an edge moved by {moved:.3g} mm")


def _replace(model: Model, step: Step, progress: Progress) -> Outcome:
    most = 0.0

    def how(body: Body, own: list[Face]) -> Body:
        nonlocal most
        out, off = unmasked(body, own, model.tolerance)
        most = max(most, off)
        return out

    out, faces = _mended(model, step, how)
    words = (
        f"replace {len(faces)} free-form face{'s' if len(faces) > 1 else ''}, {1e3 * most:.2g} microns off at the most"
    )
    return _outcome(model, out, words)


def _keep(model: Model, step: Step, progress: Progress) -> Outcome:
    selected_faces(model, step["select"])
    return _outcome(model, model, f"keep: {step.get('reason', '')}".rstrip(": "))


_VERBS: dict[str, Callable[[Model, Step, Progress], Outcome]] = {
    "clear": _clear,
    "split": _split,
    "bond": _bond,
    "combine": _combine,
    "part": _part,
    "keep": _keep,
    "drop": _drop,
    "merge": _merge,
    "close": _close,
    "sew": _sew,
    "replace": _replace,
    "aside": _aside,
}
